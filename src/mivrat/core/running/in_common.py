"""What the wrong images of a run have in common: in which numbers they differ from right ones of their class, and where the model is weak."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass

import numpy as np

from mivrat.core.answers.judged import EvaluatedRun
from mivrat.core.base.job import Meter, Progress, current_stop
from mivrat.core.figures.intervals import Proportion
from mivrat.core.figures.property_effects import (
    PropertyEffect,
    corrected,
    quarter_ranges,
    quarters_of,
    stratified_effect,
)
from mivrat.core.figures.weak_spots import LEAST_IMAGES, confirmed, search
from mivrat.core.running.content_folds import content_folds
from mivrat.core.selecting.kept import positions_by_group
from mivrat.core.selecting.measures import Measures
from mivrat.core.selecting.ordering import columns_to_group_by
from mivrat.core.selecting.ranges import InRange
from mivrat.core.selecting.selection import Condition, InGroup, Labelled, Mask, Predicted
from mivrat.core.study.records import RunRecord

# So many columns of a table are looked at, of numbers and of values each.
MOST_COLUMNS = 100
# What conditions on label and prediction are about.
CLASS = "the class"
# A spot is confirmed where its corrected probability is below this.
LEVEL = 0.05


@dataclass(frozen=True)
class WeakSpot:
    """Conditions under which fewer images are right: accuracy where the spot was ``found`` and on the half that was not searched,
    the corrected probability there, and its share of all mistakes of both halves."""

    conditions: tuple[Condition, ...]
    found: Proportion
    confirmed: Proportion
    p_holm: float
    share_of_mistakes: float

    @property
    def is_confirmed(self) -> bool:
        return self.p_holm < LEVEL


@dataclass(frozen=True)
class InCommon:
    """What wrong images share. ``problem`` tells why nothing could be asked; ``unmeasured`` counts evaluated images whose photo
    nobody has measured; ``searched`` and ``held_out`` are the images of the two halves."""

    properties: tuple[PropertyEffect, ...]
    spots: tuple[WeakSpot, ...]
    evaluated: int
    wrong: int
    unmeasured: int
    searched: int = 0
    held_out: int = 0
    problem: str = ""
    spots_problem: str = ""


def problem_of(judged: EvaluatedRun) -> str:
    """Why wrong images of a run cannot be told from right ones; empty where they can."""
    evaluated, wrong = int(judged.evaluated.sum()), int(judged.wrong.sum())
    if not evaluated:
        return "No image has a label and an answer: nothing is known to be wrong."
    if not wrong:
        return f"All {evaluated} labelled images are right: there is nothing that wrong ones could share."
    if wrong == evaluated:
        return f"All {evaluated} labelled images are wrong: there is nothing right to compare them with."
    return ""


def find_in_common(record: RunRecord, judged: EvaluatedRun, measures: Measures) -> Iterator[Progress | InCommon]:
    """Look through all properties and columns, then for weak spots; ends early, without a result, when stopped."""
    use = judged.evaluated
    unmeasured = int((use & ~measures.measured).sum()) if measures.known else int(use.sum())
    counts = int(use.sum()), int(judged.wrong.sum()), unmeasured
    if problem := problem_of(judged):
        yield InCommon((), (), *counts, problem=problem)
        return
    names = measures.names[:MOST_COLUMNS]
    meter = Meter(len(names) + 1)
    effects = []
    for done, name in enumerate(names):
        yield meter.at(done)
        if current_stop().stopped:
            return
        effects.append(effect_of(name, measures, judged))
    yield meter.at(len(names))
    spots, halves, why = _spots(record, judged, measures, names)
    if current_stop().stopped:
        return
    yield InCommon(tuple(corrected(effects)), tuple(spots), *counts, *halves, spots_problem=why)


def effect_of(name: str, measures: Measures, judged: EvaluatedRun) -> PropertyEffect:
    """How wrong images differ from right ones of their class in one number."""
    use = judged.evaluated
    values, unit = measures.of(name)[use], judged.units.of(use) if judged.units is not None else None
    effect = stratified_effect(values, judged.wrong[use], judged.labels[use], unit)
    return PropertyEffect(name, effect, quarters_of(values, judged.right[use], unit, judged.alike))


def conditions_of(
    record: RunRecord, judged: EvaluatedRun, measures: Measures, names: Sequence[str]
) -> list[tuple[str, Condition]]:
    """Every condition that a weak spot can be made of, with what it is about: quarters of numbers, values of columns, labels, predicted
    classes, and families of labels. Label and prediction are about the same, so that they are not put together: one class called another is
    wrong by definition."""
    found: list[tuple[str, Condition]] = []
    for name in names:
        ranges = quarter_ranges(measures.of(name)[judged.evaluated])
        if len(ranges) > 1:
            found += [(name, InRange(name, frozenset({one}), measures)) for one in ranges]
    numbers = set(measures.columns)
    items = record.image_set.items
    together = record.image_set.unit_column
    for column in [one for one in columns_to_group_by(items) if one not in numbers and one != together][:MOST_COLUMNS]:
        places = positions_by_group(items, column)
        found += [(column, InGroup(column, frozenset({(name, places[name])}))) for name in sorted(places)]
    for k in np.unique(judged.labels[judged.evaluated]).tolist():
        found.append((CLASS, Labelled(frozenset({k}))))
    for k in np.unique(judged.predicted[judged.evaluated]).tolist():
        found.append((CLASS, Predicted(frozenset({k}))))
    families: dict[str, set[int]] = {}
    for k, family in record.families.items():
        families.setdefault(family, set()).add(k)
    for family in sorted(families):
        if len(families[family]) > 1:
            found.append((CLASS, Labelled(frozenset(families[family]))))
    return found


def searched_half(record: RunRecord, judged: EvaluatedRun) -> Mask:
    """The evaluated images that are searched, about half of each class, by content; units and copies stay together."""
    use = np.flatnonzero(judged.evaluated)
    found = np.zeros(len(judged.labels), bool)
    found[use[content_folds(record, judged, use, 2, "weak spots") == 0]] = True
    return found


def _spots(
    record: RunRecord, judged: EvaluatedRun, measures: Measures, names: Sequence[str]
) -> tuple[list[WeakSpot], tuple[int, int], str]:
    half = searched_half(record, judged)
    searched, rest = np.flatnonzero(half), np.flatnonzero(judged.evaluated & ~half)
    sizes = len(searched), len(rest)
    if min(sizes) < 2 * LEAST_IMAGES:
        return (
            [],
            sizes,
            f"Weak spots take at least {4 * LEAST_IMAGES} labelled images: one half is searched, the other confirms.",
        )
    told = conditions_of(record, judged, measures, names)
    about = {name: at for at, name in enumerate(dict.fromkeys(name for name, _ in told))}
    kinds = np.array([about[name] for name, _ in told])
    masks = np.array([one.mask(judged)[searched] for _, one in told])
    candidates = search(masks, kinds, judged.right[searched])
    del masks
    found = []
    for one in candidates:
        conditions = tuple(told[i][1] for i in one.conditions)
        found.append((conditions, np.logical_and.reduce([each.mask(judged) for each in conditions])))
    unit = judged.units.of(rest) if judged.units is not None else None
    values = confirmed([mask[rest] for _, mask in found], judged.right[rest], unit)
    wrong = int(judged.wrong.sum())
    spots = [
        WeakSpot(
            conditions,
            judged.share(judged.right, searched[mask[searched]]),
            judged.share(judged.right, rest[mask[rest]]),
            p,
            int((judged.wrong & mask).sum()) / wrong,
        )
        for (conditions, mask), p in zip(found, values, strict=True)
    ]
    spots.sort(key=lambda one: one.p_holm)
    return spots, sizes, ""


def spot_words(spot: WeakSpot, classes: Sequence[str]) -> list[str]:
    """A spot's conditions in words."""
    return [" ".join(one.words(classes)).strip() for one in spot.conditions]
