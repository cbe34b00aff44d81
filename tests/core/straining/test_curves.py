"""Curves of a strain test against loops over images, and where a kind breaks by hand."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy import stats

from mivrat.core.answers.answers import SCORED, Answers
from mivrat.core.answers.judged import EvaluatedRun
from mivrat.core.answers.judging import judge
from mivrat.core.figures.differences import Difference
from mivrat.core.figures.intervals import proportion
from mivrat.core.figures.units import units_of
from mivrat.core.pictures.distorting.kinds import Distortion, sweep_from_text
from mivrat.core.straining.curves import StrainLevel, breaks_at, first_flips, strain_figures

STRAINS = [one for text in ("blur:1,2,3", "brightness:-2,-1,1", "jpeg:50,10") for one in sweep_from_text(text)]


def run_of(labels: np.ndarray, predicted: np.ndarray, classes: int, days: list[str] | None = None) -> EvaluatedRun:
    answers = Answers(len(labels), classes, "logits", classes, "recipe")
    answers.rows[np.arange(len(labels)), predicted] = 3
    answers.state[:] = SCORED
    return judge(answers, labels, units_of(days, "day") if days else None)


@given(seed=st.integers(0, 10_000), number=st.integers(0, 60), classes=st.integers(2, 4))
@settings(max_examples=40, deadline=None)
def test_figures_against_loops(seed: int, number: int, classes: int) -> None:
    rng = np.random.default_rng(seed)
    labels, before = rng.integers(-1, classes, number), rng.integers(0, classes, number)
    judged = run_of(labels, before, classes)
    images = np.sort(rng.permutation(number)[: number * 3 // 4])
    predicted = rng.integers(-1, classes, (len(STRAINS), len(images)))
    confidence = np.where(predicted < 0, np.nan, rng.random(predicted.shape))
    found = strain_figures(judged, images, STRAINS, predicted, confidence)
    assert found.images == len(images)
    right = [m for m in images if labels[m] == before[m]]
    labelled = [m for m in images if labels[m] >= 0]
    assert (found.untouched.hits, found.untouched.total) == (len(right), len(labelled))
    raw = []
    by_strain = {one.strain.spelled: one for one in found.levels}
    for s, strain in enumerate(STRAINS):
        known = [j for j, m in enumerate(images) if predicted[s, j] >= 0]
        mine = [j for j in known if labels[images[j]] >= 0]
        was = [labels[images[j]] == before[images[j]] for j in mine]
        now = [labels[images[j]] == predicted[s, j] for j in mine]
        fixed = sum(b and not a for a, b in zip(was, now, strict=True))
        broken = sum(a and not b for a, b in zip(was, now, strict=True))
        one = by_strain[strain.spelled]
        assert (one.accuracy.hits, one.accuracy.total) == (sum(now), len(mine))
        assert (one.fixed, one.broken) == (fixed, broken)
        assert one.changed.hits == sum(predicted[s, j] != before[images[j]] for j in known)
        assert one.changed.total == len(known)
        if mine:
            assert one.confidence == pytest.approx(np.mean([confidence[s, j] for j in mine]))
            p = stats.binomtest(fixed, fixed + broken).pvalue if fixed + broken else 1.0
            assert one.difference.p == pytest.approx(p)
            raw.append((p, one.p_holm))
        for k in range(classes):
            of = [j for j in mine if labels[images[j]] == k]
            assert one.by_class[k] == (sum(predicted[s, j] == k for j in of), len(of))
    # Holm by its definition over all levels of all kinds.
    highest = 0.0
    for step, (p, corrected) in enumerate(sorted(raw)):
        highest = max(highest, min(1.0, p * (len(raw) - step)))
        assert corrected == pytest.approx(highest)


def level(at: float, drop: float, p: float) -> StrainLevel:
    share = proportion(50, 100)
    return StrainLevel(Distortion("blur", at), share, Difference(0.9, 0.9 - drop, -drop), 0, 0, share, 0.5, p, ())


def test_it_breaks_where_all_that_follows_is_lower_beyond_chance_and_the_margin() -> None:
    mild, low, lower = level(1, 0.02, 0.001), level(2, 0.06, 0.01), level(3, 0.3, 1e-9)
    assert breaks_at([mild, low, lower], 0.05) == 2
    assert breaks_at([mild, low, lower], 0.01) == 1
    assert breaks_at([mild, replace(low, p_holm=0.05), lower], 0.05) == 3
    # What recovers has not broken before.
    assert breaks_at([low, mild, lower], 0.05) == 3
    assert breaks_at([lower, low, mild], 0.05) is None
    assert breaks_at([level(1, 0.05, 1e-9)], 0.05) is None
    assert breaks_at([level(1, -0.3, 1e-9)], 0.05) is None
    assert breaks_at([], 0.05) is None


def test_kinds_with_two_sides_break_on_either_and_retained_is_the_mean() -> None:
    number = 200
    labels, before = np.zeros(number, np.int64), np.zeros(number, np.int64)
    judged = run_of(labels, before, 2)
    wrong = {
        "brightness:-2": 90,
        "brightness:-1": 60,
        "brightness:1": 2,
        "blur:1": 0,
        "blur:2": 30,
        "blur:3": 80,
        "jpeg:50": 1,
        "jpeg:10": 50,
    }
    predicted = np.array([[1] * wrong[one.spelled] + [0] * (number - wrong[one.spelled]) for one in STRAINS])
    found = strain_figures(judged, np.arange(number), STRAINS, predicted, np.full(predicted.shape, 0.8))
    blur, brightness, jpeg = found.curves
    assert (blur.breaks_at, blur.breaks_below) == (2, None)
    assert (brightness.breaks_at, brightness.breaks_below) == (None, -1)
    assert (jpeg.breaks_at, [one.strain.level for one in jpeg.levels]) == (10, [50, 10])
    assert blur.retained == pytest.approx(np.mean([200, 170, 120]) / 200)
    faint = sweep_from_text("noise:0.1")
    wrong_first = np.where(np.arange(number) < 90, 1, 0)[None]
    assert (
        strain_figures(judged, np.arange(number), faint, wrong_first, np.full((1, number), 0.8)).curves[0].breaks_at
        == 0.1
    )
    over = strain_figures(
        run_of(labels, before, 2, [f"day {i % 4}" for i in range(number)]),
        np.arange(number),
        STRAINS,
        predicted,
        np.full(predicted.shape, 0.8),
    )
    assert over.curves[0].levels[2].accuracy.units == 4
    assert over.curves[0].levels[2].accuracy.low is None, "four units say nothing"


def test_images_are_in_order_of_how_early_they_flip() -> None:
    before = np.array([0, 0, 0, -1])
    strains = STRAINS[:6]  # blur 1, 2, 3; brightness -2, -1, 1
    predicted = np.zeros((6, 4), np.int64)
    predicted[2, 0] = 1  # only at the last level of blur
    predicted[1:3, 1] = 1  # from the second on
    predicted[3, 1] = 1  # and at brightness -2, the second step that way
    predicted[0, 2] = -1  # no answer is no flip
    predicted[:, 3] = 1
    assert first_flips(before, strains, predicted).tolist() == [1.0, pytest.approx(2 / 3), np.inf, np.inf]
    predicted[4, 0] = 1  # brightness -1: the first of two steps that way
    assert first_flips(before, strains, predicted)[0] == 0.5
    predicted[5, 0] = 1  # brightness 1: the only step the other way
    assert first_flips(before, strains, predicted)[0] == 0.5
