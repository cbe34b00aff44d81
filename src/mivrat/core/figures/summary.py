"""All figures of one run in one frozen record."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from mivrat.core.figures import calibration as cal
from mivrat.core.figures import confusion, probability, ranking
from mivrat.core.figures.intervals import Proportion, proportion
from mivrat.core.figures.outcomes import Outcomes


@dataclass(frozen=True)
class Figures:
    """Every figure of one run over its N labelled, scored images. Probability figures are None where N is 0."""

    total: int
    ties: int
    top_k: dict[int, Proportion]
    matrix: confusion.Counts
    classes: list[confusion.ClassFigures]
    averages: confusion.Averages
    log_loss: probability.LogLoss | None
    brier: float | None
    calibration: cal.Calibration
    auroc: list[float | None]
    average_precision: list[float | None]


def sensible_ks(classes: int) -> list[int]:
    """Top-k values that suit so many classes: 1, and 3 or 5 where they are fewer than the classes."""
    return [1] + [k for k in (3, 5) if k < classes]


@dataclass(frozen=True)
class OneVersusRest:
    """AUROC and average precision, class by class; None where a class has no images, or all of them."""

    auroc: list[float | None]
    average_precision: list[float | None]


def one_versus_rest(columns: Iterable[NDArray[np.float64]], labels: NDArray[np.integer]) -> OneVersusRest:
    """AUROC and average precision from each class's column of N probabilities, in class order."""
    auroc: list[float | None] = []
    precision: list[float | None] = []
    for k, column in enumerate(columns):
        positive = np.asarray(labels == k)
        auroc.append(probability.auroc(column, positive) if positive.any() else None)
        precision.append(probability.average_precision(column, positive) if positive.any() else None)
    return OneVersusRest(auroc, precision)


def summarise(found: Outcomes, classes: int, ks: Sequence[int], ranked: OneVersusRest | None = None) -> Figures:
    """All figures of N outcomes over so many classes; those that need more than was told are None.

    Without ``ranked`` AUROC and average precision are lists of None: they cost a sort per class. Where only predictions
    are known there is no log loss, no Brier score and, beyond top-1, no top-k accuracy.
    """
    total = len(found.labels)
    right = found.predicted == found.labels
    matrix = confusion.confusion_matrix(found.labels, found.predicted, classes)
    whole = total > 0 and found.complete
    sure = ~np.isnan(found.confidence)
    nothing: list[float | None] = [None] * classes
    return Figures(
        total=total,
        ties=int(np.count_nonzero(found.tied)),
        top_k={
            k: proportion(int(right.sum()), total) if k == 1 else ranking.top_k(found.rank, k)
            for k in ks
            if k == 1 or whole or not total
        },
        matrix=matrix,
        classes=confusion.class_figures(matrix),
        averages=confusion.averages(matrix),
        log_loss=probability.log_loss(found.own) if whole else None,
        brier=probability.brier(found.own, found.squares) if whole else None,
        calibration=cal.calibration(found.confidence[sure], right[sure]),
        auroc=ranked.auroc if ranked else nothing,
        average_precision=ranked.average_precision if ranked else nothing,
    )
