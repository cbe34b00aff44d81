"""The same figures by group of images: which site, month or focus falls below the rest."""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from mivrat.core.figures.intervals import Proportion
from mivrat.core.figures.significance import below_rest, holm
from mivrat.core.figures.sums import ordered_sums
from mivrat.core.figures.units import Units, share
from mivrat.core.figures.units import below_rest as below_rest_over_units

SMALL = 30
# A column with more different values than this is no grouping.
MOST_GROUPS = 200
_DATE = re.compile(r"(\d{4}-\d{2})-\d{2}(?:[T ].*)?$")


@dataclass(frozen=True)
class Group:
    """One group: accuracy, mean confidence and its gap to accuracy, and ``p``: the exact probability, corrected by Holm,
    of so low an accuracy if the group were like the rest (1 where it is no lower)."""

    name: str
    accuracy: Proportion
    confidence: float | None
    gap: float | None
    p: float

    @property
    def small(self) -> bool:
        """Whether it has so few images that its interval is wide."""
        return self.accuracy.total < SMALL


def group_names(values: Sequence[str]) -> list[str]:
    """The group of each value: itself; the month where all that are given are dates (ISO 8601); "(none)" for an empty one."""
    given = [value for value in values if value]
    dates = bool(given) and all(_DATE.match(value) for value in given)
    return [(value[:7] if dates else value) or "(none)" for value in values]


def group_figures(
    names: Sequence[str],
    right: NDArray[np.bool_],
    confidence: NDArray[np.float64],
    use: NDArray[np.bool_],
    units: Units | None = None,
    alike: float | None = None,
    corrected: bool = True,
) -> list[Group]:
    """Figures of every group over the images that ``use`` marks, the one that most surely falls below the rest first.

    Where images belong together (``units``, over all of them) intervals and tests are of whole units. Not ``corrected``, each p
    is that of its group alone, for who asks for more groups than these. ``right``, ``confidence`` and ``use`` are N, of all
    listed images; one record for each of the G ``names``.
    """
    order = sorted(set(names))
    number = {name: i for i, name in enumerate(order)}
    of = np.array([number[name] for name in names], np.int64)[use]
    totals = np.bincount(of, minlength=len(order))
    hits = np.bincount(of, weights=right[use], minlength=len(order)).astype(int)
    with np.errstate(invalid="ignore", divide="ignore"):
        means = ordered_sums(of, confidence[use], len(order)) / totals
    whole, whole_hits = int(totals.sum()), int(hits.sum())
    told = [i for i in range(len(order)) if totals[i]]
    unit = units.of(use) if units is not None else None
    if unit is not None:
        lower = below_rest_over_units(right[use], of, unit) if len(told) > 1 else [1.0] * len(order)
        raw = [lower[i] for i in told]
    else:
        raw = [
            below_rest(int(hits[i]), int(totals[i]), whole_hits - int(hits[i]), whole - int(totals[i])) for i in told
        ]
    found = []
    for i, p in zip(told, holm(raw) if corrected else raw, strict=True):
        accuracy = share(right[use][of == i], unit[of == i] if unit is not None else None, alike=alike)
        mean = None if np.isnan(means[i]) else float(means[i])
        gap = None if mean is None or accuracy.value is None else mean - accuracy.value
        found.append(Group(order[i], accuracy, mean, gap, p))
    return sorted(found, key=lambda one: (one.p, one.accuracy.value or 0.0, one.name))
