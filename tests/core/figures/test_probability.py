"""Log loss, Brier score, areas under curves and average precision by loops."""

from __future__ import annotations

import math

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from mivrat.core.figures import ranked
from mivrat.core.figures.outcomes import outcomes, outcomes_of_logits
from mivrat.core.figures.summary import summarise
from tests.support.drawn import cases


def softmax(scores: np.ndarray) -> np.ndarray:
    return np.array([[math.exp(s) / math.fsum(math.exp(t) for t in row) for s in row] for row in scores])


@given(cases(), st.integers(0, 3), st.sampled_from([np.float32, np.float64]))
def test_outcomes_of_logits_are_those_of_their_probabilities(
    case: tuple[np.ndarray, np.ndarray], unknown: int, kind: type
) -> None:
    """Whatever ties there are, and whichever images have no label."""
    scores, labels = case[0].astype(kind), case[1].copy()
    scores[::2] = np.round(scores[::2])
    labels[:unknown] = -1
    found, expected = outcomes_of_logits(scores, labels), outcomes(scores, softmax(scores.astype(float)), labels)
    for name in ("labels", "predicted", "rank", "tied"):
        np.testing.assert_array_equal(getattr(found, name), getattr(expected, name))
    for name in ("confidence", "own", "squares"):
        np.testing.assert_allclose(getattr(found, name), getattr(expected, name), rtol=1e-12)


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
