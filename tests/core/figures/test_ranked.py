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
