"""Two classes and a threshold: what each threshold costs, when the two kinds of mistakes do not cost the same."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray


@dataclass(frozen=True)
class Costs:
    """What each threshold on the second class's probability does: images of the first class called the second (false
    alarms), of the second called the first (missed), and the mean cost per image. ``best`` is the lowest threshold of
    least cost; ``positives`` images are of the second class. An image is called the second class where its probability is at least the threshold."""

    thresholds: NDArray[np.float64]
    false_alarms: NDArray[np.int64]
    missed: NDArray[np.int64]
    mean: NDArray[np.float64]
    best: float
    positives: int = 0

    @property
    def called(self) -> NDArray[np.int64]:
        """How many images each threshold calls the second class."""
        return self.positives - self.missed + self.false_alarms

    def place(self, threshold: float) -> int:
        """The entry that tells what a threshold does."""
        return min(int(np.searchsorted(self.thresholds, threshold)), len(self.mean) - 1)

    def at(self, threshold: float) -> float:
        """The mean cost at a threshold."""
        return float(self.mean[self.place(threshold)])


def costs(
    second: NDArray[np.float64], labels: NDArray[np.integer], false_alarm: float = 1.0, miss: float = 1.0
) -> Costs:
    """Costs over N >= 1 images with labels 0 and 1: ``false_alarm`` for a 0 called 1, ``miss`` for a 1 called 0.

    >>> costs(np.array([0.2, 0.4, 0.6]), np.array([0, 1, 1]), miss=5.0).best
    0.4
    """
    order = np.argsort(second, kind="stable")
    values, ones = second[order], np.asarray(labels)[order] == 1
    first = np.flatnonzero(np.append(True, values[1:] != values[:-1]))
    missed = np.concatenate([[0], np.cumsum(ones)])[np.append(first, len(values))]
    spared = np.concatenate([[0], np.cumsum(~ones)])[np.append(first, len(values))]
    alarms = int((~ones).sum()) - spared
    mean = (miss * missed + false_alarm * alarms) / len(values)
    thresholds = np.append(values[first], np.nextafter(max(1.0, values[-1]), 2.0))
    return Costs(thresholds, alarms, missed, mean, float(thresholds[int(mean.argmin())]), int(ones.sum()))


def called_at(second: NDArray[np.float64], threshold: float) -> NDArray[np.int64]:
    """0 or 1 for each image: 1 where its probability of the second class is at least the threshold.

    ``second`` is N probabilities; returns N classes.

    >>> called_at(np.array([0.2, 0.5]), 0.5).tolist()
    [0, 1]
    """
    return (second >= threshold).astype(np.int64)
