"""Intervals for proportions."""

from __future__ import annotations

from dataclasses import dataclass
from math import sqrt

# The 97.5 % point of the standard normal distribution: two-sided 95 %.
Z95 = 1.959963984540054


@dataclass(frozen=True)
class Proportion:
    """A share ``hits / total`` with its 95 % Wilson score interval; all three are None where total is 0 (undefined)."""

    hits: int
    total: int
    value: float | None
    low: float | None
    high: float | None


def proportion(hits: int, total: int) -> Proportion:
    """A share with its 95 % Wilson score interval (Wilson 1927). ``0 <= hits <= total``."""
    if not 0 <= hits <= total:
        raise ValueError(f"{hits} of {total} is no share")
    if total == 0:
        return Proportion(0, 0, None, None, None)
    share, z2 = hits / total, Z95 * Z95
    centre = (share + z2 / (2 * total)) / (1 + z2 / total)
    half = Z95 / (1 + z2 / total) * sqrt(share * (1 - share) / total + z2 / (4 * total * total))
    low = 0.0 if hits == 0 else centre - half
    high = 1.0 if hits == total else centre + half
    return Proportion(hits, total, share, low, high)
