"""Selective prediction: how right the answers are when only the surer ones are given."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING

import numpy as np
from numpy.typing import NDArray

from mivrat.core.base.lazy_module import LazyModule
from mivrat.core.figures.intervals import Proportion, proportion
from mivrat.core.figures.units import share

if TYPE_CHECKING:
    from scipy import special
else:
    special = LazyModule("scipy.special")

# The search for a threshold: steps of coverage that are tried, coverages it starts from, how often it may find one in vain.
GRID, STARTS, LEVEL = 100, 4, 0.05


@dataclass(frozen=True)
class Selective:
    """Accuracy against coverage: for each distinct confidence, from the highest down, how many images are at least so
    sure and how many of them are right. ``aurc`` is the area under risk-coverage (Geifman 2017): the mean over images of
    the share wrong among those at least as sure; None without images. ``right`` and ``units`` are those of the images, the
    surest first; the latter only where images belong together."""

    thresholds: NDArray[np.float64]
    answered: NDArray[np.int64]
    hits: NDArray[np.int64]
    total: int
    aurc: float | None
    right: NDArray[np.bool_] | None = None
    units: NDArray[np.int64] | None = None

    def at(self, threshold: float) -> Proportion:
        """The share right of the images with a confidence of at least this."""
        return self._share(int(np.searchsorted(-self.thresholds, -threshold, "right")) - 1)

    def _share(self, at: int) -> Proportion:
        """The share right from the threshold with this index on; below 0, of none."""
        if at < 0:
            return proportion(0, 0)
        if self.units is None or self.right is None:
            return proportion(int(self.hits[at]), int(self.answered[at]))
        return share(self.right[: self.answered[at]], self.units[: self.answered[at]])

    def _shown(self, at: int, accuracy: float, level: float) -> bool:
        """Whether the accuracy from that threshold on is above a target, at this one-sided level: by the exact binomial test,
        or over units by the lower end of their interval."""
        n, k = int(self.answered[at]), int(self.hits[at])
        if self.units is None or self.right is None:
            return bool(special.bdtrc(k - 1, n, accuracy) <= level)
        low = share(self.right[:n], self.units[:n], 2 * level).low
        return low is not None and low >= accuracy

    def lowest_for(self, accuracy: float) -> tuple[float, Proportion] | None:
        """The lowest threshold at which the accuracy is shown to reach a target; None where none is.

        The bound holds for the search: where no threshold truly reaches the target, one is found in at most 5 % of such
        samples. From each of STARTS coverages thresholds are tried in a fixed order, from fewer answers to more, by the
        exact binomial test, until one fails; the starts share the 5 % (Angelopoulos 2021, fixed-sequence testing with
        several starts). What is tried depends on the confidences alone, never on which answers are right.
        """
        if not self.total:
            return None
        grid = np.unique(np.searchsorted(self.answered, np.arange(1, GRID + 1) * self.total / GRID))
        grid = grid[grid < len(self.answered)]
        shown = np.array([self._shown(int(at), accuracy, LEVEL / STARTS) for at in grid], bool)
        lowest = -1
        for j in range(STARTS):
            first = int(np.searchsorted(self.answered[grid], (j + 1) * self.total / (STARTS + 1)))
            if first < len(grid) and shown[first]:
                failing = np.flatnonzero(~shown[first:])
                lowest = max(lowest, (first + int(failing[0]) if len(failing) else len(grid)) - 1)
        if lowest < 0:
            return None
        at = int(grid[lowest])
        return float(self.thresholds[at]), self._share(at)


def selective(
    confidence: NDArray[np.float64], right: NDArray[np.bool_], units: NDArray[np.int64] | None = None
) -> Selective:
    """Selective prediction from N confidences; images of equal confidence are answered together. ``units`` numbers what
    belongs together."""
    total = len(confidence)
    if not total:
        return Selective(np.zeros(0), np.zeros(0, np.int64), np.zeros(0, np.int64), 0, None)
    order = np.argsort(-confidence, kind="stable")
    ordered = confidence[order]
    last = np.flatnonzero(np.append(ordered[1:] != ordered[:-1], True))
    answered, hits = last + 1, np.cumsum(right[order], dtype=np.int64)[last]
    new = np.diff(answered, prepend=0)
    aurc = float((new * (1 - hits / answered)).sum() / total)
    by_unit = None if units is None else units[order]
    return Selective(ordered[last], answered, hits, total, aurc, right[order], by_unit)
