"""Intervals and tests over whole units, by loops, by enumeration and in simulation."""

from __future__ import annotations

from itertools import permutations, product

import numpy as np
import pytest
from scipy.stats import t as student

from mivrat.core.answers.answers import SCORED, Answers
from mivrat.core.answers.judged import EvaluatedRun
from mivrat.core.answers.judging import judge
from mivrat.core.figures import units
from mivrat.core.figures.groups import group_figures
from mivrat.core.figures.intervals import proportion
from mivrat.core.figures.significance import AtMost
from mivrat.core.figures.uncertainty import _gap_over_units, by_unit, score_interval


def made(seed: int, total: int = 160, classes: int = 4, of: int = 14) -> EvaluatedRun:
    rng = np.random.default_rng(seed)
    answers = Answers(total, classes, "logits")
    answers.rows[:], answers.state[:] = rng.normal(0, 2, (total, classes)), SCORED
    names = [f"slide {k:02}" if k else "" for k in rng.integers(0, of, total)]
    return judge(answers, rng.integers(0, classes, total).tolist(), units.units_of(names, "slide"))


def by_loops(hits: np.ndarray, unit: np.ndarray, alike: float, level: float = 0.05) -> tuple[float, float] | None:
    """Design effect, effective N and Wilson with Student's t, written out."""
    each = [(float(hits[unit == u].sum()), int((unit == u).sum())) for u in sorted(set(unit.tolist()))]
    n, u = sum(size for _, size in each), len(each)
    p = sum(y for y, _ in each) / n
    if u < 5:
        return None
    # What a sum of squared residuals has of its true value, where an image's luck is its unit's: the residual of unit i is n_i times
    # (a_i less the mean of all a weighted by size), worked out for each unit by itself.
    true = sum(size**2 for _, size in each)
    shown = sum(
        size**2 * ((1 - size / n) ** 2 + sum((other / n) ** 2 for j, (_, other) in enumerate(each) if j != i))
        for i, (_, size) in enumerate(each)
    )
    expected = 1 + (true / n - 1) * min(1, max(0, alike))
    mixed = min(sum(y > 0 for y, _ in each), sum(y < size for y, size in each))
    if p in (0, 1):
        effect = (1 + expected) / 2
    else:
        variance = sum((y - p * size) ** 2 for y, size in each) * (true / shown) / n**2
        effect = (mixed * variance * n / (p * (1 - p)) + expected) / (mixed + 1)
    effective = max(1.0, n / max(1.0, effect))
    z = student.ppf(1 - level / 2, u - 1)
    middle = (p + z * z / (2 * effective)) / (1 + z * z / effective)
    half = z / (1 + z * z / effective) * (p * (1 - p) / effective + z * z / (4 * effective**2)) ** 0.5
    return 0.0 if p == 0 else middle - half, 1.0 if p == 1 else middle + half


def correlation(values: np.ndarray, unit: np.ndarray) -> float:
    """The intraclass correlation, from pairs of sums by unit."""
    groups = [values[unit == u].astype(float) for u in np.unique(unit)]
    total, count = len(values), len(groups)
    between = sum(len(g) * (g.mean() - values.mean()) ** 2 for g in groups) / (count - 1)
    within = sum(((g - g.mean()) ** 2).sum() for g in groups) / (total - count)
    typical = (total - sum(len(g) ** 2 for g in groups) / total) / (count - 1)
    return float((between - within) / (between + (typical - 1) * within))


