"""The main window: start page, new study, and the workbench; it opens studies and runs evaluations in workers."""

from __future__ import annotations

import json
import time
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path

from PySide6.QtCore import QSettings, Qt
from PySide6.QtGui import QAction, QCloseEvent, QDragEnterEvent, QDropEvent, QKeySequence, QShortcut
from PySide6.QtWidgets import (
    QFileDialog,
    QHBoxLayout,
    QMainWindow,
    QMenu,
    QSplitter,
    QStackedWidget,
    QVBoxLayout,
    QWidget,
)

from mivrat.core.errors import InputError
from mivrat.core.models.onnx_model import OnnxModel
from mivrat.core.pictures.classes import read_class_list
from mivrat.core.pictures.image_sets import read_image_set
from mivrat.core.pictures.recipe import read_recipe
from mivrat.core.running.evaluation import Evaluation
from mivrat.core.running.job import Progress
from mivrat.core.running.loading import load_judged
from mivrat.core.study.records import RunInfo
from mivrat.core.study.study import Study
from mivrat.demo.study import demo_study_path, make_demo_study
from mivrat.ui.close_look.view import CloseLook
from mivrat.ui.frame import Foot, Header, Rail
from mivrat.ui.keys import ShortcutSheet
from mivrat.ui.light_table.table import LightTable
from mivrat.ui.measure.step import MeasureStep
from mivrat.ui.pictures import Thumbnails
from mivrat.ui.selection_line import SelectionLine
from mivrat.ui.session import Session, Snapshot, take_snapshot
from mivrat.ui.start.pages import NewStudy, NewStudyPage, RecentStudies, StartPage
from mivrat.ui.theme import theme
from mivrat.ui.work import Work, Workers

START, NEW, BENCH = 0, 1, 2
SECONDS_BETWEEN_SNAPSHOTS = 0.7


@dataclass(frozen=True)
class Opened:
    """A study as a worker found it: its runs, references, and one run judged."""

    path: Path
    runs: list[RunInfo]
    references: dict[int, Path]
    snapshot: Snapshot


def open_study(path: Path, run_id: int | None) -> Opened:
    """Read a study with one of its runs: the one asked for, else the one looked at last, else the first."""
    study = Study.open(path)
    try:
        runs = study.runs()
        if not runs:
            raise InputError("holds no run yet", where=path, mend="start one from the start page, as a new study")
        last = study.setting("run")
        known = {run.id for run in runs}
        wanted = run_id or (int(last) if last and last.isdigit() else 0)
        snapshot = take_snapshot(*load_judged(study, wanted if wanted in known else runs[0].id))
        return Opened(path, runs, study.references(), snapshot)
    finally:
        study.close()


