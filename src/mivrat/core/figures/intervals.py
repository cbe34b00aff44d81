"""Intervals for proportions."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field
from math import sqrt
from typing import TYPE_CHECKING

from mivrat.core.base.lazy_module import LazyModule
from mivrat.core.figures.significance import holm

if TYPE_CHECKING:
    from scipy import special
else:
    special = LazyModule("scipy.special")

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
    # How many independent images it is worth.
    effective: float | None = field(default=None, compare=False)

    def p_against(self, share: float) -> float:
        """The two-sided probability of a share so far from a given one: the level at which the interval just reaches it (the score test
        that Wilson's interval inverts; over units with Student's t). 1 where there is no interval."""
        if self.value is None or self.low is None or self.effective is None:
            return 1.0
        if self.value == share:
            return 1.0
        spread = share * (1 - share) / self.effective
        if spread <= 0:
            return 0.0
        away = -abs(self.value - share) / sqrt(spread)
        return float(2 * (special.ndtr(away) if self.units is None else special.stdtr(self.units - 1, away)))


def significantly_below(shares: Sequence[Proportion], share: float | None) -> list[int]:
    """Which of some shares lie below a given one at the 5 % level, corrected over all that have an interval (Holm 1979).

    >>> significantly_below([proportion(20, 50), proportion(44, 50)], 0.83)
    [0]
    """
    if share is None:
        return []
    known = [i for i, one in enumerate(shares) if one.low is not None]
    found = zip(known, holm([shares[i].p_against(share) for i in known]), strict=True)
    return [i for i, p in found if p < 0.05 and (shares[i].value or 0.0) < share]


def lowest_of(shares: Sequence[Proportion]) -> tuple[int, float | None, float | None]:
    """Which of some shares is the lowest, and a 95 % interval of the lowest true one: from the lowest of their lower ends (which all
    of them have to reach, so that nothing has to be corrected) to the lowest of their upper ends, these at a level divided by
    their number (Bonferroni), since each of them may fall below a limit by chance. No interval where none has one.

    A share without an interval may be anything: then the lower end is 0.

    >>> lowest_of([proportion(20, 50), proportion(44, 50)])[0]
    0
    """
    at = min(range(len(shares)), key=lambda i: (shares[i].value, shares[i].high or 1.0))
    known = [one for one in shares if one.low is not None and one.high is not None]
    if not known:
        return at, None, None
    low = min(one.low or 0.0 for one in known) if len(known) == len(shares) else 0.0
    return at, low, min(_upper(one, 0.05 / len(shares)) for one in known)


def _upper(one: Proportion, level: float) -> float:
    """The upper end of a share's exact interval at another level, two-sided (Clopper and Pearson 1934); over units at their effective
    number, shrunk for Student's t (Korn and Graubard 1998). Wilson's is too near so far out: of 200 classes just at a limit one
    would be called below it in 6 of 100 studies."""
    if one.value is None or one.effective is None or one.hits == one.total:
        return 1.0
    n = one.effective
    if one.units is not None:
        n *= float((special.ndtri(level / 2) / special.stdtrit(one.units - 1, level / 2)) ** 2)
    hits = one.value * n
    return float(special.betaincinv(hits + 1, n - hits, 1 - level / 2))


def wilson(share: float, total: float, z: float = Z95) -> tuple[float, float]:
    """The two ends of Wilson's score interval (Wilson 1927) of a share of ``total`` independent trials (an effective number
    need not be whole), ``z`` being the distribution's two-sided point.

    >>> tuple(round(end, 4) for end in wilson(0.5, 24))
    (0.3143, 0.6857)
    """
    z2 = z * z
    centre = (share + z2 / (2 * total)) / (1 + z2 / total)
    half = z / (1 + z2 / total) * sqrt(share * (1 - share) / total + z2 / (4 * total * total))
    return max(0.0, centre - half), min(1.0, centre + half)


def proportion(hits: int, total: int) -> Proportion:
    """A share with its 95 % Wilson score interval (Wilson 1927). ``0 <= hits <= total``.

    >>> (p := proportion(25, 50)).value, round(p.low, 3), round(p.high, 3)
    (0.5, 0.366, 0.634)
    """
    if not 0 <= hits <= total:
        raise ValueError(f"{hits} of {total} is not a proportion")
    if total == 0:
        return Proportion(0, 0, None, None, None)
    share = hits / total
    low, high = wilson(share, total)
    return Proportion(hits, total, share, 0.0 if hits == 0 else low, 1.0 if hits == total else high, None, total)
