"""The main window: the start page, a new study, or the workbench on an open one; the foot with what is said below."""

from __future__ import annotations

from pathlib import Path

from PySide6.QtCore import QSettings
from PySide6.QtGui import QCloseEvent, QDragEnterEvent, QDropEvent
from PySide6.QtWidgets import QFileDialog, QMainWindow, QMenu, QStackedWidget, QVBoxLayout, QWidget

from mivrat.core.base.errors import InputError, NotAgreed
from mivrat.core.base.log import log_path
from mivrat.core.models.service.description import is_address, is_description
from mivrat.core.models.service.places import kept_beside
from mivrat.demo.study import demo_study_path
from mivrat.ui.actions import bind, fill_images_menu, hints
from mivrat.ui.agreement import Agreement
from mivrat.ui.bench import MEASURE, PREPARE, Bench
from mivrat.ui.frame import Foot
from mivrat.ui.job_news import JobNews
from mivrat.ui.keys import ShortcutSheet
from mivrat.ui.parts.loop import QtLoop
from mivrat.ui.parts.widgets import offer_by_right_click, open_folder_of
from mivrat.ui.prepare.step import INPUTS, TRY_OUT
from mivrat.ui.start.pages import AskPage, NewStudyPage, RecentStudies, StartPage
from mivrat.ui.start.service_page import ServicePage
from mivrat.ui.steps import STEPS
from mivrat.ui.theme import theme
from mivrat.workspace.bookmark import Bookmark
from mivrat.workspace.jobs import Handle
from mivrat.workspace.open_mark import OpenMark
from mivrat.workspace.study_jobs import Asking, NewStudy
from mivrat.workspace.workspace import Workspace

START, NEW, ASK, BENCH, SERVICE = range(5)
STUDIES = "Studies (*.mivrat)"
# What the desktop puts around a window, above all its title bar.
TITLE_BAR = 40


