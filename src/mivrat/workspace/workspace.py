"""The workspace: which study is open and held, which of its runs is shown, and what workers read of it."""

from __future__ import annotations

import gc
import json
import logging
import os
from collections.abc import Callable
from pathlib import Path
from typing import Any, Protocol

from mivrat.core.answers.missing_scores import MissingScores
from mivrat.core.base.errors import InputError
from mivrat.core.checks.run_checks import KeptResult
from mivrat.core.heatmaps.pool import MakerPool
from mivrat.core.study.contents import Contents
from mivrat.core.study.lock import StudyLock
from mivrat.core.study.places import allow_folders, allowed_folders
from mivrat.core.study.records import RunInfo, RunKey
from mivrat.core.study.settings import save_setting
from mivrat.demo.study import DATA, demo_study_path
from mivrat.workspace import study_jobs
from mivrat.workspace.edits import Edits
from mivrat.workspace.executors import Executor, LatestOnly, Task, Workers
from mivrat.workspace.jobs import QUICK, Jobs, run_through
from mivrat.workspace.loop import Debouncer, Loop
from mivrat.workspace.notices import Notices
from mivrat.workspace.run_view import RunView
from mivrat.workspace.study_jobs import Asking, Further, Opened
from mivrat.workspace.topics import Topic, Topics

log = logging.getLogger(__name__)
# So long after a failure the study is shown again, and so long after that it counts as recovered.
RECOVERY_MILLISECONDS = 400
Held = tuple[Path, StudyLock]


class Preferences(Protocol):
    """What is remembered from one time to the next."""

    def value(self, key: str, default: Any = None, /) -> Any: ...

    def setValue(self, key: str, value: Any, /) -> None: ...  # noqa: N802


