"""Whether wrong images differ from right ones of the same class in a number: stratified rank test, its effect, accuracy by quarter."""

from __future__ import annotations

import math
from dataclasses import dataclass, replace
from itertools import pairwise
from typing import TYPE_CHECKING

import numpy as np
from numpy.typing import NDArray

from mivrat.core.base.lazy_module import LazyModule
from mivrat.core.figures.intervals import Z95, Proportion, wilson
from mivrat.core.figures.significance import holm
from mivrat.core.figures.uncertainty import LEAST_UNITS
from mivrat.core.figures.units import share

if TYPE_CHECKING:
    from scipy import special
else:
    special = LazyModule("scipy.special")

Numbers = NDArray[np.float64]
Mask = NDArray[np.bool_]
Whole = NDArray[np.int64]


@dataclass(frozen=True)
class Effect:
    """How often the higher value is the wrong image's, of pairs of a wrong and a right image of one class: ``value`` with its 95 %
    interval (0.5: as often as not), and ``p``, the two-sided probability of so far from 0.5 if it were 0.5; all None where
    ``problem`` tells why. ``wrong`` and ``right`` count the images of classes that have both."""

    value: float | None
    low: float | None
    high: float | None
    p: float | None
    wrong: int
    right: int
    problem: str = ""


@dataclass(frozen=True)
class Quarter:
    """The images with values above ``low`` up to ``high`` (infinite at the ends), and how many of them are right."""

    low: float
    high: float
    accuracy: Proportion


@dataclass(frozen=True)
class PropertyEffect:
    """One number of the images: how wrong differs from right in it, the probability corrected over all numbers looked at (Holm
    1979), and accuracy by quarter of its values."""

    name: str
    effect: Effect
    quarters: tuple[Quarter, ...] = ()
    p_holm: float | None = None

    @property
    def worst(self) -> Quarter | None:
        """The end at which wrong images lie: the first or the last quarter, by the effect."""
        if not self.quarters or self.effect.value is None:
            return None
        return self.quarters[-1 if self.effect.value >= 0.5 else 0]


def mid_ranks(stratum: Whole, values: Numbers) -> Numbers:
    """The rank of each of N values within its stratum, from 1; equal values share the mean of theirs.

    >>> mid_ranks(np.array([0, 0, 0, 1]), np.array([3.0, 1.0, 3.0, 9.0])).tolist()
    [2.5, 1.0, 2.5, 1.0]
    """
    if not len(values):
        return np.zeros(0)
    order = np.lexsort((values, stratum))
    s, v = stratum[order], values[order]
    place = np.arange(len(v))
    opens = np.append(True, s[1:] != s[:-1])
    first = place[opens][np.cumsum(opens) - 1]
    new = opens | np.append(True, v[1:] != v[:-1])
    begins = place[new]
    middle = (begins + np.append(begins[1:], len(v)) - 1) / 2
    ranks = np.empty(len(v))
    ranks[order] = middle[np.cumsum(new) - 1] - first + 1
    return ranks


