"""Two runs on the same images: published examples, loops, hypothesis, and a simulation."""

from __future__ import annotations

from math import comb, sqrt

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from scipy.stats import binomtest

from mivrat.core.base.job import stopped_by
from mivrat.core.figures.calibration import calibration
from mivrat.core.figures.confusion import averages
from mivrat.core.figures.differences import ClassShares, effective, mean_difference, of_shares, wilson_all
from mivrat.core.figures.intervals import wilson
from mivrat.core.figures.metrics import COUNTED
from mivrat.core.figures.outcomes import Outcomes
from mivrat.core.figures.paired import paired, share_difference, with_intervals
from mivrat.core.figures.probability import losses, squared_errors
from mivrat.core.figures.significance import holm
from mivrat.core.figures.uncertain_differences import paired_ends, unpaired_ends
from mivrat.core.figures.uncertainty import intervals
from tests.support.stopping import StopsAfter
from tests.support.two_runs import two_runs


@pytest.mark.parametrize(
    ("a", "b", "ends"),
    [((48, 80), (56, 70), (0.0524, 0.3339)), ((3, 10), (9, 10), (0.1705, 0.8090)), ((0, 20), (10, 10), (0.6791, 1.0))],
)
def test_independent_shares_as_published(a: tuple[int, int], b: tuple[int, int], ends: tuple[float, float]) -> None:
    """Newcombe 1998, independent proportions, table II, method 10."""
    low, high = of_shares(wilson_all(*map(np.float64, a)), wilson_all(*map(np.float64, b)))
    assert (float(low), float(high)) == pytest.approx(ends, abs=5e-5)


@pytest.mark.parametrize(("counts", "ends"), [((36, 12, 2, 0), (0.0569, 0.3404)), ((43, 0, 1, 0), (-0.1181, 0.0597))])
def test_paired_shares_as_published(counts: tuple[int, int, int, int], ends: tuple[float, float]) -> None:
    """Newcombe 1998, paired data, table II, method 10; the first share less the second."""
    first = np.repeat([True, True, False, False], counts)
    second = np.repeat([True, False, True, False], counts)
    found = share_difference(second, first, None)
    assert (found.low, found.high) == pytest.approx(ends, abs=5e-5)


def newcombe(both: int, fixed: int, broken: int, neither: int) -> tuple[float, float]:
    """Method 10 for paired data written out as in the paper, by itself."""
    n = both + fixed + broken + neither
    p1, p2 = (both + fixed) / n, (both + broken) / n
    (l1, u1), (l2, u2) = wilson(p1, n), wilson(p2, n)
    below = (both + fixed) * (broken + neither) * (both + broken) * (fixed + neither)
    cross = both * neither - fixed * broken
    if cross > 0:
        cross = max(cross - n / 2, 0)
    phi = cross / sqrt(below) if below else 0.0
    down = sqrt((p1 - l1) ** 2 - 2 * phi * (p1 - l1) * (u2 - p2) + (u2 - p2) ** 2)
    up = sqrt((u1 - p1) ** 2 - 2 * phi * (u1 - p1) * (p2 - l2) + (p2 - l2) ** 2)
    return p1 - p2 - down, p1 - p2 + up


@given(st.tuples(*[st.integers(0, 30)] * 4).filter(lambda c: sum(c) > 0))
def test_paired_share_against_the_paper_and_exact_counting(counts: tuple[int, int, int, int]) -> None:
    _both, fixed, broken, _neither = counts
    a = np.repeat([True, False, True, False], counts)
    b = np.repeat([True, True, False, False], counts)
    found = share_difference(a, b, None)
    low, high = newcombe(*counts)
    changed = fixed + broken
    exact = min(1.0, 2 * sum(comb(changed, i) for i in range(min(fixed, broken) + 1)) / 2**changed)
    if exact >= 0.05 and fixed != broken:  # the exact test decides, and the interval agrees with it
        low, high = min(low, 0.0), max(high, 0.0)
    elif fixed != broken:
        low, high = (max(low, 1e-6), high) if fixed > broken else (low, min(high, -1e-6))
    assert found.low == pytest.approx(max(-1, low), abs=1e-12)
    assert found.high == pytest.approx(min(1, high), abs=1e-12)
    assert found.value == pytest.approx((fixed - broken) / sum(counts), abs=1e-12)
    assert found.low is not None
    assert found.high is not None
    assert found.low <= found.value <= found.high
    assert found.p == pytest.approx(exact)
    if changed:
        assert found.p == pytest.approx(float(binomtest(fixed, changed).pvalue))


