"""One class as a whole: what it is taken for, what is taken for it, and its images that say most."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from mivrat.core.figures.intervals import Proportion
from mivrat.core.running.snapshot import Snapshot

# So many classes it is confused with, and images of either kind.
MOST_CLASSES, MOST_IMAGES = 4, 12


@dataclass(frozen=True)
class ClassStory:
    """``taken_for``: the classes its images are called instead, each with its share of them; ``taken_for_it``: the labels of
    images that are called it wrongly, each with its share of all called so; both the most frequent first. ``typical`` are its
    images answered right, ``mistaken`` those answered wrong, the surest answers first."""

    k: int
    images: int
    called: int
    taken_for: tuple[tuple[int, Proportion], ...]
    taken_for_it: tuple[tuple[int, Proportion], ...]
    typical: tuple[int, ...]
    mistaken: tuple[int, ...]


def story_of(snapshot: Snapshot, k: int, among: NDArray[np.bool_] | None = None) -> ClassStory:
    """What there is to tell of class ``k`` over the evaluated images that ``among`` marks, or all of them."""
    judged = snapshot.judged
    use = judged.evaluated_among(among)
    of_it, called = use & (judged.labels == k), use & (judged.predicted == k)

    def largest(whole: NDArray[np.bool_], other: NDArray[np.int64]) -> tuple[tuple[int, Proportion], ...]:
        counts = np.bincount(other[whole], minlength=judged.classes)
        counts[k] = 0
        order = np.argsort(-counts, kind="stable")[:MOST_CLASSES]
        return tuple((j, judged.share(other == j, whole)) for j in order.tolist() if counts[j])

    def surest(some: NDArray[np.bool_]) -> tuple[int, ...]:
        found = np.flatnonzero(some)
        sure = np.nan_to_num(judged.confidence[found], nan=-1.0)
        return tuple(found[np.argsort(-sure, kind="stable")[:MOST_IMAGES]].tolist())

    right = judged.predicted == judged.labels
    return ClassStory(
        k,
        int(of_it.sum()),
        int(called.sum()),
        largest(of_it, judged.predicted),
        largest(called, judged.labels),
        surest(of_it & right),
        surest(of_it & ~right),
    )
