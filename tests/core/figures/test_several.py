"""More than two runs: Cochran's Q by hand and against McNemar's, exchanged units, and the best of many alike."""

from __future__ import annotations

from itertools import permutations, product

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from scipy.stats import chi2

from mivrat.core.figures.several import cochran, several
from mivrat.core.figures.significance import even_split, holm


@given(st.integers(0, 40), st.integers(0, 40))
def test_of_two_runs_q_is_mcnemars(fixed: int, broken: int) -> None:
    right = np.array([[True] * broken + [False] * fixed + [True], [False] * broken + [True] * fixed + [True]])
    q, p = cochran(right)
    if fixed + broken:
        assert q == pytest.approx((fixed - broken) ** 2 / (fixed + broken))
        assert p == pytest.approx(chi2.sf(q, 1))
    else:
        assert (q, p) == (0, 1)


def test_q_by_hand_and_pairs_with_holm() -> None:
    """Sums 6, 4, 2 over eight images; image sums 3, 2, 2, 2, 1, 1, 1, 0."""
    right = np.array([[1, 1, 1, 1, 1, 1, 0, 0], [1, 1, 1, 0, 0, 0, 1, 0], [1, 0, 0, 1, 0, 0, 0, 0]], bool)
    q, p = cochran(right)
    by_run, by_image = np.array([6, 4, 2]), np.array([3, 2, 2, 2, 1, 1, 1, 0])
    assert q == pytest.approx(2 * (3 * (by_run**2).sum() - 12**2) / (3 * 12 - (by_image**2).sum()))
    found = several(right)
    assert (found.q, found.p) == (q, p)
    assert found.order == [0, 1, 2]
    assert [(one.better, one.worse) for one in found.pairs] == [(0, 1), (0, 2), (1, 2)]
    exact = [even_split(3, 1), even_split(4, 0), even_split(3, 1)]
    assert [one.p_holm for one in found.pairs] == pytest.approx(holm(exact))
    assert all((one.difference.value or 0) >= 0 for one in found.pairs)


def test_units_are_exchanged_whole() -> None:
    right = np.array([[1, 1, 1, 1, 0, 1], [0, 0, 1, 1, 0, 1], [0, 1, 0, 0, 0, 1]], bool)
    unit = np.array([0, 0, 1, 1, 2, 2])
    sums = np.stack([np.bincount(unit, one) for one in right], axis=1)
    ways = [
        np.square(sum(np.array(one) for one in way)).sum() for way in product(*(list(permutations(s)) for s in sums))
    ]
    exact = np.mean(np.array(ways) >= np.square(sums.sum(axis=0)).sum())
    assert several(right, unit).p == pytest.approx(exact, abs=0.03)


def test_false_alarms_and_the_best_of_many() -> None:
    """Five models as good as one another: Q is under 5 % in one of twenty, and the best looks better than it is."""
    alarms, gained = [], []
    for seed in range(200):
        rng = np.random.default_rng(seed)
        right = (rng.random((5, 120)) + 0.6 * rng.random(120)) < 1.0
        alarms.append(cochran(right)[1] < 0.05)
        if seed < 12:
            gained.append(several(right).optimism)
    assert 0.015 <= np.mean(alarms) <= 0.10
    assert 0.01 < np.mean(gained) < 0.06
    # one model far ahead of the others is hardly flattered by having been chosen
    assert several(np.stack([np.ones(200, bool), np.arange(200) % 2 == 0])).optimism < 0.002


@pytest.mark.parametrize(("runs", "apart"), [(2, 0.0), (5, 0.0), (5, 0.02)])
def test_the_best_looks_too_good_by_about_what_is_told(runs: int, apart: float) -> None:
    rng, seen, told = np.random.default_rng(runs), [], []
    true = 0.85 + apart * np.linspace(-1, 1, runs)
    for _ in range(200):
        common = rng.random(300)
        right = np.stack([np.where(rng.random(300) < 0.5, common, rng.random(300)) < one for one in true])
        best = int(right.mean(axis=1).argmax())
        seen.append(right[best].mean() - true[best])
        told.append(several(right).optimism)
    # Where runs truly differ, it is told a little too large rather than too small.
    assert 0.75 * np.mean(seen) <= np.mean(told) <= (1.45 if apart else 1.25) * np.mean(seen)
