"""Does confidence match correctness? Reliability bins and the calibration errors that follow from them."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from mivrat.core.figures.intervals import Proportion, proportion


@dataclass(frozen=True)
class ReliabilityBin:
    """The images with confidence in (low, high]; mean confidence is None where there are none."""

    low: float
    high: float
    count: int
    confidence: float | None
    accuracy: Proportion


@dataclass(frozen=True)
class Calibration:
    """Equal-width reliability bins with ECE, MCE and signed gap (mean confidence - accuracy; positive: overconfident).

    All three are None without any image.
    """

    bins: list[ReliabilityBin]
    ece: float | None
    mce: float | None
    signed_gap: float | None


def bin_index(confidence: NDArray[np.float64], bins: int) -> NDArray[np.int64]:
    """The bin of each confidence: bin m (from 0) is (m/M, (m+1)/M], and 0 falls in the first."""
    edges = np.arange(1, bins) / bins
    return np.searchsorted(edges, confidence, side="left")


def calibration(confidence: NDArray[np.float64], right: NDArray[np.bool_], bins: int = 15) -> Calibration:
    """Calibration of N predictions with confidences in [0, 1] (Naeini 2015; Guo 2017)."""
    where = bin_index(confidence, bins)
    counts = np.bincount(where, minlength=bins)
    sums = np.bincount(where, weights=confidence, minlength=bins)
    hits = np.bincount(where, weights=right, minlength=bins).astype(np.int64)
    found, gaps = [], []
    for m in range(bins):
        n = int(counts[m])
        mean = float(sums[m]) / n if n else None
        found.append(ReliabilityBin(m / bins, (m + 1) / bins, n, mean, proportion(int(hits[m]), n)))
        gaps.append(abs(int(hits[m]) / n - mean) if mean is not None else 0.0)
    if not len(confidence):
        return Calibration(found, None, None, None)
    weights = counts / len(confidence)
    return Calibration(found, float(weights @ np.array(gaps)), max(gaps), float(confidence.mean() - right.mean()))
