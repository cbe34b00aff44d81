"""Keeps the open study: its lock, the decisions taken on it, and the one long job that may be going on in it."""

from __future__ import annotations

import json
import os
from collections.abc import Callable, Collection, Iterator, Mapping, Sequence
from pathlib import Path
from typing import Any

from PySide6.QtCore import QObject, QSettings, Signal

from mivrat.core.base.errors import InputError
from mivrat.core.base.job import Progress, StopSignal, Written
from mivrat.core.checks.catalogue import BY_NAME, CHECKS, Step
from mivrat.core.checks.of_run import KeptResult
from mivrat.core.selecting.kept import KeptSelection, save_kept
from mivrat.core.study.file import Study
from mivrat.core.study.lock import StudyLock
from mivrat.core.study.reviews import Cause, Review, save_causes, save_reviews
from mivrat.core.study.settings import save_setting
from mivrat.demo.study import DATA, demo_study_path
from mivrat.ui import study_work
from mivrat.ui.decisions import Decision, Decisions, SmallDecision
from mivrat.ui.jobs import Job, JobKind
from mivrat.ui.session import Session
from mivrat.ui.study_work import Asking, FoundFeatures, FoundTwoClasses, Further, NewStudy, Opened
from mivrat.ui.work import Work, Workers

QUICK = tuple(check.name for check in CHECKS if not check.slow)
SLOW = tuple(check.name for check in CHECKS if check.slow)


