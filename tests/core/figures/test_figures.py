"""Ranks, confusion, averages, probability figures and calibration against loops and hand-worked cases."""

from __future__ import annotations

import math

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from mivrat.core.figures import calibration, confusion, ranked, ranking
from mivrat.core.figures.outcomes import outcomes
from mivrat.core.figures.summary import sensible_ks, summarise


@st.composite
def cases(draw: st.DrawFn) -> tuple[np.ndarray, np.ndarray]:
    """Scores from a few values only, so that ties are common, and labels."""
    n, k = draw(st.integers(1, 12)), draw(st.integers(2, 5))
    scores = draw(st.lists(st.lists(st.integers(-2, 2), min_size=k, max_size=k), min_size=n, max_size=n))
    labels = draw(st.lists(st.integers(0, k - 1), min_size=n, max_size=n))
    return np.array(scores, float), np.array(labels)


def softmax(scores: np.ndarray) -> np.ndarray:
    return np.array([[math.exp(s) / math.fsum(math.exp(t) for t in row) for s in row] for row in scores])


@given(cases())
def test_ranks_top_k_and_ties_by_loops(case: tuple[np.ndarray, np.ndarray]) -> None:
    scores, labels = case
    expected, ties = [], 0
    for row, label in zip(scores.tolist(), labels.tolist(), strict=True):
        order = sorted(range(len(row)), key=lambda j: (-row[j], j))
        expected.append(order.index(label) + 1)
        ties += row.count(max(row)) > 1
    ranks = ranking.label_ranks(scores, labels)
    assert ranks.tolist() == expected
    assert ranking.top_ties(scores) == ties
    assert ((ranks == 1) == (ranking.predictions(scores) == labels)).all()
    for k in range(1, scores.shape[1] + 1):
        assert ranking.top_k(ranks, k).hits == sum(r <= k for r in expected)


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
    assert averages.balanced_accuracy == averages.macro_recall == pytest.approx(np.mean(recalls))
    assert averages.macro_precision == pytest.approx(np.mean(precisions))
    assert averages.macro_f1 == pytest.approx(np.mean([f for f, _ in f1s]))
    assert averages.weighted_f1 == pytest.approx(sum(f * n for f, n in f1s) / len(labels))


def test_kappa_and_mcc_by_hand() -> None:
    """Two raters, 20 and 15 agreements of 50: kappa 0.4; for two classes MCC is (TP TN - FP FN) over its root."""
    averages = confusion.averages(np.array([[20, 5], [10, 15]]))
    assert averages.cohen_kappa == pytest.approx(0.4)
    assert averages.mcc == pytest.approx((20 * 15 - 5 * 10) / math.sqrt(25 * 25 * 30 * 20))


def test_mcc_is_the_correlation_of_indicator_columns() -> None:
    """Gorodkin (2004): covariance of the two indicator matrices over the root of their variances."""
    rng = np.random.default_rng(3)
    labels, predicted = rng.integers(0, 4, 60), rng.integers(0, 4, 60)
    x, y = np.eye(4)[labels], np.eye(4)[predicted]
    x, y = x - x.mean(axis=0), y - y.mean(axis=0)
    expected = (x * y).sum() / math.sqrt((x * x).sum() * (y * y).sum())
    assert confusion.averages(confusion.confusion_matrix(labels, predicted, 4)).mcc == pytest.approx(expected)


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


def test_one_class_only_leaves_kappa_and_mcc_undefined() -> None:
    averages = confusion.averages(np.array([[7, 0], [0, 0]]))
    assert averages.balanced_accuracy == 1
    assert (averages.cohen_kappa, averages.mcc) == (None, None)
    assert confusion.averages(np.zeros((3, 3), int)).macro_f1 is None


