"""Figures of a strain test: accuracy against level for each kind, where it breaks, what is retained, which images flip first."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from mivrat.core.answers.judged import EvaluatedRun
from mivrat.core.figures.differences import Difference
from mivrat.core.figures.intervals import Proportion
from mivrat.core.figures.paired import share_difference
from mivrat.core.figures.significance import holm
from mivrat.core.figures.sums import ordered_sum
from mivrat.core.figures.units import share
from mivrat.core.pictures.distorting.kinds import BY_KEY, Distortion, severity, spelled_kind

# A kind breaks accuracy where it costs more than this, as a share, beyond chance.
MARGIN, LEVEL = 0.05, 0.05


@dataclass(frozen=True)
class StrainLevel:
    """One level: over the labelled images with an answer untouched and at this level, ``accuracy`` and its ``difference`` to untouched (with
    the exact paired p), ``fixed`` and ``broken`` images; over all with both answers the share ``changed``; the mean ``confidence`` of
    the labelled ones. ``p_holm`` is corrected over all levels of all kinds."""

    strain: Distortion
    accuracy: Proportion
    difference: Difference
    fixed: int
    broken: int
    changed: Proportion
    confidence: float | None
    p_holm: float
    by_class: tuple[tuple[int, int], ...]

    @property
    def lower(self) -> bool:
        """Whether accuracy is lower than untouched beyond chance."""
        return self.p_holm < LEVEL and (self.difference.value or 0.0) < 0

    def costs_more_than(self, margin: float) -> bool:
        """Whether accuracy is lower beyond chance, and by more than a margin."""
        return self.lower and -(self.difference.value or 0.0) > margin


@dataclass(frozen=True)
class StrainCurve:
    """The levels of one kind from mild to severe (untouched left out). ``breaks_at`` is the lowest level from which on accuracy is below
    untouched beyond chance and by more than the margin, ``breaks_below`` the same towards negative levels; None where there is none.
    ``lowered`` are all levels at which it is so. ``retained`` is the mean accuracy over the levels by that untouched."""

    kind: str
    given: tuple[tuple[str, str], ...]
    levels: tuple[StrainLevel, ...]
    breaks_at: float | None
    breaks_below: float | None
    lowered: tuple[float, ...]
    retained: float | None

    @property
    def breaks(self) -> list[float]:
        """Where it breaks: below 0, above it, or not at all."""
        return [one for one in (self.breaks_below, self.breaks_at) if one is not None]

    @property
    def spelled(self) -> str:
        return spelled_kind(self.kind, self.given)


@dataclass(frozen=True)
class StrainFigures:
    """What a strain test says: ``images`` are those with an untouched answer, ``untouched`` the accuracy of the labelled ones as they are,
    ``by_class`` these (right, labelled), ``margin`` what a kind may cost before it breaks, as a share."""

    images: int
    untouched: Proportion
    confidence: float | None
    by_class: tuple[tuple[int, int], ...]
    curves: tuple[StrainCurve, ...]
    margin: float = MARGIN

    @property
    def levels(self) -> list[StrainLevel]:
        """All levels of all kinds."""
        return [one for curve in self.curves for one in curve.levels]


def strain_figures(
    judged: EvaluatedRun,
    images: NDArray[np.integer],
    strains: Sequence[Distortion],
    predicted: NDArray[np.integer],
    confidence: NDArray[np.float64],
    margin: float = MARGIN,
) -> StrainFigures:
    """Figures of a run's ``images`` (M positions) under S distortions: ``predicted`` (-1: no answer) and ``confidence`` are S x M."""
    labels, before = judged.labels[images], judged.predicted[images]
    answered, classes = before >= 0, judged.classes
    labelled = answered & (labels >= 0)
    right_before = labelled & (before == labels)

    def units_of(among: NDArray[np.bool_]) -> NDArray[np.int64] | None:
        return None if judged.units is None else judged.units.of(images[among])

    def of(hits: NDArray[np.bool_], among: NDArray[np.bool_]) -> Proportion:
        return share(hits[among], units_of(among), alike=judged.alike)

    levels = []
    for strain, called, sure in zip(strains, predicted, confidence, strict=True):
        if strain.level == 0:
            continue
        both = answered & (called >= 0)
        known = both & labelled
        right = known & (called == labels)
        levels.append(
            StrainLevel(
                strain,
                of(right, known),
                share_difference(right_before[known], right[known], units_of(known)),
                int((right & ~right_before).sum()),
                int((known & right_before & ~right).sum()),
                of(both & (called != before), both),
                ordered_sum(sure[known]) / int(known.sum()) if known.any() else None,
                1.0,
                _by_class(labels[known], right[known], classes),
            )
        )
    asked = [k for k, one in enumerate(levels) if one.difference.p is not None]
    for k, p in zip(asked, holm([levels[k].difference.p or 0.0 for k in asked]), strict=True):
        levels[k] = replace(levels[k], p_holm=p)
    untouched = of(right_before, labelled)
    known_confidence = judged.confidence[images][labelled]
    return StrainFigures(
        int(answered.sum()),
        untouched,
        ordered_sum(known_confidence) / len(known_confidence) if len(known_confidence) else None,
        _by_class(labels[labelled], right_before[labelled], classes),
        tuple(_curves(levels, untouched, margin)),
        margin,
    )


