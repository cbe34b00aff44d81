"""What workers do to compare two runs: the figures at once and those that take longer, all runs on the same images, how unlike two sets are."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from mivrat.core.answers.answers import SCORED
from mivrat.core.base.job import current_stop
from mivrat.core.comparing.claims import claims
from mivrat.core.comparing.estimates import Estimates, HowUnlike, estimate, how_unlike
from mivrat.core.comparing.groups import GroupDifference, by_cause, by_group
from mivrat.core.comparing.holding import Compared, RunPair
from mivrat.core.figures.groups import group_names
from mivrat.core.figures.selective import selective
from mivrat.core.figures.several import Several, several
from mivrat.core.figures.summary import figures_of
from mivrat.core.figures.tally import Tally
from mivrat.core.figures.units import figures_over_units
from mivrat.core.likeness.store import Features
from mivrat.core.pictures.image_sets import column_of
from mivrat.core.running.loading import load_judged
from mivrat.core.running.snapshot import Snapshot, take_snapshot
from mivrat.core.selecting.ordering import columns_to_group_by
from mivrat.core.selecting.selection import Conditions, InGroup
from mivrat.core.study.file import Study
from mivrat.core.study.records import RunInfo, RunKey
from mivrat.core.study.reviews import Reviews
from mivrat.workspace.executors import Task
from mivrat.workspace.study_jobs import Running

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


def compare(
    held: RunPair, among: NDArray[np.bool_] | None, conditions: Conditions, reviews: Reviews, margin: float, task: Task
) -> None:
    """Tell of the figures at once, and of them with what takes drawing again."""
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
        deep = images.deepen(found, use)
    else:
        assert sets is not None
        both = found.sets is not None and found.sets.total_a and found.sets.total_b
        deep = sets.deepen(found, use, among_b) if both else None
    if deep is not None:
        sure = ~np.isnan(b.confidence)
        curve = selective(b.confidence[sure], (b.predicted == b.labels)[sure], unit[sure] if unit is not None else None)
        task.report(replace(first, found=deep, claims=tuple(claims(deep, margin)), b_selective=curve))


def _in_other_set(held: RunPair, conditions: Conditions) -> tuple[NDArray[np.bool_] | None, str]:
    """The images of the other set that meet the same conditions; or why that cannot be said."""
    judged, items = held.b.judged, held.b.record.image_set.items
    found = np.ones(len(items), bool)
    for one in conditions:
        if one.kind in _ANYWHERE:
            found &= one.mask(judged)
        elif isinstance(one, InGroup) and items and one.column in items[0].columns:
            names = group_names(column_of(items, one.column))
            found &= np.isin(names, [name for name, _ in one.groups])
        else:
            return (
                None,
                f"“{' '.join(one.words(held.a.record.classes)).lstrip()}” means nothing in {held.names.b}: these are figures of all images.",
            )
    return found, ""


def _groups(
    held: RunPair, reviews: Reviews, among: NDArray[np.bool_] | None
) -> tuple[tuple[str, tuple[GroupDifference, ...]], ...]:
    """The differences by every column that makes groups, and by cause."""
    other, items = held.other, held.a.record.image_set.items
    assert other is not None
    found = []
    for column in columns_to_group_by(items):
        names = group_names(column_of(items, column))
        found.append((column, tuple(by_group(names, other, among))))
    if reviews.causes and (causes := by_cause(reviews, other, among)):
        found.append((CAUSE, tuple(causes)))
    return tuple(found)


def all_runs(path: object, runs: list[RunInfo], names: list[str], snapshot: Snapshot, key: RunKey) -> FoundSeveral:
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


def unlike_sets(held: RunPair) -> Running:
    """Work out the features of both sets, then how unlike they are and what can be estimated; whether it came to its end."""
    vectors = []
    for snapshot in (held.a, held.b):
        features = Features(snapshot.record, snapshot.record.answers.contents)
        yield from features.run()
        if current_stop().stopped:
            return False
        vectors.append(features.vectors)
    pair = vectors[0], vectors[1]
    found = how_unlike(held.a.judged, held.b.judged, pair)
    if found is None:
        return False
    estimates = None
    without = (held.b.judged.labels < 0) & (held.b.judged.state == SCORED)
    if held.a.judged.evaluated.any() and without.any():
        estimates = estimate(held.a.judged, held.b.judged, held.a.record.classes, pair)
        if estimates is None:
            return False
    yield FoundUnlike(held.a.record.key, held.b.record.key, found, estimates)
    return True
