"""How often a finding is called gone on a second set of images, by simulation: nothing changed, half, three quarters, or all of it fixed;
the only one of its kind, or the most frequent of 5 or 20 alike."""

from __future__ import annotations

import numpy as np

from mivrat.core.concluding.evaluation_context import RunSummary
from mivrat.core.concluding.findings import Beside, FindingOrigin, Measure
from mivrat.core.concluding.verdict_rules import state_of
from mivrat.core.figures.intervals import proportion

IMAGES, OTHERS, STUDIES = 200, 1400, 1000
# How often a mistake happens that is really there, and one of the usual kind.
THERE, USUAL = 0.3, 0.03
WELL = RunSummary(proportion(900, 1000), 0.9, 0.88, 0.92, 8, 8)


def measured(hits: int, total: int, beside: tuple[int, int]) -> Measure:
    """A share beside that of the other images."""
    one, other = proportion(hits, total), proportion(*beside)
    against = Beside("the other images", other.value, other.low, other.high, *beside)
    return Measure("share", one.value, one.low, one.high, hits, total, beside=against)


def share_gone(rng: np.random.Generator, alike: int, there: bool, left: float) -> float:
    """The share of studies in which it is gone, when so much of what was above the usual is left."""
    gone = 0
    made = FindingOrigin(
        "m", "net", "", "i", "set", 1600, "2031-05-06", "0", balanced=0.9, balanced_low=0.88, looks=alike
    )
    for _ in range(STUDIES):
        hits = rng.binomial(IMAGES, USUAL, alike)
        rate = THERE if there else USUAL
        hits[0] = rng.binomial(IMAGES, rate)
        chosen = int(hits.argmax())
        now_rate = USUAL + (rate - USUAL) * left if chosen == 0 else USUAL
        beside, now_beside = (int(rng.binomial(OTHERS, USUAL)) for _ in range(2))
        before = measured(int(hits[chosen]), IMAGES, (beside, OTHERS))
        after = measured(int(rng.binomial(IMAGES, now_rate)), IMAGES, (now_beside, OTHERS))
        gone += state_of(before, after, made, WELL, False)[0] == "gone"
    return gone / STUDIES


def main() -> None:
    rng = np.random.default_rng(0)
    print(
        "| chosen among | nothing there, nothing changed | unchanged | half fixed | three quarters fixed | wholly fixed |"
    )
    print("|---|---|---|---|---|---|")
    for alike in (1, 5, 20):
        cells = [
            share_gone(rng, alike, False, 1.0),
            *(share_gone(rng, alike, True, left) for left in (1.0, 0.5, 0.25, 0.0)),
        ]
        print(f"| {alike} | {' | '.join(f'{100 * one:.1f} %' for one in cells)} |")


if __name__ == "__main__":
    main()
