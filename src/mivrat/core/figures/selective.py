"""Selective prediction: how right the answers are when only the surer ones are given."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from scipy.stats import binom

from mivrat.core.figures.intervals import Proportion, proportion

# The search for a threshold: steps of coverage that are tried, coverages it starts from, how often it may find one in vain.
GRID, STARTS, LEVEL = 100, 4, 0.05


@dataclass(frozen=True)
class Selective:
    """Accuracy against coverage: for each distinct confidence, from the highest down, how many images are at least so
    sure and how many of them are right. ``aurc`` is the area under risk-coverage (Geifman 2017): the mean over images of
    the share wrong among those at least as sure; None without images."""

    thresholds: NDArray[np.float64]
    answered: NDArray[np.int64]
    hits: NDArray[np.int64]
    total: int
    aurc: float | None

    def at(self, threshold: float) -> Proportion:
        """The share right of the images with a confidence of at least this."""
        found = int(np.searchsorted(-self.thresholds, -threshold, "right"))
        return proportion(int(self.hits[found - 1]), int(self.answered[found - 1])) if found else proportion(0, 0)

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
        shown = binom.sf(self.hits[grid] - 1, self.answered[grid], accuracy) <= LEVEL / STARTS
        lowest = -1
        for j in range(STARTS):
            first = int(np.searchsorted(self.answered[grid], (j + 1) * self.total / (STARTS + 1)))
            if first < len(grid) and shown[first]:
                failing = np.flatnonzero(~shown[first:])
                lowest = max(lowest, (first + int(failing[0]) if len(failing) else len(grid)) - 1)
        if lowest < 0:
            return None
        at = int(grid[lowest])
        return float(self.thresholds[at]), proportion(int(self.hits[at]), int(self.answered[at]))


def selective(confidence: NDArray[np.float64], right: NDArray[np.bool_]) -> Selective:
    """Selective prediction from N confidences; images of equal confidence are answered together."""
    total = len(confidence)
    if not total:
        return Selective(np.zeros(0), np.zeros(0, np.int64), np.zeros(0, np.int64), 0, None)
    order = np.argsort(-confidence, kind="stable")
    ordered = confidence[order]
    last = np.flatnonzero(np.append(ordered[1:] != ordered[:-1], True))
    answered, hits = last + 1, np.cumsum(right[order], dtype=np.int64)[last]
    new = np.diff(answered, prepend=0)
    return Selective(ordered[last], answered, hits, total, float((new * (1 - hits / answered)).sum() / total))
