"""Exact tests against a library's own."""

from __future__ import annotations

import pytest
from scipy.stats import binomtest, fisher_exact

from mivrat.core.figures import (
    significance,
)


@pytest.mark.parametrize(("one", "other"), [(0, 0), (3, 3), (9, 1), (0, 12), (25, 10)])
def test_even_split_is_the_binomial_test(one: int, other: int) -> None:
    expected = binomtest(one, one + other).pvalue if one + other else 1.0
    assert significance.even_split(one, other) == pytest.approx(expected)


def test_other_exact_tests() -> None:
    expected = fisher_exact([[3, 7], [40, 10]], alternative="less").pvalue
    assert significance.below_rest(3, 10, 40, 50) == pytest.approx(expected)
    assert significance.against_claim(83, 100, 0.95) == pytest.approx(binomtest(83, 100, 0.95).pvalue)
    assert significance.below_rest(0, 0, 4, 5) == significance.against_claim(0, 0, 0.5) == 1.0
