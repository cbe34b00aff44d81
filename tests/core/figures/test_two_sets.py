"""Two sets: the drop split exactly, the tests against SciPy and by enumeration, what holds the truth in a simulation."""

from __future__ import annotations

from itertools import combinations

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from hypothesis.extra.numpy import arrays
from scipy.stats import fisher_exact

from mivrat.core.base.job import stopped_by
from mivrat.core.figures.differences import of_shares, wilson_all
from mivrat.core.figures.outcomes import Outcomes
from mivrat.core.figures.two_sets import LEAST_UNITS, drop, drop_intervals, fisher, two_sets, with_intervals
from tests.support.stopping import StopsAfter
from tests.support.two_runs import two_runs

COUNTS = arrays(np.int64, (3, 3), elements=st.integers(0, 9)).filter(lambda m: m.sum() > 0)


@given(COUNTS, COUNTS)
def test_the_drop_is_split_exactly(one: np.ndarray, other: np.ndarray) -> None:
    found = drop(one, other)
    assert found.total == pytest.approx(np.trace(other) / other.sum() - np.trace(one) / one.sum())
    assert found.class_mix + found.within == pytest.approx(found.total, abs=1e-12)
    assert sum(part.class_mix for part in found.classes) == pytest.approx(found.class_mix, abs=1e-12)
    assert sum(pair.part for pair in found.pairs) == pytest.approx(found.within, abs=1e-12)
    back = drop(other, one)
    assert back.class_mix == pytest.approx(-found.class_mix, abs=1e-12)
    for pair in found.pairs:
        assert pair.label != pair.predicted
        mine = sum(p.part for p in found.pairs if p.label == pair.label)
        assert mine == pytest.approx(found.classes[pair.label].within, abs=1e-12)


def test_the_drop_by_hand() -> None:
    # 80 and 20 images at 90 % and 50 %, then 50 and 50 at 80 % and 50 %: mix (-.3 * .85 + .3 * .5), within (-.1 * .65)
    found = drop(np.array([[72, 8], [10, 10]]), np.array([[40, 10], [25, 25]]))
    assert (found.class_mix, found.within) == pytest.approx((-0.105, -0.065))
    assert found.total == pytest.approx(0.65 - 0.82)
    assert (found.pairs[0].label, found.pairs[0].predicted) == (0, 1)
    assert (found.pairs[0].a, found.pairs[0].b) == (8, 10)
    assert found.pairs[0].part == pytest.approx(-0.065)
    # the same classes as well recognised, only more of the hard one: all of it is mix
    same = drop(np.array([[72, 8], [10, 10]]), np.array([[36, 4], [20, 20]]))
    assert same.within == pytest.approx(0)
    assert same.class_mix == pytest.approx(56 / 80 - 0.82)


@given(st.integers(0, 12), st.integers(0, 12), st.integers(0, 12), st.integers(0, 12))
def test_two_shares_against_scipy(hits: int, misses: int, other: int, other_misses: int) -> None:
    p = fisher(hits, hits + misses, other, other + other_misses)
    if hits + misses and other + other_misses:
        assert p == pytest.approx(fisher_exact([[hits, misses], [other, other_misses]]).pvalue)
    else:
        assert p == 1


def test_figures_of_two_sets_by_loops() -> None:
    a, _, _ = two_runs(np.random.default_rng(1), 220)
    b, _, _ = two_runs(np.random.default_rng(2), 180, strength=(1.0, 1.0))
    found = two_sets(a, b, 4, (1, 3))
    right = [f.predicted == f.labels for f in (a, b)]
    assert found.top1.value == pytest.approx(right[1].mean() - right[0].mean())
    low, high = of_shares(*(wilson_all(np.float64(r.sum()), np.float64(len(r))) for r in right))
    assert (found.top1.low, found.top1.high) == pytest.approx((float(low), float(high)))
    for k, one in enumerate(found.classes):
        mine = [r[f.labels == k] for r, f in zip(right, (a, b), strict=True)]
        assert one.recall.p == pytest.approx(
            fisher_exact([[mine[0].sum(), (~mine[0]).sum()], [mine[1].sum(), (~mine[1]).sum()]]).pvalue
        )
        called = [r[f.predicted == k] for r, f in zip(right, (a, b), strict=True)]
        assert one.precision.value == pytest.approx(called[1].mean() - called[0].mean())
        assert one.p_holm >= (one.recall.p or 0)
    deep = with_intervals(found, a, b, 4)
    assert deep is not None
    for name in ("log_loss", "brier", "macro_f1", "ece", "balanced_accuracy"):
        one_mean = deep.means[name]
        assert one_mean.low is not None and one_mean.high is not None  # noqa: PT018
        assert one_mean.low < (one_mean.value or 0) < one_mean.high
    with stopped_by(StopsAfter(0)):
        assert with_intervals(found, a, b, 4) is None


