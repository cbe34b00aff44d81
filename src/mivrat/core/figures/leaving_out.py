"""Figures made of counts, and what they are without one image or one unit: averages over classes, kappa, correlation."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from mivrat.core.figures.outcomes import Outcomes

COUNTED = ("balanced_accuracy", "macro_precision", "macro_f1", "weighted_f1", "cohen_kappa", "mcc")
_AT_ONCE = 1 << 22

Numbers = NDArray[np.float64]


@dataclass(frozen=True)
class Counts:
    """Sums over images, by class: those labelled and called so, and those right; each ... x K."""

    support: Numbers
    called: Numbers
    right: Numbers

    def figures(self) -> Numbers:
        """The figures in COUNTED, ... x 6; NaN where they are undefined."""
        s, c, h = self.support, self.called, self.right
        there, total = s > 0, s.sum(axis=-1)
        with np.errstate(divide="ignore", invalid="ignore"):
            number = there.sum(axis=-1)
            recall = np.where(there, h / s, 0.0)
            precision = np.where(there & (c > 0), h / c, 0.0)
            f1 = np.where(there, 2 * h / (s + c), 0.0)
            together = (s * c).sum(axis=-1)
            return np.stack(
                [
                    recall.sum(axis=-1) / number,
                    precision.sum(axis=-1) / number,
                    f1.sum(axis=-1) / number,
                    (f1 * s).sum(axis=-1) / total,
                    *_agreement(h.sum(axis=-1), together, (s * s).sum(axis=-1), (c * c).sum(axis=-1), total),
                ],
                axis=-1,
            )


def counts_of(found: Outcomes, classes: int) -> Counts:
    """The counts of N outcomes."""
    right = found.predicted == found.labels
    support, called = (np.bincount(one, minlength=classes).astype(float) for one in (found.labels, found.predicted))
    return Counts(support, called, np.bincount(found.labels, right, classes).astype(float))


def _agreement(right: Numbers, together: Numbers, ss: Numbers, cc: Numbers, total: Numbers) -> tuple[Numbers, Numbers]:
    """Cohen's kappa and the correlation of labels and predictions, from sums."""
    chance = together / total**2
    return (right / total - chance) / (1 - chance), (right * total - together) / np.sqrt(
        (total**2 - cc) * (total**2 - ss)
    )


def without_one(counts: Counts, a: NDArray[np.integer], b: NDArray[np.integer]) -> Numbers:
    """The figures without one image labelled ``a`` and called ``b`` (M cells), M x 6."""
    s, c, h = counts.support, counts.called, counts.right
    hit, total = (a == b).astype(float), s.sum()
    gone = s[a] == 1
    number = float((s > 0).sum()) - gone

    def part(s1: Numbers, c1: Numbers, h1: Numbers) -> tuple[Numbers, Numbers, Numbers, Numbers]:
        with np.errstate(divide="ignore", invalid="ignore"):
            there = s1 > 0
            f1 = np.where(there, 2 * h1 / (s1 + c1), 0.0)
            return np.where(there, h1 / s1, 0.0), np.where(there & (c1 > 0), h1 / c1, 0.0), f1, f1 * s1

    whole = part(s, c, h)
    before_a, before_b = part(s[a], c[a], h[a]), part(s[b], c[b], h[b])
    after_a = part(s[a] - 1, c[a] - hit, h[a] - hit)
    after_b = part(s[b], c[b] - 1, h[b])
    sums = [
        w.sum() - x - (1 - hit) * y + u + (1 - hit) * v
        for w, x, y, u, v in zip(whole, before_a, before_b, after_a, after_b, strict=True)
    ]
    with np.errstate(divide="ignore", invalid="ignore"):
        kappa, correlation = _agreement(
            h.sum() - hit,
            (s @ c) - c[a] - s[b] + hit,
            s @ s - 2 * s[a] + 1,
            c @ c - 2 * c[b] + 1,
            np.full(len(a), total - 1),
        )
        return np.stack(
            [sums[0] / number, sums[1] / number, sums[2] / number, sums[3] / (total - 1), kappa, correlation], axis=-1
        )


def without_units(
    counts: Counts,
    found: Outcomes,
    classes: int,
    unit: NDArray[np.integer],
    units: int,
    stopped: Callable[[], bool],
) -> Numbers | None:
    """The figures without each unit, units x 6; None where it was stopped."""
    order = np.argsort(unit, kind="stable")
    start = np.searchsorted(unit[order], np.arange(units + 1))
    right = found.predicted == found.labels
    step = max(1, _AT_ONCE // max(1, classes))
    parts = []
    for first in range(0, units, step):
        if stopped():
            return None
        last = min(units, first + step)
        some = order[start[first] : start[last]]
        line = unit[some] - first

        def sums(
            of: NDArray[np.integer],
            weights: NDArray[np.bool_] | None,
            line: NDArray[np.integer] = line,
            rows: int = last - first,
        ) -> Numbers:
            flat = np.bincount(line * classes + of, weights, rows * classes)
            return np.asarray(flat, float).reshape(rows, classes)

        labels, predicted = found.labels[some], found.predicted[some]
        parts.append(
            Counts(
                counts.support - sums(labels, None),
                counts.called - sums(predicted, None),
                counts.right - sums(labels, right[some]),
            ).figures()
        )
    return np.concatenate(parts)


def without_each(
    found: Outcomes, classes: int, unit: NDArray[np.integer] | None, stopped: Callable[[], bool] = lambda: False
) -> Numbers | None:
    """The figures without each image, N x 6, or without each unit; None where it was stopped."""
    counts = counts_of(found, classes)
    if unit is not None:
        return without_units(counts, found, classes, unit, int(unit.max()) + 1, stopped)
    cells, which = np.unique(found.labels * classes + found.predicted, return_inverse=True)
    return without_one(counts, cells // classes, cells % classes)[which]
