"""Exact tests on counts, and the correction for asking many questions at once."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

from mivrat.core.figures.exact import at_most, more_than, splits


class AtMost(float):
    """A probability of which it is known only that it is no larger: not one of the ways drawn at random was as uneven."""


def holm(values: Sequence[float]) -> list[float]:
    """Probabilities corrected for their number, step by step (Holm 1979); what is known only as ``AtMost`` stays so.

    >>> [round(p, 2) for p in holm([0.03, 0.01, 0.5, 0.02])]
    [0.06, 0.04, 0.5, 0.06]
    """
    order = np.argsort(values, kind="stable")
    factors = len(values) - np.arange(len(values))
    stepped = np.minimum(1.0, np.maximum.accumulate(np.asarray(values, float)[order] * factors))
    out = np.empty(len(values))
    out[order] = stepped
    return [AtMost(v) if isinstance(one, AtMost) else float(v) for one, v in zip(values, out, strict=True)]


def even_split(one: int, other: int) -> float:
    """Exact two-sided probability of so uneven a split or a more uneven one, if each way is as likely (sign test).

    Of a pair of counts i→j and j→i this tests the direction of a confusion; of images gained and lost it is McNemar's
    exact test (McNemar 1947). 1 where both are 0.

    >>> even_split(5, 0)
    0.0625
    """
    total = one + other
    return min(1.0, 2 * float(at_most(min(one, other), total, 0.5))) if total else 1.0


def gained_and_lost(now: NDArray[np.bool_], before: NDArray[np.bool_]) -> tuple[int, int]:
    """How many of N images are marked now and were not before, and how many the other way round.

    >>> gained_and_lost(np.array([True, True, False]), np.array([False, True, True]))
    (1, 1)
    """
    return int((now & ~before).sum()), int((before & ~now).sum())


def beyond_commonest(right: NDArray[np.bool_], labels: NDArray[np.integer]) -> tuple[float, float]:
    """Of N answers: the share that always saying the commonest label would have right, and the exact one-sided probability
    of so many right by that share; (0, 1) without any.

    >>> [round(one, 4) for one in beyond_commonest(np.ones(5, bool), np.array([0, 0, 0, 1, 1]))]
    [0.6, 0.0778]
    """
    if not len(labels):
        return 0.0, 1.0
    share = float(np.bincount(labels).max() / len(labels))
    return share, more_than(int(right.sum()) - 1, len(labels), share)


def below_rest(hits: int, total: int, other_hits: int, other_total: int) -> float:
    """Exact one-sided probability of so few hits or fewer in a group, if hits fell on group and rest alike (Fisher 1935).

    >>> round(below_rest(0, 5, 5, 5), 4)
    0.004
    """
    if not total or not other_total:
        return 1.0
    ways, chance = splits(total + other_total, hits + other_hits, total)
    return float(min(1.0, chance[ways <= hits].sum()))
