"""Prediction sets: scores and thresholds against loops, and their guarantee by simulation."""

from __future__ import annotations

import math

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from numpy.typing import NDArray

from mivrat.core.figures.prediction_sets import SCORE_KINDS, ScoreKind, in_set, quantile, set_scores, threshold


@settings(max_examples=60, deadline=None)
@given(st.integers(1, 12), st.integers(2, 6), st.integers(0, 10_000))
def test_scores_are_those_of_a_loop(images: int, classes: int, seed: int) -> None:
    weights = np.random.default_rng(seed).integers(1, 4, (images, classes)).astype(float)  # with ties
    p = weights / weights.sum(axis=1, keepdims=True)
    expected = [[sum(q for q in row if q >= one) for one in row] for row in p]
    np.testing.assert_allclose(set_scores(p, "adaptive"), expected, atol=1e-12)
    np.testing.assert_array_equal(set_scores(p, "least"), 1 - p)


@given(st.lists(st.floats(0, 1), min_size=1, max_size=40), st.sampled_from([0.5, 0.8, 0.9, 0.95]))
def test_the_threshold_is_the_right_one_of_the_sorted_scores(own: list[float], level: float) -> None:
    place = math.ceil(round((len(own) + 1) * level, 9))
    assert quantile(np.array(own), level) == (sorted(own)[place - 1] if place <= len(own) else math.inf)


def made(rng: np.random.Generator, n: int, sharp: float, lean: float) -> tuple[NDArray[np.float64], NDArray[np.int64]]:
    """Probabilities and labels: confident beyond reason where ``sharp`` is above 1, one class rarely right where ``lean`` is above 0."""
    z = rng.normal(0, 2, (n, 5))
    truth = np.exp(z) / np.exp(z).sum(axis=1, keepdims=True)
    labels = (truth.cumsum(axis=1) > rng.random((n, 1))).argmax(axis=1)
    z = z * sharp
    z[:, 0] -= lean
    return np.exp(z) / np.exp(z).sum(axis=1, keepdims=True), labels


@pytest.mark.parametrize("kind", SCORE_KINDS)
@pytest.mark.parametrize(("sharp", "lean"), [(1.0, 0.0), (3.0, 0.0), (1.0, 2.0)])
def test_new_images_are_covered_as_often_as_was_asked_for(kind: ScoreKind, sharp: float, lean: float) -> None:
    rng, found, of_first = np.random.default_rng(7), [], []
    for _ in range(60):
        p, labels = made(rng, 500, sharp, lean)
        scores = set_scores(p, kind)
        own = scores[np.arange(500), labels]
        first, rest = slice(0, 250), slice(250, 500)
        for by_class in (False, True):
            limit = threshold(own[first], labels[first], 5, 0.9, kind, by_class)
            inside = in_set(scores[rest], limit)
            covered = inside[np.arange(250), labels[rest]]
            if by_class:
                of_first.append(covered[labels[rest] == 0].mean())
            else:
                found.append(covered.mean())
    assert 0.893 <= np.mean(found) <= 0.912
    assert np.mean(of_first) >= 0.885  # in the class that the model neglects, too


def test_a_class_with_too_few_images_is_always_in_the_set() -> None:
    own, labels = np.linspace(0, 0.9, 12), np.array([0] * 10 + [1] * 2)
    limit = threshold(own, labels, 3, 0.9, "least", True)
    assert np.isinf(limit.of_class).tolist() == [False, True, True]
    assert in_set(np.ones((1, 3)), limit).tolist() == [[False, True, True]]