class MainWindow(QMainWindow):
    """Holds the pages and everything around them."""

    def __init__(self, settings: QSettings | None = None) -> None:
        super().__init__()
        self.setWindowTitle("Mivrat")
        self.resize(1280, 800)
        self.setMinimumSize(900, 600)
        self.setAcceptDrops(True)
        self.settings = settings or QSettings("mivrat", "mivrat")
        self.recent = RecentStudies(self.settings)
        self.session = Session()
        self.thumbnails = Thumbnails()
        self.workers = Workers(2, self)
        self.job: Work | None = None
        self._build()
        self._connect()
        self._restore()

    # --- building ---

    def _build(self) -> None:
        self.menu = QMenu(self)
        self._action("New study…", self.new_study, QKeySequence.StandardKey.New)
        self._action("Open a study…", self.choose_study, QKeySequence.StandardKey.Open)
        self._action("Open the demonstration", self.open_demo)
        self._action("Close the study", self.close_study, QKeySequence("Ctrl+W"))
        self.menu.addSeparator()
        self._action("Theme: paper or lamp", self.switch_theme, QKeySequence("Ctrl+Shift+T"))
        self._action("Keys", self.show_keys, QKeySequence.StandardKey.HelpContents)
        self.menu.addSeparator()
        self._action("Quit", self.close, QKeySequence("Ctrl+Q"))

        self.start, self.new_page = StartPage(self.recent), NewStudyPage()
        self.header, self.rail = Header(self.session, self.menu), Rail(self.session)
        self.line, self.foot = SelectionLine(self.session), Foot()
        self.measure = MeasureStep(self.session)
        self.light_table = LightTable(self.session, self.thumbnails)
        self.close_look = CloseLook(self.session, self.thumbnails)
        self.right = QStackedWidget()
        self.right.addWidget(self.light_table)
        self.right.addWidget(self.close_look)
        self.right.setMinimumWidth(330)
        self.measure.setMinimumWidth(330)
        self.splitter = QSplitter(Qt.Orientation.Horizontal)
        self.splitter.addWidget(self.measure)
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
        self.pages = QStackedWidget()
        for page in (self.start, self.new_page, self.bench):
            self.pages.addWidget(page)
        central = QWidget()
        outer = QVBoxLayout(central)
        outer.setContentsMargins(0, 0, 0, 0)
        outer.setSpacing(0)
        outer.addWidget(self.pages, 1)
        outer.addWidget(self.foot)
        self.setCentralWidget(central)

    def _action(
        self, text: str, wanted: Callable[[], object], key: QKeySequence | QKeySequence.StandardKey | None = None
    ) -> None:
        action = QAction(text, self)
        action.triggered.connect(lambda: wanted())
        if key is not None:
            action.setShortcut(key)
        self.menu.addAction(action)
        self.addAction(action)

    def _connect(self) -> None:
        self.start.demo_wanted.connect(self.open_demo)
        self.start.new_wanted.connect(self.new_study)
        self.start.open_wanted.connect(self.choose_study)
        self.start.study_wanted.connect(self.open_study)
        self.new_page.start_wanted.connect(self.start_study)
        self.new_page.cancelled.connect(self.show_start)
        self.header.run_wanted.connect(self.show_run)
        self.light_table.thumbs.opened.connect(self.look_closely)
        self.close_look.closed.connect(self.leave_close_look)
        self.close_look.enlarged.connect(self.toggle_enlarged)
        self.foot.stop_wanted.connect(self.stop_job)
        self.foot.resume.clicked.connect(self.go_on)
        keys: list[tuple[str, Callable[[], object]]] = [
            ("Backspace", self.session.remove_last),
            ("Alt+Left", self.session.back),
            ("Alt+Right", self.session.forward),
            ("Ctrl+PgDown", lambda: self.measure.tabs.step(1)),
            ("Ctrl+PgUp", lambda: self.measure.tabs.step(-1)),
            ("F6", self._other_pane),
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
            ("L", lambda: self.close_look.step_layer(1)),
            ("Shift+L", lambda: self.close_look.step_layer(-1)),
            ("Z", self.toggle_enlarged),
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
        if self.job is None:
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
                ("M", "next mistake"),
                ("F1", "keys"),
            )
        else:
            self.foot.show_keys(("Enter", "close look"), ("M", "next mistake"), ("F6", "other pane"), ("F1", "keys"))

    def look_closely(self) -> None:
        """Open the close look on the current image."""
        self.right.setCurrentWidget(self.close_look)
        self.close_look.open()
        self.close_look.setFocus()
        self._tell_keys()

    def toggle_enlarged(self) -> None:
        """Give the close look the whole width, or give the figures their part back."""
        self.measure.setVisible(not self.measure.isVisible())

    def leave_close_look(self) -> None:
        """Go back to the light table, where one was."""
        self.measure.show()
        self.right.setCurrentWidget(self.light_table)
        self.light_table.thumbs.setFocus()
        self._tell_keys()

    def _mistake(self, direction: int) -> None:
        if not self.session.step_mistake(direction):
            self.foot.what.setText("No further mistake this way among the images shown.")

    def _other_pane(self) -> None:
        reason, focused = Qt.FocusReason.TabFocusReason, self.focusWidget()
        if focused is not None and self.right.isAncestorOf(focused):
            page = self.measure.pages.currentWidget()
            if page is not None:
                inside = [
                    one
                    for one in [page, *page.findChildren(QWidget)]
                    if one.focusPolicy() == Qt.FocusPolicy.StrongFocus and one.isVisible()
                ]
                (inside[0] if inside else page).setFocus(reason)
        elif self.right.currentWidget() is self.close_look:
            self.close_look.setFocus(reason)
        else:
            self.light_table.thumbs.setFocus(reason)

    def switch_theme(self) -> None:
        theme.use("paper" if theme.tokens.name == "lamp" else "lamp")
        self.settings.setValue("theme", theme.tokens.name)
        self.measure.headline.refresh()

    def show_keys(self) -> None:
        ShortcutSheet(self).exec()

    # --- studies ---

    def choose_study(self) -> None:
        found, _ = QFileDialog.getOpenFileName(self, "Open a study", str(Path.home()), "Studies (*.mivrat)")
        if found:
            self.open_study(Path(found))

    def open_study(self, path: Path, run_id: int | None = None) -> None:
        """Open a study file; what is shown stays until it is read."""
        if self.job is not None:
            return
        self.foot.working(f"Opening {path.stem}")
        self.foot.stop.hide()
        self.workers.start(lambda work: open_study(path, run_id), done=self._opened, failed=self._failed)

    def show_run(self, run_id: int) -> None:
        """Show another run of the open study."""
        if self.session.study_path is not None:
            self.open_study(self.session.study_path, run_id)

    def _opened(self, opened: Opened) -> None:
        if opened.path != self.session.study_path:
            self.session.selection.conditions = ()
        self.session.study_path, self.session.runs, self.session.references = (
            opened.path,
            opened.runs,
            opened.references,
        )
        self.session.show(opened.snapshot)
        self.recent.add(opened.path)
        self.setWindowTitle(f"{opened.path.stem} — Mivrat")
        pending = opened.snapshot.counts.pending
        self.foot.idle(f"{pending} images are not scored yet." if pending else "", resumable=bool(pending))
        self._show_bench()
        if self.right.currentWidget() is not self.close_look:
            self.light_table.thumbs.setFocus()
        path, run_id = opened.path, opened.snapshot.record.info.id
        self.workers.start(lambda work: _remember_run(path, run_id))

    def close_study(self) -> None:
        """Back to the start page; the study keeps what it holds."""
        if self.job is None:
            self.leave_close_look()
            self.setWindowTitle("Mivrat")
            self.show_start()

    def open_demo(self) -> None:
        """Open the demonstration, making its study first where there is none."""
        if self.job is not None:
            return
        path = demo_study_path()
        self._begin(
            "Making the demonstration study: two models on two image sets",
            lambda work: _make_demo(path, work),
            self._demo_made,
        )
        self.start.show_problem("")

    def _demo_made(self, finished: bool) -> None:
        self._end()
        if finished:
            self.open_study(demo_study_path())
        else:
            self.foot.idle("Stopped. Opening the demonstration again goes on from there.")

    def start_study(self, new: NewStudy) -> None:
        """Make a study from the new-study page and run it; results appear as they arrive."""
        self._begin(f"Scoring {new.images.name}", lambda work: _run_new(new, work), self._run_ended)

    def go_on(self) -> None:
        """Score what the shown run has not scored yet."""
        path, snapshot = self.session.study_path, self.session.snapshot
        if path is not None and snapshot is not None and self.job is None:
            run_id = snapshot.record.info.id
            self._begin(
                f"Scoring {snapshot.record.info.image_set}", lambda work: _run_on(path, run_id, work), self._run_ended
            )

    def _begin(self, what: str, job: Callable[[Work], object], done: Callable[[bool], None]) -> None:
        self.foot.working(what)
        self.job = self.workers.start(job, done=done, failed=self._failed, progress=self._progress)

    def _end(self) -> None:
        self.job = None
        self.foot.idle()

    def _progress(self, news: object) -> None:
        if isinstance(news, Progress):
            self.foot.show_progress(news)
        elif isinstance(news, Opened):
            first = self.pages.currentIndex() != BENCH or self.session.study_path != news.path
            if first:
                self.session.selection.conditions = ()
                self.recent.add(news.path)
                self.setWindowTitle(f"{news.path.stem} — Mivrat")
            self.session.study_path, self.session.runs, self.session.references = news.path, news.runs, news.references
            self.session.show(news.snapshot)
            if first:
                self._show_bench()
                self.light_table.thumbs.setFocus()

    def _run_ended(self, finished: bool) -> None:
        self._end()
        snapshot = self.session.snapshot
        if snapshot is None:
            return
        counts = snapshot.counts
        if finished:
            self.foot.idle(f"Done: {counts.listed} images.")
        else:
            self.foot.idle(
                f"Stopped: {counts.pending} images are not scored yet. What is done is kept.", resumable=True
            )

    def stop_job(self) -> None:
        if self.job is not None:
            self.job.stop.stop()
            self.foot.detail.setText("stopping after the batch in hand …")

    def _failed(self, error: InputError) -> None:
        self._end()
        if self.pages.currentIndex() == NEW:
            self.new_page._does_not_fit(error)
        elif self.pages.currentIndex() == START:
            self.start.show_problem(error.line())
        else:
            self.foot.idle(error.line())

    # --- the window itself ---

    def dragEnterEvent(self, event: QDragEnterEvent) -> None:  # noqa: N802
        if event.mimeData().hasUrls() and self.job is None:
            event.acceptProposedAction()

    def dropEvent(self, event: QDropEvent) -> None:  # noqa: N802
        self.take_files([Path(url.toLocalFile()) for url in event.mimeData().urls() if url.isLocalFile()])

    def take_files(self, paths: list[Path]) -> None:
        """What to do with dropped files: open a study, else fill in the new-study page."""
        study = next((path for path in paths if path.suffix == ".mivrat"), None)
        if study is not None:
            self.open_study(study)
        elif paths:
            self.new_study()
            self.new_page.drop(paths)

    def closeEvent(self, event: QCloseEvent) -> None:  # noqa: N802
        self.settings.setValue("geometry", self.saveGeometry())
        self.settings.setValue("splitter", self.splitter.saveState())
        self.stop_job()
        for part in (self.close_look, self.thumbnails, self.new_page):
            part.stop()
        self.workers.stop_all()
        event.accept()


