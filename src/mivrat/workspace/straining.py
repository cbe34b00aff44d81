"""The strain test of the run shown: what is wished for, what the study knows of it, and doing the rest in the background."""

from __future__ import annotations

import json
from collections.abc import Sequence
from contextlib import suppress
from dataclasses import dataclass, replace
from pathlib import Path

import numpy as np

from mivrat.core.base.errors import InputError
from mivrat.core.base.job import current_stop
from mivrat.core.base.text import count, images
from mivrat.core.comparing.holding import RunPair
from mivrat.core.heatmaps.pool import model_of
from mivrat.core.pictures.distorting.kinds import BY_KEY, Distortion, sweep_from_text
from mivrat.core.pictures.distorting.names import USUAL
from mivrat.core.running.snapshot import Snapshot
from mivrat.core.selecting.selection import Picked
from mivrat.core.straining.curves import StrainFigures, StrainLevel, first_flips
from mivrat.core.straining.sweep import StrainPlan, Sweep, checked
from mivrat.core.study.file import Study
from mivrat.core.study.kept_strains import keep_strains, load_strains
from mivrat.core.study.records import RunKey
from mivrat.core.study.settings import load_setting, save_setting
from mivrat.workspace.executors import LatestOnly, Task
from mivrat.workspace.jobs import Job
from mivrat.workspace.run_view import StrainedAnswers
from mivrat.workspace.study_jobs import Running
from mivrat.workspace.topics import Topic
from mivrat.workspace.workspace import Workspace

_WISHES = "strain test"


@dataclass(frozen=True)
class OtherStrain:
    """What is known of the same strain test of a run held: which run, what that is called, its figures, and how many answers they lack."""

    run: RunKey
    name: str
    figures: StrainFigures
    missing: int


@dataclass(frozen=True)
class FoundStrain:
    """What is known of a strain test of a run: its figures, how many answers it still takes, and the same of a run held against it (None: none
    is, or it cannot be strained)."""

    run: RunKey
    sweep: Sweep
    figures: StrainFigures
    to_ask: int
    other: OtherStrain | None = None


