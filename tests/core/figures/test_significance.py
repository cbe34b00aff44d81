"""Exact tests against a library's own."""

from __future__ import annotations

import numpy as np
import pytest
from scipy.stats import binomtest, fisher_exact

from mivrat.core.checks.result import in_words
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
    assert significance.below_rest(0, 0, 4, 5) == 1.0


def test_a_bound_stays_a_bound_when_it_is_corrected() -> None:
    found = significance.holm([0.2, significance.AtMost(0.0002), 0.03])
    assert found == pytest.approx([0.2, 0.0006, 0.06])
    assert [isinstance(one, significance.AtMost) for one in found] == [False, True, False]
    assert (in_words(found[1]), in_words(found[2])) == ("≤ 0.0006", "= 0.0600")


@pytest.mark.parametrize(("right", "labels"), [(9, 12), (3, 12), (12, 12), (0, 5)])
def test_more_right_than_the_commonest_label_is_the_binomial_test(right: int, labels: int) -> None:
    told = np.arange(labels) % 3 // 2  # two thirds are of class 0
    share, p = significance.beyond_commonest(np.arange(labels) < right, told)
    assert share == (told == 0).mean()
    assert p == pytest.approx(binomtest(right, labels, share, alternative="greater").pvalue)