def test_units_are_dealt_whole() -> None:
    """Every way of dealing six units to two sets of three, against the drawn probability."""
    rng = np.random.default_rng(4)
    hits = [
        np.array([1, 1, 1]),
        np.array([1, 1, 0]),
        np.array([1, 1, 1]),
        np.array([0, 0, 1]),
        np.array([0, 0, 0]),
        np.array([1, 0, 0]),
    ]
    nan = rng.random(9)

    def outcomes(some: list[np.ndarray]) -> tuple[Outcomes, np.ndarray]:
        right = np.concatenate(some)
        zeros = np.zeros(9, np.int64)
        return Outcomes(zeros, 1 - right, nan, zeros + 1, nan, nan, np.zeros(9, bool)), np.repeat(np.arange(3), 3)

    (a, unit_a), (b, unit_b) = outcomes(hits[:3]), outcomes(hits[3:])
    found = two_sets(a, b, 2, (1,), unit_a, unit_b)
    sums = [one.sum() for one in hits]
    seen = abs(sum(sums[:3]) - sum(sums[3:]))
    ways = [abs(2 * sum(sums[i] for i in some) - sum(sums)) >= seen for some in combinations(range(6), 3)]
    assert found.top1.p == pytest.approx(np.mean(ways), abs=0.03)
    assert found.top1.low is None  # three units each are too few for an interval
    assert drop_intervals(a, b, 2, unit_a, unit_b) == {}


def test_parts_of_the_drop_hold_in_a_small_simulation() -> None:
    """Recall falls by a known amount and the mix shifts by a known one."""
    mixes, recalls = ([0.5, 0.3, 0.2], [0.3, 0.3, 0.4]), ([0.9, 0.8, 0.7], [0.85, 0.6, 0.7])
    w, v, r, s = (np.array(x) for x in (*mixes, *recalls))
    truth = {"class_mix": ((v - w) * (r + s) / 2).sum(), "within": ((s - r) * (v + w) / 2).sum()}
    inside: dict[str, list[bool]] = {name: [] for name in truth}
    for seed in range(200):
        rng, sides = np.random.default_rng(seed), []
        for mix, recall in zip(mixes, recalls, strict=True):
            labels = rng.choice(3, 200, p=mix)
            right = rng.random(200) < np.array(recall)[labels]
            nan = np.full(200, np.nan)
            predicted = np.where(right, labels, (labels + 1) % 3)
            sides.append(Outcomes(labels, predicted, nan, np.zeros(200, np.int64), nan, nan, np.zeros(200, bool)))
        ends = drop_intervals(sides[0], sides[1], 3, draws=400, seed=seed)
        assert ends is not None
        for name, (low, high) in ends.items():
            inside[name].append(bool(low <= truth[name] <= high))
    for hits in inside.values():
        assert 0.90 <= np.mean(hits) <= 0.99


def test_the_pair_that_a_drop_names_has_an_interval_that_holds() -> None:
    """Two of four classes are confused with each other more often on the other set; by how much is known."""
    rng, held, trials = np.random.default_rng(6), 0, 120
    truth = -((0.25 - 0.05) / 4 + (0.15 - 0.05) / 4)

    def drawn(first: float, second: float) -> Outcomes:
        labels = rng.integers(0, 4, 400)
        p, luck = np.array([first, second, 0.05, 0.05])[labels], rng.random(400)
        other = np.array([1, 0, 3, 2])[labels]
        predicted = np.where(luck < p, other, labels)
        nothing = np.full(400, np.nan)
        return Outcomes(labels, predicted, nothing, np.ones(400, int), nothing, nothing, np.zeros(400, bool))

    for seed in range(trials):
        ends = drop_intervals(drawn(0.05, 0.05), drawn(0.25, 0.15), 4, pair=(0, 1), draws=300, seed=seed)
        assert ends is not None
        low, high = ends["largest_pair"]
        held += low <= truth <= high
    assert 0.89 * trials <= held


def test_the_parts_of_a_drop_need_a_number_of_images() -> None:
    told = two_runs(np.random.default_rng(0), LEAST_UNITS, 2)[:2]
    assert drop_intervals(*told, 2)
    fewer = [Outcomes(*(value[:-1] for value in vars(one).values())) for one in told]
    assert drop_intervals(*fewer, 2) == {}
