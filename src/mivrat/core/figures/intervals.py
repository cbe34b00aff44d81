"""Intervals for proportions."""

from __future__ import annotations

from dataclasses import dataclass
from math import sqrt

# The 97.5 % point of the standard normal distribution: two-sided 95 %.
Z95 = 1.959963984540054


@dataclass(frozen=True)
class Proportion:
    """A share ``hits / total`` with its 95 % interval; all three are None where total is 0 (undefined).

    The interval is Wilson's score interval of independent images, or, where the images are of so many ``units`` that belong
    together, one over these; there is none where they are too few.
    """

    hits: int
    total: int
    value: float | None
    low: float | None
    high: float | None
    units: int | None = None


def wilson(share: float, total: float, z: float = Z95) -> tuple[float, float]:
    """The two ends of Wilson's score interval (Wilson 1927) of a share of ``total`` independent trials (an effective number
    need not be whole), ``z`` being the distribution's two-sided point."""
    z2 = z * z
    centre = (share + z2 / (2 * total)) / (1 + z2 / total)
    half = z / (1 + z2 / total) * sqrt(share * (1 - share) / total + z2 / (4 * total * total))
    return max(0.0, centre - half), min(1.0, centre + half)


def proportion(hits: int, total: int) -> Proportion:
    """A share with its 95 % Wilson score interval (Wilson 1927). ``0 <= hits <= total``."""
    if not 0 <= hits <= total:
        raise ValueError(f"{hits} of {total} is no share")
    if total == 0:
        return Proportion(0, 0, None, None, None)
    share = hits / total
    low, high = wilson(share, total)
    return Proportion(hits, total, share, 0.0 if hits == 0 else low, 1.0 if hits == total else high)
