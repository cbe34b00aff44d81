"""The one long job that may be going on: its kind, title and state, its progress, and stopping it."""

from __future__ import annotations

from collections.abc import Callable, Collection, Iterator, Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING, Literal

from mivrat.core.base.errors import InputError
from mivrat.core.base.job import Progress, Written
from mivrat.core.base.text import images
from mivrat.core.checks.catalogue import BY_NAME, CHECKS, CheckProgress, checks_of
from mivrat.core.checks.run_checks import KeptResult
from mivrat.workspace import study_jobs
from mivrat.workspace.executors import Task
from mivrat.workspace.study_jobs import FoundFeatures, FoundTwoClasses, NewStudy, Opened, Running
from mivrat.workspace.topics import Topic

if TYPE_CHECKING:
    from mivrat.workspace.workspace import Workspace

JobKind = Literal[
    "demonstration",
    "score",
    "try",
    "read",
    "check",
    "features",
    "maps",
    "cover",
    "transplant",
    "sheet",
    "reliance",
    "strain",
    "measure",
    "write",
]
JobState = Literal["going on", "stopping", "finished", "stopped", "failed"]
QUICK = tuple(check.name for check in CHECKS if not check.slow)


@dataclass(frozen=True)
class Job:
    """One long job; ``number`` is how many images it is about, 0 where that goes without saying."""

    kind: JobKind
    title: str
    number: int = 0

    def ending(self, finished: bool, listed: int, pending: int) -> str:
        """What is said at its end, with the run's listed images and those not scored yet."""
        left = f"{images(pending)} not scored yet." if pending else ""
        if self.kind == "demonstration":
            return "" if finished else "Stopped. Opening the demonstration again goes on from there."
        if self.kind == "score":
            return f"Done: {images(listed)}." if finished else f"Stopped: {left} What is done is kept."
        if self.kind in ("try", "read"):
            verb = "Tried" if self.kind == "try" else "Read again"
            done = f"{verb}: {images(self.number)}." if self.number else ""
            return " ".join(part for part in (done if finished else "Stopped.", left) if part)
        if self.kind == "check":
            return "Checked." if finished else "Stopped. What was found is kept."
        return f"{self.title}: done." if finished else f"{self.title}: stopped; what is done is kept."


class Handle:
    """A job that was begun, and how it stands."""

    def __init__(self, job: Job) -> None:
        self.job = job
        self.state: JobState = "going on"
        # What it has written, as far as it has told.
        self.written: Written | None = None


def run_through(running: Running, notify: Callable[[object], object]) -> bool:
    """Run a job to its end in this thread, telling of everything it finds; whether it came to its end."""
    while True:
        try:
            notify(next(running))
        except StopIteration as ended:
            return bool(ended.value)