def _by_class(labels: NDArray[np.integer], right: NDArray[np.bool_], classes: int) -> tuple[tuple[int, int], ...]:
    number, hits = np.bincount(labels, minlength=classes), np.bincount(labels[right], minlength=classes)
    return tuple(zip(hits.tolist(), number.tolist(), strict=True))


def _curves(levels: Sequence[StrainLevel], untouched: Proportion, margin: float) -> list[StrainCurve]:
    kinds = dict.fromkeys((one.strain.kind, one.strain.given) for one in levels)
    found = []
    for kind, given in kinds:
        some = [one for one in levels if (one.strain.kind, one.strain.given) == (kind, given)]
        some.sort(key=lambda one: severity(BY_KEY[kind], one.strain.level))
        values = [one.accuracy.value for one in some if one.accuracy.value is not None]
        retained = float(np.mean(values)) / untouched.value if values and untouched.value else None
        lowered = tuple(one.strain.level for one in some if one.costs_more_than(margin))
        up = [one for one in some if one.strain.level > 0]
        down = [one for one in reversed(some) if one.strain.level < 0]
        found.append(
            StrainCurve(kind, given, tuple(some), breaks_at(up, margin), breaks_at(down, margin), lowered, retained)
        )
    return found


def accuracy_by_group(
    judged: EvaluatedRun,
    images: NDArray[np.integer],
    names: Sequence[str],
    predicted: NDArray[np.integer],
) -> dict[str, tuple[Proportion, ...]]:
    """Accuracy in each group of a run's ``images`` (M positions, of the groups ``names``): untouched, then under each of S distortions, whose
    predictions are ``predicted`` (S x M, -1: no answer). Not tested: a group that is looked at among many falls by chance, too."""
    labels, before, group = judged.labels[images], judged.predicted[images], np.array(names, object)
    found = {}
    for name in sorted(set(names)):
        here = (group == name) & (labels >= 0) & (before >= 0)
        shares = []
        for called in (before, *predicted):
            known = here & (called >= 0)
            units = None if judged.units is None else judged.units.of(images[known])
            shares.append(share((called == labels)[known], units, alike=judged.alike))
        if here.any():
            found[name] = tuple(shares)
    return found


def losses(figures: StrainFigures, curve: StrainCurve) -> dict[int, float]:
    """What each class that has images loses of its recall on average over a curve's levels, against untouched; as a share."""
    found = {}
    for k, (right, of) in enumerate(figures.by_class):
        shares = [hits / total for hits, total in (one.by_class[k] for one in curve.levels) if total]
        if of and shares:
            found[k] = right / of - float(np.mean(shares))
    return found


def breaks_at(levels: Sequence[StrainLevel], margin: float) -> float | None:
    """Of levels from mild to severe the first from which on accuracy is lower beyond chance, and by more than the margin."""
    found = None
    for one in reversed(levels):
        if not one.costs_more_than(margin):
            break
        found = one.strain.level
    return found


def first_flips(
    before: NDArray[np.integer], strains: Sequence[Distortion], predicted: NDArray[np.integer]
) -> NDArray[np.float64]:
    """For each of M images how early it flips: the least share of the way through a kind's levels, from mild to severe, at which the answer
    is another one than ``before``; infinite where it never is. ``predicted`` is S x M (-1: no answer)."""
    found = np.full(len(before), np.inf)
    kinds = dict.fromkeys((one.kind, one.given, one.level > 0) for one in strains if one.level)
    for kind, given, up in kinds:
        some = [
            s
            for s, one in enumerate(strains)
            if (one.kind, one.given, one.level > 0) == (kind, given, up) and one.level
        ]
        some.sort(key=lambda s: severity(BY_KEY[kind], strains[s].level), reverse=not up)
        for step, s in enumerate(some, 1):
            flipped = (predicted[s] >= 0) & (before >= 0) & (predicted[s] != before)
            found[flipped] = np.minimum(found[flipped], step / len(some))
    return found
