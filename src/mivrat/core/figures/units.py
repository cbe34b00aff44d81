"""Related images (of one slide, patient, burst) are not independent: intervals and tests over whole units."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from itertools import product
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from mivrat.core.base.lazy_module import LazyModule
from mivrat.core.figures.calibration import Calibration, bin_index
from mivrat.core.figures.confusion import ClassFigures, f1_of
from mivrat.core.figures.intervals import Proportion, proportion, wilson
from mivrat.core.figures.outcomes import Outcomes
from mivrat.core.figures.significance import AtMost
from mivrat.core.figures.summary import Figures
from mivrat.core.figures.sums import ordered_sum, ordered_sums
from mivrat.core.figures.uncertainty import LEAST_UNITS, unit_bias

if TYPE_CHECKING:
    from scipy import special
else:
    special = LazyModule("scipy.special")

DRAWS = 4_999
# Up to so many units every way of turning their signs is tried; beyond the second number the normal distribution stands in.
_ALL_WAYS, _MOST_DRAWN = 12, 2_000

Numbers = NDArray[np.integer]


@dataclass(frozen=True)
class Units:
    """What belongs together: a unit's number for each of N images, numbered by the sorted values of ``column``; from ``named`` on stand
    images without a value, each a unit of its own."""

    column: str
    number: NDArray[np.int64]
    named: int

    def of(self, some: NDArray[np.bool_] | NDArray[np.integer]) -> NDArray[np.int64]:
        """The units of some images, numbered from 0 without gaps, in the same order. No number depends on how images are listed: units of
        their own are numbered as they stand in ``some``."""
        number = self.number[some]
        alone = number >= self.named
        number[alone] = self.named + np.arange(np.count_nonzero(alone))
        return np.unique(number, return_inverse=True)[1].astype(np.int64)


def units_of(values: Sequence[str], column: str) -> Units:
    """The units that a column's values tell; an image without a value is a unit of its own."""
    place = {value: k for k, value in enumerate(sorted({value for value in values if value}))}
    named = len(place)
    return Units(column, np.array([place.get(value, named + i) for i, value in enumerate(values)], np.int64), named)


def share(hits: NDArray[np.bool_], unit: Numbers | None, level: float = 0.05, alike: float | None = None) -> Proportion:
    """The share of N images that are hits, with its interval to 1 - ``level``: Wilson's, or over the units the images are of.
    ``alike`` is how alike answers are within units, where that is known better than from these hits."""
    if unit is None:
        total, number = len(hits), int(hits.sum())
        found = proportion(number, total)
        if level == 0.05 or not total:
            return found
        low, high = wilson(number / total, total, float(special.ndtri(1 - level / 2)))
        return replace(found, low=0.0 if number == 0 else low, high=1.0 if number == total else high)
    sizes = np.bincount(unit)
    y = np.bincount(unit, weights=hits, minlength=len(sizes))
    there = sizes > 0
    y, n = y[there], sizes[there].astype(float)
    if alike is None:
        alike = max(0.0, correlation_within(hits, unit)) if 0 < y.sum() < n.sum() else 1.0
    mixed = min(int((y > 0).sum()), int((y < n).sum()))
    sums = y.sum(), n.sum(), (y * y).sum(), (y * n).sum(), (n * n).sum(), (n**3).sum()
    return _from_sums(len(n), mixed, sums, alike, level)


def _from_sums(units: int, mixed: int, sums: Sequence[float], alike: float, level: float = 0.05) -> Proportion:
    """A share y / n over so many units from their sums Σy, Σn, Σy², Σyn, Σn², Σn³; ``mixed`` of them have a hit, or a miss, whichever
    is rarer; ``alike`` is the intraclass correlation of what is known of all answers.

    The variance of the ratio (Cochran 1977, 6.10), freed of its bias for units of unequal size, over that of as many independent images
    is the design effect. Seen in a few units only it tells little, and beside it counts, as one unit more, the effect that ``alike`` gives
    units of these sizes (Kish 1965); all or none of them hits, a single image of its own is taken to be otherwise. Wilson's interval at the
    effective N, never above n, with Student's t on units - 1 degrees (Korn and Graubard 1998).
    """
    y, n, yy, yn, nn, nnn = map(float, sums)
    hits, total = round(y), round(n)
    if not total:
        return Proportion(0, 0, None, None, None, units)
    value = hits / total
    if units < LEAST_UNITS:
        return Proportion(hits, total, value, None, None, units)
    expected = 1 + (nn / n - 1) * min(1.0, max(0.0, alike))
    if hits in (0, total):
        effect = (1 + expected) / 2
    else:
        spread = max(0.0, yy - 2 * value * yn + value * value * nn) / unit_bias(n, nn, nnn) / n**2
        effect = (mixed * spread * n / (value * (1 - value)) + expected) / (mixed + 1)
    effective = max(1.0, total / max(1.0, effect))
    low, high = wilson(value, effective, float(special.stdtrit(units - 1, 1 - level / 2)))
    return Proportion(hits, total, value, 0.0 if hits == 0 else low, 1.0 if hits == total else high, units, effective)


