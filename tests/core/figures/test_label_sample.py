"""Which images to label: unbiased over all draws by enumeration, interval coverage by simulation, allocation within its bounds."""

from __future__ import annotations

from itertools import combinations, product

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from numpy.typing import NDArray

from mivrat.core.figures.label_sample import (
    allocate,
    estimate_difference,
    estimate_ratio,
    half_width_expected,
    spread_expected,
    strata_by,
)

POOLS = st.lists(st.tuples(st.integers(2, 4), st.integers(1, 3)), min_size=1, max_size=3)


@settings(max_examples=40, deadline=None)
@given(POOLS, st.data())
def test_over_all_draws_the_estimate_is_right_on_average(strata: list[tuple[int, int]], data: st.DataObject) -> None:
    """Any strata, any allocation: tiny pools, every possible draw."""
    sizes = [size for size, _ in strata]
    truth = [data.draw(st.lists(st.sampled_from([0.0, 1.0]), min_size=n, max_size=n)) for n in sizes]
    draws = [list(combinations(range(n), min(n, k))) for n, k in strata]
    found, gaps = [], []
    for ways in product(*draws):
        y = np.array([truth[h][i] for h, some in enumerate(ways) for i in some])
        stratum = np.array([h for h, some in enumerate(ways) for _ in some])
        one = estimate_ratio(y, np.ones(len(y)), stratum, np.array(sizes))
        found.append(one.value)
        twice = estimate_difference(2 * y - 1, stratum, np.array(sizes), 5)
        gaps.append(twice.value)
        assert one.low is not None
        assert one.high is not None
        assert 0 <= one.low <= (one.value or 0) + 1e-12
        assert (one.value or 0) <= one.high + 1e-12
        assert one.high <= 1 + 1e-12
    mean = sum(map(sum, truth)) / sum(sizes)
    assert np.mean([one for one in found if one is not None]) == pytest.approx(mean)
    assert np.mean([one for one in gaps if one is not None]) == pytest.approx(
        (2 * mean - 1) * sum(sizes) / (sum(sizes) + 5)
    )


@given(
    st.lists(st.tuples(st.integers(1, 500), st.floats(0, 0.5)), min_size=1, max_size=9),
    st.integers(10, 600),
)
def test_labels_are_given_out_within_bounds(strata: list[tuple[int, float]], labels: int) -> None:
    pool, spread = np.array([n for n, _ in strata]), np.array([s for _, s in strata])
    found = allocate(pool, spread, labels)
    assert (found >= np.minimum(2, pool)).all()
    assert (found <= pool).all()
    assert found.sum() == max(min(labels, pool.sum()), np.minimum(2, pool).sum())


def test_neyman_s_share_and_what_it_promises() -> None:
    pool, spread = np.array([1000, 3000]), np.array([0.4, 0.1])
    assert allocate(pool, spread, 70).tolist() == [40, 30]
    expected = 1.959964 * np.sqrt((0.25**2 * 0.96 * 0.16 / 40) + (0.75**2 * 0.99 * 0.01 / 30))
    assert half_width_expected(pool, spread, np.array([40, 30])) == pytest.approx(expected, rel=1e-5)
    assert half_width_expected(pool, spread, pool) == 0


@given(st.lists(st.sampled_from([0.1, 0.2, 0.5, 0.9, 0.99]), min_size=2, max_size=80), st.integers(10, 120))
def test_strata_are_stretches_that_part_no_equal_values(values: list[float], labels: int) -> None:
    p = np.array(values)
    found = strata_by(p, spread_expected(p), labels)
    assert set(found.tolist()) == set(range(found.max() + 1))
    assert found.max() < 8
    order = np.argsort(p, kind="stable")
    assert (np.diff(found[order]) >= 0).all()
    for value in set(values):
        assert len(set(found[p == value].tolist())) == 1


def pooled(rng: np.random.Generator, kind: str, accuracy: float) -> tuple[NDArray[np.bool_], NDArray[np.float64]]:
    z = rng.normal(0, 2, 3000)
    shift = {0.7: 1.45, 0.9: 3.7, 0.99: 7.6}[accuracy]
    truth = 1 / (1 + np.exp(-(z + shift)))
    right = rng.random(3000) < truth
    said = {"calibrated": truth, "overconfident": 1 / (1 + np.exp(-3 * (z + shift))), "useless": rng.beta(5, 1, 3000)}
    return right, said[kind]


@pytest.mark.parametrize("kind", ["calibrated", "overconfident", "useless"])
@pytest.mark.parametrize("accuracy", [0.7, 0.9, 0.99])
def test_a_poor_model_costs_width_but_no_coverage(kind: str, accuracy: float) -> None:
    rng, covered, wide, reps = np.random.default_rng(5), 0, 0.0, 150
    for _ in range(reps):
        right, said = pooled(rng, kind, accuracy)
        stratum = strata_by(said, spread_expected(said), 100)
        pool = np.bincount(stratum)
        spread = np.sqrt(np.bincount(stratum, weights=spread_expected(said) ** 2) / pool)
        counts = allocate(pool, spread, 100)
        drawn = np.concatenate(
            [rng.choice(np.flatnonzero(stratum == h), n, replace=False) for h, n in enumerate(counts)]
        )
        found = estimate_ratio(right[drawn].astype(float), np.ones(len(drawn)), stratum[drawn], pool)
        assert found.low is not None
        assert found.high is not None
        covered += found.low <= right.mean() <= found.high
        wide += (found.high - found.low) / reps
    assert covered / reps >= 0.9
    if kind == "calibrated" and accuracy < 0.99:
        assert (
            wide < 2 * 1.96 * np.sqrt(accuracy * (1 - accuracy) / 100) * 0.9
        )  # narrower than of a simple random sample


def test_labels_all_alike_leave_room_and_none_says_nothing() -> None:
    stratum, pool = np.repeat([0, 1], 10), np.array([500, 500])
    found = estimate_ratio(np.ones(20), np.ones(20), stratum, pool)
    assert (found.value, found.high) == (1.0, 1.0)
    assert found.low is not None
    assert 0.82 < found.low < 0.86  # 3.7 images' worth of doubt over 20 labels
    whole = estimate_ratio(np.ones(20), np.ones(20), stratum, np.array([10, 10]))
    assert (whole.low, whole.high) == (1.0, 1.0)
    assert estimate_ratio(np.zeros(20), np.zeros(20), stratum, pool).value is None
    assert (
        estimate_ratio(np.ones(10), np.ones(10), np.zeros(10, np.int64), pool).value is None
    )  # a stratum without a label


@pytest.mark.parametrize(("right", "count", "pool"), [(7, 10, 100), (1, 50, 1000), (180, 200, 400)])
def test_one_stratum_is_a_simple_random_sample(right: int, count: int, pool: int) -> None:
    """By hand: its variance is p q (1 + 1 / n) / n, without what was seen of the pool (1 - n / M)."""
    y = np.array([1.0] * right + [0.0] * (count - right))
    one = estimate_ratio(y, np.ones(count), np.zeros(count, np.int64), np.array([pool]))
    assert one.value == one.plain == pytest.approx(right / count)
    assert one.effective == pytest.approx(count / (1 + 1 / count) / (1 - count / pool))