class MainWindow(QMainWindow):
    """Holds the pages, opens and closes studies, and says what comes of jobs."""

    workspace: Workspace
    bench: Bench

    def __init__(self, settings: QSettings | None = None) -> None:
        super().__init__()
        self.setWindowTitle("Mivrat")
        room = self.screen().availableGeometry()
        self.resize(min(1280, room.width()), min(800, room.height() - TITLE_BAR))
        self.setMinimumSize(min(900, room.width()), min(600, room.height() - TITLE_BAR))
        self.setAcceptDrops(True)
        self.settings = settings or QSettings("mivrat", "mivrat")
        self.recent = RecentStudies(self.settings)
        self.workspace = Workspace(QtLoop(), self.settings)
        self._before_service = START
        self._trying_out, self._mark = False, OpenMark(self.settings)
        self._build()
        self._connect()
        self._restore()

    def _build(self) -> None:
        self.menu = QMenu(self)
        self.start, self.new_page, self.ask = StartPage(self.recent), NewStudyPage(self.workspace), AskPage()
        self.bench, self.foot = Bench(self.workspace, self.menu), Foot()
        self.service = ServicePage(self.workspace)
        self.agreement = Agreement(self.workspace.notices)
        self.bookmark = Bookmark(self.workspace)
        bind(self, self.menu, len(STEPS))
        more, table = QMenu(self), self.bench.light_table
        fill_images_menu(self, more)
        self.bench.hand_back.fill(more)
        table.more.setMenu(more)
        offer_by_right_click(table.more, table.thumbs, self.bench.close_look)
        self.pages = QStackedWidget()
        for page in (self.start, self.new_page, self.ask, self.bench, self.service):
            self.pages.addWidget(page)
        central = QWidget()
        outer = QVBoxLayout(central)
        outer.setContentsMargins(0, 0, 0, 0)
        outer.setSpacing(0)
        outer.addWidget(self.pages, 1)
        outer.addWidget(self.agreement)
        outer.addWidget(self.foot)
        self.setCentralWidget(central)
        self.news = JobNews(self.workspace, self.foot, lambda: self.pages.currentIndex() == BENCH)
        theme.style(self.menu, more, self.foot, self.agreement, self.start, self.new_page, self.ask, self.service)

    def _connect(self) -> None:
        workspace = self.workspace
        self.start.demo_wanted.connect(self.open_demo)
        self.start.new_wanted.connect(self.new_study)
        self.start.open_wanted.connect(self.choose_study)
        self.start.study_wanted.connect(self.open_study)
        self.new_page.start_wanted.connect(self.start_study)
        self.new_page.cancelled.connect(self.show_start)
        self.new_page.service_wanted.connect(self.describe_service)
        self.bench.prepare.service_wanted.connect(self.describe_service)
        self.service.used.connect(self._use_service)
        self.service.left.connect(self._leave_service)
        self.ask.allowed.connect(self._allowed)
        self.ask.refused.connect(self.show_start)
        workspace.opened.connect(self._opened)
        workspace.asked.connect(self._asked)
        workspace.notices.failed.connect(self._failed)
        workspace.jobs.ended.connect(self._ended)
        self.bookmark.restored.connect(self.bench.go_to)
        self.bench.place_changed.connect(self._place_changed)
        self.bench.run_wanted.connect(self.show_run)

    def _restore(self) -> None:
        theme.use(str(self.settings.value("theme", "paper")))
        geometry, state = self.settings.value("geometry"), self.settings.value("splitter")
        if geometry is not None:
            self.restoreGeometry(geometry)
        if state is not None:
            self.bench.splitter.restoreState(state)
        self.show_start()

    # --- pages ---

    def show_start(self) -> None:
        self.start.refresh()
        self.pages.setCurrentIndex(START)
        self.foot.show_keys(*hints("new", "open", "keys"))
        self.start.demo.setFocus()

    def new_study(self) -> None:
        if not self.workspace.busy:
            self.pages.setCurrentIndex(NEW)
            self.new_page.model.edit.setFocus()
            self.foot.show_keys(("Tab", "next field"), *hints("keys"))

    def describe_service(self) -> None:
        """Describe a prediction service: for the new study, or as a further model of the open one."""
        if self.workspace.busy:
            return
        page = self.new_page
        if self.pages.currentIndex() == BENCH:
            record = self.workspace.shown.record
            recipe = record.recipe if record.kind.can.scores else None
            image = record.image_set.file(self.workspace.shown.current or 0)
            self.service.set_up(lambda: record.classes, lambda: recipe, lambda: image)
        else:
            self.service.set_up(page.classes_named, page.recipe_named, page.first_image)
        named = page.model.path if self.pages.currentIndex() == NEW else None
        if named is not None and is_description(named):
            self.service.show_description(named)
        elif self.pages.currentIndex() == NEW and is_address(page.model.edit.text().strip()):
            self.service.address.setText(page.model.edit.text().strip())
        self._before_service = self.pages.currentIndex()
        self.pages.setCurrentIndex(SERVICE)
        self.service.address.setFocus()
        self.foot.show_keys(("Tab", "next field"), *hints("keys"))

    def _leave_service(self) -> None:
        self.agreement.hide()
        self.pages.setCurrentIndex(self._before_service)
        if self._before_service == BENCH:
            self._tell_keys()

    def _use_service(self, path: Path) -> None:
        """Take the service described."""
        self._leave_service()
        if self._before_service == BENCH:
            self.bench.prepare.inputs.add_model(kept_beside(path, self.workspace.study_path))
        else:
            self.new_page.model.set_path(path)

    def _place_changed(self) -> None:
        self.bookmark.extra = self.bench.place()
        self.bookmark.changed()
        if self.pages.currentIndex() == BENCH:
            self._tell_keys()

    def _tell_keys(self) -> None:
        closely = ("light table", "heat", "layer to image", "causes", "next unreviewed", "keys")
        found = hints(
            *(
                closely
                if self.bench.looks_closely
                else ("look closely", "next unreviewed", "hold", "finding", "other pane", "keys")
            )
        )
        self.foot.show_keys(*found[:1], *([("← →", "image")] if self.bench.looks_closely else []), *found[1:])

    def switch_theme(self) -> None:
        theme.use("paper" if theme.tokens.name == "lamp" else "lamp")
        self.settings.setValue("theme", theme.tokens.name)

    def show_keys(self) -> None:
        ShortcutSheet(self).exec()

    def show_log(self) -> None:
        """Say where the log is, and let the desktop show its folder."""
        self.foot.say(f"The log: {log_path()}", log_path())
        open_folder_of(log_path())

    # --- studies ---

    def choose_study(self) -> None:
        found, _ = QFileDialog.getOpenFileName(self, "Open a study", str(Path.home()), STUDIES)
        if found:
            self.open_study(Path(found))

    def open_study(self, path: Path, run_id: int | None = None) -> None:
        """Open a study file; what is shown stays until it is read."""
        if not self.workspace.busy:
            self.bookmark.keep()
            self.foot.begin(f"Opening {path.stem}", stoppable=False)
            self.workspace.open(path, run_id)

    def show_run(self, run_id: int) -> None:
        """Show another run of the open study."""
        if self.workspace.is_open:
            self.open_study(self.workspace.path, run_id)

    def _opened(self, path: Path) -> None:
        """Another study than before has been read."""
        self.recent.add(path)
        unclean = self.bookmark.not_back = self._mark.put(path)
        self.setWindowTitle(f"{path.stem} — Mivrat")
        self.bench.leave_close_look()
        self.bench.show_step(PREPARE if self._trying_out else MEASURE)
        if self._trying_out:
            self.bench.prepare.choose(TRY_OUT)
        self.pages.setCurrentIndex(BENCH)
        self._tell_keys()
        self.bench.light_table.thumbs.setFocus()
        if unclean:
            self.bench.measure.choose(0)
            self.news.tell_bad_end()

    def _asked(self, asking: Asking) -> None:
        self.foot.end()
        self.ask.show_places(asking)
        self.pages.setCurrentIndex(ASK)
        self.ask.no.setFocus()

    def _allowed(self, asking: Asking) -> None:
        self.workspace.allow(*asking.places)
        self.open_study(asking.path)

    def close_study(self) -> None:
        """Back to the start page; the study keeps what it holds."""
        if not self.workspace.busy:
            self.bookmark.keep()
            self.bench.leave_close_look()
            self._mark.take_away()
            self.workspace.close()
            self.setWindowTitle("Mivrat")
            self.foot.end()
            self.foot.offer_to_go_on("")
            self.show_start()

    def save_as(self) -> None:
        if self.workspace.is_open:
            found, _ = QFileDialog.getSaveFileName(self, "Save the study as", str(self.workspace.path), STUDIES)
            if found:
                self.save_copy(Path(found))

    def save_copy(self, copy: Path) -> None:
        """Save the study under another name as well, and go on with the copy."""
        self.bookmark.keep()
        self.workspace.save_copy(copy if copy.suffix == ".mivrat" else copy.with_name(f"{copy.name}.mivrat"))

    def open_demo(self) -> None:
        """Open the demonstration, making its study first where there is none."""
        self.start.show_problem("")
        self.workspace.jobs.make_demo()

    def start_study(self, new: NewStudy) -> None:
        """Make a study from the new-study page; results appear as they arrive."""
        self._trying_out = new.few
        self.workspace.jobs.start(new)

    # --- edits ---

    def undo(self) -> None:
        """Take the last edit back: of the recipe being edited, else of the study."""
        if not (self.workspace.is_open and self.bench.step.undo()):
            self.workspace.edits.undo()

    def redo(self) -> None:
        if not (self.workspace.is_open and self.bench.step.redo()):
            self.workspace.edits.redo()

    # --- jobs ---

    def stop_job(self) -> None:
        self.news.stop()

    def _ended(self, handle: Handle) -> None:
        if handle.job.kind == "demonstration":
            if handle.state == "finished":
                self.open_study(demo_study_path())
        else:
            self._trying_out = False

    def _failed(self, error: InputError) -> None:
        self.foot.end()
        self.news.offer_to_go_on()
        if isinstance(error, NotAgreed) and self.agreement.isVisible():
            return  # it is asked about
        if self.pages.currentIndex() == NEW:
            self.new_page.show_misfit(error)
        elif self.pages.currentIndex() not in (BENCH, SERVICE):
            self.show_start()
            self.start.show_problem(error.line())
        else:
            self.foot.show_problem(error.line())

    def tell_failure(self, what: str) -> None:
        """Something failed that nobody foresaw: say so, and where the details are."""
        self.foot.show_problem(
            f"Something went wrong inside Mivrat ({what}). The details are in the log, {log_path()}."
        )

    # --- the window itself ---

    def dragEnterEvent(self, event: QDragEnterEvent) -> None:  # noqa: N802
        if event.mimeData().hasUrls() and not self.workspace.busy:
            event.acceptProposedAction()

    def dropEvent(self, event: QDropEvent) -> None:  # noqa: N802
        self.take_files([Path(url.toLocalFile()) for url in event.mimeData().urls() if url.isLocalFile()])

    def take_files(self, paths: list[Path]) -> None:
        """What to do with dropped files: open a study; add them to the open one; else fill in the new-study page."""
        study = next((path for path in paths if path.suffix == ".mivrat"), None)
        if study is not None:
            self.open_study(study)
        elif self.pages.currentIndex() == BENCH:
            self.bench.show_step(PREPARE)
            self.bench.prepare.choose(INPUTS)
            self.bench.prepare.inputs.take_files(paths)
        elif paths:
            self.new_study()
            self.new_page.drop(paths)

    @property
    def settled(self) -> bool:
        """Whether nothing is still being worked out."""
        return (
            not self.workspace.reading.busy
            and not self.workspace.writing.busy
            and self.bench.settled
            and self.service.settled
        )

    def closeEvent(self, event: QCloseEvent) -> None:  # noqa: N802
        self.settings.setValue("geometry", self.saveGeometry())
        self.settings.setValue("splitter", self.bench.splitter.saveState())
        self.bookmark.keep()
        self._mark.take_away()
        self.stop_job()
        self.bench.stop()
        self.new_page.stop()
        self.service.stop()
        self.workspace.stop_all()
        event.accept()