def _remember_run(path: Path, run_id: int) -> None:
    study = Study.open(path)
    try:
        study.set_setting("run", json.dumps(run_id))
    finally:
        study.close()


def _make_demo(path: Path, work: Work) -> bool:
    last = Progress(0, 1, 0.0, None)
    for last in make_demo_study(path, work.stop):
        work.report(last)
    return last.done >= last.total


def _run_new(new: NewStudy, work: Work) -> bool:
    classes = read_class_list(new.classes)
    model = OnnxModel(new.model, read_recipe(new.recipe) if new.recipe else None, len(classes))
    image_set = read_image_set(new.images, classes)
    study = Study.create(new.study, classes)
    try:
        return _run(Evaluation(model, image_set, study), new.study, work)
    finally:
        study.close()


def _run_on(path: Path, run_id: int, work: Work) -> bool:
    study = Study.open(path)
    try:
        record = study.load_run(run_id)
        model = OnnxModel(record.model_path, record.recipe, len(record.classes))
        return _run(Evaluation(model, record.image_set, study), path, work)
    finally:
        study.close()


def _run(evaluation: Evaluation, path: Path, work: Work) -> bool:
    """Run an evaluation to its end or stop, telling of progress often and of results now and then."""
    assert evaluation.study is not None
    assert evaluation.run_id is not None
    told = 0.0
    record = evaluation.study.load_run(evaluation.run_id)
    record.answers = evaluation.answers
    runs, references = evaluation.study.runs(), evaluation.study.references()
    for progress in evaluation.run(work.stop):
        work.report(progress)
        if time.monotonic() - told > SECONDS_BETWEEN_SNAPSHOTS:
            work.report(Opened(path, runs, references, take_snapshot(record, evaluation.judging)))
            told = time.monotonic()
    work.report(Opened(path, runs, references, take_snapshot(record, evaluation.judging)))
    return not len(evaluation.answers.pending)
