"""The rule by which a finding is gone, weaker, holds, is worse, or cannot be told, from what its claim comes to before and after."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING

import numpy as np

from mivrat.core.base.lazy_module import LazyModule
from mivrat.core.base.text import minus
from mivrat.core.concluding.evaluation_context import RunSummary
from mivrat.core.concluding.findings import Beside, FindingOrigin, FindingState, Measure
from mivrat.core.figures.intervals import Z95

if TYPE_CHECKING:
    from scipy import special
else:
    special = LazyModule("scipy.special")

# What is left of a finding counts as nothing only below this share of what stood out where it was found, and never below MARGIN.
LEFT, MARGIN = 0.25, 0.01
# A run whose balanced accuracy is lower by more than this, and beyond chance, answers worse as a whole.
FALL = 0.05


def change(before: Measure, after: Measure, looks: int = 1) -> tuple[float | None, float | None]:
    """The ends of the interval of after - before, from those of both (Newcombe 1998, method 10 for independent shares; squared and
    added for others, Zou and Donner 2008); None where one of them has none. 95 %, or more where the finding was the most striking of so
    many ``looks``: what was chosen for being high was partly high by chance, and is lower the next time (Bonferroni)."""
    return _apart(before.value, *_widened(before, looks), after.value, after.low, after.high)


def _widened(one: Measure | Beside, looks: int) -> tuple[float | None, float | None]:
    """The ends of an interval at 1 - 0.05 / looks: its halves in proportion to the normal distribution's points."""
    if one.value is None or one.low is None or one.high is None or looks <= 1:
        return one.low, one.high
    wider = float(special.ndtri(1 - 0.025 / looks)) / Z95
    return one.value - wider * (one.value - one.low), one.value + wider * (one.high - one.value)


def _apart(
    a: float | None,
    a_low: float | None,
    a_high: float | None,
    b: float | None,
    b_low: float | None,
    b_high: float | None,
) -> tuple[float | None, float | None]:
    if a is None or b is None or a_low is None or a_high is None or b_low is None or b_high is None:
        return None, None
    down = float(np.hypot(b - b_low, a_high - a))
    up = float(np.hypot(b_high - b, a - a_low))
    return b - a - down, b - a + up


@dataclass(frozen=True)
class Excess:
    """By how much what was found stands out from what it is compared with, with the ends of its interval."""

    value: float
    low: float
    high: float


def excess(found: Measure, looks: int = 1) -> Excess | None:
    """How much stands out; None without an interval. Without anything to compare with, a share is compared with none at all, or with all
    where less is worse; a difference with 0."""
    nothing = 1.0 if found.bad < 0 and not found.points else 0.0
    beside = found.beside or Beside("none", nothing, nothing, nothing)
    low, high = _apart(beside.value, *_widened(beside, looks), found.value, *_widened(found, looks))
    if low is None or high is None or found.value is None or beside.value is None:
        return None
    value = found.value - beside.value
    return Excess(value, low, high) if found.bad > 0 else Excess(-value, -high, -low)


def answers_worse(made: FindingOrigin, standing: RunSummary) -> str:
    """Why nothing can be called gone under a run, because it answers worse as a whole; empty where it does not.

    A model that always says one class makes no mistake of most kinds: that is no cure.
    """
    if standing.predicted_classes <= 1 < standing.labelled_classes:
        return "it answers nothing but one class"
    if standing.balanced is None or standing.high is None or made.balanced is None or made.balanced_low is None:
        return ""
    if standing.balanced < made.balanced - FALL and standing.high < made.balanced_low:
        fall = 100 * (standing.balanced - made.balanced)
        return f"as a whole it answers worse: balanced accuracy {minus(f'{fall:.1f}')} points"
    return ""


def state_of(
    before: Measure, after: Measure, made: FindingOrigin, standing: RunSummary | None, same: bool
) -> tuple[FindingState, str]:
    """The state and why, in words. ``standing`` is how the run does as a whole, None where that does not matter; ``same``: it is
    the very model and the very images that it was found on.

    - *inconclusive*: the claim cannot be asked, has no interval, or the intervals leave it open;
    - *holds*: nothing has changed, or no change is significant and what was found still stands out significantly;
    - *worse*: significantly more of it than before;
    - *gone*: significantly less than before, not significantly more than what it is compared with, and more than a quarter of what
      stood out where it was found is excluded (equivalence); of a criterion: met. What did not stand out where it was found, as one of so
      many looks, cannot be gone;
    - *weaker*: significantly less than before, but not gone.

    Gone and weaker become *inconclusive* where the run answers worse as a whole.
    """
    if after.problem or after.value is None:
        return "inconclusive", after.problem or "the figure is undefined here"
    if same and (after.value, after.hits, after.total) == (before.value, before.hits, before.total):
        return "holds", "the same model and the same images: the same figure"
    state, why = _rule(before, after, max(1, made.looks))
    if state in ("gone", "weaker") and standing is not None and (worse := answers_worse(made, standing)):
        return "inconclusive", f"the figure is better, but {worse}, so that says nothing"
    return state, why


def _rule(before: Measure, after: Measure, looks: int) -> tuple[FindingState, str]:
    low, high = change(before, after, looks)
    turned = 0
    if low is not None and high is not None:
        turned = ((low > 0) - (high < 0)) * after.bad
    if after.limit is not None:
        return _criterion(before, after, turned, low is not None)
    if turned > 0:
        return "worse", "significantly more than before"
    found, left = excess(before, looks), excess(after)
    if low is None or found is None or left is None:
        return "inconclusive", "too few images (or units) for an interval"
    against = after.beside.name if after.beside is not None else "none at all"
    stands = f"more than {against}" if after.bad > 0 or after.beside is None else f"below {against}"
    if turned < 0:
        chosen = f", as one of {looks} looked at" if looks > 1 else ""
        if found.low <= 0:
            return "inconclusive", f"it was not significantly different from {against} where it was found{chosen}"
        margin = max(MARGIN, LEFT * (found.value if looks == 1 else found.low))
        if left.low > 0:
            return "weaker", f"significantly less than before, but still {stands}"
        if left.high <= margin:
            return "gone", (
                f"significantly less than before, not significantly {stands}. An excess above {100 * margin:.1f} points, a quarter "
                "of what was found, is excluded"
            )
        return "weaker", (
            f"significantly less than before, but {100 * left.high:.1f} points {stands} are not excluded at this N. "
            f"Gone takes less than {100 * margin:.1f}, a quarter of what was found"
        )
    if left.low > MARGIN:
        return "holds", f"no significant change, and still significantly {stands}"
    return "inconclusive", f"no significant change, and not significantly {stands}"


def _criterion(before: Measure, after: Measure, turned: int, told: bool) -> tuple[FindingState, str]:
    if before.met:  # a strength that was found, not a fault
        if after.met:
            return "holds", "still met"
        return (
            ("worse", "met before, missed now")
            if after.met is False
            else ("inconclusive", "met before; inconclusive at this N")
        )
    if after.met:
        return "gone", "the criterion is met"
    if turned > 0:
        return "worse", "significantly further from the limit than before"
    if turned < 0:
        return "weaker", "significantly nearer to the limit than before, but not significantly above it"
    if after.met is False:
        return (
            "holds",
            "still missed" if told else "still missed; without an interval it is unknown whether it has changed",
        )
    return "inconclusive", "neither significantly met nor missed, and no significant change"