class Keeper(QObject):
    """Everything that changes or reads a study goes through here, in workers; signals tell what came of it.

    ``opened`` tells of the path of a study that is another than before; ``began`` and ``ended`` of a job and, of the latter,
    whether it came to its end; ``refused`` that something else has to end first; ``news`` of what a job has found that is not
    for the session; ``put_down`` of a file that was written at once, and where.
    """

    opened = Signal(object)
    asked = Signal(object)
    failed = Signal(object)
    began = Signal(object)
    progress = Signal(object)
    ended = Signal(object, bool)
    refused = Signal(str)
    decided = Signal(str)
    put_down = Signal(str, object)
    place_read = Signal(str)
    news = Signal(object)

    def __init__(self, session: Session, settings: QSettings, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self.session, self._settings = session, settings
        self.workers, self._writer = Workers(2, self), Workers(1, self)
        self.decisions = Decisions()
        self.job: Work | None = None
        self.going_on: Job | None = None
        # What the job that goes on, or the last one, has written.
        self.written: Written | None = None
        self._opening: Work | None = None
        self._checking: Work | None = None
        self._changing = False
        self._lock: tuple[Path, StudyLock] | None = None
        self._next_lock: tuple[Path, StudyLock] | None = None

    # --- folders that may be read ---

    def allowed(self) -> list[Path]:
        """The folders that studies may read from: the demonstration's, and those chosen in this window before."""
        found = self._settings.value("allowed", [])
        listed = [found] if isinstance(found, str) else found if isinstance(found, list) else []
        return [DATA, *(Path(str(one)) for one in listed)]

    def allow(self, *places: Path) -> None:
        """Let studies read from these folders from now on."""
        known = [str(one) for one in self.allowed()[1:]]
        fresh = [str(one.resolve()) for one in places]
        self._settings.setValue("allowed", list(dict.fromkeys([*known, *fresh])))

    # --- opening ---

    def open(self, path: Path, run_id: int | None = None) -> None:
        """Open a study, or show another run of the open one; what is shown stays until it is read."""
        if self.job is not None:
            return
        if self._opening is not None:
            self._opening.cancel()
        try:
            self._hold_next(path)
        except InputError as error:
            self.failed.emit(error)
            return
        allowed = self.allowed()
        self._opening = self.workers.start(
            lambda work: self.after_writing(lambda: study_work.open_study(path, run_id, allowed)),
            done=self._read,
            failed=self._not_opened,
        )

    def _hold_next(self, path: Path) -> None:
        if self._next_lock is not None:
            self._next_lock[1].release()
            self._next_lock = None
        if path.is_file() and (self._lock is None or self._lock[0] != path.resolve()):
            self._next_lock = path.resolve(), StudyLock(path)

    def _take_lock(self) -> None:
        if self._next_lock is not None:
            if self._lock is not None:
                self._lock[1].release()
            self._lock, self._next_lock = self._next_lock, None

    def _not_opened(self, error: InputError) -> None:
        self._opening = None
        if self._next_lock is not None:
            self._next_lock[1].release()
            self._next_lock = None
        self.failed.emit(error)

    def _read(self, found: Opened | Asking) -> None:
        self._opening = None
        if isinstance(found, Asking):
            if self._next_lock is not None:
                self._next_lock[1].release()
                self._next_lock = None
            self.asked.emit(found)
            return
        self._take_lock()
        self._show(found)
        self._look_further()

    def after_writing(self, read: Callable[[], Any]) -> Any:
        """Called in a worker: read the study once everything decided so far has been written to it."""
        self._writer.wait()
        return read()

    def _show(self, found: Opened) -> None:
        another = found.path != self.session.study_path
        if another:
            self.decisions.clear()
            self.session.leave()
        before, record = self.session.snapshot, found.snapshot.record
        # What has been decided meanwhile of the set shown is not in what was read.
        if (
            another
            or before is None
            or (before.record.set_key, before.record.classes) != (record.set_key, record.classes)
        ):
            self.session.set_reviews(found.reviews)
            self.session.set_kept(found.kept)
        self.session.study_path, self.session.runs, self.session.references = found.path, found.runs, found.references
        self.session.show(found.snapshot)
        if before is None or before.record.key != record.key:
            self._remember_run(found.path, record.info.id)
        if another:
            self.opened.emit(found.path)
            self.place_read.emit(found.place)

    def _remember_run(self, path: Path, run_id: int) -> None:
        """Keep which run is looked at, whichever way it came to be: opening the study leads back to it."""
        if os.access(path, os.W_OK):
            self.write(lambda study: save_setting(study, "run", json.dumps(run_id)))

    def _look_further(self) -> None:
        """Read what the study holds beside the run shown, then run the quick checks."""
        path, snapshot = self.session.study_path, self.session.snapshot
        if path is None or snapshot is None:
            return
        run_id, with_features = snapshot.record.info.id, self.session.vectors is None
        self.workers.start(
            lambda work: study_work.read_more(path, snapshot.record, with_features),
            done=lambda found: self._found_further(path, run_id, found),
            failed=self.failed.emit,
        )

    def _shows(self, path: Path, run_id: int) -> bool:
        shown = self.session.snapshot
        return self.session.study_path == path and shown is not None and shown.record.info.id == run_id

    def _found_further(self, path: Path, run_id: int, found: Further) -> None:
        if self._shows(path, run_id):
            self.session.set_contents(found.contents, found.checks)
            if found.vectors is not None and self.session.vectors is None:
                self.session.set_vectors(found.vectors)
            self.session.set_two_classes(found.two_classes)
            if self.job is None:
                self._check_quickly(path, run_id)

    def _check_quickly(self, path: Path, run_id: int) -> None:
        snapshot = self.session.snapshot
        assert snapshot is not None
        if self._checking is not None:
            self._checking.cancel()

        def take(news: object) -> None:
            if isinstance(news, KeptResult) and self._shows(path, run_id):
                self.session.take_check(news)

        self._checking = self.workers.start(
            lambda work: study_work.check(path, snapshot, QUICK, work), progress=take, failed=self.failed.emit
        )

    def close(self) -> None:
        """Let the study go; it keeps what it holds."""
        self.decisions.clear()
        self.session.leave()
        self._writer.wait()
        if self._lock is not None:
            self._lock[1].release()
            self._lock = None

    # --- decisions ---

    def decide(self, decision: Decision, then: Callable[[], object] | None = None) -> None:
        """Take a decision and show what has come of it; ``then`` goes on from there."""
        self._change(decision.do, lambda: self.decisions.taken(decision), decision.words, then)

    def undo(self) -> None:
        """Take the last decision back."""
        last = self.decisions.last
        if isinstance(last, SmallDecision):
            last.undo()
            self.decisions.undone()
            self.decided.emit(f"Taken back: {last.words}")
        elif last is not None:
            self._change(last.undo, self.decisions.undone, f"Taken back: {last.words}")

    def redo(self) -> None:
        """Take the decision again that was taken back last."""
        following = self.decisions.next
        if isinstance(following, SmallDecision):
            following.do()
            self.decisions.redone()
            self.decided.emit(f"Again: {following.words}")
        elif following is not None:
            self._change(following.do, self.decisions.redone, f"Again: {following.words}")

    def _change(
        self,
        change: Callable[..., object],
        keep: Callable[[], object],
        words: str,
        then: Callable[[], object] | None = None,
    ) -> None:
        path, snapshot = self.session.study_path, self.session.snapshot
        if path is None or snapshot is None or self.session.busy:
            return
        run_id = snapshot.record.info.id
        self.session.set_busy(True)
        self._changing = True

        def done(found: Opened) -> None:
            self._changing = False
            self.session.set_busy(False)
            keep()
            self._show(found)
            self._look_further()
            self.decided.emit(words)
            if then is not None:
                then()

        def failed(error: InputError) -> None:
            self._changing = False
            self.session.set_busy(False)
            self.failed.emit(error)

        self.workers.start(
            lambda work: self.after_writing(lambda: study_work.decide(path, run_id, change)), done=done, failed=failed
        )

    # --- what is seen in single images ---

    def review(self, words: str, changes: Mapping[int, Review]) -> bool:
        """Take a decision on single images of the set shown: seen at once, and written down right behind.

        False where a decision on the whole study is just being taken, nothing would change, or nothing can be written.
        """
        snapshot, reviews = self.session.snapshot, self.session.reviews
        after = {i: one for i, one in changes.items() if reviews[i] != one}
        if snapshot is None or self._changing or not after:
            return False
        before, set_id = {i: reviews[i] for i in after}, snapshot.record.info.set_id
        return self.decide_at_once(words, lambda: self._put(set_id, after), lambda: self._put(set_id, before))

    def decide_at_once(self, words: str, do: Callable[[], object], undo: Callable[[], object]) -> bool:
        """Take a small decision, which is seen at once; in a study that cannot be written to nothing is decided, and it is said."""
        path = self.session.study_path
        if path is not None and not (os.access(path, os.W_OK) and os.access(path.parent, os.W_OK)):
            self.failed.emit(
                InputError(
                    "cannot be written to, so nothing is decided in it",
                    where=path.name,
                    mend="save it under another name, in a folder you may write to",
                )
            )
            self.session.reviews_changed.emit()  # fields that were typed into show again what is kept
            return False
        do()
        self.decisions.taken(SmallDecision(words, do, undo))
        return True

    def _shown_set(self) -> int | None:
        snapshot = self.session.snapshot
        return snapshot.record.info.set_id if snapshot is not None else None

    def _put(self, set_id: int, changes: Mapping[int, Review]) -> None:
        if self._shown_set() == set_id:
            self.session.put_reviews(changes)
        self.write(lambda study: save_reviews(study, set_id, changes))

    def write(self, write: Callable[[Study], object]) -> None:
        """Write something small to the study, behind everything written before."""
        path = self.session.study_path
        if path is not None:
            self._writer.start(
                lambda work: study_work.write(path, write), failed=lambda error: self._not_written(path, error)
            )

    def _not_written(self, path: Path, error: InputError) -> None:
        """What was decided is not in the study: show what is, and say so."""
        snapshot = self.session.snapshot
        self.failed.emit(error)
        if self.session.study_path != path or snapshot is None or self.job is not None:
            return
        self.decisions.clear()
        set_id = snapshot.record.info.set_id

        def shown(found: study_work.Decided) -> None:
            if self._shown_set() == set_id and self.session.study_path == path:
                self.session.set_reviews(found.reviews)
                self.session.set_kept(found.kept)

        self.workers.start(lambda work: self.after_writing(lambda: study_work.read_decided(path, set_id)), done=shown)

    def keep_causes(self, words: str, causes: Sequence[Cause]) -> None:
        """Keep another list of causes."""
        before = self.session.reviews.causes
        if tuple(causes) != before:
            self.decide_at_once(words, lambda: self._put_causes(tuple(causes)), lambda: self._put_causes(before))

    def _put_causes(self, causes: tuple[Cause, ...]) -> None:
        self.session.reviews.causes = causes
        self.session.reviews_changed.emit()
        self.write(lambda study: save_causes(study, causes))

    def keep_selections(self, words: str, kept: Sequence[KeptSelection]) -> None:
        """Keep these named selections of the set shown, in place of those kept before."""
        before, set_id = self.session.kept, self._shown_set()
        if set_id is not None and tuple(kept) != before:
            self.decide_at_once(
                words, lambda: self._put_kept(set_id, tuple(kept)), lambda: self._put_kept(set_id, before)
            )

    def _put_kept(self, set_id: int, kept: tuple[KeptSelection, ...]) -> None:
        if self._shown_set() == set_id:
            self.session.set_kept(kept)
        self.write(lambda study: save_kept(study, set_id, kept))

    def remember_place(self, run_id: int, place: str) -> None:
        """Keep where in a run one is, in a study that may be written."""
        if self.session.study_path is not None and os.access(self.session.study_path, os.W_OK):
            self.write(lambda study: save_setting(study, f"place of run {run_id}", place))

    def export(self, what: str, job: Callable[[StopSignal], Iterator[Progress | Written]]) -> None:
        """Write files outside the study, with progress and a stop."""
        self.begin(Job("write", what), lambda work: study_work.export(job, work))

    # --- features ---

    def find_features(self) -> bool:
        """Work out the features of the run shown, as far as they are not known; false where something else has to end first."""
        path, snapshot = self.session.study_path, self.session.snapshot
        if path is None or snapshot is None:
            return False
        record = snapshot.record
        return self.begin(
            Job("features", f"Working out the features of {record.info.image_set}"),
            lambda work: study_work.find_features(path, record, work),
        )

    def find_two_classes(self) -> None:
        """Look for images with more than one plausible class in the run shown."""
        path, snapshot = self.session.study_path, self.session.snapshot
        if path is not None and snapshot is not None:
            self.begin(
                Job("features", "Shifting and cropping"), lambda work: study_work.find_two_classes(path, snapshot, work)
            )

    # --- long jobs ---

    def begin(self, job: Job, do: Callable[[Work], object], then: Callable[[], object] | None = None) -> bool:
        """Begin a long job, and go on with ``then`` where it comes to its end; it is told of in the foot and can be stopped
        there. False, and it is said why, where another one is going on: a wish that was refused is not kept for later."""
        if self.session.busy:
            going_on = f"“{self.going_on.title}”" if self.going_on is not None else "what is being decided"
            self.refused.emit(f"Not begun: {going_on} has to end first, or be stopped.")
            return False
        self.going_on, self.written = job, None
        self.session.set_busy(True)
        self.began.emit(job)

        def ended(finished: bool) -> None:
            self._end()
            self.ended.emit(job, finished)
            self._look_further()
            if finished and then is not None:
                then()

        def failed(error: InputError) -> None:
            self._end()
            self.failed.emit(error)
            self._look_further()

        self.job = self.workers.start(do, done=ended, failed=failed, progress=self._news)
        return True

    def _end(self) -> None:
        self.job = self.going_on = None
        self.session.set_busy(False)

    def _news(self, news: object) -> None:
        if isinstance(news, Progress | Step):
            self.progress.emit(news)
        elif isinstance(news, KeptResult):
            self.session.take_check(news)
        elif isinstance(news, Written):
            self.written = news
        elif isinstance(news, FoundFeatures):
            if self._shows(news.path, news.run_id):
                self.session.set_vectors(news.vectors)
        elif isinstance(news, FoundTwoClasses):
            if self._shows(news.path, news.run_id):
                self.session.set_two_classes(news.found)
        elif isinstance(news, Opened):
            if news.path != self.session.study_path:
                record = news.snapshot.record
                self.allow(record.image_set.root, record.model_path.parent)
                self._hold_next(news.path)
                self._take_lock()
            self._show(news)
        else:
            self.news.emit(news)

    def stop(self) -> None:
        """Ask the long job to end after the piece in hand."""
        if self.job is not None:
            self.job.stop.stop()

    def make_demo(self) -> bool:
        """Make the demonstration study; False where something else is going on."""
        if self.session.busy:
            return False
        path = demo_study_path()
        try:
            path.parent.mkdir(parents=True, exist_ok=True)
            if path.exists():
                self._hold_next(path)
        except (InputError, OSError) as error:
            self.failed.emit(error if isinstance(error, InputError) else InputError(str(error), where=path))
            return False
        return self.begin(
            Job("demonstration", "Making the demonstration study"), lambda work: study_work.make_demo(path, work)
        )

    def start(self, new: NewStudy) -> None:
        """Make a study and score it; results are shown as they arrive."""
        kind: JobKind = "try" if new.few else "score"
        self.begin(Job(kind, f"Scoring {new.images.stem}"), lambda work: study_work.run_new(new, work))

    def score(self, only: Sequence[int] | None = None, then: Callable[[], object] | None = None) -> None:
        """Score what the shown run has not scored yet, or some images of it."""
        path, snapshot = self.session.study_path, self.session.snapshot
        if path is not None and snapshot is not None:
            run_id, name = snapshot.record.info.id, snapshot.record.info.image_set
            job = Job("score", f"Scoring {name}")
            if only is not None:
                job = Job("try", f"Trying {len(only)} images of {name}", len(only))
            self.begin(job, lambda work: study_work.run_on(path, run_id, work, only), then)

    def read_again(self, images: Sequence[int]) -> None:
        """Read files again that could not be read, or have changed since, and score what is new of them."""
        path, snapshot = self.session.study_path, self.session.snapshot
        if path is not None and snapshot is not None:
            run_id, only = snapshot.record.info.id, list(images)
            self.begin(
                Job("read", f"Reading {len(only)} {'file' if len(only) == 1 else 'files'} again", len(only)),
                lambda work: study_work.run_on(path, run_id, work, only, forget=True),
            )

    def check(self, names: Collection[str] = SLOW) -> None:
        """Run these checks on the run shown."""
        path, snapshot = self.session.study_path, self.session.snapshot
        if path is not None and snapshot is not None:
            what = "Checking" if len(names) > 1 else f"Checking: {BY_NAME[next(iter(names))].title.lower()}"
            self.begin(Job("check", what), lambda work: study_work.check(path, snapshot, names, work))

    def save_copy(self, copy: Path) -> None:
        """Save the study under another name as well, and go on with the copy."""
        path = self.session.study_path
        if path is not None and not self.session.busy:
            self.workers.start(
                lambda work: self.after_writing(lambda: study_work.save_copy(path, copy)),
                done=lambda _: self.open(copy),
                failed=self.failed.emit,
            )

    def stop_all(self) -> None:
        """End all work and let the study go."""
        self.workers.stop_all()
        self._writer.wait()
        for lock in (self._lock, self._next_lock):
            if lock is not None:
                lock[1].release()
        self._lock = self._next_lock = None