class Strainer:
    """``wishes`` are the kinds chosen, by name, with their levels as typed (empty: the kind's own); ``found`` is what is known of them;
    ``problem`` why they are none. ``changed`` tells of all."""

    def __init__(self, workspace: Workspace) -> None:
        self.workspace = workspace
        self.changed = Topic(lambda: workspace.is_open)
        self.wishes: dict[str, str] = dict.fromkeys(USUAL, "")
        self.found: FoundStrain | None = None
        self.problem = ""
        self._study: Path | None = None
        # Nothing is read before somebody has looked.
        self._looked = False
        self._workers = workspace.group(1)
        self._reading, self._reading_wishes = LatestOnly(self._workers), LatestOnly(self._workers)
        workspace.topics.run.connect(self._follow)
        workspace.topics.left.connect(self._leave)
        workspace.topics.held.connect(self._follow_held)
        workspace.jobs.event.connect(self._take_event)

    @property
    def can_strain(self) -> bool:
        """Whether the run's model can answer for pictures that are changed."""
        return self.workspace.shown.record.kind.can.scores and self.workspace.shown.judged.has_scores

    def _leave(self) -> None:
        self._reading.cancel()
        self._reading_wishes.cancel()
        self._looked = False
        self.wishes, self.found, self.problem, self._study = dict.fromkeys(USUAL, ""), None, "", None

    def _follow(self) -> None:
        """Another run: what was found is of the one before; of another study the wishes are, too."""
        self.found = None
        if self.workspace.path != self._study:
            self._leave()
            self._study = path = self.workspace.path

            def read(task: Task) -> str:
                with Study.open(path, again=True) as study:
                    return load_setting(study, _WISHES) or ""

            self._reading_wishes.start(read, done=self._take_wishes, failed=self._fail)

    def _follow_held(self) -> None:
        """Another run is held, or none any more."""
        if self._looked and self.workspace.is_open:
            self.look()

    def _take_wishes(self, text: str) -> None:
        with suppress(ValueError):
            kept = json.loads(text) if text else None
            if isinstance(kept, dict) and all(k in BY_KEY and isinstance(v, str) for k, v in kept.items()):
                self.wishes = {str(k): v for k, v in kept.items()}
        if self._looked:
            self.look()
        else:
            self.changed.emit()

    # --- what is wished for ---

    def wish(self, kind: str, wanted: bool, levels: str = "") -> None:
        """Choose a kind with its levels, or leave it out."""
        wishes = {key: text for key, text in self.wishes.items() if key != kind}
        if wanted:
            wishes[kind] = levels.strip()
        self.wishes = {key: wishes[key] for key in BY_KEY if key in wishes}
        text = json.dumps(self.wishes)
        self.workspace.edits.write(lambda study: save_setting(study, _WISHES, text))
        self.look()

    def strains(self) -> tuple[Distortion, ...]:
        """The distortions wished for. InputError where a level is none."""
        return checked([one for kind, text in self.wishes.items() for one in sweep_from_text(f"{kind}:{text}")])

    def plan(self) -> StrainPlan:
        """What is done: every image that has an answer. InputError as ``strains``."""
        answered = np.flatnonzero(self.workspace.shown.judged.predicted >= 0)
        return StrainPlan(tuple(answered.tolist()), self.strains())

    # --- what is known, and doing the rest ---

    def look(self) -> None:
        """See what the study knows of what is wished for."""
        self._reading.cancel()
        self.problem, self._looked = "", True
        if not self.workspace.is_open or not self.can_strain:
            self.found = None
            self.changed.emit()
            return
        try:
            plan = self.plan()
        except InputError as error:
            self.found, self.problem = None, error.line() if self.wishes else ""
            self.changed.emit()
            return
        path, shown = self.workspace.path, self.workspace.shown
        snapshot, held = shown.snapshot, shown.held
        self.changed.emit()

        def read(task: Task) -> FoundStrain:
            with Study.open(path, again=True) as study:
                found = _found(snapshot, _sweep_of(snapshot, plan, study, read_only=True))
                return found if held is None else replace(found, other=_of_held(held, plan, study))

        self._reading.start(read, done=self._take, failed=self._fail)

    def _fail(self, error: InputError) -> None:
        self.found, self.problem = None, error.line()
        self.changed.emit()

    def _take_event(self, event: object) -> None:
        if isinstance(event, FoundStrain):
            self._take(event)

    def _take(self, found: FoundStrain) -> None:
        if self.workspace.is_open and self.workspace.shows(found.run):
            try:
                wanted = self.plan()
            except InputError:
                return
            if wanted == found.sweep.plan:
                # A job does not tell of the run held, which it has not changed; one that is held no more is left out.
                other = found.other or (self.found.other if self.found is not None else None)
                held = self.workspace.shown.held
                there = held is not None and other is not None and other.run == held.b.record.key
                self.found = replace(found, other=other if there else None)
                self.changed.emit()

    def run(self) -> None:
        """Ask for what is not known yet, in the background."""
        path, snapshot = self.workspace.path, self.workspace.shown.snapshot
        try:
            plan = self.plan()
        except InputError:
            return
        number = self.found.to_ask if self.found is not None else len(plan.images) * len(plan.strains)
        title = f"Straining {images(len(plan.images))}: {count(number)} answers"
        self.workspace.jobs.begin(Job("strain", title), lambda: strain_run(path, snapshot, plan))

    def flipped(self, level: StrainLevel) -> tuple[int, ...]:
        """The images whose answer is another one at this level than untouched."""
        assert self.found is not None
        sweep = self.found.sweep
        s = sweep.plan.strains.index(level.strain)
        at = np.array(sweep.plan.images, np.int64)
        called = sweep.predicted[s]
        return tuple(at[(called >= 0) & (called != sweep.judged.predicted[at])].tolist())

    def flipping(self) -> tuple[int, ...]:
        """The images whose answer changes at some level, those that change earliest on the way through a kind's levels first, equal ones by
        how little sure the untouched answer is."""
        assert self.found is not None
        sweep = self.found.sweep
        at = np.array(sweep.plan.images, np.int64)
        judged = sweep.judged
        flips = first_flips(judged.predicted[at], sweep.plan.strains, sweep.predicted)
        order = np.lexsort((judged.confidence[at], flips))
        return tuple(at[order][np.isfinite(flips[order])].tolist())

    def answers_at(self, level: StrainLevel, picked: Picked) -> StrainedAnswers:
        """What is predicted at a level of the images that ``picked`` selects."""
        assert self.found is not None
        sweep = self.found.sweep
        s = sweep.plan.strains.index(level.strain)
        predicted = {image: int(sweep.answered(image)[s]) for image in picked.positions}
        confidence = {image: float(sweep.confidences(image)[s]) for image in picked.positions}
        return StrainedAnswers(level.strain, picked, predicted, confidence)

    @property
    def settled(self) -> bool:
        return not self._workers.busy

    def stop(self) -> None:
        self._workers.stop_all()


def _sweep_of(snapshot: Snapshot, plan: StrainPlan, study: Study, *, read_only: bool) -> Sweep:
    record, model_id = snapshot.record, snapshot.record.info.model_id
    contents = record.answers.contents
    known = load_strains(study, model_id, set(contents.values()))

    def keep(rows: Sequence[tuple[bytes, str, int, float]]) -> None:
        assert not read_only
        keep_strains(study, model_id, rows)

    model = None if read_only else model_of(record)
    return Sweep(snapshot.judged, record.image_set, model, plan, contents, known, keep)


def _found(snapshot: Snapshot, sweep: Sweep) -> FoundStrain:
    return FoundStrain(snapshot.record.key, sweep, sweep.figures(), sweep.to_ask)


def _of_held(held: RunPair, plan: StrainPlan, study: Study) -> OtherStrain | None:
    """What the study knows of the same test of a run held."""
    snapshot = held.b
    if not (snapshot.record.kind.can.scores and snapshot.judged.has_scores):
        return None
    images = tuple(np.flatnonzero(snapshot.judged.predicted >= 0).tolist())
    sweep = _sweep_of(snapshot, replace(plan, images=images), study, read_only=True)
    return OtherStrain(snapshot.record.key, held.names.b, sweep.figures(), sweep.to_ask)


def strain_run(path: Path, snapshot: Snapshot, plan: StrainPlan) -> Running:
    """Do a strain test as far as the study does not know it, keeping every block; whether it came to its end."""
    with Study.open(path, again=True) as study:
        sweep = _sweep_of(snapshot, plan, study, read_only=False)
        yield from sweep.run()
        yield _found(snapshot, sweep)
    return not current_stop().stopped
