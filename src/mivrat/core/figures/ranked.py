"""One class against the rest, from its column of probabilities: ROC and precision-recall, their areas, and its calibration."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING, NamedTuple

import numpy as np
from numpy.typing import NDArray

from mivrat.core.base.lazy_module import LazyModule
from mivrat.core.figures.intervals import wilson

if TYPE_CHECKING:
    from scipy import special
else:
    special = LazyModule("scipy.special")

# Figures of a class that take its whole column of scores.
RANKED = ("auroc", "average_precision")
# Probabilities and log-odds this near, for their size, tie: the last bits of a sum tell nothing.
NEAR = 2.0**-47
# So many points are kept of a curve, those that bend it least left out.
MOST_POINTS = 400


@dataclass(frozen=True)
class OneVersusRest:
    """AUROC, average precision and class-wise calibration gap, class by class.

    The first two are None where a class has no images (AUROC also where it has all of them); the gap is defined always. ``spread`` is
    the variance, over a class's own images, of the share of the others that stand below each (NaN where it is not known).
    """

    auroc: list[float | None]
    average_precision: list[float | None]
    gap: list[float]
    spread: list[float]

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


def images_by_label(labels: NDArray[np.integer], classes: int) -> list[NDArray[np.integer]]:
    """The positions of the images of each class, in class order.

    ``labels`` is N classes, -1 for none; returns K arrays of positions.
    """
    ends = np.cumsum(np.bincount(labels, minlength=classes))[:-1]
    return np.split(np.argsort(labels, kind="stable"), ends)


class OfClass(NamedTuple):
    """What ``OneVersusRest`` holds, of one class."""

    auroc: float | None
    average_precision: float | None
    gap: float
    spread: float


def over_classes(found: Sequence[OfClass]) -> OneVersusRest:
    """The figures of all classes, from those of each."""
    return (
        OneVersusRest(*(list(column) for column in zip(*found, strict=True)))
        if found
        else OneVersusRest([], [], [], [])
    )


def of_class(
    column: NDArray[np.float64], positive: NDArray[np.integer], bins: int = 15, log_odds: bool = False
) -> OfClass:
    """AUROC, average precision and calibration gap of one class, from its N probabilities and its images' positions; or from
    N log-odds, which still tell apart what would round to the same probability near 0 and 1, and tie but for their last bits.

    AUROC as the Mann-Whitney statistic with mid-ranks; average precision Σ (R_n - R_{n-1}) P_n over distinct
    thresholds, of which only those at a positive image's score count; Σ n_m/N |share_m - mean p_m| over equal-width bins.
    """
    total = len(column)
    if not total:
        return OfClass(None, None, 0.0, np.nan)
    ordered, own = np.sort(column), np.sort(column[positive])
    auroc, precision, spread = areas(ordered, own, total, log_odds=log_odds)
    cuts = np.arange(1, bins) / bins
    if log_odds:
        ordered, own, cuts = special.expit(ordered), special.expit(own), cuts + NEAR
    edges = np.searchsorted(ordered, cuts, "right")
    sums = np.add.reduceat(np.append(ordered, 0.0), np.concatenate([[0], edges]))
    sums[np.diff(np.concatenate([[0], edges, [total]])) == 0] = 0.0
    counted = np.bincount(np.searchsorted(cuts, own, "left"), minlength=bins)
    return OfClass(auroc, precision, float(np.abs(counted - sums).sum() / total), spread)


def _something_near(
    ordered: NDArray[np.float64], own: NDArray[np.float64], below: NDArray[np.integer], upto: NDArray[np.integer]
) -> bool:
    """Whether something beside ``own``, which has these places in ``ordered``, lies so near that it ties."""
    near = NEAR * np.maximum(1.0, np.abs(own))
    before, after = ordered[np.maximum(below - 1, 0)], ordered[np.minimum(upto, len(ordered) - 1)]
    with np.errstate(invalid="ignore"):
        return bool((((own - before <= near) & (below > 0)) | ((after - own <= near) & (upto < len(ordered)))).any())


def areas(
    ordered: NDArray[np.float64], own: NDArray[np.float64], total: int, *, log_odds: bool
) -> tuple[float | None, float | None, float]:
    """AUROC, average precision and the spread of ``OneVersusRest``, from the scores of one class's images (``own``) and of all
    images (``ordered``), both in order; of ``total`` images those may be left out that lie below all of ``own``. ``ordered``
    and ``own`` are scores of any scale, ascending."""
    hits, left_out = len(own), total - len(ordered)
    below, upto = np.searchsorted(ordered, own, "left"), np.searchsorted(ordered, own, "right")
    near = NEAR * np.maximum(1.0, np.abs(own))
    if (
        log_odds
        and hits
        and (
            (np.searchsorted(ordered, own - near, "left") != below).any()
            or (np.searchsorted(ordered, own + near, "right") != upto).any()
        )
    ):  # something lies so near that it ties, and what lies near that as well
        with np.errstate(invalid="ignore"):
            apart = np.diff(ordered) > NEAR * np.maximum(1.0, np.abs(ordered[1:]))
        ends = np.append(np.flatnonzero(apart) + 1, len(ordered))
        group = np.searchsorted(ends, below, "right")
        below, upto = np.append(0, ends)[group], ends[group]
    below, upto = below + left_out, upto + left_out
    auroc = precision = None
    spread = np.nan
    if hits and hits < total:
        midranks = (below + upto + 1) / 2
        if hits > 1:  # the share of other images below each: its rank among all less that among its own
            first_own, last_own = np.searchsorted(below, below, "left"), np.searchsorted(below, below, "right")
            spread = float(((midranks - (first_own + last_own + 1) / 2) / (total - hits)).var(ddof=1))
        auroc = float((midranks.sum() - hits * (hits + 1) / 2) / (hits * (total - hits)))
    if hits:
        first = np.flatnonzero(np.append(True, below[1:] != below[:-1]))
        at_or_above = hits - first
        gained = np.diff(np.append(first, hits))
        precision = float(np.sum(gained / hits * (at_or_above / (total - below[first]))))
    return auroc, precision, spread


# An interval takes so many images of either kind.
LEAST_OF_EITHER = 5
# So many images as an exponential model of the scores expects them count beside those seen (Hanley and McNeil 1982).
_UNSEEN = 2.0


def auroc_ends(value: float | None, spread: float, positive: int, negative: int) -> tuple[float, float] | None:
    """The 95 % interval of an AUROC of so many images of the class and others; None where it is undefined or they are too few.

    The variance over the class's own images as DeLong (1988), leaning a little on that of Hanley and McNeil (1982), which also gives the
    part of the others; as an effective number of images, Wilson's interval at it, with Student's t.
    """
    if value is None or min(positive, negative) < LEAST_OF_EITHER:
        return None
    of_own, of_others = value / (2 - value) - value**2, 2 * value**2 / (1 + value) - value**2
    own = (positive * (0.0 if np.isnan(spread) else spread) + _UNSEEN * of_own) / (positive + _UNSEEN)
    variance, fewer = own / positive + of_others / negative, float(min(positive, negative))
    effective = min(3 * fewer, value * (1 - value) / variance) if 0 < value < 1 and variance > 0 else fewer
    return wilson(value, max(1.0, effective), float(special.stdtrit(fewer, 0.975)))


def average_precision_ends(value: float | None, positive: int, negative: int) -> tuple[float, float] | None:
    """The 95 % interval of an average precision: Wilson's at the number of the class's images (as Boyd 2013, on the logit); None where it is
    undefined or there are too few."""
    if value is None or min(positive, negative) < LEAST_OF_EITHER:
        return None
    return wilson(value, float(positive))


def auroc(scores: NDArray[np.float64], positive: NDArray[np.bool_]) -> float | None:
    """Area under the ROC curve as the Mann-Whitney statistic, ties by mid-rank; None without both kinds of images.

    Both are N; scores of any scale.

    >>> auroc(np.array([0.9, 0.4, 0.6, 0.1]), np.array([True, True, False, False]))
    0.75
    """
    return of_class(scores, np.flatnonzero(positive), 1).auroc


def average_precision(scores: NDArray[np.float64], positive: NDArray[np.bool_]) -> float | None:
    """Sum over distinct thresholds of (R_n - R_{n-1}) P_n; None without positive images. Both are N; scores of any scale.

    >>> round(average_precision(np.array([0.9, 0.4, 0.6, 0.1]), np.array([True, True, False, False])), 4)
    0.8333
    """
    return of_class(scores, np.flatnonzero(positive), 1).average_precision


def curves(scores: NDArray[np.float64], positive: NDArray[np.bool_]) -> Curves:
    """Both curves over distinct thresholds, at most about MOST_POINTS points; empty without both kinds of images.

    Both are N; scores of any scale.
    """
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
    """The mean over those that are defined.

    >>> mean_of([0.5, None, 1.0])
    0.75
    """
    known = [v for v in values if v is not None]
    return sum(known) / len(known) if known else None
