"""How many images it takes, against counting all outcomes one by one."""

from __future__ import annotations

from math import comb

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from mivrat.core.figures.intervals import wilson
from mivrat.core.figures.outcomes import Outcomes
from mivrat.core.figures.sample_size import MIX_MARGIN, MOST, best_mix, for_half_width, to_decide, to_decide_mean
from mivrat.core.figures.uncertainty import intervals

SHARES = st.floats(0.02, 0.98)


def likely(n: int, share: float, limit: float) -> float:
    """How likely the whole interval of n images lies on the side of the limit that the share is on."""
    found = 0.0
    for k in range(n + 1):
        low, high = wilson(k / n, n)
        if (low >= limit) if share > limit else (high <= limit):
            found += comb(n, k) * share**k * (1 - share) ** (n - k)
    return found


@given(SHARES, SHARES)
def test_the_least_number_that_decides_is_found(share: float, limit: float) -> None:
    if abs(share - limit) < 0.16:
        return
    least = to_decide(share, limit)
    assert least is not None
    assert likely(least, share, limit) >= 0.8 - 1e-9
    assert all(likely(n, share, limit) < 0.8 + 1e-9 for n in range(1, least))


def test_what_can_never_be_decided() -> None:
    assert to_decide(0.9, 0.9) is None
    assert to_decide(0.5, 1.0) is None
    assert to_decide(0.9, 0.90001) is None  # would take more than anybody collects
    two = to_decide(0.95, 0.9, worth=0.5)
    one = to_decide(0.95, 0.9)
    assert one is not None
    assert two == 2 * one


@given(SHARES, st.floats(0.01, 0.4))
def test_the_least_number_for_a_width_is_found(share: float, half: float) -> None:
    least = for_half_width(share, half)
    assert least is not None
    width = [wilson(share, n)[1] - wilson(share, n)[0] for n in (least, max(1, least - 1))]
    assert width[0] <= 2 * half
    assert least == 1 or width[1] > 2 * half
    assert for_half_width(share, 1e-5) is None


def test_a_mean_shrinks_with_the_root_of_the_number() -> None:
    # 100 images, half-width 0.0196: a spread of 0.01. For 0.028016 = (1.96 + 0.84) of 0.01 one needs just these 100.
    assert to_decide_mean(0.5, 0.4804, 0.5196, 0.5 + 0.0280160, 100) == pytest.approx(100, abs=1)
    assert to_decide_mean(0.5, 0.4804, 0.5196, 0.5 + 0.0140080, 100) == pytest.approx(400, abs=1)
    assert to_decide_mean(0.5, 0.4, 0.6, 0.5, 100) is None
    assert to_decide_mean(0.5, 0.4, 0.6, 0.5 + 1e-6, MOST) is None


@given(st.lists(st.tuples(st.integers(1, 40), st.integers(0, 40)), min_size=2, max_size=4), st.floats(0.3, 0.95))
def test_the_best_mix_is_enough_and_no_other_takes_fewer(classes: list[tuple[int, int]], shrink: float) -> None:
    support = np.array([n for n, _ in classes])
    hits = np.array([min(n, k) for n, k in classes])
    share = (hits + 1) / (support + 2)
    spread = share * (1 - share)

    def variance(more: np.ndarray) -> float:
        return float((spread / (support + more)).sum())

    more = best_mix(support, hits, shrink)
    assert more is not None
    shrink *= MIX_MARGIN
    assert variance(more) <= shrink * variance(np.zeros(len(support))) * (1 + 1e-9)
    # One by one to the class where it helps most is the fewest there can be, but for rounding.
    greedy = np.zeros(len(support), int)
    while variance(greedy) > shrink * variance(np.zeros(len(support))):
        greedy[np.argmax(spread / (support + greedy) - spread / (support + greedy + 1))] += 1
    assert greedy.sum() <= more.sum() <= greedy.sum() + len(support)


def test_what_is_said_to_be_enough_is_enough() -> None:
    """Balanced accuracy against a limit: with the mix that is told, it is decided in about 80 % of studies."""
    rng, limit = np.random.default_rng(2), 0.84
    support, truth = np.array([200, 40, 30]), np.array([0.95, 0.85, 0.85])
    hits = np.round(support * truth).astype(int)
    value = float((hits / support).mean())

    def ends(n: np.ndarray, right: np.ndarray) -> tuple[float, float, float]:
        labels = np.repeat(np.arange(3), n)
        predicted = np.concatenate(
            [np.where(np.arange(m) < k, i, (i + 1) % 3) for i, (m, k) in enumerate(zip(n, right, strict=True))]
        )
        nothing = np.full(len(labels), np.nan)
        found = intervals(
            Outcomes(
                labels, predicted, nothing, np.ones(len(labels), int), nothing, nothing, np.zeros(len(labels), bool)
            ),
            3,
        )
        assert found is not None
        one = found.of["balanced_accuracy"]
        return float((right / n).mean()), one.low, one.high

    _, low, high = ends(support, hits)
    assert low < limit < high
    needed = to_decide_mean(value, low, high, limit, int(support.sum()))
    assert needed is not None
    more = best_mix(support, hits, support.sum() / needed)
    assert more is not None
    assert more.sum() < needed - support.sum()  # chosen by label it takes fewer than mixed as these are
    decided = sum(ends(support + more, rng.binomial(support + more, truth))[1] > limit for _ in range(200))
    assert 0.68 * 200 <= decided <= 0.95 * 200
