"""Selective prediction: how right the answers are when only the surer ones are given."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from mivrat.core.figures.intervals import Proportion, proportion


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
        """The lowest threshold at which the accuracy's Wilson lower bound reaches a target; None where none does."""
        for threshold, n, k in zip(self.thresholds[::-1], self.answered[::-1], self.hits[::-1], strict=True):
            found = proportion(int(k), int(n))
            if found.low is not None and found.low >= accuracy:
                return float(threshold), found
        return None


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
