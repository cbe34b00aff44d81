"""Prediction sets: how many classes have to be answered so that a chosen share of the sets holds the label (conformal prediction)."""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import Literal

import numpy as np
from numpy.typing import NDArray

Numbers = NDArray[np.float64]
ScoreKind = Literal["least", "adaptive"]
SCORE_KINDS: tuple[ScoreKind, ...] = ("least", "adaptive")


@dataclass(frozen=True)
class Threshold:
    """A class is in an image's set where its score is no higher than ``of_class`` says, one number for each of K classes (all the same
    unless class by class; infinite: always in the set)."""

    kind: ScoreKind
    level: float
    by_class: bool
    of_class: Numbers


def set_scores(probabilities: Numbers, kind: ScoreKind) -> Numbers:
    """How little each class conforms (N × K in, N × K out): ``least`` ambiguous 1 - p (Sadinle 2019), or ``adaptive`` the probability
    of all classes that are as likely or likelier (Romano 2020, without its random part: the same images give the same sets).

    >>> set_scores(np.array([[0.5, 0.3, 0.2]]), "adaptive").round(2).tolist()
    [[0.5, 0.8, 1.0]]
    """
    if kind == "least":
        return 1.0 - probabilities
    order = np.argsort(-probabilities, axis=1, kind="stable")
    sorted_p = np.take_along_axis(probabilities, order, axis=1)
    summed = np.cumsum(sorted_p, axis=1)
    # Equal probabilities share the sum up to the last of them, so that the order of classes decides nothing.
    for k in range(sorted_p.shape[1] - 2, -1, -1):
        same = sorted_p[:, k] == sorted_p[:, k + 1]
        summed[same, k] = summed[same, k + 1]
    found = np.empty_like(summed)
    np.put_along_axis(found, order, summed, axis=1)
    return found


def quantile(own: Numbers, level: float) -> float:
    """The ceil((n + 1) level)-th smallest of n labelled images' scores of their own label (Vovk 2005, Lei 2018): a new image's own score is
    no higher with probability of at least ``level``. Infinite where n is too small for that.

    >>> quantile(np.array([0.3, 0.1, 0.2, 0.4]), 0.8), quantile(np.array([0.3]), 0.9)
    (0.4, inf)
    """
    place = math.ceil((len(own) + 1) * level - 1e-9)
    return math.inf if place > len(own) else float(np.partition(own, place - 1)[place - 1])


def threshold(
    own: Numbers, labels: NDArray[np.integer], classes: int, level: float, kind: ScoreKind, by_class: bool
) -> Threshold:
    """The threshold from N labelled images' scores of their own label, over all or class by class (Vovk 2003)."""
    if not by_class:
        return Threshold(kind, level, False, np.full(classes, quantile(own, level)))
    found = np.array([quantile(own[labels == k], level) for k in range(classes)])
    return Threshold(kind, level, True, found)


def in_set(scores: Numbers, limit: Threshold) -> NDArray[np.bool_]:
    """Which classes are in each image's set (N × K). ``scores`` are what ``set_scores`` gives."""
    return scores <= limit.of_class[None, :]
