"""The main window: start page, new study, and the workbench; it opens studies and runs evaluations in workers."""

from __future__ import annotations

import hashlib
from collections.abc import Callable
from pathlib import Path

from PySide6.QtCore import QPoint, QSettings, Qt
from PySide6.QtGui import QAction, QCloseEvent, QDragEnterEvent, QDropEvent, QKeySequence, QShortcut
from PySide6.QtWidgets import (
    QApplication,
    QFileDialog,
    QHBoxLayout,
    QMainWindow,
    QMenu,
    QSplitter,
    QStackedWidget,
    QVBoxLayout,
    QWidget,
)

from mivrat.core.base.errors import InputError
from mivrat.core.base.job import Progress
from mivrat.core.base.log import log_path
from mivrat.core.checks.catalogue import Step
from mivrat.core.likeness.search import nearest
from mivrat.core.selecting.selection import Picked
from mivrat.demo.study import demo_study_path
from mivrat.ui import words
from mivrat.ui.check.step import CheckStep
from mivrat.ui.close_look.view import CloseLook
from mivrat.ui.examine.step import ExamineStep
from mivrat.ui.explain.step import ExplainStep
from mivrat.ui.frame import STEPS, Foot, Header, Rail
from mivrat.ui.handing_back import HandBack
from mivrat.ui.jobs import Job
from mivrat.ui.keeper import Keeper
from mivrat.ui.keys import ShortcutSheet
from mivrat.ui.light_table.table import LightTable
from mivrat.ui.measure.step import MeasureStep
from mivrat.ui.pictures import Thumbnails
from mivrat.ui.place import Place
from mivrat.ui.prepare.step import INPUTS, TRY_OUT, PrepareStep
from mivrat.ui.reviewing import Reviewer
from mivrat.ui.selection_line import SelectionLine
from mivrat.ui.session import Session
from mivrat.ui.start.pages import AskPage, NewStudyPage, RecentStudies, StartPage
from mivrat.ui.study_work import Asking, NewStudy
from mivrat.ui.theme import theme
from mivrat.ui.widgets import Waiting, offer_by_right_click, open_folder_of
from mivrat.ui.work import Work, Workers

PREPARE, CHECK, MEASURE, EXAMINE, EXPLAIN = range(len(STEPS))
START, NEW, ASK, BENCH = 0, 1, 2, 3
BADLY = "Mivrat did not close properly the last time this study was open, so it opens on the headline."
# So many of the most similar images are shown beside those they are like.
MOST_ALIKE = 60


# What the desktop puts around a window, above all its title bar.
TITLE_BAR = 40
TAB = Qt.FocusPolicy.TabFocus