def test_every_figure_is_b_minus_a_by_loops() -> None:
    a, b, _unit = two_runs(np.random.default_rng(3), 300, classes=5)
    found = paired(a, b, 5, (1, 3))
    right = {False: a.predicted == a.labels, True: b.predicted == b.labels}
    four = found.four
    told = [(r, s) for r, s in zip(right[False].tolist(), right[True].tolist(), strict=True)]
    assert (four.both_right, four.fixed, four.broken, four.both_wrong) == tuple(
        told.count(one) for one in ((True, True), (False, True), (True, False), (False, False))
    )
    same = [i for i in range(300) if told[i] == (False, False) and a.predicted[i] == b.predicted[i]]
    assert four.same_wrong == len(same) > 0
    p = []
    for k, one in enumerate(found.classes):
        mine = [i for i in range(300) if a.labels[i] == k]
        one_p = (
            binomtest(
                sum(told[i] == (False, True) for i in mine), sum(told[i][0] != told[i][1] for i in mine) or 1
            ).pvalue
            if any(told[i][0] != told[i][1] for i in mine)
            else 1.0
        )
        p.append(one_p)
        assert one.recall.a == pytest.approx(np.mean([told[i][0] for i in mine]))
        low, high = newcombe(*(sum(told[i] == t for i in mine) for t in ((1, 1), (0, 1), (1, 0), (0, 0))))
        assert (one.recall.low, one.recall.high) == pytest.approx((low, high))
        called = [i for i in range(300) if b.predicted[i] == k]
        assert one.precision.b == pytest.approx(np.mean([told[i][1] for i in called]))
        assert one.called_b == len(called)
    assert [one.recall.p for one in found.classes] == pytest.approx(p)
    assert [one.p_holm for one in found.classes] == pytest.approx(holm(p))
    for name, value in (
        ("macro_f1", lambda f, m: averages(m)["macro_f1"]),
        ("balanced_accuracy", lambda f, m: averages(m)["balanced_accuracy"]),
        ("log_loss", lambda f, m: losses(f.own).mean()),
        ("brier", lambda f, m: squared_errors(f.own, f.squares).mean()),
        ("ece", lambda f, m: calibration(f.confidence, f.predicted == f.labels).ece),
    ):
        one = found.means[name]
        assert (one.a, one.b) == pytest.approx((value(a, found.matrix_a), value(b, found.matrix_b)))
        assert one.value == pytest.approx((one.b or 0) - (one.a or 0))
    within = [(f.rank >= 1) & (f.rank <= 3) for f in (a, b)]
    assert found.top_k[3].value == pytest.approx(within[1].mean() - within[0].mean())
    pair = found.pairs[0]
    assert pair.b - pair.a == max(
        ((found.matrix_b - found.matrix_a)[i, j] for i in range(5) for j in range(5) if i != j), key=abs
    )


def test_precision_of_one_and_the_same_model_is_no_difference() -> None:
    a, _, _ = two_runs(np.random.default_rng(5), 200)
    found = paired(a, a, 4)
    for one in found.classes:
        assert one.precision.value == 0
        assert one.recall.value == 0
        assert one.p_holm == 1
        # the same images: the interval is far narrower than that of two independent precisions
        apart = of_shares(*(wilson_all(np.float64(one.called_a * one.precision.a), np.float64(one.called_a)),) * 2)  # type: ignore[operator]
        assert one.precision.high is not None
        assert one.precision.high < 0.5 * float(apart[1])
    assert found.pairs == []
    assert found.four.changed == 0
    deep = with_intervals(found, a, a, 4)
    assert deep is not None
    assert all(deep.means[name].low is None for name in ("log_loss", "brier", "ece", "macro_f1"))


