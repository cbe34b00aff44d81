"""The comparisons of a report: which run is the baseline and which the candidate, what may be claimed, and every headline difference."""

from __future__ import annotations

from dataclasses import dataclass

from mivrat.core.base.numbers import decimal, percent
from mivrat.core.base.text import count
from mivrat.core.comparing.holding import Compared, headline_differences
from mivrat.core.concluding.formatting import difference_told
from mivrat.core.running.snapshot import Snapshot


@dataclass(frozen=True)
class OtherRun:
    """A run that the report's own is compared with, by what it is of (the content of model and recipe, the list of images, the
    classes); ``baseline``: that one is the baseline and the report's own run the candidate, or the other way round."""

    run: tuple[str, str, str, str]
    baseline: bool = True


@dataclass(frozen=True)
class ComparedWith:
    """The same with the run itself."""

    other: Snapshot
    baseline: bool = True


@dataclass(frozen=True)
class DifferenceLine:
    """A figure under baseline and candidate, and the difference, candidate less baseline, with its interval."""

    figure: str
    baseline: str
    candidate: str
    difference: str
    interval: str


@dataclass(frozen=True)
class ComparisonPart:
    """One comparison: who is held against whom, on what, what may be claimed, and the differences."""

    baseline: str
    candidate: str
    on: str
    claims: tuple[str, ...]
    lines: tuple[DifferenceLine, ...]


def comparison_part(compared: Compared) -> ComparisonPart:
    """A comparison as the report tells it; its a is the baseline, its b the candidate."""
    found, names = compared.found, compared.held.names
    if found.paired is not None:
        on = f"on the same images, N = {count(found.paired.total)}"
    else:
        assert found.sets is not None
        on = f"on two image sets, N = {count(found.sets.total_a)} and {count(found.sets.total_b)}"
    lines = []
    for record, one in headline_differences(compared):
        points = record.in_percent
        shown = percent if points else decimal
        lines.append(
            DifferenceLine(
                record.called, shown(one.a), shown(one.b), *difference_told(one.value, one.low, one.high, points)
            )
        )
    return ComparisonPart(names.a, names.b, on, tuple(one.text for one in compared.claims), tuple(lines))
