"""Figures of probabilities: log loss, Brier score, and one-versus-rest ranking quality."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from scipy.stats import rankdata

SMALLEST = 2.0**-52


@dataclass(frozen=True)
class LogLoss:
    """Mean of -ln p(label); ``clipped`` counts the images whose p was raised to 2^-52."""

    value: float
    clipped: int


def log_loss(own: NDArray[np.float64]) -> LogLoss:
    """Log loss in nats from the labelled class's p of N >= 1 images, p clipped to [2^-52, 1]."""
    return LogLoss(float(-np.log(np.clip(own, SMALLEST, 1.0)).mean()), int(np.count_nonzero(own < SMALLEST)))


def brier(own: NDArray[np.float64], squares: NDArray[np.float64]) -> float:
    """Mean over images of the sum over classes of (p - y)^2 (Brier 1950), from 0 to 2.

    ``own`` is p of the label, ``squares`` the sum of p squared over the classes: the sum is squares - 2 own + 1.
    """
    return float((squares - 2 * own + 1).mean())


def auroc(scores: NDArray[np.float64], positive: NDArray[np.bool_]) -> float | None:
    """Area under the ROC curve as the Mann-Whitney statistic, ties by mid-rank; None without both kinds of images."""
    hits = int(positive.sum())
    misses = len(positive) - hits
    if not hits or not misses:
        return None
    return float((rankdata(scores)[positive].sum() - hits * (hits + 1) / 2) / (hits * misses))


def average_precision(scores: NDArray[np.float64], positive: NDArray[np.bool_]) -> float | None:
    """Sum over distinct thresholds of (R_n - R_{n-1}) P_n; None without positive images."""
    if not positive.any():
        return None
    order = np.argsort(-scores, kind="stable")
    ordered, hit = scores[order], positive[order]
    last = np.flatnonzero(np.append(ordered[1:] != ordered[:-1], True))
    hits = np.cumsum(hit)[last].astype(float)
    precision, recall = hits / (last + 1), hits / hits[-1]
    return float(np.sum(np.diff(recall, prepend=0.0) * precision))
