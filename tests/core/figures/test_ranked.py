"""One-versus-rest curves and the classwise calibration error by loops."""

from __future__ import annotations

import math

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from mivrat.core.figures import (
    ranked,
)
from mivrat.core.figures.ranked import auroc_ends, average_precision_ends, of_class
from tests.support.drawn import drawn, softmax


@settings(max_examples=40, deadline=None)
@given(st.integers(1, 30), st.integers(2, 4), st.integers(0, 99))
def test_classwise_ece_and_curves_by_loops(images: int, classes: int, seed: int) -> None:
    scores, labels = drawn(images, classes, seed)
    p = np.round(softmax(scores), 2)
    gaps = []
    for k in range(classes):
        gap = 0.0
        for m in range(15):
            inside = [
                i for i in range(images) if (m / 15 < p[i, k] or (m == 0 and p[i, k] == 0)) and p[i, k] <= (m + 1) / 15
            ]
            gap += abs(sum(labels[i] == k for i in inside) - math.fsum(p[i, k] for i in inside)) / images
        gaps.append(gap)
        positive = labels == k
        points = ranked.curves(p[:, k], positive)
        if 0 < positive.sum() < images:
            area = np.trapezoid(np.append(0, points.recall), np.append(0, points.false_positive_rate))
            assert area == pytest.approx(ranked.auroc(p[:, k], positive))
            steps = np.diff(points.recall, prepend=0) * points.precision
            assert steps.sum() == pytest.approx(ranked.average_precision(p[:, k], positive))
        else:
            assert not len(points.recall)
    assert ranked.one_versus_rest(p.T, labels).classwise_ece == pytest.approx(np.mean(gaps), abs=1e-12)


def test_long_curves_keep_their_shape() -> None:
    rng = np.random.default_rng(0)
    positive = rng.random(20000) < 0.3
    scores = rng.normal(positive * 1.0, 1)
    points = ranked.curves(scores, positive)
    assert len(points.recall) < 1000
    area = np.trapezoid(points.recall, points.false_positive_rate)
    assert area == pytest.approx(ranked.auroc(scores, positive), abs=2e-3)


def test_the_spread_of_a_class_is_that_of_its_placements_one_by_one() -> None:
    rng = np.random.default_rng(4)
    scores, positive = rng.integers(0, 12, 60) / 12, rng.random(60) < 0.3
    others = scores[~positive]
    placed = [float(np.mean((others < one) + 0.5 * (others == one))) for one in scores[positive]]
    found = of_class(scores, np.flatnonzero(positive), 1)
    assert found.auroc == pytest.approx(np.mean(placed))
    assert found.spread == pytest.approx(np.var(placed, ddof=1))
    assert np.isnan(of_class(scores, np.array([3]), 1).spread)


def test_intervals_of_the_areas_hold_the_truth_about_as_often_as_they_say() -> None:
    def some(n: int, rng: np.random.Generator, lead: float, wide: float) -> tuple[np.ndarray, np.ndarray]:
        positive = rng.random(n) < 0.15
        return rng.normal(0, 1, n) + positive * rng.normal(lead, wide, n), positive

    inside, shown = [0, 0], 0
    for lead, wide in ((0.5, 0.1), (1.0, 1.7), (2.5, 1.7)):
        rng = np.random.default_rng(2)
        scores, positive = some(100_000, rng, lead, wide)
        truth = of_class(scores, np.flatnonzero(positive), 1)
        for _ in range(120):
            scores, positive = some(80, rng, lead, wide)
            number = int(positive.sum())
            found = of_class(scores, np.flatnonzero(positive), 1)
            ends = auroc_ends(found.auroc, found.spread, number, 80 - number)
            of_precision = average_precision_ends(found.average_precision, number, 80 - number)
            assert (ends is None) == (of_precision is None) == (number < 5)
            if ends is not None and of_precision is not None:
                shown += 1
                inside[0] += ends[0] <= (truth.auroc or 0) <= ends[1]
                inside[1] += of_precision[0] <= (truth.average_precision or 0) <= of_precision[1]
    assert min(inside) / shown > 0.92
    perfect = auroc_ends(1.0, 0.0, 10, 90)
    assert perfect is not None
    assert (0.6 < perfect[0] < 0.9, perfect[1]) == (True, 1.0)
    assert auroc_ends(None, np.nan, 10, 90) is None
