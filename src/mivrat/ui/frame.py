"""The parts around the work: the header with what is judged, the rail of steps."""

from __future__ import annotations

from collections.abc import Sequence

from PySide6.QtCore import Qt, Signal
from PySide6.QtGui import QPainter, QPaintEvent, QResizeEvent
from PySide6.QtWidgets import QFrame, QHBoxLayout, QMenu, QPushButton, QToolButton, QVBoxLayout

from mivrat.core.base.numbers import bounds, percent, points, signed_span
from mivrat.ui import words
from mivrat.ui.actions import tooltip
from mivrat.ui.held import HeldAgainst
from mivrat.ui.measure.criteria import verdict
from mivrat.ui.parts.widgets import Elided, label, paint_state, set_role, tip
from mivrat.ui.steps import Step
from mivrat.workspace.comparing import Comparer
from mivrat.workspace.workspace import Workspace


class FittingLine(Elided):
    """One line in as many words as there is room for: the first of several wordings that fits, at last the shortest, cut."""

    def __init__(self) -> None:
        self._wordings: tuple[str, ...] = ("",)
        super().__init__(mode=Qt.TextElideMode.ElideMiddle)

    def show_wordings(self, *wordings: str) -> None:
        """The longest first; the last is what has to be seen."""
        self._wordings = wordings
        letters = self.fontMetrics()
        self.setMinimumWidth(min(letters.horizontalAdvance(wordings[-1]), 18 * letters.averageCharWidth()))
        self.whole = wordings[0]
        self.set_text(wordings[0])

    def _shown(self, width: int) -> str:
        letters = self.fontMetrics()
        fits = (one for one in self._wordings if letters.horizontalAdvance(one) <= width)
        return next(fits, letters.elidedText(self._wordings[-1], Qt.TextElideMode.ElideMiddle, width))


class Header(QFrame):
    """What is being judged, at a glance: image set, model, recipe, N, top-1 accuracy with its interval."""

    run_wanted = Signal(int)

    def __init__(self, workspace: Workspace, menu: QMenu, comparer: Comparer) -> None:
        super().__init__()
        self.setObjectName("header")
        self.setFixedHeight(56)
        self.workspace = workspace
        self.menu_button: QToolButton = QToolButton()
        self.menu_button.setText("Mivrat ▾")
        self.menu_button.setPopupMode(QToolButton.ToolButtonPopupMode.InstantPopup)
        self.menu_button.setMenu(menu)
        tip(self.menu_button, tooltip("menu"))
        self.run_button: QToolButton = QToolButton()
        self.run_button.setPopupMode(QToolButton.ToolButtonPopupMode.InstantPopup)
        self.run_button.setProperty("quiet", True)
        self.run_button.setStyleSheet("font-size: 15px; font-weight: 600;")
        tip(self.run_button, tooltip("runs"))
        self.runs_menu = QMenu(self.run_button)
        self.run_button.setMenu(self.runs_menu)
        self.facts = FittingLine()
        self.facts.setProperty("soft", True)
        self.badge = label(role="look")
        self.verdict = label()
        self.held: HeldAgainst = HeldAgainst(workspace, comparer)
        self.value, self.other_value, self.detail = label(role="big"), label(role="big second"), label(soft=True)
        layout = self._layout = QHBoxLayout(self)
        layout.setContentsMargins(14, 0, 18, 0)
        layout.setSpacing(14)
        for widget in (self.menu_button, self.run_button):
            layout.addWidget(widget)
        layout.addWidget(self.facts, 1)
        layout.addWidget(self.held)
        for shown in (self.verdict, self.badge, self.value, self.other_value, self.detail):
            layout.addWidget(shown)
        self._badges, self._left_out = list[str](), 0
        workspace.topics.figures.connect(self.refresh)
        workspace.topics.contents.connect(self.refresh)
        workspace.topics.criteria.connect(self._judge)
        workspace.topics.held.connect(self._fit)
        workspace.topics.run.connect(self._judge)
        workspace.topics.compared.connect(self._show_value)

    def _judge(self) -> None:
        """The verdict so far: how the criteria stand."""
        state, text = verdict(self.workspace)
        self.verdict.setText(text)
        tip(self.verdict, "See Criteria under Conclude")
        set_role(self.verdict, {"stop": "problem", "look": "look", "fine": "good"}.get(state, ""))
        self._fit()

    def resizeEvent(self, event: QResizeEvent) -> None:
        super().resizeEvent(event)
        self._fit()

    def _fit(self) -> None:
        """Where there is no room for all, the verdict gives way, which the rail tells too, then words of what is left out, and letters
        of the image set's name; the model's name and the figure with its interval stay."""
        if not self.workspace.is_open:
            return
        self.run_button.setText(self._run_name(34))
        self.badge.setText(" · ".join(self._badges))
        self.verdict.setVisible(bool(self.verdict.text()))
        ways = (
            self.verdict.hide,
            lambda: self.badge.setText(f"{words.count(self._left_out)} left out" if self._badges else ""),
            lambda: self.run_button.setText(self._run_name(16)),
            lambda: self.run_button.setText(self._run_name(8)),
        )
        for way in ways:
            if self._layout.minimumSize().width() <= self.width():
                return
            way()

    def _run_name(self, letters: int) -> str:
        name = words.clipped(self.workspace.shown.record.info.image_set, letters)
        return f"{name} ▾" if len(self.workspace.runs) > 1 else name

    def refresh(self) -> None:
        snapshot = self.workspace.shown.snapshot
        info, counts = snapshot.record.info, snapshot.counts
        guess = " (a guess)" if snapshot.record.recipe_is_guess else ""
        prepared = f"recipe {snapshot.record.recipe.summary()}{guess}"
        if not snapshot.record.kind.can.scores:
            prepared = snapshot.record.kind.called
        told = info.model.endswith(" (service)")
        service = " (service)" if snapshot.record.kind.can.asked and not told else ""
        model, listed = f"model {words.clipped(info.model, 30)}{service}", words.images(counts.listed)
        threshold = "" if snapshot.record.threshold is None else f"     threshold {snapshot.record.threshold:.3g}"
        short = f"{model}{threshold}"
        self.facts.show_wordings(
            f"{short}     {prepared}     {listed}", f"{short}     {prepared}", f"{short}     {listed}", short, model
        )
        self._badges = [
            f"{words.count(n)} {name}"
            for n, name in (
                (counts.unreadable, "unreadable"),
                (counts.failed, "failed"),
                (counts.unlabelled, "unlabelled"),
                (counts.pending, "not yet scored"),
            )
            if n
        ]
        self._left_out = counts.unreadable + counts.failed + counts.unlabelled + counts.pending
        tip(self.badge, f"These images are not in the figures: {', '.join(self._badges)}.")
        self._show_value()
        self.runs_menu.clear()
        for run in self.workspace.runs:
            action = self.runs_menu.addAction(f"{run.image_set}   —   {run.model}".replace("&", "&&"))
            action.setCheckable(True)
            action.setChecked(run.id == info.id)
            action.triggered.connect(lambda _=False, i=run.id: self.run_wanted.emit(i))

    def _show_value(self) -> None:
        """Top-1 accuracy with its interval; while something is held that of both, and the difference with its own."""
        shown = self.workspace.shown
        top1, compared = shown.snapshot.figures.top_k[1], shown.compared
        found = compared.found.either.top1 if compared is not None and not compared.of_selection else None
        self.other_value.setVisible(found is not None and found.b is not None)
        if compared is not None and found is not None and found.b is not None:
            self.value.setText(f"{percent(found.a)} →")
            self.other_value.setText(percent(found.b))
            self.detail.setText(f"{points(found.value)}  ({signed_span(found.low, found.high) or 'no interval'})")
            names, total = compared.held.names, compared.found.total
            said = f"top-1 accuracy: {names.a} {percent(found.a)}, {names.b} {percent(found.b)}, N = {words.count(total)}.\nThe difference in points with its 95 % interval."
            for widget in (self.value, self.other_value, self.detail):
                tip(widget, said)
            self._fit()
            return
        self.value.setText(percent(top1.value))
        self.detail.setText(
            f"top-1   {bounds(top1) or 'no interval'}   N = {words.count(top1.total)}"
            if top1.total
            else "top-1, no labelled image scored"
        )
        for widget in (self.value, self.detail):
            tip(widget, f"{top1.hits} right of {top1.total} labelled, scored images. {words.how(top1)}")
        self._fit()


