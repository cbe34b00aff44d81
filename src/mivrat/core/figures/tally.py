"""All that most figures need of some images, as counts and exact sums that can be added: the result never depends on how
the images were split into batches."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from mivrat.core.figures import confusion, probability
from mivrat.core.figures.calibration import BINS, Calibration, bin_index, from_sums
from mivrat.core.figures.intervals import Proportion, proportion
from mivrat.core.figures.outcomes import Outcomes

# Sums are of whole numbers of this size, so that adding them in any order gives the same. Each value is taken in two parts
# that whole numbers of 64 bits can hold.
UNIT = 2.0**-80
_COARSE = 2.0**-36
_PIECE = 1 << 20


def _exact_sum(values: NDArray[np.float64]) -> int:
    """The sum in units, as a whole number without bound."""
    total = 0
    for first in range(0, len(values), _PIECE):
        some = values[first : first + _PIECE]
        coarse = np.rint(some / _COARSE)
        fine = np.rint((some - coarse * _COARSE) / UNIT)
        total += int(coarse.astype(np.int64).sum()) * round(_COARSE / UNIT) + int(fine.astype(np.int64).sum())
    return total


@dataclass(frozen=True)
class Tally:
    """Counts over some images. ``ranks[r]`` counts the images whose label has rank r (0: not known).

    ``losses``, ``errors`` and ``confidences`` (bin by bin) are sums in units of 2^-80. ``unscored`` counts images of which
    only the prediction is known, ``unsure`` those without confidence.
    """

    matrix: confusion.Counts
    ranks: NDArray[np.int64]
    ties: int
    unscored: int
    unsure: int
    clipped: int
    losses: int
    errors: int
    bin_counts: NDArray[np.int64]
    bin_hits: NDArray[np.int64]
    confidences: tuple[int, ...]

    @classmethod
    def of(cls, found: Outcomes, classes: int, bins: int = BINS) -> Tally:
        """The tally of N outcomes."""
        scored, sure = ~np.isnan(found.own), ~np.isnan(found.confidence)
        own, confidence = found.own[scored], found.confidence[sure]
        right = (found.predicted == found.labels)[sure]
        where = bin_index(confidence, bins)
        return cls(
            confusion.confusion_matrix(found.labels, found.predicted, classes),
            np.bincount(found.rank, minlength=classes + 1),
            int(np.count_nonzero(found.tied)),
            int(np.count_nonzero(~scored)),
            int(np.count_nonzero(~sure)),
            int(np.count_nonzero(own < probability.SMALLEST)),
            _exact_sum(probability.losses(own)),
            _exact_sum(probability.squared_errors(own, found.squares[scored])),
            np.bincount(where, minlength=bins),
            np.bincount(where, weights=right, minlength=bins).astype(np.int64),
            tuple(_exact_sum(confidence[where == m]) for m in range(bins)),
        )

    def __add__(self, other: Tally) -> Tally:
        return Tally(
            self.matrix + other.matrix,
            self.ranks + other.ranks,
            self.ties + other.ties,
            self.unscored + other.unscored,
            self.unsure + other.unsure,
            self.clipped + other.clipped,
            self.losses + other.losses,
            self.errors + other.errors,
            self.bin_counts + other.bin_counts,
            self.bin_hits + other.bin_hits,
            tuple(a + b for a, b in zip(self.confidences, other.confidences, strict=True)),
        )

    @property
    def total(self) -> int:
        return int(self.ranks.sum())

    @property
    def complete(self) -> bool:
        """Whether there are images, and every one's whole row of scores is known."""
        return self.total > 0 and not self.unscored

    def top_k(self, ks: Sequence[int]) -> dict[int, Proportion]:
        """Top-k accuracy; beyond top-1 only where all ranks are known."""
        right = int(np.trace(self.matrix))
        return {
            k: proportion(right if k == 1 else int(self.ranks[1 : k + 1].sum()), self.total)
            for k in ks
            if k == 1 or not self.unscored
        }

    def log_loss(self) -> probability.LogLoss | None:
        return probability.LogLoss(self.losses * UNIT / self.total, self.clipped) if self.complete else None

    def brier(self) -> float | None:
        return self.errors * UNIT / self.total if self.complete else None

    def calibration(self) -> Calibration:
        """Equal-width reliability bins and what follows from them, over the images whose confidence is known."""
        bins = len(self.bin_counts)
        sums = np.array([units * UNIT for units in self.confidences])
        return from_sums(np.arange(bins + 1) / bins, self.bin_counts, self.bin_hits, sums)