def test_classes_nobody_is_of_or_calls_are_undefined() -> None:
    labels = np.array([0, 0, 1, 1])
    nan = np.full(4, np.nan)
    made = [
        Outcomes(labels, np.array(p), nan, np.zeros(4, np.int64), nan, nan, np.zeros(4, bool))
        for p in ([0, 1, 1, 1], [0, 0, 0, 1])
    ]
    found = paired(*made, 3, (1, 3))
    assert found.classes[2].recall.value is None
    assert found.classes[2].precision.value is None
    assert set(found.top_k) == {1}
    assert set(found.means) == {one.key for one in COUNTED if one.compared}
    assert paired_ends(*made, 3) == {}


def test_intervals_of_many_images_are_those_of_a_plain_bootstrap() -> None:
    a, b, _ = two_runs(np.random.default_rng(8), 400)
    found = paired_ends(a, b, 4, seed=1)
    assert found is not None
    rng, drawn = np.random.default_rng(77), []
    lead = losses(b.own) - losses(a.own)
    for _ in range(2000):
        some = rng.integers(0, 400, 400)
        parts = [
            averages(np.histogram2d(f.labels[some], f.predicted[some], bins=[np.arange(5)] * 2)[0].astype(np.int64))[
                "macro_f1"
            ]
            for f in (a, b)
        ]
        drawn.append((parts[1] or 0) - (parts[0] or 0))
    assert found["macro_f1"] == pytest.approx(tuple(np.quantile(drawn, [0.025, 0.975])), abs=0.008)
    half = 1.96 * lead.std(ddof=1) / 20
    assert found["log_loss"] == pytest.approx((lead.mean() - half, lead.mean() + half), abs=0.25 * half)
    lead = squared_errors(b.own, b.squares) - squared_errors(a.own, a.squares)
    half = 1.96 * lead.std(ddof=1) / 20
    assert found["brier"] == pytest.approx((lead.mean() - half, lead.mean() + half), abs=0.25 * half)
    assert paired_ends(a, b, 4, seed=1) == found
    with stopped_by(StopsAfter(0)):
        assert paired_ends(a, b, 4, np.arange(400)) is None
    turned = paired_ends(b, a, 4, seed=1)
    assert turned is not None
    for name, (low, high) in found.items():
        assert turned[name] == pytest.approx((-high, -low), abs=2e-3)


def test_two_sets_whose_intervals_touch_zero_or_do_not() -> None:
    """The halves of both intervals, squared and added: never narrower than either alone, and no wider than both one after the other."""
    a, b, _ = two_runs(np.random.default_rng(3), 300)
    found = unpaired_ends(a, b, 4, seed=2)
    told = [intervals(one, 4, seed=2) for one in (a, b)]
    assert found is not None
    for name, (low, high) in found.items():
        widths = [one.of[name].high - one.of[name].low for one in told if one is not None]
        assert max(widths) - 1e-9 <= high - low <= sum(widths) + 1e-9
    assert set(found) == {one.key for one in COUNTED if one.compared} - {"balanced_accuracy"} | {
        "log_loss",
        "brier",
        "ece",
    }


def test_units_that_are_single_images_change_little_and_copies_add_nothing() -> None:
    a, b, _ = two_runs(np.random.default_rng(9), 250)
    plain, single = paired(a, b, 4), paired(a, b, 4, unit=np.arange(250))
    assert single.top1.low == pytest.approx(plain.top1.low, abs=2e-3)  # Student's t on 249 in place of the normal
    four = [np.repeat(getattr(f, name), 4) for f in (a, b) for name in vars(a)]
    copied = [Outcomes(*four[:7]), Outcomes(*four[7:])]
    copies = paired(*copied, 4, unit=np.repeat(np.arange(250), 4))
    assert copies.units == 250
    assert (copies.top1.low, copies.top1.high) == pytest.approx((single.top1.low, single.top1.high), abs=2e-3)
    assert copies.top1.p == pytest.approx(single.top1.p, abs=0.02)
    of_copies = paired_ends(*copied, 4, np.repeat(np.arange(250), 4), seed=1)
    alone = paired_ends(a, b, 4, np.arange(250), seed=1)
    assert of_copies is not None
    assert alone is not None
    for name in ("log_loss", "brier", "ece"):
        assert of_copies[name] == pytest.approx(alone[name], rel=1e-6)
    assert of_copies["macro_f1"] == pytest.approx(alone["macro_f1"], abs=2e-3)
    few = paired(a, b, 4, unit=np.arange(250) % 4)
    assert few.top1.low is None
    assert few.top1.value is not None