def figures_over_units(figures: Figures, found: Outcomes, unit: Numbers, alike: float | None = None) -> Figures:
    """The same figures with every share's interval over units; ``unit`` numbers those of the N outcomes, ``alike`` is as for ``share``
    (as these outcomes have it, where it is not given)."""
    alike = alike_of(found, unit) if alike is None else alike
    top_k = {
        k: share(
            found.predicted == found.labels if k == 1 else (found.rank >= 1) & (found.rank <= k), unit, alike=alike
        )
        for k in figures.top_k
    }
    sure, right = ~np.isnan(found.confidence), found.predicted == found.labels
    return replace(
        figures,
        top_k=top_k,
        classes=_classes(figures.classes, found, unit, alike),
        calibration=calibration_over_units(
            figures.calibration, found.confidence[sure], right[sure], unit[sure], alike=alike
        ),
    )


def calibration_over_units(
    found: Calibration,
    confidence: NDArray[np.float64],
    right: NDArray[np.bool_],
    unit: Numbers,
    adaptive: bool = False,
    alike: float | None = None,
) -> Calibration:
    """The same reliability bins, of equal width or ``adaptive`` ones, with the intervals of their shares over units.
    ``confidence``, ``right`` and ``unit`` are N, image by image."""
    if adaptive:
        where = np.searchsorted([b.low for b in found.bins[1:]], confidence, "right")
    else:
        where = bin_index(confidence, len(found.bins))
    told = [
        replace(b, accuracy=share(right[where == m], unit[where == m], alike=alike)) for m, b in enumerate(found.bins)
    ]
    return replace(found, bins=told)


def alike_of(found: Outcomes, unit: Numbers) -> float:
    """How alike all answers are within units: the intraclass correlation of the label's probability, else of right and wrong; 1 where
    neither varies, so that nothing is known of it."""
    right = found.predicted == found.labels
    for values in (found.own if found.complete else right, right):
        if len(values) and values.min() < values.max():
            return max(0.0, correlation_within(values, unit))
    return 1.0


