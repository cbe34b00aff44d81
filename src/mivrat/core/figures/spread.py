"""How sure a model is when it is right, and when it is wrong: two distributions of confidence."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from mivrat.core.figures.calibration import bin_index

BINS = 40
# Where the largest count is so many times the smallest, the axis is logarithmic: else the small ones cannot be seen.
MOST_LINEAR = 40


@dataclass(frozen=True)
class Spread:
    """Images by confidence in ``BINS`` bins of equal width, right and wrong ones, and the median confidence of both."""

    right: NDArray[np.int64]
    wrong: NDArray[np.int64]
    medians: tuple[float | None, float | None]

    @property
    def logarithmic(self) -> bool:
        counts = np.concatenate([self.right, self.wrong])
        some = counts[counts > 0]
        return bool(len(some)) and int(some.max()) > MOST_LINEAR * int(some.min())


def spread(confidence: NDArray[np.float64], right: NDArray[np.bool_]) -> Spread:
    """The distribution of N confidences (NaN: unknown) of right and of wrong answers."""
    known = ~np.isnan(confidence)
    confidence, right = confidence[known], right[known]
    counts, medians = [], []
    for some in (right, ~right):
        counts.append(np.bincount(bin_index(confidence[some], BINS), minlength=BINS))
        medians.append(float(np.median(confidence[some])) if some.any() else None)
    return Spread(counts[0], counts[1], (medians[0], medians[1]))
