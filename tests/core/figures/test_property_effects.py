"""The stratified rank test against a loop over all pairs, against SciPy in one stratum, and by how often it is wrong."""

from __future__ import annotations

import math

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy import stats

from mivrat.core.figures.property_effects import (
    PropertyEffect,
    corrected,
    mid_ranks,
    quarter_ranges,
    quarters_of,
    stratified_effect,
)

ROWS = st.lists(st.tuples(st.integers(0, 6), st.booleans(), st.integers(0, 3)), min_size=2, max_size=60)


@settings(max_examples=100, deadline=None)
@given(ROWS)
def test_the_effect_is_that_of_all_pairs(rows: list[tuple[int, bool, int]]) -> None:
    values, wrong, stratum = (np.array(one) for one in zip(*rows, strict=True))
    found = stratified_effect(values.astype(float), wrong, stratum)
    total = weighed = 0.0
    for k in range(4):
        a, b = values[(stratum == k) & wrong], values[(stratum == k) & ~wrong]
        if len(a) and len(b):
            higher = float(np.mean((a[:, None] > b) + 0.5 * (a[:, None] == b)))
            weight = len(a) * len(b) / (len(a) + len(b) + 1)
            total, weighed = total + weight, weighed + weight * higher
    if found.value is None:
        assert found.problem
        return
    assert found.value == pytest.approx(weighed / total)
    assert found.low is not None
    assert found.high is not None
    assert found.p is not None
    assert found.low <= found.value <= found.high
    # Test and interval never disagree.
    assert (found.p < 0.05 - 1e-9) <= (not found.low <= 0.5 <= found.high)
    assert (found.low > 0.5 or found.high < 0.5) <= (found.p < 0.05 + 1e-9)
    # Turned round, it is the same the other way; strictly rising values change nothing.
    turned = stratified_effect(-values.astype(float), wrong, stratum)
    assert turned.value == pytest.approx(1 - found.value)
    assert turned.p == pytest.approx(found.p)
    assert stratified_effect(np.exp(values), wrong, stratum) == found


def test_in_one_stratum_it_is_the_rank_sum_test() -> None:
    rng = np.random.default_rng(0)
    values, wrong = rng.integers(0, 30, 200).astype(float), rng.random(200) < 0.3
    found = stratified_effect(values, wrong, np.zeros(200, np.int64))
    theirs = stats.mannwhitneyu(values[wrong], values[~wrong], method="asymptotic", use_continuity=False)
    assert found.value == pytest.approx(theirs.statistic / (wrong.sum() * (~wrong).sum()))
    assert found.p == pytest.approx(theirs.pvalue, rel=0.1)  # the larger of two variances
    assert mid_ranks(np.zeros(200, np.int64), values).tolist() == stats.rankdata(values).tolist()


def test_what_cannot_be_asked_says_why() -> None:
    one = np.zeros(6, np.int64)
    values, wrong = np.arange(6.0), np.array([True, False] * 3)
    assert stratified_effect(np.full(6, 2.0), wrong, one).problem == "the same for all images"
    assert stratified_effect(values, np.ones(6, bool), one).problem == "no class has wrong and right images"
    assert stratified_effect(np.full(6, np.nan), wrong, one).problem == "no class has wrong and right images"
    assert stratified_effect(values, wrong, one, np.array([0, 0, 1, 1, 2, 2])).problem == "only 3 units"
    # A class shift alone is no difference: values differ by class only, and mistakes as well.
    stratum = np.repeat([0, 1], 50)
    uneven = np.r_[np.arange(50) % 10 == 0, np.arange(50) % 10 != 0]
    assert stratified_effect(100.0 * stratum + np.tile(np.arange(10.0), 10) * 0, uneven, stratum).value == 0.5


def _rejected(units: int, reps: int, seed: int) -> float:
    rng, wrong_verdicts = np.random.default_rng(seed), 0
    for _ in range(reps):
        stratum, unit = rng.integers(0, 5, 200), rng.integers(0, units, 200)
        of_unit, lean = rng.normal(size=units), rng.normal(size=units)
        wrong = rng.random(200) < 1 / (1 + np.exp(1.5 - lean[unit]))
        found = stratified_effect(of_unit[unit] + stratum, wrong, stratum, unit)
        wrong_verdicts += found.p is not None and found.p < 0.05
    return wrong_verdicts / reps


def test_it_is_seldom_wrong_where_nothing_differs() -> None:
    rng, rejected, reps = np.random.default_rng(4), 0, 400
    for _ in range(reps):
        stratum, wrong = rng.integers(0, 6, 150), rng.random(150) < 0.12
        found = stratified_effect(rng.normal(size=150) + stratum, wrong, stratum)
        rejected += found.p is not None and found.p < 0.05
    assert rejected / reps <= 0.07
    assert _rejected(20, 300, 5) <= 0.07  # mistakes and values both come in whole units


def test_quarters_part_no_equal_values() -> None:
    inf = math.inf
    assert quarter_ranges(np.array([1.0, 2, 3, 4, 5, 6, 7, 8])) == [(-inf, 3), (3, 5), (5, 7), (7, inf)]
    assert quarter_ranges(np.array([0.0] * 9 + [1])) == [(-inf, 0), (0, inf)]
    assert quarter_ranges(np.full(5, 3.0)) == [(-inf, inf)]
    assert quarter_ranges(np.array([np.nan])) == []
    values = np.array([1.0, 1, 2, 3, np.nan, 5])
    found = quarters_of(values, np.array([True, False, True, True, False, True]))
    assert sum(one.accuracy.total for one in found) == 5
    assert found[0].accuracy.total == 2
    assert found[0].accuracy.hits == 1


def test_the_surest_stands_first_and_all_are_counted() -> None:
    rng = np.random.default_rng(6)
    wrong, stratum = rng.random(300) < 0.3, np.zeros(300, np.int64)
    told = {"told": wrong + rng.normal(0, 0.5, 300), "noise": rng.normal(size=300), "flat": np.ones(300)}
    found = corrected([PropertyEffect(name, stratified_effect(one, wrong, stratum)) for name, one in told.items()])
    assert [one.name for one in found] == ["told", "noise", "flat"]
    assert found[0].p_holm == pytest.approx(2 * (found[0].effect.p or 0))  # two could be asked
    assert found[2].p_holm is None