@pytest.mark.parametrize("seed", range(6))
def test_every_share_of_a_run_is_over_units(seed: int) -> None:
    judged = made(seed, of=3 if seed == 5 else 14)
    assert judged.units is not None
    unit, labels, predicted = judged.units.number, judged.labels, judged.predicted
    figures = judged.figures([1, 2])
    alike = correlation(judged.own, unit)
    assert judged.alike == pytest.approx(max(0.0, alike))
    shares = [(figures.top_k[k], judged.rank <= k, np.ones(160, bool)) for k in (1, 2)]
    for k, one in enumerate(figures.classes):
        shares += [
            (one.recall, predicted == k, labels == k),
            (one.precision, labels == k, predicted == k),
            (one.specificity, predicted != k, labels != k),
        ]
    edges = [(b.low, b.high) for b in figures.calibration.bins]
    for bin_, (low, high) in zip(figures.calibration.bins, edges, strict=True):
        inside = (judged.confidence > low) & (judged.confidence <= high)
        shares.append((bin_.accuracy, judged.right, inside))
    for found, hits, among in shares:
        assert (found.hits, found.total) == (int(hits[among].sum()), int(among.sum()))
        if not among.any():
            continue
        assert found.units == len(set(unit[among].tolist()))
        expected = by_loops(hits[among], unit[among], alike)
        assert (found.low, found.high) == (pytest.approx(expected) if expected else (None, None))


def test_images_alone_are_units_too_and_names_do_not_matter() -> None:
    found = units.units_of(["b", "", "a", "", "b"], "slide")
    assert found.of(np.arange(5)).tolist() == [1, 2, 0, 3, 1]
    assert found.of(np.array([3, 1, 2])).tolist() == [1, 2, 0]
    assert found.of([0, 2, 4]).tolist() == [1, 0, 1]


def test_intervals_hold_where_images_of_a_unit_are_alike() -> None:
    rng, held, held_alone = np.random.default_rng(11), 0, 0
    for _ in range(300):
        unit = np.repeat(np.arange(20), 15)
        right = rng.random(300) < np.repeat(rng.beta(4, 1, 20), 15)
        over, alone = units.share(right, unit), proportion(int(right.sum()), 300)
        held += (over.low or 0) <= 0.8 <= (over.high or 0)
        held_alone += (alone.low or 0) <= 0.8 <= (alone.high or 0)
    assert held >= 0.92 * 300 > held_alone + 30


def test_turned_signs_are_all_ways_and_hold_their_level() -> None:
    told = np.array([3.0, -1, 2, 0, 2, 1, -1])
    ways = [abs(sum(s * v for s, v in zip(signs, told, strict=True))) for signs in product((-1, 1), repeat=7)]
    assert units.turned_signs(told) == pytest.approx(sum(way >= 6 for way in ways) / len(ways))
    assert units.turned_signs(np.zeros(4)) == 1.0
    rng = np.random.default_rng(2)
    alarms = sum(units.turned_signs(rng.normal(0, 1, 40)) < 0.05 for _ in range(300))
    assert alarms <= 27
    many = rng.normal(0, 1, 5000)
    assert units.turned_signs(many) == pytest.approx(units.turned_signs(many[:2000]), abs=1.0)


def test_a_group_is_below_the_rest_by_all_ways_of_dealing_units() -> None:
    right = np.array([1, 1, 1, 0, 1, 1, 0, 0, 1, 0, 0, 0], bool)
    unit, group_of = np.repeat(np.arange(6), 2), np.array([0, 0, 0, 1, 1, 1])
    found = units.below_rest(right, group_of[unit], unit)

    def lag(dealt: tuple[int, ...]) -> float:
        inside = np.array(dealt)[unit] == 1
        return float(right[inside].mean() - right[~inside].mean())

    ways = [lag(dealt) <= lag(tuple(group_of)) + 1e-12 for dealt in permutations(group_of.tolist())]
    assert found[1] == pytest.approx(np.mean(ways), abs=0.02)


@pytest.mark.slow
def test_groups_that_merely_differ_as_units_do_raise_no_alarm() -> None:
    rng, alarms, alone = np.random.default_rng(4), 0, 0
    for _ in range(24):
        unit = np.repeat(np.arange(24), 12)
        right = rng.random(288) < np.repeat(rng.beta(2, 1, 24), 12)
        names, use = [f"site {u % 4}" for u in unit], np.ones(288, bool)
        some = units.Units("slide", unit, 1 + int(unit.max()))
        alarms += group_figures(names, right, np.ones(288), use, some)[0].p < 0.05
        alone += group_figures(names, right, np.ones(288), use)[0].p < 0.05
    assert alarms <= 3 < alone


