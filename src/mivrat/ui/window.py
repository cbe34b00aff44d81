"""The main window: the start page at once; then a new study, or the workbench on an open one, and the foot with what is said.

What only the workbench needs is loaded while the start page is looked at already.
"""

from __future__ import annotations

import threading
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import TYPE_CHECKING

from PySide6.QtCore import QSettings, QTimer
from PySide6.QtGui import QCloseEvent, QDragEnterEvent, QDropEvent
from PySide6.QtWidgets import QMainWindow, QMenu, QStackedWidget, QVBoxLayout, QWidget

from mivrat.core.base.errors import InputError, NotAgreed
from mivrat.core.base.lazy_module import LazyModule, load, load_shared
from mivrat.core.base.log import log_path
from mivrat.ui.actions import Where, bind, fill_images_menu, hints
from mivrat.ui.foot import Foot
from mivrat.ui.parts.file_dialogs import ask_to_open, ask_to_save, folder_to_save_in
from mivrat.ui.parts.loop import QtLoop
from mivrat.ui.parts.widgets import offer_by_right_click, open_folder_of
from mivrat.ui.start.first_page import RecentStudies, StartPage
from mivrat.ui.theme import theme

if TYPE_CHECKING:
    from mivrat.core.models.service import description, places
    from mivrat.demo import study as demo_study
    from mivrat.ui import agreement, bench, cluster_dialog, job_events, keys, steps
    from mivrat.ui.prepare import step as prepare_step
    from mivrat.ui.start import pages as start_pages
    from mivrat.ui.start import service_page
    from mivrat.workspace import bookmark, open_mark, workspace
    from mivrat.workspace.jobs import Handle
    from mivrat.workspace.study_jobs import Asking, NewStudy
else:
    description, places = (LazyModule(f"mivrat.core.models.service.{name}") for name in ("description", "places"))
    demo_study, prepare_step = LazyModule("mivrat.demo.study"), LazyModule("mivrat.ui.prepare.step")
    agreement, bench, cluster_dialog, job_events, keys, steps = (
        LazyModule(f"mivrat.ui.{name}")
        for name in ("agreement", "bench", "cluster_dialog", "job_events", "keys", "steps")
    )
    start_pages, service_page = LazyModule("mivrat.ui.start.pages"), LazyModule("mivrat.ui.start.service_page")
    bookmark, open_mark, workspace = (
        LazyModule(f"mivrat.workspace.{name}") for name in ("bookmark", "open_mark", "workspace")
    )

# What is loaded while the start page is shown; the last two are needed by the first figures.
LOADED_LATER = (
    "mivrat.ui.bench",
    "mivrat.ui.start.service_page",
    "mivrat.ui.start.pages",
    "mivrat.demo.study",
    "polars",
    "scipy.special",
)
START, NEW, ASK, BENCH, SERVICE = range(5)
STUDIES = "Studies (*.mivrat)"
# What the desktop puts around a window, above all its title bar.
TITLE_BAR = 40


