"""Degenerate and empty sets: figures, or said to be undefined."""

from __future__ import annotations

import math

import numpy as np
import pytest

from mivrat.core.figures import (
    confusion,
    ranked,
    selective,
    uncertainty,
)
from mivrat.core.figures.outcomes import Outcomes, outcomes
from mivrat.core.figures.summary import sensible_ks, summarise
from tests.support.drawn import fitted, softmax


@pytest.mark.parametrize(
    "case", ["one image", "all right", "all wrong", "one class said", "tied", "zero on the label", "ten"]
)
def test_degenerate_sets_give_figures_or_say_undefined(case: str) -> None:
    scores = np.random.default_rng(0).normal(0, 1, (1 if case == "one image" else 10, 3))
    labels = np.arange(len(scores)) % 3
    if case == "all right":
        labels = scores.argmax(axis=1)
    elif case == "all wrong":
        labels = (scores.argmax(axis=1) + 1) % 3
    elif case == "one class said":
        scores[:, 0] = 9
    elif case == "tied":
        scores[:] = 0
    p = softmax(scores)
    if case == "zero on the label":
        p = np.eye(3)[(labels + 1) % 3]
    found = outcomes(p, p, labels)
    figures = summarise(found, 3, [1, 2], ranked.one_versus_rest(p.T, labels))
    assert figures.total == len(scores)
    assert figures.log_loss is not None
    assert math.isfinite(figures.log_loss.value)
    few = uncertainty.intervals(found, 3)
    assert few is not None
    assert few.of == {}
    many = Outcomes(*(np.repeat(value, 20) for value in vars(found).values()))
    told = uncertainty.intervals(many, 3)
    assert told is not None
    for interval in told.of.values():
        assert interval.low < interval.high
    assert 0 <= (figures.classwise_ece or 0) <= 1
    assert selective.selective(found.confidence, found.predicted == labels).total == len(scores)
    assert fitted(np.log(np.clip(p, 1e-12, 1)), labels).log_loss_before is not None


def test_one_class_only_leaves_kappa_and_mcc_undefined() -> None:
    averages = confusion.averages(np.array([[7, 0], [0, 0]]))
    assert averages["balanced_accuracy"] == 1
    assert (averages["cohen_kappa"], averages["mcc"]) == (None, None)
    assert confusion.averages(np.zeros((3, 3), int))["macro_f1"] is None


def test_no_images_mean_no_figures() -> None:
    empty = summarise(outcomes(np.zeros((0, 3)), np.zeros((0, 3)), np.zeros(0, int)), 3, [1])
    assert empty.top_k[1].value is None
    assert (empty.log_loss, empty.brier, empty.calibration.ece, empty.calibration.mce) == (None, None, None, None)
    assert [b.count for b in empty.calibration.bins] == [0] * 15
    assert empty.matrix.sum() == 0
    assert [sensible_ks(k) for k in (2, 4, 8)] == [[1], [1, 3], [1, 3, 5]]
