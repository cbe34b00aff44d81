"""Images that belong together (of one slide, patient, burst) are not independent: intervals and tests over whole units."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from itertools import product
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from mivrat.core.base.later import Later
from mivrat.core.figures.calibration import Calibration, bin_index
from mivrat.core.figures.confusion import ClassFigures, f1_of
from mivrat.core.figures.intervals import Proportion, proportion, wilson
from mivrat.core.figures.outcomes import Outcomes
from mivrat.core.figures.summary import Figures
from mivrat.core.figures.uncertainty import LEAST_UNITS

if TYPE_CHECKING:
    from scipy import special
else:
    special = Later("scipy.special")

DRAWS = 4_999
# Up to so many units every way of turning their signs is tried; beyond the second number the normal distribution stands in.
_ALL_WAYS, _MOST_DRAWN = 12, 2_000

Numbers = NDArray[np.integer]


@dataclass(frozen=True)
class Units:
    """What belongs together: a unit's number for each of N images, numbered by the sorted values of ``column``."""

    column: str
    number: NDArray[np.int64]

    def of(self, some: NDArray[np.bool_] | NDArray[np.integer]) -> NDArray[np.int64]:
        """The units of some images, numbered from 0 without gaps, in the same order."""
        return np.unique(self.number[some], return_inverse=True)[1].astype(np.int64)


def units_of(values: Sequence[str], column: str) -> Units:
    """The units that a column's values tell; an image without a value is a unit of its own."""
    keys = [(value, -1 if value else i) for i, value in enumerate(values)]
    place = {key: k for k, key in enumerate(sorted(set(keys)))}
    return Units(column, np.array([place[key] for key in keys], np.int64))


def share(hits: NDArray[np.bool_], unit: Numbers | None, level: float = 0.05) -> Proportion:
    """The share of N images that are hits, with its 95 % interval (over units 1 - ``level``): Wilson's, or over the units the
    images are of."""
    if unit is None:
        return proportion(int(hits.sum()), len(hits))
    sizes = np.bincount(unit)
    y = np.bincount(unit, weights=hits, minlength=len(sizes))
    there = sizes > 0
    y, n = y[there], sizes[there].astype(float)
    return _from_sums(len(n), y.sum(), n.sum(), (y * y).sum(), (y * n).sum(), (n * n).sum(), level)


def _from_sums(units: int, y: float, n: float, yy: float, yn: float, nn: float, level: float = 0.05) -> Proportion:
    """A share y / n over so many units from their sums Σy, Σn, Σy², Σyn, Σn².

    The variance of the ratio (Cochran 1977, 6.10) turned into an effective N, never above n, and Wilson's interval at that
    with Student's t on units - 1 degrees (Korn and Graubard 1998). All or none of them hits: the effective N is the number of
    units, since nothing tells how alike images of one unit are.
    """
    hits, total = round(y), round(n)
    if not total:
        return Proportion(0, 0, None, None, None, units)
    value = hits / total
    if units < LEAST_UNITS:
        return Proportion(hits, total, value, None, None, units)
    if hits in (0, total):
        effective = float(min(units, total))
    else:
        spread = max(0.0, yy - 2 * value * yn + value * value * nn) * units / (units - 1) / n**2
        effective = total if spread <= 0 else min(float(total), value * (1 - value) / spread)
        effective = max(1.0, effective)
    low, high = wilson(value, effective, float(special.stdtrit(units - 1, 1 - level / 2)))
    return Proportion(hits, total, value, 0.0 if hits == 0 else low, 1.0 if hits == total else high, units)


def figures_over_units(figures: Figures, found: Outcomes, unit: Numbers) -> Figures:
    """The same figures with every share's interval over units; ``unit`` numbers those of the N outcomes."""
    top_k = {
        k: share(found.predicted == found.labels if k == 1 else (found.rank >= 1) & (found.rank <= k), unit)
        for k in figures.top_k
    }
    sure, right = ~np.isnan(found.confidence), found.predicted == found.labels
    return replace(
        figures,
        top_k=top_k,
        classes=_classes(figures.classes, found, unit),
        calibration=calibration_over_units(figures.calibration, found.confidence[sure], right[sure], unit[sure]),
    )


