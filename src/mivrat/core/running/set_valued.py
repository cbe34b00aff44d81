"""The prediction sets of a run: thresholds from other images of it, coverage by class and group, sizes; and judged on another run."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from mivrat.core.answers.answers import SCORED
from mivrat.core.answers.judged import EvaluatedRun
from mivrat.core.answers.odds import PIECE
from mivrat.core.base.errors import InputError
from mivrat.core.base.job import Meter, Progress, current_stop
from mivrat.core.figures.groups import group_names
from mivrat.core.figures.intervals import Proportion
from mivrat.core.figures.prediction_sets import ScoreKind, Threshold, in_set, set_scores, threshold
from mivrat.core.figures.significance import holm
from mivrat.core.pictures.image_sets import column_of
from mivrat.core.running.content_folds import content_folds
from mivrat.core.study.records import RunRecord

FOLDS = 5
# So many labelled images are needed for a threshold that can hold anything out.
LEAST = 20


@dataclass(frozen=True)
class SetPlan:
    """What is wanted: the ``level`` (share of sets that are to hold the label), the score, and whether each class has a threshold of
    its own."""

    level: float = 0.9
    kind: ScoreKind = "least"
    by_class: bool = False


@dataclass(frozen=True)
class CoverageOf:
    """Coverage in one class or group, and ``p``: the probability of so far from the level if it held, corrected over all shown (Holm 1979);
    1 where it is not below."""

    name: str
    coverage: Proportion
    p_holm: float

    @property
    def short(self) -> bool:
        """Whether fewer sets hold the label than were asked for, beyond chance."""
        return self.p_holm < 0.05


@dataclass(frozen=True)
class PredictionSets:
    """What sets come to over a run. ``sizes`` is N (-1: no answer), ``covers`` marks the evaluated images whose label is in their set;
    both over all listed images. Where the threshold is the run's own, sets of labelled images are from thresholds of the other
    folds."""

    plan: SetPlan
    threshold: Threshold
    own: bool
    sizes: NDArray[np.int64]
    covers: NDArray[np.bool_]
    evaluated: NDArray[np.bool_]
    coverage: Proportion
    classes: tuple[CoverageOf, ...]

    def _share(self, which: NDArray[np.bool_]) -> float | None:
        """Of all images with a set."""
        there = int((self.sizes >= 0).sum())
        return float(which.sum()) / there if there else None

    @property
    def images(self) -> int:
        return int((self.sizes >= 0).sum())

    @property
    def mean_size(self) -> float | None:
        some = self.sizes[self.sizes >= 0]
        return float(some.mean()) if len(some) else None

    @property
    def one_class(self) -> float | None:
        return self._share(self.sizes == 1)

    @property
    def empty(self) -> float | None:
        return self._share(self.sizes == 0)

    def by_size(self) -> list[tuple[int, int, int, int]]:
        """For each size that occurs: size, sets of this size, evaluated ones among them, and how many of those hold the label."""
        return [
            (
                int(size),
                int((self.sizes == size).sum()),
                int((self.evaluated & (self.sizes == size)).sum()),
                int((self.covers & (self.sizes == size)).sum()),
            )
            for size in np.unique(self.sizes[self.sizes >= 0])
        ]


def own_sets(record: RunRecord, judged: EvaluatedRun, plan: SetPlan) -> Iterator[Progress | PredictionSets]:
    """Thresholds from the run's labelled images, assessed out of fold (5 folds by content, of each class alike, whole units); ends early, without
    a result, when stopped. InputError where it has no scores of all classes, or too few labelled images."""
    _refuse(judged)
    use = np.flatnonzero(judged.evaluated)
    if len(use) < LEAST:
        raise InputError(
            f"prediction sets take at least {LEAST} labelled images with an answer, there are {len(use)}",
            where=record.image_set.name,
            hint="label more images",
        )
    meter = Meter(2 * len(judged.labels))
    own = np.full(len(judged.labels), np.nan)
    done = 0
    for some in _pieces(use, judged):
        yield meter.at(done)
        if current_stop().stopped:
            return
        scores = set_scores(judged.probabilities(some), plan.kind)
        own[some] = scores[np.arange(len(some)), judged.labels[some]]
        done += len(some)
    fold = np.full(len(judged.labels), -1, np.int64)
    fold[use] = content_folds(record, judged, use, FOLDS, "prediction sets")

    def limit_of(which: NDArray[np.integer]) -> Threshold:
        return threshold(own[which], judged.labels[which], judged.classes, plan.level, plan.kind, plan.by_class)

    limits = [limit_of(use[fold[use] != k]) for k in range(FOLDS)]
    whole = limit_of(use)
    yield from _assess(record, judged, plan, [*limits, whole], fold, own=True, meter=meter, done=done)


def sets_at(
    record: RunRecord, judged: EvaluatedRun, plan: SetPlan, limit: Threshold
) -> Iterator[Progress | PredictionSets]:
    """What sets with a threshold from elsewhere come to on a run. InputError where it has no scores of all these classes."""
    _refuse(judged)
    if len(limit.of_class) != judged.classes:
        raise InputError(
            f"the threshold is for {len(limit.of_class)} classes, this run has {judged.classes}",
            hint="take it from a run of the same classes",
        )
    fold = np.full(len(judged.labels), -1, np.int64)
    yield from _assess(record, judged, plan, [limit], fold, own=False, meter=Meter(len(judged.labels)), done=0)


def at_last(events: Iterator[Progress | PredictionSets]) -> PredictionSets | None:
    """What comes of it in the end, progress left out; None where it was stopped."""
    return next((one for one in events if isinstance(one, PredictionSets)), None)


def _refuse(judged: EvaluatedRun) -> None:
    if not judged.has_scores:
        raise InputError(
            "prediction sets need the score of every class", hint="use a model, or a table with all scores"
        )


def _pieces(use: NDArray[np.integer], judged: EvaluatedRun) -> Iterator[NDArray[np.integer]]:
    step = max(1, PIECE // judged.classes)
    for start in range(0, len(use), step):
        yield use[start : start + step]


def _assess(
    record: RunRecord,
    judged: EvaluatedRun,
    plan: SetPlan,
    limits: list[Threshold],
    fold: NDArray[np.int64],
    *,
    own: bool,
    meter: Meter,
    done: int,
) -> Iterator[Progress | PredictionSets]:
    sizes = np.full(len(judged.labels), -1, np.int64)
    covers = np.zeros(len(judged.labels), bool)
    for some in _pieces(np.flatnonzero(judged.state == SCORED), judged):
        yield meter.at(done)
        if current_stop().stopped:
            return
        scores = set_scores(judged.probabilities(some), plan.kind)
        labels = judged.labels[some]
        for k in np.unique(fold[some]).tolist():
            here = np.flatnonzero(fold[some] == k)
            inside = in_set(scores[here], limits[k])
            sizes[some[here]] = inside.sum(axis=1)
            labelled = here[labels[here] >= 0]
            covers[some[labelled]] = inside[labels[here] >= 0][np.arange(len(labelled)), labels[labelled]]
        done += len(some)
    evaluated = judged.evaluated
    coverage = judged.share(covers, evaluated)
    names = np.array(record.classes, object)
    classes = _short(
        judged, covers, plan.level, {str(names[k]): evaluated & (judged.labels == k) for k in range(judged.classes)}
    )
    yield PredictionSets(plan, limits[-1], own, sizes, covers & evaluated, evaluated, coverage, classes)


def _short(
    judged: EvaluatedRun, covers: NDArray[np.bool_], level: float, parts: dict[str, NDArray[np.bool_]]
) -> tuple[CoverageOf, ...]:
    """Coverage in parts of the images; empty ones left out."""
    shares = {name: judged.share(covers, mask) for name, mask in parts.items() if mask.any()}
    below = [one.p_against(level) if one.value is not None and one.value < level else 1.0 for one in shares.values()]
    return tuple(CoverageOf(name, one, p) for (name, one), p in zip(shares.items(), holm(below), strict=True))


def coverage_by(record: RunRecord, judged: EvaluatedRun, found: PredictionSets, column: str) -> tuple[CoverageOf, ...]:
    """Coverage by the values of a column (dates by month)."""
    names = np.array(group_names(column_of(record.image_set.items, column)), object)
    parts = {str(name): found.evaluated & (names == name) for name in sorted(set(names))}
    return _short(judged, found.covers, found.plan.level, parts)


def members(judged: EvaluatedRun, found: PredictionSets, images: NDArray[np.integer]) -> list[list[int]]:
    """The classes in the sets of some images at the threshold from all of them, the most probable first; none without an answer."""
    probabilities = judged.probabilities(images)
    inside = in_set(set_scores(np.nan_to_num(probabilities, nan=0.0), found.plan.kind), found.threshold)
    order = np.argsort(-probabilities, axis=1, kind="stable")
    there = judged.state[images] == SCORED
    return [
        [int(k) for k in ranked if chosen[k]] if ok else []
        for ranked, chosen, ok in zip(order, inside, there.tolist(), strict=True)
    ]
