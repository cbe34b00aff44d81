"""Differences of two shares with their intervals: of the same images, of one class's images, of two sets. Always b - a."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING, NamedTuple

import numpy as np
from numpy.typing import NDArray

from mivrat.core.base.lazy_module import LazyModule
from mivrat.core.figures.exact import at_most
from mivrat.core.figures.intervals import Z95
from mivrat.core.figures.sums import ordered_sums
from mivrat.core.figures.uncertainty import LEAST_UNITS

if TYPE_CHECKING:
    from scipy import special
else:
    special = LazyModule("scipy.special")

Numbers = NDArray[np.float64]
# The end of an interval that just excludes 0.
_JUST = 1e-6


@dataclass(frozen=True)
class Difference:
    """A figure under ``a`` and under ``b``, and b - a with its 95 % interval; None where it is undefined. ``p`` is the two-sided
    probability of so large a difference without a true one, where there is a test for it; ``ends_a`` and ``ends_b`` are the ends of
    the intervals of both, where they are shares."""

    a: float | None
    b: float | None
    value: float | None
    low: float | None = None
    high: float | None = None
    p: float | None = None
    ends_a: tuple[float, float] | None = None
    ends_b: tuple[float, float] | None = None

    def __post_init__(self) -> None:
        """Where there is an exact test it decides, and the interval agrees: it reaches to 0 where the test refutes nothing, and ends just
        short of 0 where it does."""
        if self.p is None or self.low is None or self.high is None or not self.value:
            return
        if self.p >= 0.05:
            object.__setattr__(self, "low", min(self.low, 0.0))
            object.__setattr__(self, "high", max(self.high, 0.0))
        elif self.value > 0:
            object.__setattr__(self, "low", max(self.low, min(_JUST, self.value)))
        else:
            object.__setattr__(self, "high", min(self.high, max(-_JUST, self.value)))

    @property
    def beyond_chance(self) -> int:
        """1 where b is significantly higher by the interval, -1 where it is lower, 0 where that cannot be told."""
        if self.low is None or self.high is None:
            return 0
        return (self.low > 0) - (self.high < 0)


class ClassShares(NamedTuple):
    """Shares (one for each of some classes) with the ends of their intervals; NaN where they are undefined."""

    value: Numbers
    low: Numbers
    high: Numbers


def wilson_all(hits: Numbers, total: Numbers, z: Numbers | float = Z95) -> ClassShares:
    """Wilson's score interval (Wilson 1927) of many shares at once; totals need not be whole numbers."""
    with np.errstate(divide="ignore", invalid="ignore"):
        value = np.clip(np.asarray(hits, float) / total, 0.0, 1.0)
        z2 = np.square(z)
        centre = (value + z2 / (2 * total)) / (1 + z2 / total)
        half = z / (1 + z2 / total) * np.sqrt(value * (1 - value) / total + z2 / (4 * np.square(total)))
        low, high = np.maximum(0.0, centre - half), np.minimum(1.0, centre + half)
    return ClassShares(value, np.where(value == 0, 0.0, low), np.where(value == 1, 1.0, high))


def of_shares(a: ClassShares, b: ClassShares, alike: Numbers | float = 0.0) -> tuple[Numbers, Numbers]:
    """The ends of the interval of b - a from those of both, whose estimates have this correlation (``alike``).

    Newcombe 1998, "Interval estimation for the difference between independent proportions", method 10, and with a correlation
    its companion for paired data (method 10 there), the square-and-add way of Zou and Donner 2008.
    """
    value = b.value - a.value
    below, above = b.value - b.low, a.high - a.value
    up, down = b.high - b.value, a.value - a.low
    with np.errstate(invalid="ignore"):
        low = value - np.sqrt(np.maximum(0.0, below**2 - 2 * alike * below * above + above**2))
        high = value + np.sqrt(np.maximum(0.0, up**2 - 2 * alike * up * down + down**2))
    return np.maximum(-1.0, low), np.minimum(1.0, high)


class Square(NamedTuple):
    """The four outcomes of two answers to the same images: counts, or arrays of counts. They need not be whole."""

    both: Numbers
    fixed: Numbers
    broken: Numbers
    neither: Numbers