def _classes(classes: list[ClassFigures], found: Outcomes, unit: Numbers, alike: float) -> list[ClassFigures]:
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
        hit, miss = by_class(y > 0), by_class(y < n)
        return [by_class(n > 0), np.minimum(hit, miss), *(by_class(w) for w in (y, n, y * y, y * n, n * n, n**3))]

    recall, precision = sums(hits, support), sums(hits, predicted)
    sizes = np.bincount(unit, minlength=units).astype(float)
    here = sizes[keys // count]
    # Of images of other classes: all of a unit but its support, and rejected all but its support and predictions together.
    either, others = support + predicted - hits, here - support
    jaccard = sums(hits, either)
    whole, squares, cubes = sizes.sum(), (sizes**2).sum(), (sizes**3).sum()
    there = int((sizes > 0).sum())
    rest = [
        there - by_class(others == 0),
        np.minimum(there - by_class(here == either), by_class(either > support)),
        whole - by_class(either),
        whole - by_class(support),
        squares + by_class((here - either) ** 2 - here**2),
        squares + by_class((here - either) * others - here**2),
        squares + by_class(others**2 - here**2),
        cubes + by_class(others**3 - here**3),
    ]

    def at(found_sums: list[NDArray[np.float64]], k: int) -> Proportion:
        n, mixed, *told = (float(one[k]) for one in found_sums)
        return _from_sums(round(n), round(mixed), told, alike)

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
    more, and for very many the normal distribution with the same variance. 1 without any difference. ``differences`` is U, one
    for each unit.
    """
    told = np.sort(differences[differences != 0])  # so that what is drawn does not depend on how images are listed
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
    return drawn(int((np.abs(signs @ told) >= near).sum()))


def drawn(as_far: int) -> float:
    """The probability that so many of DRAWS random ways were as uneven as what was seen; where none was, an upper bound."""
    p = (1 + as_far) / (DRAWS + 1)
    return p if as_far else AtMost(p)


def from_kept(p: float, units: int | None) -> float:
    """A probability that was kept as a plain number, over units (None: over single images), as ``drawn`` tells it."""
    return AtMost(p) if units is not None and p <= (1 + 1e-9) / (DRAWS + 1) else p


def direction(there: NDArray[np.bool_], back: NDArray[np.bool_], unit: Numbers) -> float:
    """Two-sided probability of so uneven a split between mistakes one way and the other, whole units at a time.

    All are N, image by image.
    """
    lead = there.astype(float) - back.astype(float)
    return turned_signs(np.bincount(unit, weights=lead).astype(float))


def against_claim(right: NDArray[np.bool_], claimed: float, unit: Numbers | None, alike: float | None = None) -> float:
    """Two-sided probability of a share so far from the claimed one: the level at which the interval of ``share`` just reaches
    the claim, so that a claim is refuted at 5 % exactly where its 95 % interval excludes it (the score test that Wilson's
    interval inverts; over units at their effective number, with Student's t). 1 where nothing can be said. ``right`` and
    ``unit`` are N; ``claimed`` is a share."""
    return share(right, unit, alike=alike).p_against(claimed)


def below_rest(right: NDArray[np.bool_], group: Numbers, unit: Numbers, seed: int = 0) -> list[float]:
    """For each group the one-sided probability of so low a share right against the rest, were units given to groups anew.

    Where units lie wholly in one group, groups are dealt to whole units DRAWS times; where a unit has images of several groups,
    the sign of its lead over the whole is turned instead. All are N, image by image; one p for each group.
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
            half = AtMost(p / 2) if isinstance(p, AtMost) else p / 2
            found.append(half if inside.sum() < 0 else 1 - p / 2)
        return found
    of = np.zeros(units, np.int64)
    of[unit] = group
    hits, sizes = np.bincount(unit, weights=right, minlength=units), np.bincount(unit, minlength=units).astype(float)
    there = sizes > 0
    order = np.lexsort((sizes[there], hits[there], of[there]))
    of, hits, sizes = of[there][order], hits[there][order], sizes[there][order]

    def lag(dealt: NDArray[np.int64]) -> NDArray[np.float64]:
        y, n = np.bincount(dealt, weights=hits, minlength=groups), np.bincount(dealt, weights=sizes, minlength=groups)
        with np.errstate(invalid="ignore", divide="ignore"):
            return np.nan_to_num(y / n - (hits.sum() - y) / (sizes.sum() - n))

    seen, rng = lag(of), np.random.default_rng(seed)
    lower = np.zeros(groups, np.int64)
    for _ in range(DRAWS):
        lower += lag(rng.permutation(of)) <= seen + 1e-12
    return [drawn(int(one)) for one in lower]


def alike_within(right: NDArray[Any], unit: Numbers) -> tuple[float, float]:
    """How alike answers are within units: the intraclass correlation of right and wrong (Fleiss 2003, analysis of variance),
    and the F test's probability of so high a one, were units dealt at random; (0, 1) where neither can be told. Both are N,
    image by image."""
    found = _variance(right, unit)
    if found is None:
        return 0.0, 1.0
    between, within, units, total, _ = found
    p = float(special.fdtrc(units - 1, total - units, between / within)) if within > 0 else 0.0
    return correlation_within(right, unit), p


def correlation_within(values: NDArray[Any], unit: Numbers) -> float:
    """The intraclass correlation of N values within units (analysis of variance; Fleiss 2003); 0 where it cannot be told."""
    found = _variance(values, unit)
    if found is None:
        return 0.0
    between, within, _, _, typical = found
    return float((between - within) / (between + (typical - 1) * within))


def _variance(values: NDArray[Any], unit: Numbers) -> tuple[float, float, int, float, float] | None:
    """The mean squares between and within units, the number of units and of values, and the typical size of a unit."""
    sizes = np.bincount(unit).astype(float)
    of = np.flatnonzero(sizes)
    sizes, sums = sizes[of], ordered_sums(unit, values, len(sizes))[of]
    units, total = len(sizes), float(sizes.sum())
    if units < 2 or total <= units:
        return None
    means, mean = sums / sizes, ordered_sum(sums) / total
    between = ordered_sum(sizes * (means - mean) ** 2) / (units - 1)
    squares = ordered_sum(np.square(values, dtype=np.float64))
    within = max(0.0, squares - ordered_sum(sums * means)) / (total - units)
    typical = float((total - (sizes**2).sum() / total) / (units - 1))
    return (between, within, units, total, typical) if between + (typical - 1) * within > 0 else None