def test_effective_number_by_hand() -> None:
    # units (1, 1) and (0, 0) and (1, 0): sums 2, 0, 1 around the mean of 1/2
    worth = effective(np.array([1.0, 1, 0, 0, 1, 0]), np.array([0, 0, 1, 1, 2, 2]), np.zeros(6, np.int64), 1)
    spread = ((2 - 1) ** 2 + (0 - 1) ** 2 + 0) * 3 / 2 / 36
    assert worth.total[0] == pytest.approx(6 * (0.25 / 6) / spread)
    assert np.isnan(worth.z[0])  # three units are too few


def test_mean_of_differences_adds_squared_half_widths() -> None:
    a, b, _ = two_runs(np.random.default_rng(2), 500)
    parts = [one.recall for one in paired(a, b, 4).classes]
    found = mean_difference(parts)
    down = sqrt(sum((p.value - p.low) ** 2 for p in parts)) / 4  # type: ignore[operator]
    assert found.value == pytest.approx(np.mean([p.value for p in parts]))  # type: ignore[arg-type]
    assert found.low == pytest.approx(found.value - down)  # type: ignore[operator]
    assert mean_difference([]).value is None
    assert isinstance(wilson_all(np.array([1.0]), np.array([2.0])), ClassShares)


@pytest.mark.slow
def test_intervals_hold_in_a_small_simulation() -> None:
    """The full table is made by benchmarks/comparing.py; here 200 studies of 150 images."""
    inside: dict[str, list[bool]] = {name: [] for name in ("top1", "log_loss", "brier", "macro_f1", "ece")}
    big_a, big_b, _ = two_runs(np.random.default_rng(10**6), 200_000)
    truth = {
        "top1": float((big_b.predicted == big_b.labels).mean() - (big_a.predicted == big_a.labels).mean()),
        **{name: one.value for name, one in paired(big_a, big_b, 4).means.items()},
    }
    for seed in range(200):
        a, b, _ = two_runs(np.random.default_rng(seed), 150)
        top1, found = share_difference(a.predicted == a.labels, b.predicted == b.labels, None), paired_ends(a, b, 4)
        assert found is not None
        assert top1.low is not None
        assert top1.high is not None
        for name, (low, high) in ({"top1": (top1.low, top1.high)} | found).items():
            inside[name].append(low <= truth[name] <= high)
    for hits in inside.values():
        assert len(hits) == 200
        assert 0.90 <= np.mean(hits) <= 0.995


@given(st.lists(st.tuples(st.booleans(), st.booleans()), min_size=1, max_size=40))
def test_the_exact_test_and_the_interval_never_disagree(answers: list[tuple[bool, bool]]) -> None:
    a, b = (np.array(one) for one in zip(*answers, strict=True))
    found = share_difference(a, b, None)
    assert found.p is not None
    assert found.value is not None
    if found.low is not None and found.high is not None:
        assert found.low <= found.value <= found.high
        assert (found.p < 0.05) == (found.beyond_chance != 0)
        assert found.beyond_chance * found.value >= 0


def test_five_to_none_is_no_difference_by_either() -> None:
    a, b = np.zeros(30, bool), np.zeros(30, bool)
    b[:5] = True
    found = share_difference(a, b, None)
    assert found.p == pytest.approx(0.0625)
    assert (found.low, found.beyond_chance) == (0.0, 0)
