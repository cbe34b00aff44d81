"""Figures and their intervals in words and digits, as reports and commands tell them."""

from __future__ import annotations

from mivrat.core.base.text import count, minus
from mivrat.core.concluding.findings import Measure
from mivrat.core.figures.intervals import Proportion

DASH = "–"


def percent(value: float | None) -> str:
    """A share in percent with one decimal; a dash where it is undefined."""
    return DASH if value is None else minus(f"{100 * value:.1f} %")


def number(value: float | None) -> str:
    """A number with three decimals; a dash where it is undefined."""
    return DASH if value is None else minus(f"{value:.3f}")


def figure_told(value: float | None, low: float | None, high: float | None) -> str:
    """A figure of a criterion, on the scale that criteria are written in, with its interval."""
    if value is None:
        return DASH
    ends = f" ({minus(f'{low:.3f}')} – {minus(f'{high:.3f}')})" if low is not None and high is not None and low != high else ""  # fmt: skip
    whole = value.is_integer() and abs(value) > 1
    return (count(int(value)) if whole else number(value)) + ends


def share_told(share: Proportion) -> tuple[str, str]:
    """A share in percent, and its interval; empty where there is none."""
    ends = "" if share.low is None or share.high is None else f"{100 * share.low:.1f} – {100 * share.high:.1f}"
    return percent(share.value), ends


def difference_told(value: float | None, low: float | None, high: float | None, points: bool = True) -> tuple[str, str]:
    """A difference with its sign, in percentage points or as it is, and its interval."""
    scale, places = (100, 1) if points else (1, 3)

    def one(number: float) -> str:
        text = minus(f"{scale * number:+.{places}f}")
        return text[1:] if float(f"{scale * number:.{places}f}") == 0 else text

    ends = "" if low is None or high is None else f"{one(low)} to {one(high)}"
    return DASH if value is None else one(value), ends


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
    of = f"{count(shown.hits)} of {count(shown.total)}" if shown.hits is not None and shown.total is not None else ""
    if not measure.percent:
        return figure_told(shown.value, shown.low, shown.high)
    exact = shown.low == shown.high
    ends = f"({100 * shown.low:.1f} – {100 * shown.high:.1f})" if shown.low is not None and shown.high is not None and not exact else ""  # fmt: skip
    return ", ".join(part for part in (of, f"{percent(shown.value)} {ends}".strip()) if part)
