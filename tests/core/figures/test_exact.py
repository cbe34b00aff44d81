"""Exact probabilities of counts against sums of products of fractions."""

from __future__ import annotations

from fractions import Fraction
from math import comb

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from scipy.stats import binom

from mivrat.core.figures.exact import at_most, central_range, more_than, splits


@given(st.integers(0, 40), st.integers(0, 40), st.integers(1, 9))
def test_binomial(k: int, n: int, tenths: int) -> None:
    k, p = min(k, n), Fraction(tenths, 10)
    chance = [comb(n, i) * p**i * (1 - p) ** (n - i) for i in range(n + 1)]
    assert float(at_most(k, n, float(p))) == pytest.approx(float(sum(chance[: k + 1])))
    assert more_than(k, n, float(p)) == pytest.approx(float(sum(chance[k + 1 :])), abs=1e-15)
    assert (float(at_most(-1, n, 0.5)), more_than(-1, n, 0.5), more_than(n, n, 0.5)) == (0.0, 1.0, 0.0)


@given(st.integers(1, 40), st.integers(0, 40), st.integers(0, 40))
def test_hypergeometric(whole: int, marked: int, taken: int) -> None:
    marked, taken = min(marked, whole), min(taken, whole)
    ways, chance = splits(whole, marked, taken)
    for k, found in zip(ways.tolist(), chance.tolist(), strict=True):
        exact = Fraction(comb(marked, k) * comb(whole - marked, taken - k), comb(whole, taken))
        assert found == pytest.approx(float(exact), rel=1e-11)
    assert chance.sum() == pytest.approx(1.0)


@given(st.lists(st.tuples(st.integers(0, 3000), st.floats(0, 1)), min_size=1, max_size=6))
def test_the_middle_of_a_binomial(cases: list[tuple[int, float]]) -> None:
    n, p = np.array([one for one, _ in cases]), np.array([one for _, one in cases])
    low, high = central_range(n, p)
    for k in range(len(cases)):
        # By summing from either end, one count after the other.
        below, above = (binom.cdf(np.arange(n[k] + 1), n[k], p[k]), binom.sf(np.arange(n[k] + 1), n[k], p[k]))
        assert below[int(low[k])] >= 0.025 - 1e-12
        assert low[k] == 0 or below[int(low[k]) - 1] < 0.025 + 1e-12
        assert above[int(high[k])] <= 0.025 + 1e-12
        assert high[k] == 0 or above[int(high[k]) - 1] > 0.025 - 1e-12
