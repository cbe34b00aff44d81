"""Ranks of classes by score, and top-k accuracy."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from mivrat.core.figures.intervals import Proportion, proportion


def label_ranks(scores: NDArray[np.floating], labels: NDArray[np.integer]) -> NDArray[np.int64]:
    """Rank of each image's labelled class: 1 + classes with a higher score + equal scores at a lower index.

    ``scores`` is N x K without NaN, ``labels`` N class indices; returns N ranks from 1 to K.

    >>> label_ranks(np.array([[0.1, 0.7, 0.2], [0.5, 0.3, 0.2]]), np.array([2, 0])).tolist()
    [2, 1]
    """
    labels = np.asarray(labels)
    own = np.take_along_axis(scores, labels[:, None], axis=1)
    ranks = 1 + np.count_nonzero(scores > own, axis=1)
    tied = np.flatnonzero(np.count_nonzero(scores == own, axis=1) > 1)
    earlier = np.arange(scores.shape[1])[None, :] < labels[tied, None]
    ranks[tied] += np.count_nonzero((scores[tied] == own[tied]) & earlier, axis=1)
    return ranks


def predictions(scores: NDArray[np.floating]) -> NDArray[np.int64]:
    """The class with the highest score of each row; of equal ones, the first in class-list order. ``scores`` is N × K; returns
    N.

    >>> predictions(np.array([[0.1, 0.9], [0.5, 0.5]])).tolist()
    [1, 0]
    """
    return np.asarray(np.argmax(scores, axis=1), np.int64)


def top_ties(scores: NDArray[np.floating]) -> int:
    """How many rows have their highest score more than once. ``scores`` is N × K."""
    return int(np.count_nonzero((scores == scores.max(axis=1, keepdims=True)).sum(axis=1) > 1)) if scores.size else 0


def top_k(ranks: NDArray[np.integer], k: int) -> Proportion:
    """The share of images whose labelled class ranks k or better. ``ranks`` is N, 1 for the highest score.

    >>> top_k(np.array([1, 2, 4]), 3).hits
    2
    """
    return proportion(int(np.count_nonzero(ranks <= k)), len(ranks))