def stratified_effect(values: Numbers, wrong: Mask, stratum: Whole, unit: Whole | None = None) -> Effect:
    """How often the higher of two values is the wrong image's, of pairs of a wrong and a right image of one stratum.

    ``values``, ``wrong``, ``stratum`` (class numbers) and ``unit`` (what images belong together) are N; images whose value is NaN do
    not count. The strata's probabilities (Mann-Whitney) are weighed by m n / (m + n + 1), so that the distance from 0.5 is van
    Elteren's statistic (1960). Its variance at 0.5 is that under no difference, given the ties, or that of placements (DeLong 1988)
    carried back to 0.5, whichever is larger; where images belong together, both from sums over whole units, with Student's t. The
    interval is Wilson's at the number of trials that has this variance: it leaves 0.5 out exactly where p is below 0.05.
    """
    there = np.flatnonzero(np.isfinite(values))
    # In an order of their own, so that not even the last bit depends on how images are listed.
    there = there[np.lexsort((wrong[there], values[there], stratum[there]))]
    values, wrong, stratum = values[there], wrong[there], stratum[there]
    unit = unit[there] if unit is not None else None
    number = int(stratum.max()) + 1 if len(stratum) else 0
    m = np.bincount(stratum, weights=wrong, minlength=number)
    n = np.bincount(stratum, minlength=number) - m
    both = (m > 0) & (n > 0)
    use = both[stratum] if number else there[:0]
    values, wrong, stratum = values[use], wrong[use], stratum[use]
    unit = unit[use] if unit is not None else None
    counts = int(wrong.sum()), int((~wrong).sum())
    if not len(values):
        return Effect(None, None, None, None, *counts, "no class has wrong and right images")
    if values.min() == values.max():
        return Effect(None, None, None, None, *counts, "the same for all images")
    m, n = np.where(both, m, 1.0), np.where(both, n, 1.0)
    all_ranks = mid_ranks(stratum, values)
    own = np.empty(len(values))
    for which in (wrong, ~wrong):
        own[which] = mid_ranks(stratum[which], values[which])
    # The share of the other kind, in its stratum, that lies below.
    below = (all_ranks - own) / np.where(wrong, n[stratum], m[stratum])
    weight = np.where(both, m * n / (m + n + 1), 0.0)
    whole = float(weight.sum())
    higher = np.bincount(stratum, weights=np.where(wrong, below, 0.0), minlength=number) / m
    value = float((weight * np.where(both, higher, 0.0)).sum()) / whole

    size = m + n
    spread = np.bincount(stratum, weights=(all_ranks - (size[stratum] + 1) / 2) ** 2, minlength=number)
    with np.errstate(invalid="ignore", divide="ignore"):
        null = np.where(both, m * n / (size * (size - 1)) * spread / (size + 1) ** 2, 0.0)
    # What each image adds to the distance: how far its placement is from what is usual for its kind in its stratum.
    placed = np.where(wrong, below, 1 - below) - higher[stratum]
    part = weight[stratum] * placed / np.where(wrong, m[stratum], n[stratum])
    fewer = np.where(wrong, m[stratum], n[stratum])
    placements = float((part**2 * fewer / np.maximum(1, fewer - 1)).sum())
    variance, freedom = float(null.sum()), math.inf
    if unit is not None:
        inside = np.bincount(unit) > 0
        units = int(inside.sum())
        if units < LEAST_UNITS:
            return Effect(value, None, None, None, *counts, f"only {units} units")
        # Under no difference images count by their ranks, whole units of them.
        ranked = (all_ranks - (size[stratum] + 1) / 2) / (size[stratum] + 1) * (wrong - (m / size)[stratum])
        flat, sums = (np.sort(np.bincount(unit, weights=one)[inside]) for one in (ranked, part))
        factor = units / (units - 1)
        variance, placements = factor * float((flat**2).sum()), factor * float((sums**2).sum())
        freedom = units - 1
    if 0 < value < 1:
        variance = max(variance, placements / (4 * value * (1 - value)))
    error = math.sqrt(variance) / whole
    if not error:
        return Effect(value, None, None, None, *counts, "no two images can be compared")
    quantile = Z95 if math.isinf(freedom) else float(special.stdtrit(freedom, 0.975))
    low, high = wilson(value, 1 / (4 * error**2), quantile)
    low, high = min(low, value), max(high, value)  # at the ends, against rounding
    z = abs(value - 0.5) / error
    p = math.erfc(z / math.sqrt(2)) if math.isinf(freedom) else 2 * float(special.stdtr(freedom, -z))
    return Effect(value, low, high, p, *counts)


def quarters_of(
    values: Numbers, right: Mask, unit: Whole | None = None, alike: float | None = None
) -> tuple[Quarter, ...]:
    """Accuracy in the quarters of N values, equal ones never parted: fewer than four where many are equal. NaN counts nowhere."""
    there = np.isfinite(values)
    found = []
    for low, high in quarter_ranges(values):
        inside = there & (values > low) & (values <= high)
        found.append(Quarter(low, high, share(right[inside], None if unit is None else unit[inside], alike=alike)))
    return tuple(found)


def quarter_ranges(values: Numbers) -> list[tuple[float, float]]:
    """The ends (low excluded, high included; infinite outside) of the quarters of values, each of which holds some; none of NaN alone,
    and a single one where all are equal."""
    told = np.sort(values[np.isfinite(values)])
    if not len(told):
        return []
    edges = np.unique(told[[len(told) // 4, len(told) // 2, 3 * len(told) // 4]])
    # A value that many share ends its quarter: what is above it comes into the next.
    ends = [-math.inf, *(float(one) for one in edges if one < told[-1]), math.inf]
    found = pairwise(ends)
    return [
        (low, high) for low, high in found if np.searchsorted(told, high, "right") > np.searchsorted(told, low, "right")
    ]


def corrected(effects: list[PropertyEffect]) -> list[PropertyEffect]:
    """The same with their probabilities corrected for their number, the surest difference first; what could not be asked last."""
    asked = [one for one in effects if one.effect.p is not None]
    found = holm([one.effect.p for one in asked if one.effect.p is not None])
    told = [replace(one, p_holm=p) for one, p in zip(asked, found, strict=True)]
    told.sort(key=lambda one: (one.effect.p, -abs((one.effect.value or 0.5) - 0.5), one.name))
    return [*told, *(one for one in effects if one.effect.p is None)]