@given(cases())
def test_log_loss_brier_auroc_and_average_precision_by_loops(case: tuple[np.ndarray, np.ndarray]) -> None:
    scores, labels = case
    p = softmax(scores)
    n, k = p.shape
    found = outcomes(scores, p, labels)
    assert found.complete
    figures = summarise(found, k, [1])
    assert figures.log_loss is not None
    assert figures.log_loss.value == pytest.approx(-sum(math.log(p[i, labels[i]]) for i in range(n)) / n, abs=1e-10)
    squares = sum((p[i, j] - (labels[i] == j)) ** 2 for i in range(n) for j in range(k))
    assert figures.brier == pytest.approx(squares / n, abs=1e-10)
    for j in range(k):
        column, positive = scores[:, j], labels == j
        wins = [(a > b) + 0.5 * (a == b) for a in column[positive] for b in column[~positive]]
        assert ranked.auroc(column, positive) == (pytest.approx(np.mean(wins)) if wins else None)
        area, before = 0.0, 0.0
        for threshold in sorted(set(column.tolist()), reverse=True):
            called = column >= threshold
            recall = (called & positive).sum() / max(1, positive.sum())
            area += (recall - before) * (called & positive).sum() / called.sum()
            before = recall
        assert ranked.average_precision(column, positive) == (pytest.approx(area) if positive.any() else None)


def test_log_loss_clips_and_says_so() -> None:
    p = np.array([[0.0, 1.0], [0.5, 0.5]])
    found = summarise(outcomes(p, p, np.array([0, 0])), 2, [1]).log_loss
    assert found is not None
    assert found.clipped == 1
    assert found.value == pytest.approx((52 * math.log(2) + math.log(2)) / 2)


def test_bin_edges_belong_below() -> None:
    """Bin m holds (m/M, (m+1)/M]; 0 falls in the first."""
    edges = np.array([0.0, 1 / 15, 0.0667, 5 / 15, 1.0])
    assert calibration.bin_index(edges, 15).tolist() == [0, 0, 1, 4, 14]


def test_calibration_by_hand() -> None:
    """Two bins: (0.4, right), (0.3, wrong) and (0.9, right), (0.8, right), (0.7, wrong): gaps 0.15 and 2/3 - 0.8."""
    found = calibration.calibration(
        np.array([0.4, 0.3, 0.9, 0.8, 0.7]), np.array([True, False, True, True, False]), bins=2
    )
    assert [b.count for b in found.bins] == [2, 3]
    assert found.ece == pytest.approx(0.4 * 0.15 + 0.6 * (0.8 - 2 / 3))
    assert found.mce == pytest.approx(0.15)
    assert found.signed_gap == pytest.approx(0.62 - 0.6)


@settings(max_examples=40)
@given(st.lists(st.tuples(st.floats(0, 1), st.booleans()), min_size=1, max_size=40), st.integers(1, 20))
def test_calibration_by_loops(pairs: list[tuple[float, bool]], bins: int) -> None:
    ece, mce = 0.0, 0.0
    for m in range(bins):
        inside = [(c, r) for c, r in pairs if (m / bins < c or (m == 0 and c == 0)) and c <= (m + 1) / bins]
        if inside:
            gap = abs(sum(r for _, r in inside) - math.fsum(c for c, _ in inside)) / len(inside)
            ece, mce = ece + gap * len(inside) / len(pairs), max(mce, gap)
    found = calibration.calibration(np.array([c for c, _ in pairs]), np.array([r for _, r in pairs]), bins)
    assert found.ece == pytest.approx(ece, abs=1e-12)
    assert found.mce == pytest.approx(mce, abs=1e-12)
    assert sum(b.count for b in found.bins) == len(pairs)


def test_no_images_mean_no_figures() -> None:
    empty = summarise(outcomes(np.zeros((0, 3)), np.zeros((0, 3)), np.zeros(0, int)), 3, [1])
    assert empty.top_k[1].value is None
    assert (empty.log_loss, empty.brier, empty.calibration.ece, empty.calibration.mce) == (None, None, None, None)
    assert [b.count for b in empty.calibration.bins] == [0] * 15
    assert empty.matrix.sum() == 0
    assert [sensible_ks(k) for k in (2, 4, 8)] == [[1], [1, 3], [1, 3, 5]]
