"""Figures, differences and claims with their intervals, as reports and commands tell them."""

from __future__ import annotations

from mivrat.core.base.numbers import DASH, bounds, figure, percent, signed, signed_span, span
from mivrat.core.base.text import count
from mivrat.core.concluding.findings import Measure
from mivrat.core.figures.intervals import Proportion


def figure_told(value: float | None, low: float | None, high: float | None) -> str:
    """A figure of a criterion, on the scale that criteria are written in, with its interval."""
    if value is not None and value.is_integer() and abs(value) > 1:
        ends = span(low, high, 1, 3) if low != high else ""
        return count(int(value)) + (f" ({ends})" if ends else "")
    return figure(value, low, high, in_percent=False)


def share_told(share: Proportion) -> tuple[str, str]:
    """A share in percent, and its interval; empty where there is none."""
    return percent(share.value), bounds(share)


def difference_told(value: float | None, low: float | None, high: float | None, points: bool = True) -> tuple[str, str]:
    """A difference with its sign, in percentage points or as it is, and its interval."""
    scale, places = (100, 1) if points else (1, 3)
    return DASH if value is None else signed(scale * value, places), signed_span(low, high, scale, places)


def measure_told(measure: Measure, *, beside: bool = False) -> str:
    """What a claim comes to, in one line: counts, the figure, its interval; or that of what it is held ``beside``."""
    if measure.problem and not beside:
        return f"cannot be asked: {measure.problem}"
    shown = measure.beside if beside else measure
    if shown is None or shown.value is None:
        return DASH
    if measure.points:
        value, ends = difference_told(shown.value, shown.low, shown.high, measure.percent)
        return f"{value} ({ends})" if ends else value
    if not measure.percent:
        return figure_told(shown.value, shown.low, shown.high)
    of = f"{count(shown.hits)} of {count(shown.total)}" if shown.hits is not None and shown.total is not None else ""
    return ", ".join(part for part in (of, figure(shown.value, shown.low, shown.high, in_percent=True)) if part)
