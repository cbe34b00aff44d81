"""Which images to label so that a share is known well with few labels: strata, allocation, and an estimate that holds whatever the model."""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import TYPE_CHECKING

import numpy as np
from numpy.typing import NDArray

from mivrat.core.base.lazy_module import LazyModule
from mivrat.core.figures.intervals import Z95, wilson

if TYPE_CHECKING:
    from scipy import special
else:
    special = LazyModule("scipy.special")

Numbers = NDArray[np.float64]
Whole = NDArray[np.int64]

# Of no image the model is believed to be surer than this: where it is wrong about that, labels are there to tell.
LEAST_DOUBT = 0.01
# A stratum has about so many labels at least; there are at most so many strata.
_PER_STRATUM, MOST_STRATA = 12, 8
_LEAST = 2


def spread_expected(probability: Numbers) -> Numbers:
    """The standard deviation of right or wrong (N) that the probabilities of being right (N) promise, none surer than ``LEAST_DOUBT``."""
    doubted = LEAST_DOUBT + (1 - 2 * LEAST_DOUBT) * probability
    return np.sqrt(doubted * (1 - doubted))


def strata_by(values: Numbers, spread: Numbers, labels: int) -> Whole:
    """The stratum, from 0, of each of N images: stretches of ``values`` from the lowest on, each with as much of the summed ``spread`` as
    the others (Dalenius and Hodges 1959), so that all get about as many labels. Equal values are never parted."""
    number = int(np.clip(labels // _PER_STRATUM, 1, MOST_STRATA))
    order = np.argsort(values, kind="stable")
    summed = np.cumsum(spread[order])
    at = np.minimum((summed / summed[-1] * number - 1e-9).astype(np.int64), number - 1)
    ordered = values[order]
    new = np.append(True, ordered[1:] != ordered[:-1])
    found = np.empty(len(values), np.int64)
    found[order] = at[np.flatnonzero(new)[np.cumsum(new) - 1]]
    return np.unique(found, return_inverse=True)[1].astype(np.int64)


def allocate(pool: Whole, spread: Numbers, labels: int) -> Whole:
    """How many of so many labels each of H strata gets: in proportion to its size and spread (Neyman 1934), at least 2, never more than it
    holds. ``pool`` counts the images of each."""
    least = np.minimum(pool, _LEAST)
    if labels >= pool.sum():
        return pool.copy()
    wanted, fixed = least.astype(float), np.zeros(len(pool), bool)
    weight = pool * np.maximum(spread, 1e-12)
    while not fixed.all():
        left = max(0.0, labels - float(wanted[fixed].sum()))
        share = np.where(fixed, wanted, weight / weight[~fixed].sum() * left)
        low, high = ~fixed & (share < least), ~fixed & (share > pool)
        if not low.any() and not high.any():
            wanted = share
            break
        which = low if low.any() else high
        wanted = np.where(which, least if low.any() else pool, share)
        fixed |= which
    found = np.maximum(least, np.floor(wanted + 1e-9).astype(np.int64))
    # What rounding left over, and what full strata could not take, goes to those with room.
    while (left_over := labels - int(found.sum())) > 0:
        share = np.where(found < pool, weight, 0.0)
        more = np.minimum(pool - found, np.floor(share / share.sum() * left_over).astype(np.int64))
        if not more.any():
            missing = np.where(found < pool, wanted - found, -np.inf)
            more[np.argsort(-missing, kind="stable")[: min(left_over, int((found < pool).sum()))]] = 1
        found += more
    return found


def half_width_expected(pool: Whole, spread: Numbers, labels: Whole) -> float:
    """The half-width of the 95 % interval that this many labels in each of H strata promise, for a mean over the pool."""
    weight = pool / pool.sum()
    with np.errstate(divide="ignore", invalid="ignore"):
        parts = np.where(labels > 0, weight**2 * (1 - labels / pool) * spread**2 / labels, 0.0)
    return Z95 * math.sqrt(float(parts.sum()))


@dataclass(frozen=True)
class Estimated:
    """An estimate with its 95 % interval, in the unit of what was asked, and ``plain``: the mean of the labels as if they were a simple
    random sample. None where nothing can be said. ``effective``: a simple random sample of so many images would tell as much."""

    value: float | None
    low: float | None
    high: float | None
    plain: float | None
    effective: float | None


def estimate_ratio(numerator: Numbers, denominator: Numbers, stratum: Whole, pool: Whole) -> Estimated:
    """A share of the pool from n labelled images, ``numerator`` over ``denominator``: correct ones over all for accuracy, over those of
    a class for recall. ``stratum`` is n, ``pool`` counts the images of each of H strata.

    Stratified means (Cochran 1977, 5.3 and 6.11): no draw is left out, so the estimate of a mean is unbiased whatever the model's
    confidence was. The variance of a stratum takes one image's worth from all others, since a stratum without a mistake may hold one;
    the interval is Wilson's at the effective number of images, with Student's t at Satterthwaite's degrees of freedom. Where all labels
    are alike, it ends where the chance of that falls to 2.5 % whichever strata the others lie in.
    """
    count = np.bincount(stratum, minlength=len(pool))
    if not len(numerator) or (count[pool > 0] == 0).any():
        return Estimated(None, None, None, None, None)
    weight = pool / pool.sum()

    def means(values: Numbers) -> Numbers:
        return np.bincount(stratum, weights=values, minlength=len(pool)) / np.maximum(1, count)

    below, above = float((weight * means(denominator)).sum()), float((weight * means(numerator)).sum())
    plain = float(numerator.sum() / denominator.sum()) if denominator.sum() else None
    if not below:
        return Estimated(None, None, None, plain, None)
    value = above / below
    rest = numerator - value * denominator
    centred = rest - means(rest)[stratum]
    squares = np.bincount(stratum, weights=centred**2, minlength=len(pool))
    overall = float((weight * (squares / np.maximum(1, count) + means(rest) ** 2)).sum())
    left = 1 - count / np.maximum(1, pool)
    if overall <= 1e-15:
        if not left.any():
            return Estimated(value, value, value, plain, None)
        unseen = _unseen(weight, count, left)
        low, high = value * below / (below + unseen), (value * below + unseen) / (below + unseen)
        if (denominator == 1).all():
            low, high = value * (1 - unseen), value + (1 - value) * unseen
        return Estimated(value, low, high, plain, None)
    own = np.where(count > 1, squares / np.maximum(1, count - 1), 0.0)
    variance = ((count - 1) * own + overall) / np.maximum(1, count)
    parts = weight**2 * left * variance / np.maximum(1, count)
    whole = float(parts.sum())
    if whole <= 0:
        return Estimated(value, value, value, plain, None)
    freedom = max(2.0, whole**2 / float((parts**2 / np.maximum(1, count)).sum()))
    inside = min(1 - 1e-9, max(1e-9, value))
    effective = inside * (1 - inside) / (whole / below**2)
    low, high = wilson(min(1.0, max(0.0, value)), effective, float(special.stdtrit(freedom, 0.975)))
    return Estimated(value, low, high, plain, effective)


def estimate_difference(difference: Numbers, stratum: Whole, pool: Whole, same: int) -> Estimated:
    """The mean of differences of right and wrong (-1, 0, 1) over a pool of which ``same`` further images are known to be 0: as a share of
    the way from -1 to 1, so that no end lies outside."""
    found = estimate_ratio((difference + 1) / 2, np.ones(len(difference)), stratum, pool)
    scale = float(pool.sum()) / (float(pool.sum()) + same)

    def back(share: float | None) -> float | None:
        return None if share is None else (2 * share - 1) * scale

    return Estimated(back(found.value), back(found.low), back(found.high), back(found.plain), found.effective)


def _unseen(weight: Numbers, count: Whole, left: Numbers) -> float:
    """The largest share of the pool that may be otherwise although no label was, with a chance of 2.5 %: the worst way to spread it over
    the strata."""
    budget, open_ = -math.log(0.025), left > 0
    low, high = 0.0, float((weight / np.maximum(1, count)).max())
    other = np.zeros(len(weight))
    for _ in range(60):
        price = (low + high) / 2
        other = np.where(open_, np.maximum(0.0, 1 - price * count / np.maximum(1e-300, weight)), 0.0)
        if float((count * -np.log(np.maximum(1e-300, 1 - other))).sum()) > budget:
            low = price
        else:
            high = price
    return float((weight * other).sum())