def calibration_over_units(
    found: Calibration, confidence: NDArray[np.float64], right: NDArray[np.bool_], unit: Numbers, adaptive: bool = False
) -> Calibration:
    """The same reliability bins, of equal width or ``adaptive`` ones, with the intervals of their shares over units."""
    if adaptive:
        where = np.searchsorted([b.low for b in found.bins[1:]], confidence, "right")
    else:
        where = bin_index(confidence, len(found.bins))
    told = [replace(b, accuracy=share(right[where == m], unit[where == m])) for m, b in enumerate(found.bins)]
    return replace(found, bins=told)


def _classes(classes: list[ClassFigures], found: Outcomes, unit: Numbers) -> list[ClassFigures]:
    """Precision, recall, specificity and F1 of all classes over units, from counts by unit and class."""
    count, units = len(classes), int(unit.max()) + 1 if len(unit) else 0
    right = found.labels == found.predicted

    def by_unit(k: NDArray[np.integer]) -> NDArray[np.int64]:
        return np.asarray(unit, np.int64) * count + k

    keys, which = np.unique(
        np.concatenate([by_unit(found.labels), by_unit(found.predicted)]), return_inverse=True
    )  # a unit and a class it has an image or a prediction of
    labelled, called = which[: len(unit)], which[len(unit) :]
    support = np.bincount(labelled, minlength=len(keys)).astype(float)
    predicted = np.bincount(called, minlength=len(keys)).astype(float)
    hits = np.bincount(labelled, weights=right, minlength=len(keys)).astype(float)
    of = keys % count

    def by_class(weights: NDArray[Any]) -> NDArray[np.float64]:
        return np.bincount(of, weights=weights, minlength=count).astype(float)

    def sums(y: NDArray[np.float64], n: NDArray[np.float64]) -> list[NDArray[np.float64]]:
        return [by_class(w) for w in ((n > 0), y, n, y * y, y * n, n * n)]

    recall, precision = sums(hits, support), sums(hits, predicted)
    sizes = np.bincount(unit, minlength=units).astype(float)
    here = sizes[keys // count]
    # Of images of other classes: all of a unit but its support, and rejected all but its support and predictions together.
    either, others = support + predicted - hits, here - support
    jaccard = sums(hits, either)
    whole, squares = sizes.sum(), (sizes**2).sum()
    rest = [
        units - by_class(others == 0),
        whole - by_class(either),
        whole - by_class(support),
        squares + by_class((here - either) ** 2 - here**2),
        squares + by_class((here - either) * others - here**2),
        squares + by_class(others**2 - here**2),
    ]

    def at(found_sums: list[NDArray[np.float64]], k: int) -> Proportion:
        n, *told = (float(one[k]) for one in found_sums)
        return _from_sums(round(n), *told)

    return [
        replace(
            one,
            recall=at(recall, k),
            precision=at(precision, k),
            specificity=at(rest, k),
            f1_share=f1_of(at(jaccard, k)),
        )
        for k, one in enumerate(classes)
    ]


def turned_signs(differences: NDArray[np.float64], seed: int = 0) -> float:
    """Two-sided probability of so large a sum of differences, one for each unit, if each could as well have the other sign.

    A sign is turned for a whole unit at a time (Fisher 1935): all ways of turning them for few units, DRAWS seeded ones for
    more, and for very many the normal distribution with the same variance. 1 without any difference.
    """
    told = differences[differences != 0]
    seen = abs(float(told.sum()))
    if not len(told) or seen == 0:
        return 1.0
    if len(told) > _MOST_DRAWN:
        return float(2 * special.ndtr(-seen / np.sqrt((told**2).sum())))
    near = seen * (1 - 1e-9)
    if len(told) <= _ALL_WAYS:
        ways = np.array(list(product((-1.0, 1.0), repeat=len(told))))
        return float((np.abs(ways @ told) >= near).mean())
    rng = np.random.default_rng(seed)
    signs = rng.integers(0, 2, (DRAWS, len(told)), np.int8) * 2.0 - 1.0
    return float((1 + (np.abs(signs @ told) >= near).sum()) / (DRAWS + 1))


def direction(there: NDArray[np.bool_], back: NDArray[np.bool_], unit: Numbers) -> float:
    """Two-sided probability of so uneven a split between mistakes one way and the other, whole units at a time."""
    lead = there.astype(float) - back.astype(float)
    return turned_signs(np.bincount(unit, weights=lead).astype(float))


def against_claim(right: NDArray[np.bool_], claimed: float, unit: Numbers) -> float:
    """Two-sided probability of a share so far from the claimed one, whole units at a time."""
    return turned_signs(np.bincount(unit, weights=right - claimed).astype(float))


def below_rest(right: NDArray[np.bool_], group: Numbers, unit: Numbers, seed: int = 0) -> NDArray[np.float64]:
    """For each group the one-sided probability of so low a share right against the rest, were units given to groups anew.

    Where units lie wholly in one group, groups are dealt to whole units DRAWS times; where a unit has images of several
    groups, the sign of its lead over the whole is turned instead.
    """
    groups = int(group.max()) + 1 if len(group) else 0
    keys = np.unique(unit.astype(np.int64) * groups + group)
    units = int(unit.max()) + 1 if len(unit) else 0
    if len(keys) > len(np.unique(unit)):
        lead = right - right.mean()
        found = []
        for g in range(groups):
            inside = np.bincount(unit[group == g], weights=lead[group == g], minlength=units).astype(float)
            p = turned_signs(inside, seed)
            found.append(p / 2 if inside.sum() < 0 else 1 - p / 2)
        return np.array(found)
    of = np.zeros(units, np.int64)
    of[unit] = group
    hits, sizes = np.bincount(unit, weights=right, minlength=units), np.bincount(unit, minlength=units).astype(float)
    there = sizes > 0
    of, hits, sizes = of[there], hits[there], sizes[there]

    def lag(dealt: NDArray[np.int64]) -> NDArray[np.float64]:
        y, n = np.bincount(dealt, weights=hits, minlength=groups), np.bincount(dealt, weights=sizes, minlength=groups)
        with np.errstate(invalid="ignore", divide="ignore"):
            return np.nan_to_num(y / n - (hits.sum() - y) / (sizes.sum() - n))

    seen, rng = lag(of), np.random.default_rng(seed)
    lower = np.zeros(groups)
    for _ in range(DRAWS):
        lower += lag(rng.permutation(of)) <= seen + 1e-12
    return (1 + lower) / (DRAWS + 1)


def alike_within(right: NDArray[np.bool_], unit: Numbers) -> tuple[float, float]:
    """How alike answers are within units: the intraclass correlation of right and wrong (Fleiss 2003, analysis of variance),
    and the F test's probability of so high a one, were units dealt at random; (0, 1) where neither can be told."""
    sizes = np.bincount(unit).astype(float)
    sizes, hits = sizes[sizes > 0], np.bincount(unit, weights=right)[sizes > 0]
    units, total = len(sizes), sizes.sum()
    if units < 2 or total <= units:
        return 0.0, 1.0
    means, mean = hits / sizes, hits.sum() / total
    between = float((sizes * (means - mean) ** 2).sum() / (units - 1))
    within = float((hits * (1 - means)).sum() / (total - units))
    typical = (total - (sizes**2).sum() / total) / (units - 1)
    if between + (typical - 1) * within <= 0:
        return 0.0, 1.0
    correlation = (between - within) / (between + (typical - 1) * within)
    p = float(special.fdtrc(units - 1, total - units, between / within)) if within > 0 else 0.0
    return float(correlation), p