def test_answers_alike_within_a_column_point_it_out() -> None:
    rng = np.random.default_rng(8)
    unit = np.repeat(np.arange(40), 8)
    alike, p = units.alike_within(rng.random(320) < np.repeat(rng.beta(1, 1, 40), 8), unit)
    assert alike > 0.15
    assert p < 1e-4
    assert units.alike_within(rng.random(320) < 0.7, unit)[1] > 1e-3


def unequal(rng: np.random.Generator, count: int) -> np.ndarray:
    """The unit of each image, in units of log-normal size (sd 1), 12 images on average."""
    sizes = np.maximum(1, np.round(12 * np.exp(rng.normal(-0.5, 1, count)))).astype(int)
    return np.repeat(np.arange(count), sizes)


def test_intervals_hold_where_units_are_of_unequal_size() -> None:
    rng, trials = np.random.default_rng(5), 300
    for count in (12, 40):
        held = np.zeros(3)
        for _ in range(trials):
            unit = unequal(rng, count)
            p = rng.beta(4, 1, count)[unit]
            right = rng.random(len(unit)) < p
            found = units.share(right, unit)
            held[0] += (found.low or 0) <= 0.8 <= (found.high or 1)
            luck = rng.gamma(2, 0.5, count)[unit] * rng.gamma(4, 0.25, len(unit))  # as a loss: mean 1, skewed
            low, high = score_interval(by_unit(luck, unit), float(luck.mean()), 10.0, 0.0, 0.0, True)
            held[1] += low <= 1 <= high
            gap = _gap_over_units(luck - 1, unit)
            held[2] += gap[0] <= 0 <= gap[1]
        assert (held >= np.array([0.92, 0.88, 0.88]) * trials).all(), held / trials


def test_all_right_is_no_less_than_nearly_all_right() -> None:
    unit = np.repeat(np.arange(40), 12)
    right = np.ones(480, bool)
    lower = []
    for wrong in ([], [5], [5, 200]):
        right[:] = True
        right[wrong] = False
        found = units.share(right, unit, alike=0.1)
        assert found.low is not None
        lower.append(found.low)
    assert lower[0] >= lower[1]
    assert lower[0] >= lower[2] - 0.002
    alone = units.share(np.ones(480, bool), unit).low
    assert alone is not None
    assert alone < lower[0]  # nothing else is known: a whole unit may be wrong together


@pytest.mark.parametrize("over_units", [False, True])
def test_a_claim_is_refuted_just_where_the_interval_excludes_it(over_units: bool) -> None:
    rng = np.random.default_rng(3)
    for _ in range(60):
        unit = unequal(rng, 15)
        right = rng.random(len(unit)) < rng.beta(8, 1, 15)[unit]
        over = unit if over_units else None
        found = units.share(right, over)
        assert found.low is not None
        assert found.high is not None
        for claim in (
            *rng.uniform(0.01, 0.99, 4),
            found.low - 1e-6,
            found.low + 1e-6,
            found.high + 1e-6,
            found.high - 1e-6,
        ):
            if 0 < claim < 1:
                p = units.against_claim(right, claim, over)
                assert (p < 0.05) == (not found.low <= claim <= found.high)
    if over_units:  # a true claim of 95 % raises an alarm in one study of twenty, not in one of four
        alarms = 0
        for _ in range(300):
            unit = np.repeat(np.arange(20), 15)
            right = rng.random(300) < rng.beta(9.5, 0.5, 20)[unit]
            alarms += units.against_claim(right, 0.95, unit) < 0.05
        assert alarms <= 0.08 * 300


def test_a_drawn_probability_says_that_it_is_a_bound() -> None:
    lead = np.ones(60)
    p = units.turned_signs(lead)
    assert isinstance(p, AtMost)
    assert p == pytest.approx(1 / 5000)
    assert not isinstance(units.turned_signs(np.ones(5)), AtMost)  # all 32 ways were tried
    assert isinstance(units.from_kept(0.0002, 12), AtMost)
    assert not isinstance(units.from_kept(0.0002, None), AtMost)
