"""The workbench: header, rail, selection line, the figures of a step beside the light table or the close look."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TypeVar

from PySide6.QtCore import Qt, Signal
from PySide6.QtWidgets import QHBoxLayout, QMenu, QSplitter, QStackedWidget, QVBoxLayout, QWidget

from mivrat.core.selecting.selection import Picked
from mivrat.ui.check.step import CheckStep
from mivrat.ui.close_look.blind_look import BlindLook
from mivrat.ui.close_look.view import CloseLook
from mivrat.ui.compare.step import CompareStep
from mivrat.ui.conclude.step import FINDINGS, REPORT, ConcludeStep
from mivrat.ui.examine.step import ExamineStep
from mivrat.ui.explain.step import ExplainStep
from mivrat.ui.exporter import Exporter
from mivrat.ui.focus import WaitingFocus
from mivrat.ui.frame import Header, Rail
from mivrat.ui.light_table.strained_thumbs import StrainedThumbs
from mivrat.ui.light_table.table import LightTable
from mivrat.ui.measure.step import MeasureStep
from mivrat.ui.more_like_these import MoreLikeThese
from mivrat.ui.parts.step_area import StepArea, Working
from mivrat.ui.parts.widgets import Waiting
from mivrat.ui.prepare.step import PrepareStep
from mivrat.ui.right_side import RightSide
from mivrat.ui.selection_line import SelectionLine
from mivrat.ui.steps import STEPS, StepServices
from mivrat.ui.theme import theme
from mivrat.workspace.comparing import Comparer
from mivrat.workspace.concluding import Concluder
from mivrat.workspace.reader_edits import read_blind
from mivrat.workspace.reviewing import Reviewer

_Step = TypeVar("_Step", bound=StepArea)
NAMES = [step.name for step in STEPS]
PREPARE, CHECK, MEASURE, EXAMINE, EXPLAIN, COMPARE, CONCLUDE = map(
    NAMES.index, ("Prepare", "Check", "Measure", "Examine", "Explain", "Compare", "Conclude")
)


class Bench(QWidget):
    """Everything that is shown of the open study; ``place_changed`` tells that another part of it is looked at."""

    place_changed = Signal()
    run_wanted = Signal(int)

    def __init__(self, shared: StepServices, made: Sequence[StepArea], menu: QMenu) -> None:
        """``made`` are the steps, in their order."""
        super().__init__()
        self.workspace = workspace = shared.workspace
        self.setObjectName("page")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self.thumbnails, self.explainer, self.heat = shared.thumbnails, shared.explainer, shared.heat
        self.strained = StrainedThumbs(workspace, self.thumbnails)
        self.reviewer: Reviewer = shared.reviewer
        self.comparer: Comparer = shared.comparer
        self.concluder: Concluder = shared.concluder
        self.exporter: Exporter = shared.exporter
        self.header: Header = Header(workspace, menu, self.comparer)
        self.rail, self.line = Rail(workspace, STEPS), SelectionLine(workspace)
        self.steps = list(made)
        self.light_table: LightTable = LightTable(workspace, self.thumbnails)
        self.close_look: CloseLook = CloseLook(workspace, self.thumbnails, self.reviewer)
        self.blind_look = BlindLook(workspace, self.reviewer)
        self._alike = MoreLikeThese(workspace, self)
        # Where the focus waits while the button that began a job is disabled.
        self.waiting = Waiting(self)
        self._lay_out()
        self._connect()
        self.focus_keeper = WaitingFocus(workspace, self, self.waiting)

    def _lay_out(self) -> None:
        self.figures = QStackedWidget()
        self.right: RightSide = RightSide(
            self.workspace, self.light_table, self.close_look, self.blind_look, lambda: self.step.companion
        )
        for step in self.steps:
            self.figures.addWidget(step)
        self.figures.setMinimumWidth(500)
        self.splitter = QSplitter(Qt.Orientation.Horizontal)
        for side in (self.figures, self.right):
            self.splitter.addWidget(side)
        self.splitter.setChildrenCollapsible(False)
        self.splitter.setHandleWidth(1)
        self.splitter.setSizes([600, 576])
        work, middle, whole = QVBoxLayout(), QHBoxLayout(), QVBoxLayout(self)
        work.addWidget(self.line)
        work.addWidget(self.splitter, 1)
        middle.addWidget(self.rail)
        middle.addLayout(work, 1)
        whole.addWidget(self.header)
        whole.addLayout(middle, 1)
        for layout in (work, middle, whole):
            layout.setSpacing(0)
            layout.setContentsMargins(0, 0, 0, 0)
        theme.style(self.header, self.rail, self.line, self.light_table, self.close_look, self.blind_look, self.check)
        theme.style(self.splitter.handle(1))

    def _connect(self) -> None:
        topics = self.workspace.topics
        topics.look_wanted.connect(self.look_closely)
        self._alike.found.connect(self.leave_close_look)
        for changed in (self.figures.currentChanged, self.right.currentChanged):
            changed.connect(lambda _: self.place_changed.emit())
        self.figures.currentChanged.connect(lambda _: self.right.follow_page())
        for step in self.steps:
            step.tabs.chosen.connect(lambda _: self.right.follow_page())
            step.tabs.chosen.connect(lambda _: self.place_changed.emit())
            step.finding_wanted.connect(self.add_finding)
            step.study_path = lambda: self.workspace.study_path
        for more in (self.explain.board.more, self.explain.where.more, self.explain.cover.kept_tests.more):
            if (menu := more.menu()) is not None:
                menu.addAction("Add to a finding (F)").triggered.connect(lambda _=False: self.add_finding())
        self.concluder.added.connect(self._show_added)
        topics.left.connect(self.right.begin_anew)
        self.workspace.opened.connect(lambda _: self._begin_anew())
        for step in self.steps:
            topics.run.connect(step.scroll_up)
        topics.held.connect(self.place_changed.emit)
        topics.blind.connect(self.place_changed.emit)
        topics.selection.connect(lambda: self.place_changed.emit() if self.workspace.shown.other is not None else None)
        self.rail.chosen.connect(self.show_step)
        self.header.run_wanted.connect(self.run_wanted)
        self.prepare.run_wanted.connect(self.run_wanted)
        self.light_table.thumbs.opened.connect(self.look_closely)
        self.light_table.thumbs.show_heat(lambda image: self.heat.get(image) or self.strained.get(image))
        # Figures of one run and differences of two are of the same images.
        self.measure.scope.currentIndexChanged.connect(self.compare.scope.setCurrentIndex)
        self.compare.scope.currentIndexChanged.connect(self.measure.scope.setCurrentIndex)
        for view in (self.light_table, self.close_look):
            view.features_wanted.connect(self.workspace.jobs.find_features)
        for look in (self.close_look, self.blind_look):
            look.closed.connect(self.leave_close_look)
        self.blind_look.answers_wanted.connect(self.toggle_blind)
        self.close_look.enlarged.connect(self.toggle_enlarged)

    def _begin_anew(self) -> None:
        """Another study is open: nothing of how the one before was looked at is taken over."""
        for step in self.steps:
            step.begin_anew()

    # --- the steps, each as what it is ---

    def _step(self, kind: type[_Step]) -> _Step:
        return next(step for step in self.steps if isinstance(step, kind))

    @property
    def prepare(self) -> PrepareStep:
        return self._step(PrepareStep)

    @property
    def check(self) -> CheckStep:
        return self._step(CheckStep)

    @property
    def measure(self) -> MeasureStep:
        return self._step(MeasureStep)

    @property
    def examine(self) -> ExamineStep:
        return self._step(ExamineStep)

    @property
    def explain(self) -> ExplainStep:
        return self._step(ExplainStep)

    @property
    def compare(self) -> CompareStep:
        return self._step(CompareStep)

    @property
    def conclude(self) -> ConcludeStep:
        return self._step(ConcludeStep)

    @property
    def step(self) -> StepArea:
        """The step shown."""
        return self.steps[self.figures.currentIndex()]

    # --- the header ---

    def show_menu(self) -> None:
        self.header.menu_button.showMenu()

    def show_runs(self) -> None:
        self.header.run_button.showMenu()

    def show_other_runs(self) -> None:
        self.header.held.show_menu()

    def clear_comparison(self) -> None:
        self.comparer.let_go()

    # --- the steps one after the other ---

    def show_step(self, index: int, focus: bool = False) -> None:
        """Show a step of the job in the figures area; the light table stays."""
        self.figures.show()
        self.figures.setCurrentIndex(index)
        self.rail.show_chosen(index)
        if focus:
            self.step.focus_first()

    def step_tab(self, by: int) -> None:
        """Show the next or previous page of the step."""
        self.step.tabs.step(by)

    # --- findings ---

    def add_finding(self) -> None:
        """Make a finding of what is on screen: the cover test or the difference shown, labels found wrong, else the selection."""
        if not self.workspace.is_open:
            return
        if not self.step.make_finding(self.concluder):
            self.concluder.add_selection()

    def _show_added(self, finding_id: int) -> None:
        if self.step is self.conclude:
            self.conclude.show_finding(finding_id)
        else:
            self.conclude.findings.chosen = finding_id

    def check_findings(self) -> None:
        """Show the findings, and let the run that they are checked on be chosen."""
        self.show_step(CONCLUDE)
        self.conclude.choose(FINDINGS)
        self.conclude.findings.show_targets()

    def show_report(self) -> None:
        """Show the report of this run."""
        self.show_step(CONCLUDE)
        self.conclude.choose(REPORT)
        self.step.focus_first()

    # --- light table and close look ---

    @property
    def looks_closely(self) -> bool:
        return self.right.looks_closely

    def look_closely(self) -> None:
        """Open the close look on the current image."""
        self.right.look_closely()

    def leave_close_look(self) -> None:
        """Go back to the light table, where one was."""
        self.figures.show()
        self.right.leave_close_look()

    def toggle_enlarged(self) -> None:
        """Give the close look the whole width, or give the figures their part back."""
        self.figures.setVisible(not self.figures.isVisible())

    def toggle_heat(self) -> None:
        """Show heat on the light table, or take it off."""
        self.explain.toggle_heat()

    def show_called_and_labelled(self) -> None:
        """Show what is predicted as a class beside what is labelled so."""
        self.light_table.show_called_and_labelled()

    def other_pane(self) -> None:
        """The focus from the figures to the pictures, or back."""
        focused = self.window().focusWidget()
        if focused is not None and self.right.isAncestorOf(focused):
            self.step.focus_first()
        else:
            self.right.take_focus()

    # --- going through images ---

    def step_mistake(self, direction: int) -> None:
        """Look at the next or previous mistake among the images shown."""
        if not self.workspace.shown.step_mistake(direction):
            self.workspace.notices.say("No further mistake this way among the images shown.")

    def next_unreviewed(self) -> None:
        """Look closely at the next mistake that nobody has reviewed."""
        if self.reviewer.go_to_next():
            if not self.looks_closely:
                self.look_closely()
        else:
            self.workspace.notices.say("Everything shown has been reviewed.")

    def toggle_blind(self) -> None:
        """Hide what models answer and other readers have decided, or show it again."""
        if self.workspace.is_open:
            read_blind(self.workspace, not self.workspace.shown.blind)

    def write_note(self) -> None:
        """Write a note on the image looked at."""
        if self.workspace.shown.focus.current is not None:
            if not self.looks_closely:
                self.look_closely()
            self.right.look.review.note.setFocus(Qt.FocusReason.ShortcutFocusReason)

    def more_like_these(self) -> None:
        """Show the images most like those marked, or like the one looked at."""
        self._alike.show()

    def keep_marked(self) -> None:
        """Go on with the images marked only."""
        some = self.workspace.shown.focus.acted_on
        if len(some) > 1:
            self.workspace.shown.replace(Picked("hand", tuple(some)))

    # --- where one is ---

    def place(self) -> dict[str, object]:
        """Which part is looked at, as ``go_to`` takes it."""
        return {
            "step": NAMES[self.figures.currentIndex()],
            "page": self.step.place_id,
            "close": self.looks_closely,
            "held": self.comparer.place() if self.workspace.is_open else None,
        }

    def go_to(self, place: dict[str, object]) -> None:
        """Show the step, and the close look if it was open, of the last time."""
        step = place.get("step")
        if step in NAMES:
            self.show_step(NAMES.index(str(step)))
            self.step.go_to(str(place.get("page")))
        self.comparer.go_to(place.get("held"))
        if place.get("close") is True and self.workspace.shown.focus.current is not None:
            self.look_closely()

    @property
    def settled(self) -> bool:
        """Whether nothing is still being worked out."""
        return all(part.settled for part in self._working)

    def stop(self) -> None:
        for part in self._working:
            part.stop()

    @property
    def _working(self) -> tuple[Working, ...]:
        """What works something out in the background."""
        return (
            self.close_look,
            self.blind_look,
            self.thumbnails,
            *self.steps,
            self.light_table,
            self.heat,
            self.strained,
            self.explainer,
            self.comparer,
            self.concluder,
        )
