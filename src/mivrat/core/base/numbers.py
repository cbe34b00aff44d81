"""How every number is written, in the window, in reports and by commands: shares, differences, intervals."""

from __future__ import annotations

from typing import Protocol

from mivrat.core.base.text import minus

DASH = "–"


class Bounded(Protocol):
    """A figure with the ends of its interval; None where it is undefined, or has none."""

    @property
    def value(self) -> float | None: ...
    @property
    def low(self) -> float | None: ...
    @property
    def high(self) -> float | None: ...


def percent(share: float | None, places: int | None = 1) -> str:
    """A share from 0 to 1 as a percentage, ``71.2 %``, with as many decimals as it has where ``places`` is None; a dash where it is
    undefined.

    >>> percent(0.7124), percent(0.9, None), percent(None)
    ('71.2 %', '90 %', '–')
    """
    if share is None:
        return DASH
    return minus(f"{100 * share:g} %" if places is None else f"{100 * share:.{places}f} %")


def decimal(value: float | None, places: int = 3) -> str:
    """A number with so many decimals; a dash where it is undefined.

    >>> decimal(-0.12345)
    '−0.123'
    """
    return DASH if value is None else minus(f"{value:.{places}f}")


def signed(value: float | None, places: int) -> str:
    """A number with its sign, and none for zero; a dash where it is undefined.

    >>> signed(1.26, 1), signed(-0.04, 1), signed(-2, 0)
    ('+1.3', '0.0', '−2')
    """
    if value is None:
        return DASH
    text = f"{value:+.{places}f}"
    return text[1:] if float(text) == 0 else minus(text)


def points(difference: float | None, places: int = 1) -> str:
    """A difference of shares in percentage points with its sign: ``+11.5``; a dash where it is undefined."""
    return DASH if difference is None else signed(100 * difference, places)


def span(low: float | None, high: float | None, scale: float = 100.0, places: int = 1) -> str:
    """An interval, in percent unless told otherwise: ``66.7 – 75.6``; empty where there is none.

    >>> span(0.667, 0.756), span(0.1, 0.25, 1, 3), span(None, None)
    ('66.7 – 75.6', '0.100 – 0.250', '')
    """
    return "" if low is None or high is None else minus(f"{scale * low:.{places}f} – {scale * high:.{places}f}")


def signed_span(low: float | None, high: float | None, scale: float = 100.0, places: int = 1) -> str:
    """The interval of a difference, in points unless told otherwise: ``+8.3 to +15.1``; empty where there is none."""
    return "" if low is None or high is None else f"{signed(scale * low, places)} to {signed(scale * high, places)}"


def bounds(found: Bounded) -> str:
    """The 95 % interval of a share in percent, without the sign."""
    return span(found.low, found.high)


def with_bounds(found: Bounded) -> str:
    """A share and its interval: ``71.2 % (66.7 – 75.6)``, or that there is none."""
    return f"{percent(found.value)} ({bounds(found) or 'no interval'})"


def figure(value: float | None, low: float | None, high: float | None, *, in_percent: bool) -> str:
    """A figure with its interval where it has one: ``71.2 % (66.7 – 75.6)``, ``0.412 (0.301 – 0.523)``."""
    ends = span(low, high, *(() if in_percent else (1, 3))) if low != high else ""
    return (percent(value) if in_percent else decimal(value)) + (f" ({ends})" if ends else "")
