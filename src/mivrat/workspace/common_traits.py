"""What the wrong images of the run shown have in common: found in the background when somebody looks, photos measured as a job."""

from __future__ import annotations

from collections.abc import Sequence
from math import floor
from pathlib import Path

from mivrat.core.base.errors import InputError
from mivrat.core.base.job import Progress, current_stop
from mivrat.core.concluding.criterion_words import criterion_of
from mivrat.core.concluding.findings import Draft, FindingClaim, Measure
from mivrat.core.figures.intervals import Proportion
from mivrat.core.running.in_common import InCommon, WeakSpot, find_in_common
from mivrat.core.running.measuring import measure_photos
from mivrat.core.selecting.kept import as_data
from mivrat.core.selecting.selection import Predicted
from mivrat.core.study.file import Study
from mivrat.core.study.records import RunKey
from mivrat.workspace.executors import LatestOnly, Task
from mivrat.workspace.jobs import Job
from mivrat.workspace.study_edits import add_criterion
from mivrat.workspace.study_jobs import Running
from mivrat.workspace.topics import Topic
from mivrat.workspace.workspace import Workspace


class CommonTraits:
    """``found`` is what has come out for the run shown, None until then; ``problem`` why nothing could; ``changed`` tells of both,
    ``progress`` how far looking is."""

    def __init__(self, workspace: Workspace) -> None:
        self.workspace = workspace
        self.changed, self.progress = Topic(lambda: workspace.is_open), Topic(lambda: workspace.is_open)
        self.found: InCommon | None = None
        self.problem = ""
        self._asked: tuple[object, ...] = ()
        self._workers = workspace.group(1)
        self._looking = LatestOnly(self._workers)
        workspace.topics.left.connect(self._leave)

    def _leave(self) -> None:
        self._looking.cancel()
        self.found, self.problem, self._asked = None, "", ()

    def look(self) -> None:
        """Look, unless that has been done for these answers and numbers."""
        shown = self.workspace.shown
        asked = shown.snapshot, shown.measures.version
        if not shown.measures.known or asked == self._asked:
            return
        self._asked = asked
        self._looking.cancel()
        self.found, self.problem = None, ""
        self.changed.emit()
        snapshot, run = shown.snapshot, shown.record.key
        measures = shown.measures.as_they_are()

        def work(task: Task) -> InCommon | None:
            found = None
            for event in find_in_common(snapshot.record, snapshot.judged, measures):
                if isinstance(event, Progress):
                    task.report(event)
                else:
                    found = event
            return found

        self._looking.start(
            work, done=lambda found: self._take(run, found), failed=self._fail, progress=self.progress.emit
        )

    def _take(self, run: RunKey, found: InCommon | None) -> None:
        if found is not None and self.workspace.shows(run):
            self.found = found
            self.changed.emit()

    def _fail(self, error: InputError) -> None:
        self.found, self.problem = None, error.line()
        self.changed.emit()

    def measure(self) -> None:
        """Measure the photos that nobody has measured, as a long job."""
        path, info = self.workspace.path, self.workspace.shown.record.info
        job = Job("measure", f"Measuring the photos of {info.image_set}")
        self.workspace.jobs.begin(job, lambda: measure_run(path, info.set_id))

    def draft(self, spot: WeakSpot, carried: Sequence[WeakSpot]) -> Draft:
        """A finding of a weak spot. What the half that was not searched came to stands beside it where the claim is the share wrong;
        else, and where nothing was confirmed, it counts as the worst of those carried over."""
        shown = self.workspace.shown
        record = shown.record
        told = tuple(as_data(one, record.classes, record.names) for one in spot.conditions)
        words = "; ".join(" ".join(one.words(record.classes)).strip() for one in spot.conditions)
        is_share = not any(isinstance(one, Predicted) for one in spot.conditions) or len(spot.conditions) == 1
        confirmed = _share_wrong(words, spot.confirmed) if spot.is_confirmed and is_share else None
        return Draft(
            f"Weak spot: {words}",
            "Found on one half of the images and confirmed on the other." if spot.is_confirmed else "",
            FindingClaim("share", conditions=told),
            looks=len(carried),
            confirmed=confirmed,
        )

    def add_criterion(self, spot: WeakSpot) -> None:
        """Ask of a weak spot, from now on, what all images come to at present."""
        workspace, record = self.workspace, self.workspace.shown.record
        overall = workspace.shown.snapshot.figures.top_k[1].value
        contents = workspace.contents
        if contents is None or overall is None or workspace.busy:
            return
        text = criterion_of(spot.conditions, record.classes, floor(100 * overall) / 100)
        before = contents.criteria.get(record.info.model_id, ())
        if text is None:
            workspace.notices.say("No criterion can ask for this spot. Add it to the findings instead (F).")
        elif text in before:
            workspace.notices.say("This is a criterion already, under Measure.")
        else:
            workspace.edits.take(add_criterion(record.info.model_id, text, record.classes, before))

    @property
    def settled(self) -> bool:
        return not self._workers.busy

    def stop(self) -> None:
        self._workers.stop_all()


def _share_wrong(words: str, right: Proportion) -> Measure:
    """The share wrong, from the share right."""

    def turned(value: float | None) -> float | None:
        return None if value is None else 1 - value

    return Measure(
        f"wrong, of images {words}",
        turned(right.value),
        turned(right.high),
        turned(right.low),
        right.total - right.hits,
        right.total,
    )


def measure_run(path: Path, set_id: int) -> Running:
    """Measure what is left of a set's photos; whether that came to its end."""
    with Study.open(path, again=True) as study:
        yield from measure_photos(study, set_id)
    return not current_stop().stopped
