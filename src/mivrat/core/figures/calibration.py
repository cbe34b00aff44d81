"""Does confidence match correctness? Reliability bins, the calibration errors, and what chance alone would show."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from itertools import pairwise

import numpy as np
from numpy.typing import NDArray

from mivrat.core.figures.exact import central_range
from mivrat.core.figures.intervals import Proportion, proportion

BINS = 15
# So many answers are drawn one by one for the ECE by chance; beyond, so many groups in each bin.
MOST_DRAWN, TOGETHER = 1 << 24, 64


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
    """Reliability bins with ECE, MCE and signed gap (mean confidence - accuracy; positive: overconfident).

    All three are None without any image.
    """

    bins: list[ReliabilityBin]
    ece: float | None
    mce: float | None
    signed_gap: float | None


@dataclass(frozen=True)
class ChanceEce:
    """The ECE that a perfectly calibrated model would show on as many images with the same confidences."""

    median: float
    high: float


def bin_index(confidence: NDArray[np.float64], bins: int) -> NDArray[np.int64]:
    """The bin of each confidence: bin m (from 0) is (m/M, (m+1)/M], and 0 falls in the first.

    ``confidence`` is N probabilities; returns N numbers from 0 to ``bins`` - 1.

    >>> bin_index(np.array([0.05, 0.95, 1.0]), 10).tolist()
    [0, 9, 9]
    """
    edges = np.arange(1, bins) / bins
    return np.searchsorted(edges, confidence, side="left")


def from_sums(
    edges: NDArray[np.float64], counts: NDArray[np.integer], hits: NDArray[np.integer], sums: NDArray[np.float64]
) -> Calibration:
    """Calibration from each bin's images, right ones, and sum of confidences; ``edges`` are one more than the bins.

    ``edges`` is M + 1 probabilities, ``counts``, ``hits`` and ``sums`` are M each.
    """
    total, found, gaps = int(counts.sum()), [], []
    for m in range(len(counts)):
        n = int(counts[m])
        mean = float(sums[m]) / n if n else None
        found.append(ReliabilityBin(float(edges[m]), float(edges[m + 1]), n, mean, proportion(int(hits[m]), n)))
        gaps.append(abs(int(hits[m]) / n - mean) if mean is not None else 0.0)
    if not total:
        return Calibration(found, None, None, None)
    signed = (float(sums.sum()) - int(hits.sum())) / total
    return Calibration(found, float((counts / total) @ np.array(gaps)), max(gaps), signed)


def calibration(confidence: NDArray[np.float64], right: NDArray[np.bool_], bins: int = BINS) -> Calibration:
    """Calibration of N predictions with confidences in [0, 1], bins of equal width (Naeini 2015; Guo 2017).

    >>> round(calibration(np.array([0.9, 0.9]), np.array([True, False])).ece, 3)
    0.4
    """
    return from_sums(np.arange(bins + 1) / bins, *_sums(bin_index(confidence, bins), confidence, right, bins))


def adaptive_calibration(confidence: NDArray[np.float64], right: NDArray[np.bool_], bins: int = BINS) -> Calibration:
    """Calibration with bins of equal count, as nearly as N allows without parting equal confidences; a bin's edges are its
    lowest and highest confidence. Images of one confidence go where the middle one of them belongs; bins that stay empty
    are left out."""
    total = len(confidence)
    if not total:
        return from_sums(np.zeros(2), *(np.zeros(1, np.int64),) * 2, np.zeros(1))
    values, which, counts = np.unique(confidence, return_inverse=True, return_counts=True)
    ends = np.cumsum(counts)
    wanted = (2 * ends - counts) * min(bins, total) // (2 * total)
    begins = np.diff(wanted, prepend=-1) != 0
    starts, bin_of_value = np.flatnonzero(begins), np.cumsum(begins) - 1
    edges = np.append(values[starts], values[-1])
    return from_sums(edges, *_sums(bin_of_value[which], confidence, right, len(starts)))


def _sums(
    where: NDArray[np.int64], confidence: NDArray[np.float64], right: NDArray[np.bool_], bins: int
) -> tuple[NDArray[np.int64], NDArray[np.int64], NDArray[np.float64]]:
    counts = np.bincount(where, minlength=bins).astype(np.int64)
    hits = np.bincount(where, weights=right, minlength=bins).astype(np.int64)
    return counts, hits, np.bincount(where, weights=confidence, minlength=bins).astype(np.float64)


def ece_if_calibrated(
    confidence: NDArray[np.float64], bins: int = BINS, draws: int = 1000, seed: int = 0
) -> ChanceEce | None:
    """Median and 95 % point of the ECE if labels were drawn from the predicted probabilities: then a prediction is right
    with the probability its confidence tells. None without images.

    Of very many images those next to each other by confidence, ``TOGETHER`` of each bin, are drawn as one binomial at their
    mean: their confidences hardly differ, and by as little the variance does. ``confidence`` is N probabilities.
    """
    total = len(confidence)
    if not total:
        return None
    rng, where = np.random.default_rng(seed), bin_index(confidence, bins)
    order = np.argsort(where, kind="stable")
    where, ordered = where[order], confidence[order]
    starts = np.unique(where, return_index=True)[1]
    sums = np.add.reduceat(ordered, starts)
    found = np.empty(draws)
    if total * draws > MOST_DRAWN:
        hits = _drawn_together(ordered, np.append(starts, total), draws, rng)
        found = np.abs(hits - sums).sum(axis=1) / total
        return ChanceEce(float(np.median(found)), float(np.quantile(found, 0.95)))
    step = max(1, (1 << 22) // total)
    for first in range(0, draws, step):
        some = min(step, draws - first)
        right = rng.random((some, total), np.float32) < ordered
        hits = np.add.reduceat(right, starts, axis=1, dtype=np.int32)
        found[first : first + some] = np.abs(hits - sums).sum(axis=1) / total
    return ChanceEce(float(np.median(found)), float(np.quantile(found, 0.95)))


def _drawn_together(
    ordered: NDArray[np.float64], ends: NDArray[np.integer], draws: int, rng: np.random.Generator
) -> NDArray[np.int64]:
    """How many are right in each bin (draws x bins): the confidences of bin m stand from ``ends[m]`` to ``ends[m + 1]``."""
    found = []
    for first, last in pairwise(ends.tolist()):
        inside = np.sort(ordered[first:last])
        cuts = np.unique(np.linspace(0, len(inside), TOGETHER + 1).astype(int))
        means = np.add.reduceat(inside, cuts[:-1]) / np.diff(cuts)
        found.append(rng.binomial(np.diff(cuts), np.clip(means, 0.0, 1.0), (draws, len(means))).sum(axis=1))
    return np.stack(found, axis=1)


def chance_bands(bins: Sequence[ReliabilityBin]) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
    """For each bin the lowest and the highest share right that a calibrated model shows: in at least 95 % of cases all bins lie between
    theirs (Bonferroni). The binomial at the mean confidence, whose spread is that of single confidences or more (Hoeffding 1956).

    NaN for bins without images, and where images belong together: their number is not known then. Returns M lower and M upper
    ends, as shares.
    """
    known = np.array([one.confidence is not None and one.accuracy.units is None for one in bins], bool)
    some = [one for one, is_known in zip(bins, known, strict=True) if is_known]
    counts = np.array([one.count for one in some], np.int64)
    level = 1 - 0.05 / max(1, sum(one.count > 0 for one in bins))
    low, high = central_range(counts, np.array([one.confidence for one in some], float), level)
    bands = np.full((2, len(bins)), np.nan)
    bands[:, known] = low / np.maximum(counts, 1), high / np.maximum(counts, 1)
    return bands[0], bands[1]


def beyond_chance(bins: Sequence[ReliabilityBin]) -> NDArray[np.int64]:
    """For each bin -1 where the model is overconfident beyond what chance allows, 1 where it is less sure, 0 where neither can
    be told, corrected over all bins. Where no band is known, the interval of the share right decides, made as wide. Returns M
    numbers, one for each bin."""
    low, high = chance_bands(bins)
    right = np.array([one.accuracy.value for one in bins], float)
    sure = np.array([one.confidence for one in bins], float)
    shown = sum(one.count > 0 for one in bins)
    far = np.array(
        [one.confidence is not None and one.accuracy.p_against(one.confidence) * shown < 0.05 for one in bins], bool
    )
    unknown = np.isnan(low)
    surer = np.where(unknown, far & (right < sure), right < low)
    less = np.where(unknown, far & (right > sure), right > high)
    return less.astype(np.int64) - surer
