"""The records of figures: counted ones by their textbook formulas from a confusion matrix, and what a record says of a figure."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import assume, given
from hypothesis import strategies as st

from mivrat.core.figures.metrics import COUNTED, METRICS, metric

MATRICES = st.integers(2, 5).flatmap(
    lambda k: st.lists(st.lists(st.integers(0, 9), min_size=k, max_size=k), min_size=k, max_size=k)
)


def by_hand(matrix: np.ndarray) -> dict[str, float]:
    """Rows are labels, columns predictions; means over the classes with labelled images, an undefined share counting as 0."""
    n, k = int(matrix.sum()), len(matrix)
    there = [i for i in range(k) if matrix[i].sum()]
    recall = {i: matrix[i, i] / matrix[i].sum() for i in there}
    precision = {i: matrix[i, i] / matrix[:, i].sum() if matrix[:, i].sum() else 0.0 for i in there}
    f1 = {
        i: 2 * precision[i] * recall[i] / (precision[i] + recall[i]) if precision[i] + recall[i] else 0.0 for i in there
    }
    observed = sum(matrix[i, i] for i in range(k)) / n
    chance = sum(matrix[i].sum() * matrix[:, i].sum() for i in range(k)) / n**2
    labels, predictions = (np.repeat(np.indices((k, k))[side].ravel(), matrix.ravel()) for side in (0, 1))
    one_hot = [np.eye(k)[some] - np.eye(k)[some].mean(axis=0) for some in (labels, predictions)]
    covariance = [[float((a * b).sum()) for b in one_hot] for a in one_hot]
    return {
        "balanced_accuracy": sum(recall.values()) / len(there),
        "macro_recall": sum(recall.values()) / len(there),
        "macro_precision": sum(precision.values()) / len(there),
        "macro_f1": sum(f1.values()) / len(there),
        "weighted_f1": sum(f1[i] * matrix[i].sum() for i in there) / n,
        "cohen_kappa": (observed - chance) / (1 - chance) if chance < 1 else np.nan,
        "mcc": covariance[0][1] / np.sqrt(covariance[0][0] * covariance[1][1])
        if covariance[0][0] * covariance[1][1] > 1e-9
        else np.nan,
    }


@given(MATRICES)
def test_counted_figures_are_those_of_the_textbook(rows: list[list[int]]) -> None:
    matrix = np.array(rows)
    assume(matrix.sum() > 0)
    labelled, predicted, correct = matrix.sum(axis=1), matrix.sum(axis=0), np.diag(matrix)
    expected = by_hand(matrix)
    assert set(expected) == {one.key for one in COUNTED}
    for one in COUNTED:
        if np.isnan(expected[one.key]):
            continue
        sums = [
            part.sum()
            for part in one.counted.parts(*(np.asarray(some, float) for some in (labelled, predicted, correct)))
        ]
        found = one.counted.whole(sums, np.float64((labelled > 0).sum()), np.float64(matrix.sum()))
        assert float(found) == pytest.approx(expected[one.key], abs=1e-9), one.key


def test_a_record_says_what_a_figure_needs_and_how_it_is_written() -> None:
    assert [metric(f"top{k}").needs for k in (1, 2, 5)] == ["", "scores", "scores"]
    assert (metric("top1").in_percent, metric("mcc").in_percent) == (True, False)
    assert [one.key for one in METRICS if one.lower_is_better] == ["log_loss", "brier", "ece", "mce", "signed_gap"]
    assert len({one.key for one in METRICS}) == len(METRICS)
    with pytest.raises(KeyError):
        metric("no such figure")
