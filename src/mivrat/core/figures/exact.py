"""Exact probabilities of counts: binomial and hypergeometric, without the library of distributions, which takes a second to load."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np
from numpy.typing import NDArray

from mivrat.core.base.lazy_module import LazyModule

if TYPE_CHECKING:
    from scipy import special
else:
    special = LazyModule("scipy.special")

Numbers = NDArray[np.float64]


def at_most(k: NDArray[np.integer] | int, n: NDArray[np.integer] | int, p: float | Numbers) -> Numbers:
    """The probability of k successes or fewer in n trials, for whole numbers, each an array or not; 0 below none.

    Arrays are of one shape, which the result has too.

    >>> round(float(at_most(1, 6, 0.5)), 6)
    0.109375
    """
    k, n = np.asarray(k, np.int64), np.asarray(n, np.int64)
    return np.where(k < 0, 0.0, special.bdtr(np.clip(k, 0, n).astype(float), n, p))


def more_than(k: int, n: int, p: float) -> float:
    """The probability of more than k successes in n trials; 1 below none.

    >>> round(more_than(4, 6, 0.5), 6)
    0.109375
    """
    return 1.0 if k < 0 else 0.0 if k >= n else float(special.bdtrc(float(k), n, p))


def _choose(n: NDArray[np.integer] | int, k: NDArray[np.integer]) -> Numbers:
    """The logarithm of the number of ways to take k of n."""
    n, k = np.asarray(n, float), np.asarray(k, float)
    return np.asarray(-np.log1p(n) - special.betaln(n - k + 1, k + 1))


def splits(whole: int, marked: int, taken: int) -> tuple[NDArray[np.int64], Numbers]:
    """Of ``whole`` things, ``marked`` of them so, some are taken: how many marked ones can be among these, and how likely each
    count is (hypergeometric). Returns the C possible counts and their C probabilities.

    >>> splits(4, 2, 2)[0].tolist()
    [0, 1, 2]
    """
    ways = np.arange(max(0, taken + marked - whole), min(taken, marked) + 1)
    chance = np.exp(_choose(marked, ways) + _choose(whole - marked, taken - ways) - _choose(whole, np.array(taken)))
    return ways, chance


def central_range(n: NDArray[np.integer], p: Numbers, level: float = 0.95) -> tuple[Numbers, Numbers]:
    """The least and the most successes of n trials (arrays alike) that are not in one of the two tails, each of which has at
    most half of what ``level`` leaves: for every k below the first, P(X <= k) is less than that, and so above the second. ``n``
    and ``p`` are of one shape, which both results have too."""
    n, p = np.asarray(n, np.int64), np.asarray(p, float)
    tail = (1 - level) / 2
    found = []
    for wanted in (tail, 1 - tail):
        # The least k with P(X <= k) >= wanted, by halving.
        low, high = np.full(n.shape, -1), n.copy()
        while (high - low > 1).any():
            middle = (low + high) // 2
            enough = at_most(middle, n, p) >= wanted
            high, low = (
                np.where(enough & (high - low > 1), middle, high),
                np.where(~enough & (high - low > 1), middle, low),
            )
        found.append(high.astype(float))
    return found[0], found[1]
