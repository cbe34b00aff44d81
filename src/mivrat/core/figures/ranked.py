"""One class against the rest, from its column of probabilities: ROC and precision-recall, their areas, and its calibration."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from scipy.special import expit

# Log-odds this near, for their size, tie: the last bits of a sum tell nothing.
_NEAR = 2.0**-47
# So many points are kept of a curve, those that bend it least left out.
MOST_POINTS = 400


@dataclass(frozen=True)
class OneVersusRest:
    """AUROC, average precision and class-wise calibration gap, class by class.

    The first two are None where a class has no images (AUROC also where it has all of them); the gap is defined always.
    """

    auroc: list[float | None]
    average_precision: list[float | None]
    gap: list[float]

    @property
    def classwise_ece(self) -> float | None:
        """Mean of the gaps over all classes (Kull 2019)."""
        return float(np.mean(self.gap)) if self.gap else None


@dataclass(frozen=True)
class Curves:
    """Points of the ROC curve and of the precision-recall curve, from the highest threshold down."""

    false_positive_rate: NDArray[np.float64]
    recall: NDArray[np.float64]
    precision: NDArray[np.float64]


def one_versus_rest(
    columns: Iterable[NDArray[np.float64]], labels: NDArray[np.integer], bins: int = 15
) -> OneVersusRest:
    """The figures of all classes, from each one's column of N probabilities, in class order."""
    return over_classes([of_class(column, np.flatnonzero(labels == k), bins) for k, column in enumerate(columns)])


def over_classes(found: Sequence[tuple[float | None, float | None, float]]) -> OneVersusRest:
    """The figures of all classes, from those of each."""
    return OneVersusRest([one[0] for one in found], [one[1] for one in found], [one[2] for one in found])


def of_class(
    column: NDArray[np.float64], positive: NDArray[np.integer], bins: int = 15, log_odds: bool = False
) -> tuple[float | None, float | None, float]:
    """AUROC, average precision and calibration gap of one class, from its N probabilities and its images' positions; or from
    N log-odds, which still tell apart what would round to the same probability near 0 and 1, and tie but for their last bits.

    AUROC as the Mann-Whitney statistic with mid-ranks; average precision Σ (R_n - R_{n-1}) P_n over distinct
    thresholds, of which only those at a positive image's score count; Σ n_m/N |share_m - mean p_m| over equal-width bins.
    """
    total, hits = len(column), len(positive)
    if not total:
        return None, None, 0.0
    ordered = np.sort(column)
    own = np.sort(column[positive])
    below, upto = np.searchsorted(ordered, own, "left"), np.searchsorted(ordered, own, "right")
    cuts = np.arange(1, bins) / bins
    if log_odds:
        with np.errstate(invalid="ignore"):
            apart = np.diff(ordered) > _NEAR * np.maximum(1.0, np.abs(ordered[1:]))
        ends = np.append(np.flatnonzero(apart) + 1, total)
        group = np.searchsorted(ends, below, "right")
        below, upto = np.append(0, ends)[group], ends[group]
        ordered, own, cuts = expit(ordered), expit(own), cuts + _NEAR
    auroc = precision = None
    if hits and hits < total:
        midranks = (below + upto + 1) / 2
        auroc = float((midranks.sum() - hits * (hits + 1) / 2) / (hits * (total - hits)))
    if hits:
        first = np.flatnonzero(np.append(True, below[1:] != below[:-1]))
        at_or_above = hits - first
        gained = np.diff(np.append(first, hits))
        precision = float(np.sum(gained / hits * (at_or_above / (total - below[first]))))
    edges = np.searchsorted(ordered, cuts, "right")
    sums = np.add.reduceat(np.append(ordered, 0.0), np.concatenate([[0], edges]))
    sums[np.diff(np.concatenate([[0], edges, [total]])) == 0] = 0.0
    counted = np.bincount(np.searchsorted(cuts, own, "left"), minlength=bins)
    return auroc, precision, float(np.abs(counted - sums).sum() / total)


def auroc(scores: NDArray[np.float64], positive: NDArray[np.bool_]) -> float | None:
    """Area under the ROC curve as the Mann-Whitney statistic, ties by mid-rank; None without both kinds of images."""
    return of_class(scores, np.flatnonzero(positive), 1)[0]


def average_precision(scores: NDArray[np.float64], positive: NDArray[np.bool_]) -> float | None:
    """Sum over distinct thresholds of (R_n - R_{n-1}) P_n; None without positive images."""
    return of_class(scores, np.flatnonzero(positive), 1)[1]


def curves(scores: NDArray[np.float64], positive: NDArray[np.bool_]) -> Curves:
    """Both curves over distinct thresholds, at most about MOST_POINTS points; empty without both kinds of images."""
    hits, total = int(positive.sum()), len(positive)
    if not hits or hits == total:
        return Curves(np.zeros(0), np.zeros(0), np.zeros(0))
    order = np.argsort(-scores, kind="stable")
    last = np.flatnonzero(np.append(scores[order][1:] != scores[order][:-1], True))
    found = np.cumsum(positive[order])[last]
    if len(last) > MOST_POINTS:
        change = np.flatnonzero(np.diff(found, prepend=0) > 0)
        keep = np.union1d(
            change[:: max(1, 2 * len(change) // MOST_POINTS)], np.arange(0, len(last), 2 * len(last) // MOST_POINTS)
        )
        keep = np.union1d(keep, [0, len(last) - 1])
        last, found = last[keep], found[keep]
    return Curves((last + 1 - found) / (total - hits), found / hits, found / (last + 1))


def mean_of(values: Sequence[float | None]) -> float | None:
    """The mean over those that are defined."""
    known = [v for v in values if v is not None]
    return sum(known) / len(known) if known else None
