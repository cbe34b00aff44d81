"""How figures are put into words and digits on screen."""

from __future__ import annotations

from mivrat.core.figures.intervals import Proportion

DASH = "–"


def percent(value: float | None) -> str:
    """A share as a percentage with one decimal; a dash where it is undefined."""
    return DASH if value is None else f"{100 * value:.1f} %"


def bounds(share: Proportion) -> str:
    """The 95 % interval in percent, without the sign: ``66.7 – 75.6``; empty where undefined."""
    return "" if share.low is None or share.high is None else f"{100 * share.low:.1f} – {100 * share.high:.1f}"


def decimal(value: float | None, places: int = 3) -> str:
    return DASH if value is None else f"{value:.{places}f}"


def count(number: int) -> str:
    """A whole number with thin groups of three digits."""
    return f"{number:,}".replace(",", "\u202f")


def images(number: int) -> str:
    return "1 image" if number == 1 else f"{count(number)} images"


def clipped(text: str, most: int) -> str:
    """A long name with its middle left out."""
    return text if len(text) <= most else text[: (most - 1) // 2] + "…" + text[len(text) - most // 2 :]