def paired_shares(four: Square, z: Numbers | float = Z95) -> tuple[ClassShares, ClassShares, Numbers, Numbers]:
    """The share right of a and of b on the same images, and the ends of the interval of their difference (Newcombe 1998,
    "Improved confidence intervals for the difference between binomial proportions based on paired data", method 10)."""
    both, fixed, broken, neither = (np.asarray(one, float) for one in four)
    total = both + fixed + broken + neither
    a, b = wilson_all(both + broken, total, z), wilson_all(both + fixed, total, z)
    cross = both * neither - fixed * broken
    # With counts shrunk to an effective number, half of that number is the correction for continuity.
    cross = np.where(cross > 0, np.maximum(0.0, cross - total / 2), cross)
    sides = (both + broken) * (fixed + neither) * (both + fixed) * (broken + neither)
    with np.errstate(divide="ignore", invalid="ignore"):
        alike = np.where(sides > 0, cross / np.sqrt(sides), 0.0)
    return a, b, *of_shares(a, b, alike)


def even_splits(one: NDArray[np.integer], other: NDArray[np.integer]) -> Numbers:
    """The exact two-sided probability of so uneven a split, for many pairs of counts at once; 1 where both are 0.

    ``one`` and ``other`` are arrays of counts of one shape, which the result has too.
    """
    fewer, total = np.minimum(one, other), np.asarray(one) + other
    return np.where(total > 0, np.minimum(1.0, 2 * at_most(fewer, total, 0.5)), 1.0)


def shares_by_class(
    hit: NDArray[np.bool_], of: NDArray[np.integer], classes: int, unit: NDArray[np.integer] | None
) -> ClassShares:
    """The share of hits among each class's images with its interval: Wilson's, or over units.

    ``hit`` is N; ``of`` is the class of each image, N, and ``unit`` its unit, N. The shares are K.
    """
    total = np.bincount(of, minlength=classes).astype(float)
    hits = np.bincount(of, hit, classes).astype(float)
    if unit is None:
        return wilson_all(hits, total)
    worth = effective(hit.astype(float), unit, of, classes)
    with np.errstate(divide="ignore", invalid="ignore"):
        return wilson_all(
            hits / total * np.where(total > 0, worth.total, 0.0), np.where(total > 0, worth.total, 0.0), worth.z
        )


class Effective(NamedTuple):
    """Related images count as fewer: the number they are worth, and the point of Student's t for the interval (NaN
    where there are too few units for any)."""

    total: Numbers
    z: Numbers


def effective(values: Numbers, unit: NDArray[np.integer], of: NDArray[np.integer], classes: int) -> Effective:
    """What the images of each class are worth for the mean of their ``values`` (N), by the design effect over units.

    ``of`` is each image's class. The variance of the mean over whole units (Cochran 1977, 6.10) against that over single
    images; never more than the images there are. Without any spread nothing tells how alike images of one unit are: then
    they are worth as many as there are units (Korn and Graubard 1998).
    """
    keys, which = np.unique(unit.astype(np.int64) * classes + of, return_inverse=True)
    group = keys % classes
    sums, sizes = ordered_sums(which, values, len(keys)), np.bincount(which, minlength=len(keys)).astype(float)
    total = np.bincount(of, minlength=classes).astype(float)
    units = np.bincount(group, minlength=classes).astype(float)
    with np.errstate(divide="ignore", invalid="ignore"):
        mean = ordered_sums(of, values, classes) / total
        single = np.maximum(0.0, ordered_sums(of, values**2, classes) / total - mean**2) / total
        spread = ordered_sums(group, (sums - mean[group] * sizes) ** 2, classes) * units / (units - 1) / total**2
        worth = np.where(single <= 0, units, np.where(spread <= 0, total, np.minimum(total, total * single / spread)))
        z = np.where(units >= LEAST_UNITS, special.stdtrit(np.maximum(1, units - 1), 0.975), np.nan)
    return Effective(np.maximum(1.0, worth), z)


def mean_difference(parts: Sequence[Difference]) -> Difference:
    """The mean of several differences of independent images, such as of recall over classes, with its interval: their half-widths
    squared and added (Zou and Donner 2008). Without an interval where one of them has none."""
    known = [
        (one.a, one.b, one.value) for one in parts if one.a is not None and one.b is not None and one.value is not None
    ]
    if not known:
        return Difference(None, None, None)
    a, b, value = (float(np.mean(column)) for column in zip(*known, strict=True))
    ends = [
        (one.value - one.low, one.high - one.value)
        for one in parts
        if one.value is not None and one.low is not None and one.high is not None
    ]
    if len(ends) < len(known):
        return Difference(a, b, value)
    down, up = (float(np.sqrt(np.square(column).sum()) / len(ends)) for column in zip(*ends, strict=True))
    return Difference(a, b, value, value - down, value + up)
