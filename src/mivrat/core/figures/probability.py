"""Figures of the labelled class's probability: log loss and Brier score."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

SMALLEST = 2.0**-52


@dataclass(frozen=True)
class LogLoss:
    """Mean of -ln p(label); ``clipped`` counts the images whose p was raised to 2^-52."""

    value: float
    clipped: int


def losses(own: NDArray[np.float64]) -> NDArray[np.float64]:
    """-ln p of the labelled class in nats, image by image, p clipped to [2^-52, 1]. ``own`` is N probabilities; returns N.

    >>> losses(np.array([1.0, 0.5])).round(4).tolist()
    [0.0, 0.6931]
    """
    return 0.0 - np.log(np.clip(own, SMALLEST, 1.0))  # of 1 it is 0, not −0


def squared_errors(own: NDArray[np.float64], squares: NDArray[np.float64]) -> NDArray[np.float64]:
    """The sum over classes of (p - y)^2 (Brier 1950), from 0 to 2, image by image.

    ``own`` is p of the label, ``squares`` the sum of p squared over the classes: the sum is squares - 2 own + 1. Both are N;
    returns N.

    >>> squared_errors(np.array([0.5]), np.array([0.5])).tolist()
    [0.5]
    """
    return np.maximum(0.0, squares - 2 * own + 1)
