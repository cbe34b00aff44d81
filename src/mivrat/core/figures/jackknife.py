"""Figures made of counts, and what they are without one image or one unit: averages over classes, kappa, correlation."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from mivrat.core.base.job import current_stop
from mivrat.core.figures.metrics import COUNTED, Numbers
from mivrat.core.figures.outcomes import Outcomes

_AT_ONCE = 1 << 22


@dataclass(frozen=True)
class ClassCounts:
    """Sums over images, by class: those labelled and called so, and those right; each ... x K."""

    support: Numbers
    called: Numbers
    right: Numbers

    def figures(self) -> Numbers:
        """The figures in COUNTED, ... x figures; NaN where they are undefined."""
        sums = [[part.sum(axis=-1) for part in one] for one in _parts(self.support, self.called, self.right)]
        return _wholes(sums, (self.support > 0).sum(axis=-1), self.support.sum(axis=-1))


def _parts(support: Numbers, called: Numbers, right: Numbers) -> list[tuple[Numbers, ...]]:
    """By figure in COUNTED, what each class adds to its sums."""
    return [one.counted.parts(support, called, right) for one in COUNTED if one.counted is not None]


def _wholes(sums: Sequence[Sequence[Numbers]], classes: Numbers, total: Numbers) -> Numbers:
    """The figures in COUNTED from their sums over classes, ... x figures."""
    with np.errstate(divide="ignore", invalid="ignore"):
        found = [
            one.counted.whole(some, classes, total) for one, some in zip(COUNTED, sums, strict=True) if one.counted
        ]
    return np.stack(np.broadcast_arrays(*found), axis=-1)


def counts_of(found: Outcomes, classes: int) -> ClassCounts:
    """The counts of N outcomes."""
    right = found.predicted == found.labels
    support, called = (np.bincount(one, minlength=classes).astype(float) for one in (found.labels, found.predicted))
    return ClassCounts(support, called, np.bincount(found.labels, right, classes).astype(float))


def without_one(counts: ClassCounts, a: NDArray[np.integer], b: NDArray[np.integer]) -> Numbers:
    """The figures without one image labelled ``a`` and called ``b`` (M cells), M x figures: only these two classes change."""
    s, c, h = counts.support, counts.called, counts.right
    hit = (a == b).astype(float)
    whole = [[part.sum() for part in one] for one in _parts(s, c, h)]
    before_a, before_b = _parts(s[a], c[a], h[a]), _parts(s[b], c[b], h[b])
    after_a, after_b = _parts(s[a] - 1, c[a] - hit, h[a] - hit), _parts(s[b], c[b] - 1, h[b])
    sums = [
        [w - x - (1 - hit) * y + u + (1 - hit) * v for w, x, y, u, v in zip(*of_figure, strict=True)]
        for of_figure in zip(whole, before_a, before_b, after_a, after_b, strict=True)
    ]
    return _wholes(sums, float((s > 0).sum()) - (s[a] == 1), np.full(len(a), s.sum() - 1))


def without_units(
    counts: ClassCounts,
    found: Outcomes,
    classes: int,
    unit: NDArray[np.integer],
    units: int,
) -> Numbers | None:
    """The figures without each unit, units x figures; None where it was stopped."""
    order = np.argsort(unit, kind="stable")
    start = np.searchsorted(unit[order], np.arange(units + 1))
    right = found.predicted == found.labels
    step = max(1, _AT_ONCE // max(1, classes))
    parts = []
    for first in range(0, units, step):
        if current_stop().stopped:
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
            ClassCounts(
                counts.support - sums(labels, None),
                counts.called - sums(predicted, None),
                counts.right - sums(labels, right[some]),
            ).figures()
        )
    return np.concatenate(parts)


def without_each(found: Outcomes, classes: int, unit: NDArray[np.integer] | None) -> Numbers | None:
    """The figures without each image, N x figures, or without each unit; None where it was stopped."""
    counts = counts_of(found, classes)
    if unit is not None:
        return without_units(counts, found, classes, unit, int(unit.max()) + 1)
    cells, which = np.unique(found.labels * classes + found.predicted, return_inverse=True)
    return without_one(counts, cells // classes, cells % classes)[which]