class Workspace:
    """Everything that opens, reads or changes a study goes through here, in workers.

    ``opened`` tells of the path of a study that is another than before, ``asked`` of one that names folders nobody has allowed
    to be read, ``place_read`` of where one was in it, ``closed`` that the study could not be shown again after a failure. ``shown`` is there as long as a study is open.
    """

    def __init__(self, loop: Loop, preferences: Preferences) -> None:
        self.loop, self._preferences = loop, preferences
        self.topics, self.notices = Topics(lambda: self.is_open), Notices()
        self.opened, self.asked, self.place_read, self.closed = Topic(), Topic(), Topic(), Topic()
        # The two executors of a whole window: one writes to the study, in order; the other does everything else.
        self.parallel, self._alone = Executor(loop), Executor(loop, 1)
        self.writing, self.reading = self._alone.group(1), self.parallel.group(2)
        self._of_study: list[Workers] = []
        self.makers = MakerPool()
        self.edits, self.jobs = Edits(self), Jobs(self)
        self.study_path: Path | None = None
        self.runs: list[RunInfo] = []
        self.references: dict[int, Path] = {}
        self.contents: Contents | None = None
        self.busy = False
        # Something failed that nobody foresaw, and what is shown may be of two runs: nothing is decided until it is read again.
        self.in_doubt = False
        self._shown: RunView | None = None
        self._opening: Task | None = None
        self._checking = LatestOnly(self.reading)
        self._afresh = False
        self._again: tuple[Path, int | None] | None = None
        self._recovering = loop.soon(RECOVERY_MILLISECONDS, self._recover_now, lambda: True)
        self._held: Held | None = None
        self._held_next: Held | None = None

    def group(self, at_once: int) -> Workers:
        """Workers for what is about the study that is open: what they have in hand is dropped when it is left."""
        self._of_study.append(self.parallel.group(at_once))
        return self._of_study[-1]

    # --- what is open ---

    @property
    def is_open(self) -> bool:
        return self._shown is not None

    @property
    def shown(self) -> RunView:
        """What is shown of the open study; only while there is one."""
        assert self._shown is not None, "no study is open"
        return self._shown

    @property
    def path(self) -> Path:
        """The open study's file."""
        assert self.study_path is not None, "no study is open"
        return self.study_path

    def shows(self, run: RunKey) -> bool:
        """Whether this very run is shown."""
        return self._shown is not None and self._shown.record.key == run

    def shows_set(self, set_key: tuple[str, str]) -> bool:
        """Whether a run on this very image set is shown."""
        return self._shown is not None and self._shown.record.set_key == set_key

    def soon(self, milliseconds: int, do: Callable[[], object]) -> Debouncer:
        """Does something a while after it was last asked for, if a study is open then."""
        return self.loop.soon(milliseconds, do, lambda: self.is_open)

    def set_busy(self, busy: bool) -> None:
        """A long job, or an edit, is writing to the study: others have to wait."""
        if busy != self.busy:
            self.busy = busy
            self.topics.busy.emit()

    # --- folders that may be read ---

    def allowed(self) -> list[Path]:
        """The folders that studies may read from: the demonstration's, and those that the user has named before."""
        found = self._preferences.value("allowed", [])  # where an earlier version kept them
        listed = [found] if isinstance(found, str) else found if isinstance(found, list) else []
        return [DATA, *allowed_folders(), *(Path(str(one)) for one in listed)]

    def allow(self, *places: Path) -> None:
        """Let studies read from these folders from now on."""
        try:
            allow_folders(*places)
        except InputError as error:
            self.notices.fail(error)

    # --- opening ---

    def open(self, path: Path, run_id: int | None = None) -> None:
        """Open a study, or show another run of the open one; what is shown stays until it is read."""
        if self.jobs.going_on is not None:
            return
        if self._opening is not None:
            self._opening.cancel()
        try:
            self._hold_next(path)
        except InputError as error:
            self.notices.fail(error)
            return
        allowed = self.allowed()
        self._opening = self.reading.start(
            lambda task: self.after_writing(lambda: study_jobs.open_study(path, run_id, allowed)),
            done=self._read,
            failed=self._not_opened,
        )

    def _hold_next(self, path: Path) -> None:
        self._let_go_of_next()
        if path.is_file() and (self._held is None or self._held[0] != path.resolve()):
            self._held_next = path.resolve(), StudyLock(path)

    def _let_go_of_next(self) -> None:
        if self._held_next is not None:
            self._held_next[1].release()
            self._held_next = None

    def _take_lock(self) -> None:
        if self._held_next is not None:
            self._let_go()
            self._held, self._held_next = self._held_next, None

    def _let_go(self) -> None:
        if self._held is not None:
            self._held[1].release()
            self._held = None

    def _not_opened(self, error: InputError) -> None:
        self._opening = None
        self._let_go_of_next()
        if self._afresh:
            self._drop()
        self.notices.fail(error)

    def _read(self, found: Opened | Asking) -> None:
        self._opening = None
        if isinstance(found, Asking):
            self._let_go_of_next()
            self.asked.emit(found)
            return
        self._take_lock()
        self.show(found)
        self.look_further()

    def take_over(self, found: Opened) -> None:
        """Show what a job has come to so far; of a study that it has made, hold that from now on."""
        if found.path != self.study_path:
            record = found.snapshot.record
            self.allow(record.image_set.root, record.model_path.parent)
            self._hold_next(found.path)
            self._take_lock()
        self.show(found)

    def after_writing(self, read: Callable[[], Any]) -> Any:
        """Called in a worker: read the study once everything decided so far has been written to it."""
        self.writing.wait()
        return read()

    def show(self, found: Opened) -> None:
        """Show a run that a worker has read."""
        another, self._afresh = found.path != self.study_path or self._afresh, False
        if another:
            self.edits.clear()
            self.leave()
        with self.topics.change():
            changed = self._replace(found)
        if changed:
            self._remember_run(found.snapshot.record.info.id)
        if another:
            self.opened.emit(found.path)
            self.place_read.emit(found.place)
        rows = found.snapshot.judged.rows
        if (changed or another) and isinstance(rows, MissingScores):
            self.notices.fail(rows.error())

    def _replace(self, found: Opened) -> bool:
        """Put a run that was read in place of the one shown; whether it is another one."""
        first, record = self._shown is None, found.snapshot.record
        if self._shown is None:
            self._shown = RunView(self.topics, found.snapshot)
            self._shown.order.blind = found.blind
        before = self._shown.record
        # What has been decided meanwhile of the set shown is not in what was read.
        if first or (before.set_key, before.classes) != (record.set_key, record.classes):
            self._shown.set_reviews(found.reviews)
            self._shown.set_kept(found.kept)
        self.study_path, self.runs, self.references = found.path, found.runs, found.references
        self._shown.show(found.snapshot, first=first)
        return first or before.key != record.key

    def _remember_run(self, run_id: int) -> None:
        """Keep which run is looked at, whichever way it came to be: opening the study leads back to it."""
        if os.access(self.path, os.W_OK):
            self.edits.write(lambda study: save_setting(study, "run", json.dumps(run_id)))

    def remember_place(self, run_id: int, place: Callable[[], str]) -> None:
        """Keep where in a run one is, in a study that may be written; it is put into words in a worker."""
        if os.access(self.path, os.W_OK):
            self.edits.write(lambda study: save_setting(study, f"place of run {run_id}", place()))

    def look_further(self) -> None:
        """Read what the study holds beside the run shown, then run the quick checks."""
        if not self.is_open or self.study_path is None:
            return
        path, record, with_features = self.study_path, self.shown.record, self.shown.results.vectors is None
        self.reading.start(
            lambda task: study_jobs.read_more(path, record, with_features),
            done=lambda found: self._found_further(record.key, found),
            failed=self.notices.fail,
        )

    def _found_further(self, run: RunKey, found: Further) -> None:
        self.take_further(run, found)
        if self.shows(run) and not self.busy:
            self._check_quickly()

    def take_further(self, run: RunKey, found: Further) -> None:
        """Take over what the study holds beside the run shown."""
        if self.shows(run):
            shown = self.shown
            self.contents, shown.results.checks = found.contents, found.checks
            self.topics.contents.emit()
            self.topics.checks.emit()
            if found.vectors is not None and shown.results.vectors is None:
                shown.set_vectors(found.vectors)
            shown.results.set_two_classes(found.two_classes)
            shown.set_measures(found.measures)
            if found.reviews is not None:
                shown.set_reviews(found.reviews)

    def _check_quickly(self) -> None:
        path, snapshot = self.path, self.shown.snapshot
        run = snapshot.record.key

        def check(task: Task) -> bool:
            with self.edits.file:  # after an edit that is being done: what it replaces need not be checked
                pass
            return run_through(study_jobs.check(path, snapshot, QUICK), task.report)

        def take(event: object) -> None:
            if isinstance(event, KeptResult) and self.shows(run):
                self.shown.results.set_check(event)

        self._checking.start(check, progress=take, failed=self.notices.fail)

    def stop_checking(self) -> None:
        """Let the quick checks go that are being run; looking further begins them again."""
        self._checking.cancel()

    def room_for_demo(self) -> Path | None:
        """Where the demonstration study stands, held if it is there already; None, and it is said why, where that cannot be."""
        path = demo_study_path()
        try:
            path.parent.mkdir(parents=True, exist_ok=True)
            if path.exists():
                self._hold_next(path)
        except (InputError, OSError) as error:
            self.notices.fail(error if isinstance(error, InputError) else InputError(str(error), where=path))
            return None
        return path

    def recover(self) -> bool:
        """Something failed on the main thread that nobody foresaw: show the study again as its file has it, and let nothing be
        decided until then. False where that has just been tried: the study is closed instead."""
        path, run_id = self.study_path, self._shown.record.info.id if self._shown is not None else None
        again, self.in_doubt = not self.in_doubt, True
        self.jobs.stop()
        self._recovering.start()
        if path is None or not again:
            self._drop()
            return False
        self._again = path, run_id
        return True

    def _recover_now(self) -> None:
        if not self.in_doubt:
            return
        if self.busy or self._opening is not None:
            self._recovering.start()
        elif self._again is None:
            self.in_doubt = False  # it was shown again, and nothing has failed since
        else:
            again, self._again, self._afresh = self._again, None, True
            self.open(*again)
            self._recovering.start()

    def _drop(self) -> None:
        """Look at no study any more, whatever stands in the way."""
        self._again, self._afresh, self.in_doubt = None, False, False
        try:
            self.close()
        except Exception:
            log.exception("closing a study after a failure failed")
            self._shown = self.contents = self.study_path = None
            self._let_go()
        self.closed.emit()

    def save_copy(self, copy: Path) -> None:
        """Save the study under another name as well, and go on with the copy."""
        path = self.study_path
        if path is not None and not self.busy:
            self.reading.start(
                lambda task: self.after_writing(lambda: study_jobs.save_copy(path, copy)),
                done=lambda _: self.open(copy),
                failed=self.notices.fail,
            )

    # --- leaving ---

    def leave(self) -> None:
        """Look at no study any more: nothing of this one may be taken for the next one's."""
        self.study_path, self.runs, self.references = None, [], {}
        self._shown = self.contents = None
        for workers in self._of_study:
            workers.cancel()
        gc.unfreeze()  # what was kept from being looked through for garbage may be some now
        self.topics.left.emit()

    def close(self) -> None:
        """Let the study go; it keeps what it holds."""
        self.edits.clear()
        self.leave()
        self.writing.wait()
        self._let_go()

    def stop_all(self) -> None:
        """End all work and let the study go."""
        self.reading.stop_all()
        self.writing.wait()
        self._shown = self.contents = None
        gc.unfreeze()
        self._let_go_of_next()
        self._let_go()
        for executor in (self.parallel, self._alone):
            executor.close()