class MainWindow(QMainWindow):
    """Holds the pages, opens and closes studies, and says what comes of jobs."""

    workspace: workspace.Workspace
    bench: bench.Bench

    def __init__(self, settings: QSettings | None = None, *, at_once: bool = True) -> None:
        """Without ``at_once`` only the start page is made, so that it can be shown; ``load`` makes the rest."""
        super().__init__()
        self.setWindowTitle("Mivrat")
        room = self.screen().availableGeometry()
        self.resize(min(1280, room.width()), min(800, room.height() - TITLE_BAR))
        self.setMinimumSize(min(900, room.width()), min(600, room.height() - TITLE_BAR))
        self.settings = settings or QSettings("mivrat", "mivrat")
        self.recent = RecentStudies(self.settings)
        self._loop = QtLoop()
        self._before_service = START
        self._trying_out = self._loaded = False
        self._wanted: Callable[[], object] | None = None
        self._build_first()
        if at_once:
            load(*LOADED_LATER)
            for _ in self._build_rest():
                pass

    # --- built in two parts ---

    def _build_first(self) -> None:
        self.start, self.foot = StartPage(self.recent), Foot()
        self.start.demo_wanted.connect(self.open_demo)
        self.start.new_wanted.connect(self.new_study)
        self.start.open_wanted.connect(self.choose_study)
        self.start.study_wanted.connect(self.open_study)
        self.pages = QStackedWidget()
        self.pages.addWidget(self.start)
        central = QWidget()
        self._outer = QVBoxLayout(central)
        self._outer.setContentsMargins(0, 0, 0, 0)
        self._outer.setSpacing(0)
        self._outer.addWidget(self.pages, 1)
        self._outer.addWidget(self.foot)
        self.setCentralWidget(central)
        theme.style(self.foot, self.start)
        theme.use(str(self.settings.value("theme", "paper")))
        if (geometry := self.settings.value("geometry")) is not None:
            self.restoreGeometry(geometry)
        self.show_start()

    def load(self) -> None:
        """Load what the workbench needs, in a thread of its own, and then build it bit by bit; the start page can be used
        meanwhile, and what is asked for is done as soon as it can be."""

        def work() -> None:
            load_shared()
            load(*LOADED_LATER)
            self._loop.post(lambda: self._build_on(self._build_rest()))

        threading.Thread(target=work, name="loading", daemon=True).start()

    def _build_on(self, building: Iterator[None]) -> None:
        if next(building, self) is not self:
            QTimer.singleShot(0, self, lambda: self._build_on(building))

    def _build_rest(self) -> Iterator[None]:
        self.menu = QMenu(self)
        self.workspace = workspace.Workspace(self._loop, self.settings)
        self._mark = open_mark.OpenMark(self.settings)
        shared = steps.StepServices.of(self.workspace, self)
        made = []
        for step in steps.STEPS:
            made.append(step.make(shared))
            yield
        self.bench = bench.Bench(shared, made, self.menu)
        yield
        self.new_page, self.ask = start_pages.NewStudyPage(self.workspace), start_pages.AskPage()
        self.service = service_page.ServicePage(self.workspace)
        self.agreement = agreement.SendingConsent(self.workspace.notices)
        self.bookmark = bookmark.Bookmark(self.workspace)
        widgets: dict[Where, QWidget] = {"window": self, "bench": self.bench, "close look": self.bench.close_look}
        bind(self, widgets, self.menu, len(steps.STEPS))
        more, table = QMenu(self), self.bench.light_table
        fill_images_menu(self, more)
        self.bench.exporter.fill(more)
        table.more.setMenu(more)
        offer_by_right_click(table.more, table.thumbs, self.bench.close_look)
        for page in (self.new_page, self.ask, self.bench, self.service):
            self.pages.addWidget(page)
        self._outer.insertWidget(1, self.agreement)
        self.events = job_events.JobEvents(self.workspace, self.foot, lambda: self.pages.currentIndex() == BENCH)
        self.foot.reader_wanted.connect(self.bench.examine.review.readers.ask_name)
        for topic in (self.workspace.topics.reviews, self.workspace.topics.blind):
            topic.connect(self._show_reader)
        self.workspace.topics.left.connect(lambda: self.foot.show_reader("", False))
        theme.style(self.menu, more, self.agreement, self.new_page, self.ask, self.service)
        if (state := self.settings.value("splitter")) is not None:
            self.bench.splitter.restoreState(state)
        self._connect()
        self.setAcceptDrops(True)
        self._loaded = True
        if self.pages.currentIndex() == START:
            self.foot.show_keys(*hints("new", "open", "keys"))
        if self._wanted is not None:
            self.foot.end()
            self._wanted()

    def _once_loaded(self, do: Callable[[], object]) -> bool:
        """Whether all is there; else do this, and nothing asked for before, as soon as it is."""
        if not self._loaded:
            self._wanted = do
            self.foot.begin("Getting ready …", stoppable=False)
        return self._loaded

    def _connect(self) -> None:
        self.new_page.start_wanted.connect(self.start_study)
        self.new_page.cancelled.connect(self.show_start)
        self.new_page.service_wanted.connect(self.describe_service)
        self.bench.prepare.service_wanted.connect(self.describe_service)
        self.service.used.connect(self._use_service)
        self.service.left.connect(self._leave_service)
        self.ask.allowed.connect(self._allowed)
        self.ask.refused.connect(self.show_start)
        self.workspace.opened.connect(self._opened)
        self.workspace.asked.connect(self._asked)
        self.workspace.closed.connect(self._closed)
        self.workspace.notices.failed.connect(self._failed)
        self.workspace.jobs.ended.connect(self._ended)
        self.bookmark.restored.connect(self.bench.go_to)
        self.bench.place_changed.connect(self._place_changed)
        self.bench.run_wanted.connect(self.show_run)

    # --- pages ---

    def show_start(self) -> None:
        self.start.refresh()
        self.pages.setCurrentIndex(START)
        self.foot.show_keys(*(hints("new", "open", "keys") if self._loaded else ()))
        self.start.demo.setFocus()

    def new_study(self) -> None:
        if self._once_loaded(self.new_study) and not self.workspace.busy:
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
            image = record.image_set.file(self.workspace.shown.focus.current or 0)
            self.service.set_up(lambda: record.classes, lambda: recipe, lambda: image)
        else:
            self.service.set_up(page.classes_named, page.recipe_named, page.first_image)
        named = page.model.path if self.pages.currentIndex() == NEW else None
        if named is not None and description.is_description(named):
            self.service.show_description(named)
        elif self.pages.currentIndex() == NEW and description.is_address(page.model.edit.text().strip()):
            self.service.address.setText(page.model.edit.text().strip())
        self._before_service = self.pages.currentIndex()
        self.pages.setCurrentIndex(SERVICE)
        self.service.address.setFocus()
        self.foot.show_keys(("Tab", "next field"), *hints("keys"))

    def _leave_service(self) -> None:
        self.agreement.hide()
        self.pages.setCurrentIndex(self._before_service)
        if self._before_service == BENCH:
            self._show_keys()

    def _use_service(self, path: Path) -> None:
        """Take the service described."""
        self._leave_service()
        if self._before_service == BENCH:
            self.bench.prepare.inputs.add_model(places.kept_beside(path, self.workspace.study_path))
        else:
            self.new_page.model.set_path(path)

    def _place_changed(self) -> None:
        self.bookmark.extra = self.bench.place()
        self.bookmark.changed()
        if self.pages.currentIndex() == BENCH:
            self._show_keys()

    def _show_keys(self) -> None:
        if not self.bench.looks_closely:
            self.foot.show_keys(*hints("look closely", "next unreviewed", "hold", "finding", "other pane", "keys"))
            return
        here = hints("heat", "layer to image", "causes")
        if self.bench.right.currentWidget() is self.bench.blind_look:
            here = [("1 to 9", "class, or cause"), *hints("reviewed")]
        self.foot.show_keys(*hints("light table"), ("← →", "image"), *here, *hints("next unreviewed", "keys"))

    def _show_reader(self) -> None:
        self.foot.show_reader(self.workspace.shown.reviews.reader, self.workspace.shown.blind)

    def switch_theme(self) -> None:
        theme.use("paper" if theme.tokens.name == "lamp" else "lamp")
        self.settings.setValue("theme", theme.tokens.name)

    def show_keys(self) -> None:
        on_bench = self.pages.currentIndex() == BENCH
        keys.ShortcutSheet(self, *(self.bench.step.help if on_bench else ())).exec()

    def show_log(self) -> None:
        """Say where the log is, and let the desktop show its folder."""
        self.foot.say(f"The log: {log_path()}", log_path())
        open_folder_of(log_path())

    # --- clusters ---

    @property
    def can_score_elsewhere(self) -> bool:
        """Whether images of the run shown could be scored by workers: its model is a file, and some have no answer yet."""
        if not self.workspace.is_open:
            return False
        can = self.workspace.shown.record.kind.can
        return can.scores and not can.asked and self.workspace.shown.snapshot.counts.pending > 0

    def score_on_cluster(self) -> None:
        """Ask for a cluster, and score there what is not scored yet."""
        pending = self.workspace.shown.snapshot.counts.pending
        cluster_dialog.ClusterDialog(
            self, self.settings, pending, lambda address: self.workspace.jobs.score(cluster=address)
        ).exec()

    # --- studies ---

    def choose_study(self) -> None:
        found = ask_to_open(self, "Open a study", kinds=STUDIES)
        if found is not None:
            self.open_study(found)

    def open_study(self, path: Path, run_id: int | None = None) -> None:
        """Open a study file; what is shown stays until it is read."""
        if self._once_loaded(lambda: self.open_study(path, run_id)) and not self.workspace.busy:
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
        self.new_page.begin_anew()
        unclean, again = self._mark.put(path), self.workspace.in_doubt
        self.bookmark.not_back = unclean or again
        self.setWindowTitle(f"{path.stem} — Mivrat")
        self.bench.leave_close_look()
        self.bench.show_step(bench.PREPARE if self._trying_out else bench.MEASURE)
        if self._trying_out:
            self.bench.prepare.choose(prepare_step.TRY_OUT)
        self.pages.setCurrentIndex(BENCH)
        self._show_keys()
        self.bench.light_table.thumbs.setFocus()
        if self.bookmark.not_back:
            self.bench.measure.choose(0)
            if not again:
                self.events.show_bad_end()

    def _asked(self, asking: Asking) -> None:
        self.foot.end()
        self.ask.show_places(asking)
        self.pages.setCurrentIndex(ASK)
        self.ask.no.setFocus()

    def _allowed(self, asking: Asking) -> None:
        self.workspace.allow(*asking.places)
        self.open_study(asking.path)

    def _closed(self) -> None:
        """The study is not shown any more."""
        self.setWindowTitle("Mivrat")
        self.foot.end()
        self.foot.offer_to_go_on("")
        self.show_start()

    def close_study(self) -> None:
        """Back to the start page; the study keeps what it holds."""
        if not self.workspace.busy:
            self.bookmark.keep()
            self.bench.leave_close_look()
            self._mark.take_away()
            self.workspace.close()
            self._closed()

    def save_as(self) -> None:
        if self.workspace.is_open:
            path = self.workspace.path
            found = ask_to_save(self, "Save the study as", folder_to_save_in(path) / path.name, STUDIES)
            if found is not None:
                self.save_copy(found)

    def save_copy(self, copy: Path) -> None:
        """Save the study under another name as well, and go on with the copy."""
        self.bookmark.keep()
        self.workspace.save_copy(copy if copy.suffix == ".mivrat" else copy.with_name(f"{copy.name}.mivrat"))

    def open_demo(self) -> None:
        """Open the demonstration, making its study first where there is none."""
        self.start.show_problem("")
        if self._once_loaded(self.open_demo):
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
        self.events.stop()

    def _ended(self, handle: Handle) -> None:
        if handle.job.kind == "demonstration":
            if handle.state == "finished":
                self.open_study(demo_study.demo_study_path())
        else:
            self._trying_out = False

    def _failed(self, error: InputError) -> None:
        self.foot.end()
        self.events.offer_to_go_on()
        if isinstance(error, NotAgreed) and self.agreement.isVisible():
            return  # it is asked about
        if self.pages.currentIndex() == NEW:
            self.new_page.show_misfit(error)
        elif self.pages.currentIndex() not in (BENCH, SERVICE):
            self.show_start()
            self.start.show_problem(error.line())
        else:
            self.foot.show_problem(error.line())

    def show_failure(self, what: str, shown_in_doubt: bool = False) -> None:
        """Something failed that nobody foresaw: say so, and where the details are. ``shown_in_doubt``: what is shown may be
        half of two things, so the study is shown again as its file has it, or closed."""
        details = f"({what}). The details are in the log, {log_path()}."
        if not shown_in_doubt or not self._loaded or not self.workspace.is_open:
            self.foot.show_problem(f"Something went wrong inside Mivrat {details}")
        elif self.workspace.recover():
            self.foot.show_problem(
                f"Something went wrong inside Mivrat; the study is shown again as it was saved {details}"
            )
        else:
            self.foot.show_problem(
                f"Something went wrong inside Mivrat; the study was closed, with all decisions saved {details}"
            )

    # --- the window itself ---

    def dragEnterEvent(self, event: QDragEnterEvent) -> None:
        if event.mimeData().hasUrls() and not self.workspace.busy:
            event.acceptProposedAction()

    def dropEvent(self, event: QDropEvent) -> None:
        self.take_files([Path(url.toLocalFile()) for url in event.mimeData().urls() if url.isLocalFile()])

    def take_files(self, paths: list[Path]) -> None:
        """What to do with dropped files: open a study; add them to the open one; else fill in the new-study page."""
        study = next((path for path in paths if path.suffix == ".mivrat"), None)
        if study is not None:
            self.open_study(study)
        elif self.pages.currentIndex() == BENCH:
            self.bench.show_step(bench.PREPARE)
            self.bench.prepare.choose(prepare_step.INPUTS)
            self.bench.prepare.inputs.take_files(paths)
        elif paths:
            self.new_study()
            self.new_page.drop(paths)

    @property
    def settled(self) -> bool:
        """Whether nothing is still being worked out."""
        return (
            self._loaded
            and not self.workspace.reading.busy
            and not self.workspace.writing.busy
            and self.bench.settled
            and self.service.settled
        )

    def closeEvent(self, event: QCloseEvent) -> None:
        self.settings.setValue("geometry", self.saveGeometry())
        event.accept()
        if not self._loaded:
            return
        self.settings.setValue("splitter", self.bench.splitter.saveState())
        self.bookmark.keep()
        self._mark.take_away()
        self.stop_job()
        self.bench.stop()
        self.new_page.stop()
        self.service.stop()
        self.workspace.stop_all()
