"""Estimates without labels: right where what they rest on holds, refused where it cannot."""

from __future__ import annotations

import numpy as np
import pytest

from mivrat.core.figures import without_labels as module
from mivrat.core.figures.confusion import confusion_matrix
from mivrat.core.figures.temperature import confidences, scale
from mivrat.core.figures.uncertain_differences import Ends
from mivrat.core.figures.without_labels import accuracy_without_labels, matching, mix_without_labels

NAMES = ["birch", "alder", "pine"]
RATES = np.array([[0.8, 0.15, 0.05], [0.1, 0.8, 0.1], [0.05, 0.05, 0.9]])


def called(rng: np.random.Generator, labels: np.ndarray, rates: np.ndarray = RATES) -> np.ndarray:
    return np.array([rng.choice(3, p=rates[k]) for k in labels])


def test_the_mix_by_hand() -> None:
    """60 % and 40 % called: with rates 0.9/0.1 and 0.2/0.8 the mix m has 0.9 m + 0.2 (1 - m) = 0.6."""
    matrix = np.array([[90, 10], [20, 80]])
    found = mix_without_labels(matrix, np.repeat([0, 1], [60, 40]), NAMES[:2])
    assert found.shares == pytest.approx([4 / 7, 3 / 7])
    assert found.intervals[0][0] < 4 / 7 < found.intervals[0][1]


def test_the_mix_is_found_where_only_the_mix_differs(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(module, "DRAWS", 150)
    truth, inside = np.array([0.1, 0.3, 0.6]), []
    for seed in range(60):
        rng = np.random.default_rng(seed)
        labels, others = rng.choice(3, 400, p=[0.5, 0.3, 0.2]), rng.choice(3, 300, p=truth)
        matrix = confusion_matrix(labels, called(rng, labels), 3)
        found = mix_without_labels(matrix, called(rng, others), NAMES, seed)
        assert found.shares is not None
        assert found.shares.sum() == pytest.approx(1)
        inside.extend(low <= share <= high for share, (low, high) in zip(truth, found.intervals, strict=True))
    assert np.mean(inside) >= 0.90


@pytest.mark.parametrize(
    ("matrix", "calls", "why"),
    [
        (np.array([[50, 50, 0], [50, 50, 0], [0, 0, 60]]), np.repeat([0, 1, 2], 30), "hardly tell some classes apart"),
        (np.array([[50, 5, 0], [5, 50, 0], [0, 0, 2]]), np.repeat([0, 1, 2], 30), "too few labelled images of pine"),
        (np.array([[50, 50, 0], [2, 98, 0], [0, 0, 80]]), np.repeat([0, 2], [90, 10]), "is negative"),
        (np.array([[50, 5, 0], [5, 50, 0], [0, 0, 60]]), np.zeros(0, np.int64), "no image has an answer"),
    ],
)
def test_a_mix_is_refused_with_the_reason(matrix: np.ndarray, calls: np.ndarray, why: str) -> None:
    found = mix_without_labels(matrix, calls, NAMES)
    assert found.shares is None
    assert why in found.refused


@pytest.mark.slow
def test_accuracy_where_confidence_keeps_its_meaning(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(module, "DRAWS", 200)
    rng, inside = np.random.default_rng(1), []
    for seed in range(60):
        here, there = rng.beta(6, 2, 400), rng.beta(4, 2, 300)
        right, truth = rng.random(400) < here, float((rng.random(300) < there).mean())
        found = accuracy_without_labels(here, right, there, seed)
        assert found is not None
        inside.append(found.confidence_ends[0] <= truth <= found.confidence_ends[1])
        assert found.by_confidence == pytest.approx(there.mean() + right.mean() - here.mean())
        assert found.by_threshold == pytest.approx(np.mean(there >= found.threshold))
    assert np.mean(inside) >= 0.85
    assert accuracy_without_labels(np.zeros(0), np.zeros(0, bool), np.ones(3)) is None


def test_the_threshold_leaves_as_many_as_are_right() -> None:
    confidence = np.array([0.2, 0.9, 0.6, 0.5])
    assert matching(confidence, np.array([True, True, False, False])) == 0.6
    assert (confidence >= matching(confidence, np.zeros(4, bool))).sum() == 0


def test_confidences_of_others_are_at_the_fitted_temperature() -> None:
    rng = np.random.default_rng(2)
    labels = rng.integers(0, 3, 300)
    z = rng.normal(0, 1, (300, 3))
    z[np.arange(300), labels] += 1
    z *= 3  # three times too sure
    right, others = z.argmax(axis=1) == labels, rng.normal(0, 2, (50, 3))
    here, there = confidences(lambda some: z[some], labels, right, lambda some: others[some], 50, 3)
    own = np.exp(z - z.max(axis=1, keepdims=True))
    own /= own.sum(axis=1, keepdims=True)
    found = scale(lambda some: z[some], labels, right, own[np.arange(300), labels], own.max(axis=1), 3)
    cooler = np.exp(others / found.value)
    assert there == pytest.approx((cooler / cooler.sum(axis=1, keepdims=True)).max(axis=1))
    assert here.mean() == pytest.approx(right.mean(), abs=0.05)
    plain, _ = confidences(lambda some: z[some], labels, np.ones(300, bool), lambda some: others[some], 50, 3)
    assert plain == pytest.approx(own.max(axis=1))


@pytest.mark.parametrize(
    ("one", "other", "apart"),
    [
        ((0.2, 0.5), (0.5, 0.7), False),
        ((0.5, 0.7), (0.2, 0.5), False),
        ((0.2, 0.4), (0.5, 0.7), True),
        ((0.6, 0.7), (0.2, 0.5), True),
    ],
)
def test_estimates_disagree_where_their_intervals_have_nothing_in_common(one: Ends, other: Ends, apart: bool) -> None:
    assert module.AccuracyEstimate(0.3, one, 0.6, other, 0.5).disagree is apart