class Jobs:
    """Begins long jobs, one at a time. ``began``, ``progress`` and ``ended`` tell of the handle; ``news`` of what a job has
    found that is not for the run shown; ``refused`` that something else has to end first."""

    def __init__(self, workspace: Workspace) -> None:
        self._workspace = workspace
        self.began, self.progress, self.ended = Topic(), Topic(), Topic()
        self.event, self.refused = Topic(), Topic()
        self.going_on: Handle | None = None
        self._task: Task | None = None

    def begin(self, job: Job, make: Callable[[], Running], then: Callable[[], object] | None = None) -> Handle | None:
        """Begin a long job, and go on with ``then`` where it comes to its end.

        None, and it is said why, where another one is going on: a wish that was refused is not kept for later.
        """
        workspace = self._workspace
        if workspace.busy:
            going_on = f"“{self.going_on.job.title}”" if self.going_on is not None else "what is being decided"
            self.refused.emit(f"Not begun: {going_on} has to end first, or be stopped.")
            return None
        handle = self.going_on = Handle(job)
        workspace.set_busy(True)
        self.began.emit(handle)

        def ended(finished: bool) -> None:
            handle.state = "finished" if finished else "stopped"
            self._end()
            self.ended.emit(handle)
            workspace.look_further()
            if finished and then is not None:
                then()

        def failed(error: InputError) -> None:
            handle.state = "failed"
            self._end()
            workspace.notices.fail(error, lambda: self.begin(job, make, then))
            workspace.look_further()

        self._task = workspace.reading.start(
            lambda task: run_through(make(), task.report), done=ended, failed=failed, progress=self._take
        )
        return handle

    def _end(self) -> None:
        self.going_on = self._task = None
        self._workspace.set_busy(False)

    def stop(self) -> None:
        """Ask the long job to end after the piece in hand."""
        if self._task is not None and self.going_on is not None:
            self.going_on.state = "stopping"
            self._task.stop.stop()

    def _take(self, event: object) -> None:
        workspace = self._workspace
        if isinstance(event, Progress | CheckProgress):
            self.progress.emit(event)
        elif isinstance(event, Written):
            if self.going_on is not None:
                self.going_on.written = event
        elif isinstance(event, Opened):
            workspace.take_over(event)
        elif isinstance(event, KeptResult):
            if workspace.is_open:
                workspace.shown.results.set_check(event)
        elif isinstance(event, FoundFeatures):
            if workspace.shows(event.run):
                workspace.shown.set_vectors(event.vectors)
        elif isinstance(event, FoundTwoClasses):
            if workspace.shows(event.run):
                workspace.shown.results.set_two_classes(event.found)
        else:
            self.event.emit(event)

    # --- the jobs of a study ---

    def export(self, what: str, make: Callable[[], Iterator[Progress | Written]]) -> None:
        """Write files outside the study, with progress and a stop."""
        self.begin(Job("write", what), lambda: study_jobs.export(make))

    def find_features(self) -> bool:
        """Work out the features of the run shown, as far as they are not known; false where something else has to end first."""
        record = self._workspace.shown.record
        job = Job("features", f"Working out the features of {record.info.image_set}")
        return self.begin(job, lambda: study_jobs.find_features(record)) is not None

    def find_two_classes(self) -> None:
        """Look for images with more than one plausible class in the run shown."""
        path, snapshot = self._workspace.path, self._workspace.shown.snapshot
        self.begin(Job("features", "Shifting and cropping"), lambda: study_jobs.find_two_classes(path, snapshot))

    def make_demo(self) -> bool:
        """Make the demonstration study; False where something else is going on."""
        path = None if self._workspace.busy else self._workspace.room_for_demo()
        if path is None:
            return False
        job = Job("demonstration", "Making the demonstration study")
        return self.begin(job, lambda: study_jobs.make_demo(path)) is not None

    def start(self, new: NewStudy) -> None:
        """Make a study and score it; results are shown as they arrive."""
        kind: JobKind = "try" if new.few else "score"
        self.begin(Job(kind, f"Scoring {new.images.stem}"), lambda: study_jobs.run_new(new))

    def score(
        self, only: Sequence[int] | None = None, then: Callable[[], object] | None = None, *, cluster: str = ""
    ) -> None:
        """Score what the shown run has not scored yet, or some images of it, here or on a ``cluster``."""
        path, info = self._workspace.path, self._workspace.shown.record.info
        job = Job("score", f"Scoring {info.image_set}{f' on {cluster}' if cluster else ''}")
        if only is not None:
            job = Job("try", f"Trying {len(only)} images of {info.image_set}", len(only))
        self.begin(job, lambda: study_jobs.run_on(path, info.id, only, cluster=cluster), then)

    def read_again(self, positions: Sequence[int]) -> None:
        """Read files again that could not be read, or have changed since, and score what is new of them."""
        path, run_id, only = self._workspace.path, self._workspace.shown.record.info.id, list(positions)
        self.begin(
            Job("read", f"Reading {len(only)} {'file' if len(only) == 1 else 'files'} again", len(only)),
            lambda: study_jobs.run_on(path, run_id, only, forget=True),
        )

    def check(self, names: Collection[str] = ()) -> None:
        """Run these checks on the run shown; without any all the slow ones."""
        path, snapshot = self._workspace.path, self._workspace.shown.snapshot
        names = names or [check.name for check in checks_of(snapshot.record.kind) if check.slow]
        what = "Checking" if len(names) > 1 else f"Checking: {BY_NAME[next(iter(names))].title.lower()}"
        self.begin(Job("check", what), lambda: study_jobs.check(path, snapshot, names))
