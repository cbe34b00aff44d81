"""How many images it takes, against counting all outcomes one by one."""

from __future__ import annotations

from math import comb

import pytest
from hypothesis import given
from hypothesis import strategies as st

from mivrat.core.figures.how_many import MOST, for_half_width, to_decide, to_decide_mean
from mivrat.core.figures.intervals import wilson

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
