"""The condition that a number of each image lies in a range: a property of its photo, or a column of numbers."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass, field

import numpy as np

from mivrat.core.answers.judged import EvaluatedRun
from mivrat.core.selecting.measures import Measures, number_text
from mivrat.core.selecting.selection import Condition, Mask


@dataclass(frozen=True)
class InRange:
    """The number called ``name`` lies in one of some ranges: above the low end up to the high one, either may be infinite. An image
    without a number is in none."""

    name: str
    ranges: frozenset[tuple[float, float]]
    measures: Measures = field(compare=False, repr=False)

    @property
    def kind(self) -> str:
        return f"range of {self.name}"

    def mask(self, judged: EvaluatedRun) -> Mask:
        found = np.zeros(len(judged.labels), bool)
        if not self.measures.has(self.name):
            return found
        values = self.measures.of(self.name)
        if len(values) == len(found):
            for low, high in self.ranges:
                found |= (values > low) & (values <= high)
            found &= np.isfinite(values)
        return found

    def words(self, classes: Sequence[str]) -> tuple[str, str]:
        if len(self.ranges) > 2:
            return self.name, f"{len(self.ranges)} ranges"
        return self.name, " or ".join(range_text(self.name, low, high) for low, high in sorted(self.ranges))

    def beside(self, other: Condition) -> Condition:
        return InRange(self.name, self.ranges ^ other.ranges, self.measures) if isinstance(other, InRange) else other


def range_text(name: str, low: float, high: float) -> str:
    """A range of a number as it reads behind its name: ``up to 5.61``, ``above 7.2``, ``5.61 to 7.2``."""
    if math.isinf(low) and math.isinf(high):
        return "any"
    if math.isinf(low):
        return f"up to {number_text(name, high)}"
    if math.isinf(high):
        return f"above {number_text(name, low)}"
    return f"above {number_text(name, low)} up to {number_text(name, high)}"


def range_data(ranges: frozenset[tuple[float, float]]) -> list[list[float | None]]:
    """Ranges as JSON's kinds of values: None where they have no end."""
    return [[None if math.isinf(end) else end for end in one] for one in sorted(ranges)]


def ranges_from(data: Sequence[Sequence[float | None]]) -> frozenset[tuple[float, float]]:
    """Ranges as ``range_data`` gives them. ValueError or TypeError for anything else."""
    found = []
    for low, high in data:
        one = -math.inf if low is None else float(low), math.inf if high is None else float(high)
        if math.isnan(one[0]) or math.isnan(one[1]) or one[0] >= one[1]:
            raise ValueError("a range has no inside")
        found.append(one)
    return frozenset(found)
