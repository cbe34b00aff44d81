"""The rule by which a finding is gone, weaker, holds, is worse, or cannot be told, from what its claim comes to before and after."""

from __future__ import annotations

import numpy as np

from mivrat.core.base.text import minus
from mivrat.core.concluding.findings import Beside, Made, Measure, State
from mivrat.core.concluding.ground import Standing

# A share that stands no more than this above what it is compared with counts as no longer above it.
MARGIN = 0.01
# A run whose balanced accuracy is lower by more than this, and beyond chance, answers worse as a whole.
FALL = 0.05


def change(before: Measure, after: Measure) -> tuple[float | None, float | None]:
    """The ends of the 95 % interval of after - before, from those of both (Newcombe 1998, method 10 for independent shares; squared and
    added for others, Zou and Donner 2008); None where one of them has none."""
    return _apart(before.value, before.low, before.high, after.value, after.low, after.high)


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


def above(after: Measure) -> int:
    """1 where what was found still stands out beyond chance and by more than MARGIN from what it is compared with, 0 where that cannot
    be told, -1 where it does not stand out beyond chance."""
    beside = after.beside or Beside("none", 0.0, 0.0, 0.0)
    low, high = _apart(beside.value, beside.low, beside.high, after.value, after.low, after.high)
    if low is None or high is None:
        return 0
    low, high = (low, high) if after.bad > 0 else (-high, -low)
    return 1 if low > MARGIN else -1


def answers_worse(made: Made, standing: Standing) -> str:
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


def state_of(before: Measure, after: Measure, made: Made, standing: Standing | None, same: bool) -> tuple[State, str]:
    """The state and why, in words. ``standing`` is how the run does as a whole, None where that does not matter; ``same``: it is
    the very model and the very images that it was found on.

    - *cannot tell*: the claim cannot be asked, has no interval, or the intervals leave it open;
    - *holds*: nothing has changed, or no change is beyond chance and what was found still stands out beyond chance;
    - *worse*: more of it than before, beyond chance;
    - *gone*: less than before, beyond chance, and it no longer stands out from what it is compared with; of a criterion: met;
    - *weaker*: less than before, beyond chance, but still there.

    Gone and weaker become *cannot tell* where the run answers worse as a whole.
    """
    if after.problem or after.value is None:
        return "cannot tell", after.problem or "the figure is undefined here"
    if same and (after.value, after.hits, after.total) == (before.value, before.hits, before.total):
        return "holds", "the same model and the same images: the same figure"
    state, why = _rule(before, after)
    if state in ("gone", "weaker") and standing is not None and (worse := answers_worse(made, standing)):
        return "cannot tell", f"the figure is better, but {worse}, so that says nothing"
    return state, why


def _rule(before: Measure, after: Measure) -> tuple[State, str]:
    low, high = change(before, after)
    turned = 0
    if low is not None and high is not None:
        turned = ((low > 0) - (high < 0)) * after.bad
    if after.limit is not None:
        return _criterion(before, after, turned, low is not None)
    if turned > 0:
        return "worse", "more than before, beyond chance"
    if low is None:
        return "cannot tell", "too few images (or units) for an interval"
    stands = above(after)
    against = after.beside.name if after.beside is not None else "none at all"
    if turned < 0:
        if stands < 0:
            return "gone", f"less than before beyond chance, and no more than {against} beyond chance"
        return "weaker", f"less than before beyond chance, but still more than {against}"
    if stands > 0:
        return "holds", f"no change beyond chance, and still more than {against} beyond chance"
    return "cannot tell", f"no change beyond chance, nor does it stand out from {against} beyond chance"


def _criterion(before: Measure, after: Measure, turned: int, told: bool) -> tuple[State, str]:
    if before.met:  # a strength that was found, not a fault
        if after.met:
            return "holds", "still met"
        return (
            ("worse", "met before, missed now")
            if after.met is False
            else ("cannot tell", "met before; now open at this N")
        )
    if after.met:
        return "gone", "the criterion is met"
    if turned > 0:
        return "worse", "further from the limit than before, beyond chance"
    if turned < 0:
        return "weaker", "nearer to the limit than before beyond chance, but not met beyond chance"
    if after.met is False:
        return "holds", "still missed" if told else "still missed; no interval tells whether it has changed"
    return "cannot tell", "neither met nor missed beyond chance, and no change beyond chance"
