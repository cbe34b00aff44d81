"""How many images it takes: for an interval so narrow, or for a criterion to be met or missed rather than left open."""

from __future__ import annotations

from math import ceil, isfinite
from typing import TYPE_CHECKING

import numpy as np
from numpy.typing import NDArray

from mivrat.core.base.lazy_module import LazyModule
from mivrat.core.figures.intervals import Z95, wilson

if TYPE_CHECKING:
    from scipy import special
else:
    special = LazyModule("scipy.special")

# Beyond so many images nobody is told to collect them.
MOST = 1_000_000
POWER = 0.8
# Of the variance that an average over classes may have, so much is aimed at: what it is estimated from is itself uncertain. In simulation
# the limit is then decided in 76 to 89 % of studies, without it in 55 to 77 %.
MIX_MARGIN = 0.8
# The 80 % point of the standard normal distribution.
_Z80 = 0.8416212335729143
_PIECE = 8192


def for_half_width(share: float, half: float) -> int | None:
    """The least number of images whose Wilson interval at this share is no wider than ``half`` to either side (half its width);
    None beyond MOST. ``0 <= share <= 1``, ``half > 0``.

    >>> for_half_width(0.5, 0.1)
    93
    """
    low, high = 1, 1
    while _half(share, high) > half:
        low, high = high, high * 2
        if high > 2 * MOST:
            return None
    while low < high:
        middle = (low + high) // 2
        low, high = (low, middle) if _half(share, middle) <= half else (middle + 1, high)
    return low if low <= MOST else None


def _half(share: float, total: int) -> float:
    ends = wilson(share, total)
    return (ends[1] - ends[0]) / 2


def to_decide(share: float, limit: float, worth: float = 1.0) -> int | None:
    """The least number of images at which, if ``share`` is the true one, its whole Wilson interval lies on that side of ``limit``
    with probability 0.8 (exact binomial); None where that is never so, or takes more than MOST.

    ``worth`` (over 0, up to 1): what one image counts for where images belong together, the effective N over N; the number is
    then of that many more images.

    Wilson's lower end is at or above c just where k/n >= c + z sqrt(c (1 - c) / n): it inverts the score test (Wilson 1927).

    >>> to_decide(0.9, 0.8)
    100
    """
    if share == limit or not (0 <= share <= 1 and 0 < limit < 1):
        return None
    first = 1
    while first * worth <= MOST:
        n = np.arange(first, first + _PIECE, dtype=float)
        slack = Z95 * np.sqrt(limit * (1 - limit) / n)
        if share > limit:
            k = np.ceil(n * (limit + slack) - 1e-9)
            likely = np.where(k <= n, special.bdtrc(k - 1, n.astype(np.int64), share), 0.0)
            likely = np.where(k <= 0, 1.0, likely)
        else:
            k = np.floor(n * (limit - slack) + 1e-9)
            likely = np.where(k >= 0, special.bdtr(np.maximum(k, 0), n.astype(np.int64), share), 0.0)
        found = np.flatnonzero(likely >= POWER)
        if len(found):
            least = ceil((first + int(found[0])) / worth)
            return least if least <= MOST else None
        first += _PIECE
    return None


def best_mix(support: NDArray[np.integer], hits: NDArray[np.integer], shrink: float) -> NDArray[np.int64] | None:
    """The fewest more images, per class, that shrink the variance of the mean recall over classes to ``shrink`` times what it is.

    It is now that of ``support`` images a class, ``hits`` of them right; the result aims lower by MIX_MARGIN. Images go to classes in
    proportion to each one's standard deviation, none taken away (Neyman 1934). None where that takes more than MOST.

    A class's share is taken as (hits + 1) / (support + 2), so that one all right is not taken to be without doubt.
    """
    n = np.asarray(support, float)
    share = (np.asarray(hits, float) + 1) / (n + 2)
    spread = np.sqrt(share * (1 - share))
    wanted = MIX_MARGIN * shrink * float((spread**2 / n).sum())

    def variance(level: float) -> float:
        return float((spread**2 / np.maximum(n, level * spread)).sum())

    low, high = 0.0, float((n / spread).max())
    while variance(high) > wanted:
        high *= 2
        if high * spread.sum() > MOST:
            return None
    for _ in range(60):
        middle = (low + high) / 2
        low, high = (low, middle) if variance(middle) <= wanted else (middle, high)
    return np.maximum(0, np.ceil(high * spread - n - 1e-9)).astype(np.int64)


def to_decide_mean(value: float, low: float, high: float, limit: float, total: int) -> int | None:
    """About how many images it takes for an interval that shrinks with the root of their number to lie on one side of ``limit`` with
    probability 0.8, from that of ``total`` images; None where that is never so or takes more than MOST."""
    spread, distance = (high - low) / (2 * Z95), abs(value - limit)
    if not distance or not isfinite(spread):
        return None
    found = ceil(total * ((Z95 + _Z80) * spread / distance) ** 2)
    return found if found <= MOST else None
