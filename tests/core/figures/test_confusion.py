"""The confusion matrix: counts by loops, kappa and MCC by hand, mistakes in order, classes side by side."""

from __future__ import annotations

import math

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from mivrat.core.figures import (
    confusion,
    ranking,
)
from tests.support.drawn import cases


@given(cases())
def test_confusion_and_class_figures_by_loops(case: tuple[np.ndarray, np.ndarray]) -> None:
    scores, labels = case
    predicted = ranking.predictions(scores)
    k = scores.shape[1]
    matrix = confusion.confusion_matrix(labels, predicted, k)
    pairs = list(zip(labels.tolist(), predicted.tolist(), strict=True))
    recalls, precisions, f1s = [], [], []
    for c, found in enumerate(confusion.class_figures(matrix)):
        tp = sum(a == c and b == c for a, b in pairs)
        support, called = sum(a == c for a, _ in pairs), sum(b == c for _, b in pairs)
        assert [int(matrix[c, j]) for j in range(k)] == [sum(a == c and b == j for a, b in pairs) for j in range(k)]
        assert (found.support, found.predicted, found.true_positive) == (support, called, tp)
        assert found.recall.value == (tp / support if support else None)
        assert found.precision.value == (tp / called if called else None)
        assert found.f1 == (2 * tp / (support + called) if support + called else None)
        if support:
            recalls.append(tp / support)
            precisions.append(tp / called if called else 0.0)
            f1s.append((2 * tp / (support + called), support))
    averages = confusion.averages(matrix)
    assert averages["balanced_accuracy"] == averages["macro_recall"] == pytest.approx(np.mean(recalls))
    assert averages["macro_precision"] == pytest.approx(np.mean(precisions))
    assert averages["macro_f1"] == pytest.approx(np.mean([f for f, _ in f1s]))
    assert averages["weighted_f1"] == pytest.approx(sum(f * n for f, n in f1s) / len(labels))


def test_kappa_and_mcc_by_hand() -> None:
    """Two raters, 20 and 15 agreements of 50: kappa 0.4; for two classes MCC is (TP TN - FP FN) over its root."""
    averages = confusion.averages(np.array([[20, 5], [10, 15]]))
    assert averages["cohen_kappa"] == pytest.approx(0.4)
    assert averages["mcc"] == pytest.approx((20 * 15 - 5 * 10) / math.sqrt(25 * 25 * 30 * 20))


def test_mcc_is_the_correlation_of_indicator_columns() -> None:
    """Gorodkin (2004): covariance of the two indicator matrices over the root of their variances."""
    rng = np.random.default_rng(3)
    labels, predicted = rng.integers(0, 4, 60), rng.integers(0, 4, 60)
    x, y = np.eye(4)[labels], np.eye(4)[predicted]
    x, y = x - x.mean(axis=0), y - y.mean(axis=0)
    expected = (x * y).sum() / math.sqrt((x * x).sum() * (y * y).sum())
    assert confusion.averages(confusion.confusion_matrix(labels, predicted, 4))["mcc"] == pytest.approx(expected)


@given(cases(), st.integers(1, 6))
def test_mistakes_by_loops(case: tuple[np.ndarray, np.ndarray], most: int) -> None:
    scores, labels = case
    matrix = confusion.confusion_matrix(labels, ranking.predictions(scores), scores.shape[1])
    k = len(matrix)
    pairs = [(i, j, int(matrix[i, j])) for i in range(k) for j in range(k) if i != j and matrix[i, j]]
    found = confusion.mistakes(matrix, most)
    assert found.largest == sorted(pairs, key=lambda pair: (-pair[2], pair[0], pair[1]))[:most]
    for i, (j, times) in enumerate(found.most_taken_for):
        assert times == max((n for a, _, n in pairs if a == i), default=0)
        assert not times or (i, j, times) in pairs


def test_confused_classes_are_put_side_by_side() -> None:
    """Three hidden groups of classes that are only confused among themselves stand together; the untouched come last."""
    rng = np.random.default_rng(0)
    hidden = rng.permutation(np.repeat([0, 1, 2, 3], 3))
    matrix = np.where((hidden[:, None] == hidden) & (hidden < 3), 5, 0) + 20 * np.eye(12, dtype=int)
    order = confusion.order_by_likeness(matrix)
    assert sorted(order.tolist()) == list(range(12))
    found = hidden[order]
    assert (found[9:] == 3).all()
    assert sum(found[:-1] != found[1:]) == 3
    assert confusion.order_by_support(np.array([[1, 0], [5, 2]])).tolist() == [1, 0]
    assert confusion.order_by_likeness(np.zeros((2, 2), int)).tolist() == [0, 1]


def test_a_direction_over_units_takes_the_place_of_the_counts() -> None:
    matrix = np.array([[5, 4, 0], [1, 5, 2], [0, 0, 5]])
    by_counts, by_units = (confusion.worst_pairs(matrix, 3, way) for way in (None, lambda a, b: 0.04 if a else 0.3))
    assert [(one.first, one.second, one.there, one.back) for one in by_units] == [(0, 1, 4, 1), (1, 2, 2, 0)]
    assert [one.p for one in by_units] == pytest.approx([0.3, 0.08])  # Holm: 0.04 x 2, then 0.3
    assert [one.p for one in by_counts] == pytest.approx([0.75, 0.75])  # 5 images 4 to 1, and 2 to none: 0.375 and 0.5
