"""All figures of one run in one frozen record."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from mivrat.core.figures import calibration as cal
from mivrat.core.figures import confusion, probability, ranking
from mivrat.core.figures.intervals import Proportion


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


def summarise(
    scores: NDArray[np.float64],
    probabilities: NDArray[np.float64],
    labels: NDArray[np.integer],
    ks: Sequence[int],
    one_versus_rest: bool = True,
) -> Figures:
    """All figures from ranking scores and probabilities (both N x K, finite) and N labels.

    ``one_versus_rest=False`` leaves AUROC and average precision out (lists of None): they cost a sort per class.
    """
    total, classes = scores.shape
    predicted = ranking.predictions(scores) if total else np.zeros(0, np.int64)
    ranks = ranking.label_ranks(scores, labels)
    matrix = confusion.confusion_matrix(labels, predicted, classes)
    auroc: list[float | None] = [None] * classes
    precision: list[float | None] = [None] * classes
    if one_versus_rest and total:
        for k in range(classes):
            positive = np.asarray(labels == k)
            if positive.any():
                column = np.ascontiguousarray(probabilities[:, k])
                auroc[k], precision[k] = (
                    probability.auroc(column, positive),
                    probability.average_precision(column, positive),
                )
    return Figures(
        total=total,
        ties=ranking.top_ties(scores),
        top_k={k: ranking.top_k(ranks, k) for k in ks},
        matrix=matrix,
        classes=confusion.class_figures(matrix),
        averages=confusion.averages(matrix),
        log_loss=probability.log_loss(probabilities, labels) if total else None,
        brier=probability.brier(probabilities, labels) if total else None,
        calibration=cal.calibration(probabilities[np.arange(total), predicted], predicted == labels),
        auroc=auroc,
        average_precision=precision,
    )