class MainWindow(QMainWindow):
    """Holds the pages and everything around them."""

    def __init__(self, settings: QSettings | None = None) -> None:
        super().__init__()
        self.setWindowTitle("Mivrat")
        room = self.screen().availableGeometry()
        self.resize(min(1280, room.width()), min(800, room.height() - TITLE_BAR))
        self.setMinimumSize(min(900, room.width()), min(600, room.height() - TITLE_BAR))
        self.setAcceptDrops(True)
        self.settings = settings or QSettings("mivrat", "mivrat")
        self.recent = RecentStudies(self.settings)
        self.session = Session()
        self.thumbnails = Thumbnails()
        self.keeper = Keeper(self.session, self.settings, self)
        self._trying_out = False
        self._ended_badly = False
        self._marked = ""
        self._wanted_alike: list[int] = []
        self._focus_before: QWidget | None = None
        self._build()
        self._connect()
        self._restore()

    @property
    def workers(self) -> Workers:
        return self.keeper.workers

    @property
    def job(self) -> Work | None:
        return self.keeper.job

    # --- building ---

    def _build(self) -> None:
        self.menu = QMenu(self)
        self._action("New study…", self.new_study, QKeySequence.StandardKey.New)
        self._action("Open a study…", self.choose_study, QKeySequence.StandardKey.Open)
        self._action("Open the demonstration", self.open_demo)
        self._action("Save the study as…", self.save_as, QKeySequence.StandardKey.SaveAs)
        self._action("Close the study", self.close_study, QKeySequence("Ctrl+W"))
        self.menu.addSeparator()
        self.undo_action = self._action("Undo", self.undo, QKeySequence.StandardKey.Undo)
        self.redo_action = self._action("Redo", self.redo, QKeySequence.StandardKey.Redo)
        self.menu.addSeparator()
        self._action("Theme: paper or lamp", self.switch_theme, QKeySequence("Ctrl+Shift+T"))
        self._action("Keys", self.show_keys, QKeySequence.StandardKey.HelpContents)
        self._action("Where the log is", self.show_log)
        self.menu.addSeparator()
        self._action("Quit", self.close, QKeySequence("Ctrl+Q"))

        self.start, self.new_page, self.ask = StartPage(self.recent), NewStudyPage(), AskPage()
        self.header, self.rail = Header(self.session, self.menu), Rail(self.session)
        self.line, self.foot = SelectionLine(self.session), Foot()
        self.prepare = PrepareStep(self.session, self.keeper, self.thumbnails)
        self.check, self.measure = CheckStep(self.session, self.keeper), MeasureStep(self.session, self.keeper)
        self.reviewer = Reviewer(self.session, self.keeper, self)
        self.examine = ExamineStep(self.session, self.keeper, self.reviewer, self.thumbnails)
        self.explain = ExplainStep(self.session, self.keeper, self.thumbnails)
        self.light_table = LightTable(self.session, self.thumbnails)
        self.close_look = CloseLook(self.session, self.thumbnails, self.reviewer)
        self.hand_back = HandBack(self.session, self.keeper, self)
        self.place = Place(self.session, self.keeper, self)
        self._fill_more()
        self.right = QStackedWidget()
        self.right.addWidget(self.light_table)
        self.right.addWidget(self.close_look)
        self.right.setMinimumWidth(290)
        self.figures = QStackedWidget()
        for step in (self.prepare, self.check, self.measure, self.examine, self.explain):
            self.figures.addWidget(step)
        self.figures.setMinimumWidth(500)
        self.splitter = QSplitter(Qt.Orientation.Horizontal)
        self.splitter.addWidget(self.figures)
        self.splitter.addWidget(self.right)
        self.splitter.setChildrenCollapsible(False)
        self.splitter.setHandleWidth(1)
        self.splitter.setSizes([600, 576])

        work = QVBoxLayout()
        work.setSpacing(0)
        work.addWidget(self.line)
        work.addWidget(self.splitter, 1)
        middle = QHBoxLayout()
        middle.setSpacing(0)
        middle.addWidget(self.rail)
        middle.addLayout(work, 1)
        self.bench = QWidget()
        self.bench.setObjectName("page")
        self.bench.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        whole = QVBoxLayout(self.bench)
        whole.setContentsMargins(0, 0, 0, 0)
        whole.setSpacing(0)
        whole.addWidget(self.header)
        whole.addLayout(middle, 1)
        # Where the focus waits while the button that began a job is disabled.
        self.waiting = Waiting(self.bench)
        self.pages = QStackedWidget()
        for page in (self.start, self.new_page, self.ask, self.bench):
            self.pages.addWidget(page)
        central = QWidget()
        outer = QVBoxLayout(central)
        outer.setContentsMargins(0, 0, 0, 0)
        outer.setSpacing(0)
        outer.addWidget(self.pages, 1)
        outer.addWidget(self.foot)
        self.setCentralWidget(central)
        theme.style(self.menu, self.header, self.rail, self.line, self.foot, self.light_table, self.close_look)
        theme.style(self.start, self.new_page, self.ask, self.check, self.splitter.handle(1))

    def _action(
        self, text: str, wanted: Callable[[], object], key: QKeySequence | QKeySequence.StandardKey | None = None
    ) -> QAction:
        action = QAction(text, self)
        action.triggered.connect(lambda: wanted())
        if isinstance(key, QKeySequence.StandardKey):
            action.setShortcuts(key)  # all that are usual, such as both for redo
        elif key is not None:
            action.setShortcut(key)
        self.menu.addAction(action)
        self.addAction(action)
        return action

    def _fill_more(self) -> None:
        """What can be done with the images shown or marked."""
        menu = QMenu(self.light_table.more)
        menu.addAction("More like these (S)").triggered.connect(lambda: self.more_like_these())
        menu.addAction("Predicted beside labelled (B)").triggered.connect(
            lambda: self.light_table.show_called_and_labelled()
        )
        menu.addAction("Keep only those marked (K)").triggered.connect(lambda: self.keep_marked())
        menu.addSeparator()
        self.hand_back.fill(menu)
        self.light_table.more.setMenu(menu)
        offer_by_right_click(self.light_table.more, self.light_table.thumbs, self.close_look)
        theme.style(menu)

    def _connect(self) -> None:
        self.start.demo_wanted.connect(self.open_demo)
        self.start.new_wanted.connect(self.new_study)
        self.start.open_wanted.connect(self.choose_study)
        self.start.study_wanted.connect(self.open_study)
        self.new_page.start_wanted.connect(self.start_study)
        self.new_page.cancelled.connect(self.show_start)
        self.ask.allowed.connect(self._allowed)
        self.ask.refused.connect(self.show_start)
        self.keeper.opened.connect(self._opened)
        self.keeper.asked.connect(self._asked)
        self.keeper.failed.connect(self._failed)
        self.keeper.began.connect(self._began)
        self.keeper.progress.connect(self._progress)
        self.keeper.ended.connect(self._ended)
        self.keeper.refused.connect(self.foot.say)
        self.keeper.decided.connect(self.foot.say)
        self.keeper.put_down.connect(self.foot.say)
        self.session.busy_changed.connect(self._keep_focus)
        self.session.figures_changed.connect(self._tell_pending)
        self.session.look_wanted.connect(self.look_closely)
        self.session.features_changed.connect(lambda: self.more_like_these() if self._wanted_alike else None)
        for changed in (self.figures.currentChanged, self.right.currentChanged):
            changed.connect(lambda _: self._tell_place())
        for tabs in (self.prepare.tabs, self.measure.tabs, self.examine.tabs, self.explain.tabs):
            tabs.chosen.connect(lambda _: self._tell_place())
        application = QApplication.instance()
        if isinstance(application, QApplication):
            application.focusChanged.connect(self._focus_moves)
        self.header.run_wanted.connect(self.show_run)
        self.rail.chosen.connect(self.show_step)
        self.prepare.run_wanted.connect(self.show_run)
        self.prepare.looked.connect(self.look_closely)
        self.light_table.thumbs.opened.connect(self.look_closely)
        self.light_table.features_wanted.connect(self.keeper.find_features)
        self.close_look.features_wanted.connect(self.keeper.find_features)
        self.examine.groups.looked.connect(self.look_closely)
        self.explain.where.looked.connect(self.look_closely)
        self.explain.where.named.connect(self.examine.review.keep_as)
        self.light_table.thumbs.show_heat(self.explain.heat.get)
        self.place.restored.connect(self._go_back_to)
        self.close_look.closed.connect(self.leave_close_look)
        self.close_look.enlarged.connect(self.toggle_enlarged)
        self.foot.stop_wanted.connect(self.stop_job)
        self.foot.resume.clicked.connect(self.go_on)
        self.menu.aboutToShow.connect(self._name_decisions)
        keys: list[tuple[str, Callable[[], object]]] = [
            ("Backspace", self.session.remove_last),
            ("Alt+Left", self.session.back),
            ("Alt+Right", self.session.forward),
            ("Ctrl+PgDown", lambda: self._step_tab(1)),
            ("Ctrl+PgUp", lambda: self._step_tab(-1)),
            *((f"Ctrl+{i + 1}", lambda i=i: self.show_step(i, True)) for i in range(len(STEPS))),
            ("F6", self._other_pane),
            ("N", self.next_unreviewed),
            ("R", self.reviewer.toggle_reviewed),
            ("E", self.write_note),
            ("S", self.more_like_these),
            ("B", self.light_table.show_called_and_labelled),
            ("K", self.keep_marked),
            ("Shift+H", self.explain.toggle_heat),
            *((str(i), lambda i=i: self.reviewer.toggle_key(i)) for i in range(1, 10)),
            ("M", lambda: self._mistake(1)),
            ("Shift+M", lambda: self._mistake(-1)),
            ("Alt+M", self.header.menu_button.showMenu),
            ("Alt+R", self.header.run_button.showMenu),
        ]
        for key, wanted in keys:
            self._shortcut(key, self.bench, wanted)
        for key, wanted in (
            ("Left", lambda: self.session.step(-1)),
            ("Right", lambda: self.session.step(1)),
            ("H", self.close_look.toggle_heat),
            ("T", self.close_look.toggle_rather),
            ("L", lambda: self.close_look.step_layer(1)),
            ("Shift+L", lambda: self.close_look.step_layer(-1)),
            ("Z", self.toggle_enlarged),
            ("+", lambda: self.close_look.zoom.by(1.5)),
            ("=", lambda: self.close_look.zoom.by(1.5)),
            ("-", lambda: self.close_look.zoom.by(1 / 1.5)),
            ("0", self.close_look.zoom.reset),
            ("Escape", self.leave_close_look),
        ):
            self._shortcut(key, self.close_look, wanted)
        self._shortcut("Ctrl+.", self, self.stop_job)

    def _shortcut(self, key: str, where: QWidget, wanted: Callable[[], object]) -> None:
        shortcut = QShortcut(QKeySequence(key), where)
        shortcut.setContext(Qt.ShortcutContext.WidgetWithChildrenShortcut)
        shortcut.activated.connect(lambda: wanted())

    def _restore(self) -> None:
        theme.use(str(self.settings.value("theme", "paper")))
        geometry, state = self.settings.value("geometry"), self.settings.value("splitter")
        if geometry is not None:
            self.restoreGeometry(geometry)
        if state is not None:
            self.splitter.restoreState(state)
        self.show_start()

    # --- pages ---

    def show_start(self) -> None:
        self.start.refresh()
        self.pages.setCurrentIndex(START)
        self.foot.show_keys(("Ctrl+N", "new study"), ("Ctrl+O", "open"), ("F1", "keys"))
        self.start.demo.setFocus()

    def new_study(self) -> None:
        if not self.session.busy:
            self.pages.setCurrentIndex(NEW)
            self.new_page.model.edit.setFocus()
            self.foot.show_keys(("Tab", "next field"), ("F1", "keys"))

    def _show_bench(self) -> None:
        self.pages.setCurrentIndex(BENCH)
        self._tell_keys()

    def _tell_keys(self) -> None:
        if self.right.currentWidget() is self.close_look:
            self.foot.show_keys(
                ("Esc", "light table"),
                ("← →", "image"),
                ("H", "heat"),
                ("L", "layer"),
                ("1–9", "cause"),
                ("N", "next unreviewed"),
                ("F1", "keys"),
            )
        else:
            self.foot.show_keys(("Enter", "close look"), ("N", "next unreviewed"), ("F6", "other pane"), ("F1", "keys"))

    def look_closely(self) -> None:
        """Open the close look on the current image."""
        self.right.setCurrentWidget(self.close_look)
        self.close_look.open()
        self.close_look.setFocus()
        self._tell_keys()

    def toggle_enlarged(self) -> None:
        """Give the close look the whole width, or give the figures their part back."""
        self.figures.setVisible(not self.figures.isVisible())

    def leave_close_look(self) -> None:
        """Go back to the light table, where one was."""
        self.figures.show()
        self.right.setCurrentWidget(self.light_table)
        self.light_table.thumbs.setFocus()
        self._tell_keys()

    def next_unreviewed(self) -> None:
        """Look closely at the next mistake that nobody has reviewed."""
        if self.reviewer.go_to_next():
            if self.right.currentWidget() is not self.close_look:
                self.look_closely()
        else:
            self.foot.say("Everything shown has been reviewed.")

    def write_note(self) -> None:
        """Write a note on the image looked at."""
        if self.session.current is not None:
            if self.right.currentWidget() is not self.close_look:
                self.look_closely()
            self.close_look.review.note.setFocus(Qt.FocusReason.ShortcutFocusReason)

    def more_like_these(self) -> None:
        """Show the images most like those marked, or like the one looked at; features are worked out first if need be."""
        some, vectors = self.session.acted_on, self.session.vectors
        if not some:
            self.foot.say("Look at an image first, or mark several.")
        elif vectors is None:
            self._wanted_alike = some if self.keeper.find_features() else []
        else:
            self._wanted_alike = []
            found = nearest(vectors, some, MOST_ALIKE)[0].tolist()
            name = self.session.name_of(some[0]) if len(some) == 1 else words.images(len(some))
            self.session.replace(Picked(f"likeness to {name}", (*some, *found)))
            self.leave_close_look()
            self.session.look_at(some[0])

    def keep_marked(self) -> None:
        """Go on with the images marked only."""
        some = self.session.acted_on
        if len(some) > 1:
            self.session.replace(Picked("hand", tuple(some)))

    def _go_back_to(self, data: dict[str, object]) -> None:
        """Show the step, and the close look if it was open, of the last time."""
        step, page = data.get("step"), data.get("page")
        if isinstance(step, int) and 0 <= step < len(STEPS):
            self.show_step(step)
            tabs = getattr(self.figures.currentWidget(), "tabs", None)
            if tabs is not None and isinstance(page, int):
                tabs.choose(page)
        if data.get("close") is True and self.session.current is not None:
            self.look_closely()

    def _tell_place(self) -> None:
        tabs = getattr(self.figures.currentWidget(), "tabs", None)
        self.place.extra = {
            "step": self.figures.currentIndex(),
            "page": tabs.current if tabs is not None else 0,
            "close": self.right.currentWidget() is self.close_look,
        }
        self.place.changed()

    def _mistake(self, direction: int) -> None:
        if not self.session.step_mistake(direction):
            self.foot.say("No further mistake this way among the images shown.")

    def show_step(self, index: int, focus: bool = False) -> None:
        """Show a step of the job in the figures area; the light table stays."""
        self.figures.show()
        self.figures.setCurrentIndex(index)
        self.rail.show_chosen(index)
        if focus:
            self._focus_figures()

    def _step_tab(self, by: int) -> None:
        tabs = getattr(self.figures.currentWidget(), "tabs", None)
        if tabs is not None:
            tabs.step(by)

    def _focus_figures(self) -> None:
        step = self.figures.currentWidget()
        page = (
            step.pages.currentWidget()
            if isinstance(step, PrepareStep | MeasureStep | ExamineStep | ExplainStep)
            else step
        )
        if page is not None:
            inside = [
                one
                for one in [page, *page.findChildren(QWidget)]
                if one.focusPolicy() == Qt.FocusPolicy.StrongFocus and one.isVisible() and one.isEnabled()
            ]
            highest = min(
                inside, key=lambda one: one.mapTo(page, QPoint()).y() if one is not page else -1, default=page
            )
            highest.setFocus(Qt.FocusReason.TabFocusReason)

    def _other_pane(self) -> None:
        reason, focused = Qt.FocusReason.TabFocusReason, self.focusWidget()
        if focused is not None and self.right.isAncestorOf(focused):
            self._focus_figures()
        elif self.right.currentWidget() is self.close_look:
            self.close_look.setFocus(reason)
        else:
            self.light_table.thumbs.setFocus(reason)

    def switch_theme(self) -> None:
        theme.use("paper" if theme.tokens.name == "lamp" else "lamp")
        self.settings.setValue("theme", theme.tokens.name)

    def show_keys(self) -> None:
        ShortcutSheet(self).exec()

    # --- studies ---

    def choose_study(self) -> None:
        found, _ = QFileDialog.getOpenFileName(self, "Open a study", str(Path.home()), "Studies (*.mivrat)")
        if found:
            self.open_study(Path(found))

    def open_study(self, path: Path, run_id: int | None = None) -> None:
        """Open a study file; what is shown stays until it is read."""
        if self.session.busy:
            return
        self.place.keep()
        self.foot.begin(f"Opening {path.stem}", stoppable=False)
        self.keeper.open(path, run_id)

    def show_run(self, run_id: int) -> None:
        """Show another run of the open study."""
        if self.session.study_path is not None:
            self.open_study(self.session.study_path, run_id)

    def _opened(self, path: Path) -> None:
        """Another study than before has been read."""
        self.recent.add(path)
        # A mark that is taken away at a proper end: where it is still there, the window did not come to one.
        unclean = self.settings.value(self._open_mark()) is not None
        self.place.not_back = unclean
        if self._marked:
            self.settings.remove(self._marked)
        self._marked = self._open_mark()
        self.settings.setValue(self._marked, True)
        self.settings.sync()
        self.setWindowTitle(f"{path.stem} — Mivrat")
        self.leave_close_look()
        self.show_step(PREPARE if self._trying_out else MEASURE)
        if self._trying_out:
            self.prepare.tabs.choose(TRY_OUT)
        self._show_bench()
        self.light_table.thumbs.setFocus()
        if unclean:
            self.measure.tabs.choose(0)
            self._ended_badly = True
            self._tell_pending()

    def _open_mark(self) -> str:
        """Under which name it is noted that this study is open here."""
        name = str(self.session.study_path.resolve()) if self.session.study_path is not None else ""
        return f"open/{hashlib.sha256(name.encode('utf-8', 'surrogateescape')).hexdigest()[:16]}"

    def _asked(self, asking: Asking) -> None:
        self.foot.end()
        self.ask.show_places(asking)
        self.pages.setCurrentIndex(ASK)
        self.ask.no.setFocus()

    def _allowed(self, asking: Asking) -> None:
        self.keeper.allow(*asking.places)
        self.open_study(asking.path)

    @property
    def _pending(self) -> int:
        return self.session.snapshot.counts.pending if self.session.snapshot is not None else 0

    def _tell_pending(self) -> None:
        """Say in the foot what is still to be scored, unless something is going on there."""
        snapshot = self.session.snapshot
        if not self.session.busy and snapshot is not None:
            badly, self._ended_badly = self._ended_badly, False
            notice = f"{words.images(self._pending)} not scored yet." if self._pending else ""
            self.foot.end(BADLY if badly else notice)
            self._offer_to_go_on()

    def _offer_to_go_on(self) -> None:
        pending, snapshot = self._pending, self.session.snapshot
        begun = snapshot is not None and pending < snapshot.counts.listed
        shown = pending and self.pages.currentIndex() == BENCH
        self.foot.offer_to_go_on(("Go on" if begun else "Score") if shown else "")

    def close_study(self) -> None:
        """Back to the start page; the study keeps what it holds."""
        if not self.session.busy:
            self.place.keep()
            self.leave_close_look()
            self.settings.remove(self._marked)
            self.keeper.close()
            self.setWindowTitle("Mivrat")
            self.foot.end()
            self.foot.offer_to_go_on("")
            self.show_start()

    def save_as(self) -> None:
        path = self.session.study_path
        if path is not None and self.pages.currentIndex() == BENCH:
            found, _ = QFileDialog.getSaveFileName(self, "Save the study as", str(path), "Studies (*.mivrat)")
            if found:
                self.save_copy(Path(found))

    def save_copy(self, copy: Path) -> None:
        """Save the study under another name as well, and go on with the copy."""
        self.place.keep()
        self.keeper.save_copy(copy if copy.suffix == ".mivrat" else copy.with_name(f"{copy.name}.mivrat"))

    def undo(self) -> None:
        """Take the last decision back: of the recipe being edited, else of the study."""
        if not (self.figures.currentIndex() == PREPARE and self.prepare.undo()):
            self.keeper.undo()

    def redo(self) -> None:
        if not (self.figures.currentIndex() == PREPARE and self.prepare.redo()):
            self.keeper.redo()

    def _name_decisions(self) -> None:
        last, following = self.keeper.decisions.last, self.keeper.decisions.next
        for action, name, decision in ((self.undo_action, "Undo", last), (self.redo_action, "Redo", following)):
            text = f"{name}: {words.clipped(decision.words, 40)}" if decision else name
            action.setText(text.replace("&", "&&"))

    def open_demo(self) -> None:
        """Open the demonstration, making its study first where there is none."""
        self.start.show_problem("")
        self.keeper.make_demo()

    def start_study(self, new: NewStudy) -> None:
        """Make a study from the new-study page; results appear as they arrive."""
        self._trying_out = new.few
        self.keeper.start(new)

    def go_on(self) -> None:
        """Score what the shown run has not scored yet."""
        self.keeper.score()

    def show_log(self) -> None:
        """Say where the log is, and let the desktop show its folder."""
        self.foot.say(f"The log: {log_path()}", log_path())
        open_folder_of(log_path())

    def tell_failure(self, what: str) -> None:
        """Something failed that nobody foresaw: say so, and where the details are."""
        self.foot.show_problem(
            f"Something went wrong inside Mivrat ({what}). The details are in the log, {log_path()}."
        )

    def _began(self, job: Job) -> None:
        self.foot.begin(job.title)

    def _progress(self, news: Progress | Step) -> None:
        if isinstance(news, Step):
            self.foot.tell(news.what)
            news = news.progress
        self.foot.show_progress(news)

    def _ended(self, job: Job, finished: bool) -> None:
        if job.kind == "demonstration":
            self.foot.end(job.ending(finished, 0, 0))
            if finished:
                self.open_study(demo_study_path())
            return
        self._trying_out = False
        if job.kind == "features" and not finished:
            self._wanted_alike = []
        listed = self.session.snapshot.counts.listed if self.session.snapshot is not None else 0
        written = self.keeper.written if job.kind == "write" else None
        told = words.written(written, finished) if written is not None else job.ending(finished, listed, self._pending)
        self.foot.end(told, written.place if written is not None else None)
        self._offer_to_go_on()

    def _keep_focus(self) -> None:
        """While something is going on, what began it cannot be pressed: then the focus waits, and comes back, so that what is
        typed meanwhile goes nowhere else."""
        if self.session.busy:
            return
        before, self._focus_before = self._focus_before, None
        if before is not None and self.waiting.hasFocus():
            try:
                following: QWidget | None = before
                while following is not None and not (
                    following.isVisible() and following.isEnabled() and following.focusPolicy() & TAB
                ):
                    following = following.nextInFocusChain()  # what had it may be of no more use
                    if following is before:
                        return
                assert following is not None
                following.setFocus(Qt.FocusReason.OtherFocusReason)
            except RuntimeError:  # it is gone since
                return

    def _focus_moves(self, old: QWidget | None, new: QWidget | None) -> None:
        """The focus has moved on by itself, since what had it was disabled by a job that began."""
        if self.session.busy and old is not None and new is not None and new is not self.waiting:
            try:
                lost = not old.isEnabled() and self.isAncestorOf(old) and old.isVisible()
            except RuntimeError:
                return
            if lost:
                self._focus_before = old
                self.waiting.setFocus(Qt.FocusReason.OtherFocusReason)

    def stop_job(self) -> None:
        if self.keeper.job is not None:
            self.keeper.stop()
            self.foot.stopping()

    def _failed(self, error: InputError) -> None:
        self.foot.end()
        self._offer_to_go_on()
        if self.pages.currentIndex() == NEW:
            self.new_page._does_not_fit(error)
        elif self.pages.currentIndex() != BENCH:
            self.show_start()
            self.start.show_problem(error.line())
        else:
            self.foot.show_problem(error.line())

    # --- the window itself ---

    def dragEnterEvent(self, event: QDragEnterEvent) -> None:  # noqa: N802
        if event.mimeData().hasUrls() and not self.session.busy:
            event.acceptProposedAction()

    def dropEvent(self, event: QDropEvent) -> None:  # noqa: N802
        self.take_files([Path(url.toLocalFile()) for url in event.mimeData().urls() if url.isLocalFile()])

    def take_files(self, paths: list[Path]) -> None:
        """What to do with dropped files: open a study; add them to the open one; else fill in the new-study page."""
        study = next((path for path in paths if path.suffix == ".mivrat"), None)
        if study is not None:
            self.open_study(study)
        elif self.pages.currentIndex() == BENCH:
            self.show_step(PREPARE)
            self.prepare.tabs.choose(INPUTS)
            self.prepare.inputs.take_files(paths)
        elif paths:
            self.new_study()
            self.new_page.drop(paths)

    def closeEvent(self, event: QCloseEvent) -> None:  # noqa: N802
        self.settings.setValue("geometry", self.saveGeometry())
        self.settings.setValue("splitter", self.splitter.saveState())
        self.place.keep()
        if self._marked:
            self.settings.remove(self._marked)
        self.stop_job()
        for part in (
            self.close_look,
            self.thumbnails,
            self.new_page,
            self.prepare,
            self.measure,
            self.examine,
            self.explain,
            self.light_table,
        ):
            part.stop()
        self.keeper.stop_all()
        event.accept()