class _RailStep(QPushButton):
    """A step on the rail with a mark for its state."""

    def __init__(self, name: str) -> None:
        super().__init__(f"      {name}")
        self.state = "untouched"
        self.setProperty("rail", True)
        self.setCheckable(True)

    def set_state(self, state: str, why: str) -> None:
        self.state = state
        tip(self, why)
        self.setAccessibleDescription(why)
        self.update()

    def paintEvent(self, event: QPaintEvent) -> None:
        super().paintEvent(event)
        with QPainter(self) as painter:
            paint_state(painter, self.state, 20, self.height() / 2)


class Rail(QFrame):
    """The steps that work, in the order of the job; each says by a mark how it stands."""

    chosen = Signal(int)

    def __init__(self, workspace: Workspace, steps: Sequence[Step]) -> None:
        super().__init__()
        self.setObjectName("rail")
        self.setFixedWidth(104)
        self.workspace = workspace
        self._states = [step.state for step in steps]
        self.steps = [_RailStep(step.name) for step in steps]
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 20, 0, 0)
        layout.setSpacing(0)
        for i, step in enumerate(self.steps):
            step.clicked.connect(lambda _=False, i=i: self.chosen.emit(i))
            layout.addWidget(step)
        layout.addStretch(1)
        self.show_chosen(0)
        for signal in (
            workspace.topics.figures,
            workspace.topics.contents,
            workspace.topics.checks,
            workspace.topics.reviews,
            workspace.topics.tests_kept,
            workspace.topics.compared,
            workspace.topics.criteria,
            workspace.topics.findings,
        ):
            signal.connect(self._refresh)

    def show_chosen(self, index: int) -> None:
        for i, step in enumerate(self.steps):
            step.setChecked(i == index)

    def _refresh(self) -> None:
        for i, (step, found) in enumerate(zip(self.steps, self._states, strict=True)):
            state, why = found(self.workspace)
            step.set_state(state, f"{why} (Ctrl+{i + 1})")
