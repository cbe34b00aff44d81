"""Holds another run of the study against the one shown, and works out what both come to together, off the main thread."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from mivrat.core.answers.answers import SCORED
from mivrat.core.base.job import StopSignal
from mivrat.core.comparing.claims import MARGIN, claims
from mivrat.core.comparing.estimates import Estimates, HowUnlike, estimate, how_unlike
from mivrat.core.comparing.groups import GroupDifference, by_cause, by_group
from mivrat.core.comparing.holding import Compared, Held, hold, names_of
from mivrat.core.figures.groups import group_names
from mivrat.core.figures.selective import selective
from mivrat.core.figures.several import Several, several
from mivrat.core.figures.summary import figures_of
from mivrat.core.figures.tally import Tally
from mivrat.core.figures.units import figures_over_units
from mivrat.core.likeness.store import Features
from mivrat.core.running.loading import load_judged
from mivrat.core.running.snapshot import Snapshot, take_snapshot
from mivrat.core.selecting.kept import from_text, to_text
from mivrat.core.selecting.ordering import columns_to_group_by
from mivrat.core.selecting.selection import OF_BOTH, Conditions, InGroup
from mivrat.core.study.file import Study
from mivrat.core.study.records import RunInfo, RunKey
from mivrat.core.study.reviews import Reviews
from mivrat.workspace.executors import Newest, Task
from mivrat.workspace.jobs import Job
from mivrat.workspace.study_jobs import Running
from mivrat.workspace.workspace import Workspace

MILLISECONDS, A_WHILE = 20, 300
CAUSE = "cause"
# Conditions that mean the same in any set, told of label and answer alone.
_ANYWHERE = ("labelled", "predicted", "cells", "outcome", "confidence", "about")


@dataclass(frozen=True)
class FoundSeveral:
    """All runs on the images shown: their names and the figures of all together."""

    run: RunKey
    names: tuple[str, ...]
    found: Several


@dataclass(frozen=True)
class FoundUnlike:
    """How unlike the set held is to the one shown, and what was estimated of it where it has images without labels."""

    run: RunKey
    held: RunKey
    unlike: HowUnlike
    estimates: Estimates | None


class Comparer:
    """What it works out of the run held goes to ``shown.compared``; ``margin`` is how much worse still counts as as good;
    ``of_selection`` makes it follow the selection."""

    def __init__(self, workspace: Workspace) -> None:
        self.workspace = workspace
        self.several: FoundSeveral | None = None
        self.unlike: FoundUnlike | None = None
        self.of_selection, self.margin = False, MARGIN
        self._held_run: RunInfo | None = None
        self._held_key: RunKey | None = None
        self._then: tuple[RunKey, str] | None = None
        self._workers = workspace.parallel.group(2)
        self._holding, self._working, self._counting = (Newest(self._workers) for _ in range(3))
        self._soon = workspace.soon(MILLISECONDS, self._start)
        self._again = workspace.soon(A_WHILE, self._hold_again)
        topics = workspace.topics
        topics.held.connect(self._soon.start)
        topics.selection.connect(lambda: self._soon.start() if self.of_selection else None)
        topics.reviews.connect(self._soon.start)
        topics.figures.connect(self._follow_figures)
        topics.run.connect(self._follow_run)
        topics.left.connect(self._leave)
        workspace.jobs.news.connect(self._take_news)

    # --- holding ---

    def choices(self) -> list[tuple[str, list[RunInfo]]]:
        """The runs that can be held against the one shown: other models on the same images first, then the same model on others."""
        shown = self.workspace.shown.record.info
        others = [one for one in self.workspace.runs if one.id != shown.id]
        groups = {
            "the same images under": [one for one in others if one.set_id == shown.set_id],
            "the same model on": [one for one in others if one.model_id == shown.model_id],
            "another model on other images": [
                one for one in others if shown.set_id != one.set_id and shown.model_id != one.model_id
            ],
        }
        return [(name, some) for name, some in groups.items() if some]

    def name_of(self, run: RunInfo) -> str:
        """A run by what sets it apart from the one shown."""
        shown, contents = self.workspace.shown.record.info, self.workspace.contents
        model = (contents.model_name(run.model_id) if contents is not None else "") or run.model
        if run.set_id == shown.set_id:
            return model
        return run.image_set if run.model_id == shown.model_id else f"{model} on {run.image_set}"

    def hold(self, run: RunInfo) -> None:
        """Hold a run of the study against the one shown."""
        self._held_run, self._then = run, None
        self._read()

    def place(self) -> dict[str, Any] | None:
        """What is held, so that ``go_to`` can hold it again; None while nothing is."""
        run, held = self._held_run, self.workspace.shown.held
        if run is None or held is None:
            return None
        shown = self.workspace.shown
        conditions = to_text(shown.conditions, shown.classes, shown.record.names) if self._speak_of_both() else ""
        return {"run": run.id, "key": list(held.b.record.key[1:]), "conditions": conditions}

    def _speak_of_both(self) -> bool:
        return any(isinstance(one, OF_BOTH) for one in self.workspace.shown.conditions)

    def go_to(self, place: Any) -> None:
        """Hold what was held, if the study still has that very run; then put what was selected by both in force."""
        try:
            number, key, conditions = int(place["run"]), tuple(map(str, place["key"])), str(place["conditions"])
            wanted = RunKey(self.workspace.shown.record.key.study, *key)
        except (KeyError, TypeError, ValueError):
            return
        run = next((one for one in self.workspace.runs if one.id == number), None)
        if run is not None and run.id != self.workspace.shown.record.info.id:
            self._held_run, self._then = run, (wanted, conditions)
            self._read()

    def let_go(self) -> None:
        """Hold nothing any more."""
        self._forget()
        if self.workspace.is_open:
            self.workspace.shown.set_held(None)

    def _forget(self) -> None:
        self._held_run = self._held_key = self.unlike = self._then = None
        self._holding.cancel()
        self._working.cancel()
        self._again.stop()

    def _leave(self) -> None:
        self._forget()
        self.several = None
        self._counting.cancel()

    def _follow_run(self) -> None:
        """Another run is shown: what was held stays held against it, unless it is that very run."""
        self.several = self.unlike = None
        run = self._held_run
        if run is not None and run.id != self.workspace.shown.record.info.id:
            self._read()
        elif run is not None:
            self.let_go()

    def _follow_figures(self) -> None:
        if self._held_run is not None and self.workspace.shown.held is not None:
            self._again.start()

    def _hold_again(self) -> None:
        if self._held_run is not None:
            self._read()

    def _read(self) -> None:
        """Read the run and lay it on the one shown."""
        run, snapshot, path = self._held_run, self.workspace.shown.snapshot, self.workspace.path
        assert run is not None
        contents = self.workspace.contents
        models = [
            (contents.model_name(i) if contents is not None else "")
            for i in (snapshot.record.info.model_id, run.model_id)
        ]

        def read(task: Task) -> Held:
            def judged() -> Snapshot:
                with Study.open(path, again=True) as study:
                    return take_snapshot(*load_judged(study, run.id))

            other: Snapshot = self.workspace.after_writing(judged)
            return hold(snapshot, other, names_of(snapshot, other, *models))

        self._holding.start(read, done=lambda held: self._take_held(snapshot, held), failed=self._not_held)

    def _not_held(self, error: object) -> None:
        self.let_go()
        self.workspace.notices.fail(error)  # type: ignore[arg-type]

    def _take_held(self, snapshot: Snapshot, held: Held) -> None:
        shown = self.workspace.shown if self.workspace.is_open else None
        if shown is None or shown.record.key != snapshot.record.key:
            return
        if shown.snapshot is not snapshot:  # it has gone on meanwhile
            self._again.start()
            return
        key = held.b.record.key
        if key != self._held_key:
            self.unlike = None
        self._held_key = key
        then, self._then = self._then, None
        if then is not None and then[0] != key:  # another run has come to stand there
            self.let_go()
            return
        shown.set_held(held)
        if then is not None and then[1]:
            record = shown.record
            found = from_text(
                then[1], shown.classes, record.image_set.items, record.names, shown.reviews, shown.held_other
            )
            if found:
                shown.go_to(found, shown.order, shown.band_by, shown.about)

    # --- what both come to ---

    def follow_selection(self, on: bool) -> None:
        """Compare over the selection instead of all images, or the other way round."""
        if on != self.of_selection:
            self.of_selection = on
            self._start()

    def set_margin(self, margin: float) -> None:
        """How much worse still counts as as good."""
        self.margin = margin
        self._start()

    def _start(self) -> None:
        self._working.cancel()
        held = self.workspace.shown.held if self.workspace.is_open else None
        if held is None:
            return
        shown, margin = self.workspace.shown, self.margin
        conditions, among = shown.conditions, shown.shown_mask() if self.of_selection else None
        reviews = shown.reviews
        self._working.start(
            lambda task: _compare(held, among, conditions, reviews, margin, task),
            progress=lambda found: self._take(found),
        )

    def _take(self, found: Compared) -> None:
        if (
            self.workspace.is_open
            and self.workspace.shown.held is found.held
            and found.of_selection == self.of_selection
        ):
            self.workspace.shown.set_compared(found)

    # --- what is asked for ---

    @property
    def runs_here(self) -> list[RunInfo]:
        """All runs on the images shown."""
        shown = self.workspace.shown.record.info
        return [one for one in self.workspace.runs if one.set_id == shown.set_id]

    def compare_all(self) -> None:
        """Compare all runs on the images shown."""
        runs, path, snapshot = self.runs_here, self.workspace.path, self.workspace.shown.snapshot
        names = [self.name_of(one) for one in runs]
        key = snapshot.record.key

        def count(task: Task) -> FoundSeveral:
            return _all_runs(path, runs, names, snapshot, key)

        self._counting.start(count, done=self._take_several, failed=self.workspace.notices.fail)

    def _take_several(self, found: FoundSeveral) -> None:
        if self.workspace.shows(found.run):
            self.several = found
            self.workspace.topics.compared.emit()

    def find_unlike(self) -> None:
        """Work out how unlike the two sets are to the model, and what can be estimated of the one held."""
        held = self.workspace.shown.held
        if held is not None and held.on_sets is not None:
            job = Job("features", f"Comparing {held.names.a} with {held.names.b}")
            self.workspace.jobs.begin(job, lambda stop: _unlike(held, stop))

    def _take_news(self, news: object) -> None:
        if isinstance(news, FoundUnlike) and self.workspace.shows(news.run) and self._held_key == news.held:
            self.unlike = news
            self.workspace.topics.compared.emit()

    @property
    def settled(self) -> bool:
        return not self._workers.busy and not self._soon.waiting and not self._again.waiting

    def stop(self) -> None:
        self._soon.stop()
        self._again.stop()
        self._workers.stop_all()


def _compare(
    held: Held, among: NDArray[np.bool_] | None, conditions: Conditions, reviews: Reviews, margin: float, task: Task
) -> None:
    """Tell of the figures at once, and of them with what takes drawing again."""
    stopped: Callable[[], bool] = lambda: task.stop.stopped  # noqa: E731
    images, sets, told, among_b = held.on_images, held.on_sets, "", None
    if sets is not None and among is not None:
        among_b, told = _in_other_set(held, conditions)
    of_selection, use = among is not None, None if told else among
    if images is not None:
        found, (b, unit) = images.compare(use), images.of_b(use)
    else:
        assert sets is not None
        found, (b, unit) = sets.compare(use, among_b), sets.of_b(among_b)
    figures = figures_of(Tally.of(b, len(found.classes)), list(found.either.top_k))
    figures = figures if unit is None else figures_over_units(figures, b, unit)
    groups = _groups(held, reviews, use) if images is not None else ()
    first = Compared(held, found, tuple(claims(found, margin)), groups, of_selection, told, figures)
    task.report(first)
    if images is not None:
        deep = images.deepen(found, use, stopped=stopped)
    else:
        assert sets is not None
        both = found.sets is not None and found.sets.total_a and found.sets.total_b
        deep = sets.deepen(found, use, among_b, stopped=stopped) if both else None
    if deep is not None:
        sure = ~np.isnan(b.confidence)
        curve = selective(b.confidence[sure], (b.predicted == b.labels)[sure], unit[sure] if unit is not None else None)
        task.report(replace(first, found=deep, claims=tuple(claims(deep, margin)), b_selective=curve))


def _in_other_set(held: Held, conditions: Conditions) -> tuple[NDArray[np.bool_] | None, str]:
    """The images of the other set that meet the same conditions; or why that cannot be said."""
    judged, items = held.b.judged, held.b.record.image_set.items
    found = np.ones(len(items), bool)
    for one in conditions:
        if one.kind in _ANYWHERE:
            found &= one.mask(judged)
        elif isinstance(one, InGroup) and items and one.column in items[0].columns:
            names = group_names([item.columns.get(one.column, "") for item in items])
            found &= np.isin(names, [name for name, _ in one.groups])
        else:
            return (
                None,
                f"“{' '.join(one.words(held.a.record.classes)).lstrip()}” means nothing in {held.names.b}: these are figures of all images.",
            )
    return found, ""


def _groups(
    held: Held, reviews: Reviews, among: NDArray[np.bool_] | None
) -> tuple[tuple[str, tuple[GroupDifference, ...]], ...]:
    """The differences by every column that makes groups, and by cause."""
    other, items = held.other, held.a.record.image_set.items
    assert other is not None
    found = []
    for column in columns_to_group_by(items):
        names = group_names([item.columns.get(column, "") for item in items])
        found.append((column, tuple(by_group(names, other, among))))
    if reviews.causes and (causes := by_cause(reviews, other, among)):
        found.append((CAUSE, tuple(causes)))
    return tuple(found)


def _all_runs(path: object, runs: list[RunInfo], names: list[str], snapshot: Snapshot, key: RunKey) -> FoundSeveral:
    """Which images each run has right, over those that all have answered."""
    right, both = [], snapshot.judged.labels >= 0
    with Study.open(path, again=True) as study:  # type: ignore[arg-type]
        for run in runs:
            judged = (
                snapshot.judged
                if run.id == snapshot.record.info.id
                else take_snapshot(*load_judged(study, run.id)).judged
            )
            right.append(judged.predicted == snapshot.judged.labels)
            both &= judged.predicted >= 0
    unit = snapshot.judged.units.of(both) if snapshot.judged.units is not None else None
    return FoundSeveral(key, tuple(names), several(np.stack(right)[:, both], unit))


def _unlike(held: Held, stop: StopSignal) -> Running:
    """Work out the features of both sets, then how unlike they are and what can be estimated; whether it came to its end."""
    vectors = []
    for snapshot in (held.a, held.b):
        features = Features(snapshot.record, snapshot.record.answers.contents)
        yield from features.run(stop)
        if stop.stopped:
            return False
        vectors.append(features.vectors)
    pair = vectors[0], vectors[1]
    found = how_unlike(held.a.judged, held.b.judged, pair, stopped=lambda: stop.stopped)
    if found is None:
        return False
    estimates = None
    without = (held.b.judged.labels < 0) & (held.b.judged.state == SCORED)
    if held.a.judged.evaluated.any() and without.any():
        estimates = estimate(held.a.judged, held.b.judged, held.a.record.classes, pair, stopped=lambda: stop.stopped)
        if estimates is None:
            return False
    yield FoundUnlike(held.a.record.key, held.b.record.key, found, estimates)
    return True
