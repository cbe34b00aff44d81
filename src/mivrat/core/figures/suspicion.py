"""Which labels are suspected to be wrong: confident learning (Northcutt 2021)."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray


@dataclass(frozen=True)
class Suspects:
    """Images whose label is suspected, the most suspicious first: their positions, the class that is likelier, and the
    normalised margin p(label) - max p(other class), between -1 and 1."""

    positions: NDArray[np.int64]
    likely: NDArray[np.int64]
    margins: NDArray[np.float64]


def self_confidence(own: NDArray[np.float64], labels: NDArray[np.integer], classes: int) -> NDArray[np.float64]:
    """Each class's threshold: the mean of p(label) over the images with that label; infinite without any.

    ``own`` is p(label) of N images, ``labels`` their classes, N; returns K.
    """
    counts = np.bincount(labels, minlength=classes)
    sums = np.bincount(labels, weights=own, minlength=classes)
    return np.where(counts > 0, sums / np.maximum(1, counts), np.inf)


def suspects(
    p: NDArray[np.float64], labels: NDArray[np.integer], thresholds: NDArray[np.float64]
) -> tuple[NDArray[np.bool_], NDArray[np.int64], NDArray[np.float64]]:
    """Of N images with probabilities N x K: which are suspected, the likely class, and the normalised margin of each.

    Suspected is an image where another class reaches its threshold and the labelled one does not; of several such
    classes the most probable is the likely one.
    """
    lines = np.arange(len(p))
    own = p[lines, labels]
    others = p.copy()
    others[lines, labels] = -1.0
    margins = own - others.max(axis=1, initial=-1.0)
    reached = np.where(others >= thresholds, others, -1.0)
    likely = reached.argmax(axis=1)
    return (reached[lines, likely] >= 0) & (own < thresholds[labels]), likely, margins
