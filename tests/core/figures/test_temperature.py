"""Temperatures against a general minimiser, out of fold by hand, and where there is none."""

from __future__ import annotations

import numpy as np
import pytest
from scipy.optimize import minimize_scalar

from mivrat.core.figures import (
    temperature,
)
from tests.support.drawn import drawn, fitted, softmax


def test_temperature_against_a_general_minimiser_and_out_of_fold_by_hand(monkeypatch: pytest.MonkeyPatch) -> None:
    scores, labels = drawn(400, 5, 3, sharp=2.5)
    found = fitted(scores, labels)

    def loss(inverse: float, some: np.ndarray) -> float:
        return float(-np.log(softmax(scores[some] * inverse)[np.arange(len(some)), labels[some]]).mean())

    def best(some: np.ndarray) -> float:
        return float(
            minimize_scalar(lambda b: loss(b, some), bounds=(0.01, 10), method="bounded", options={"xatol": 1e-10}).x
        )

    everyone = np.arange(400)
    assert found.value == pytest.approx(1 / best(everyone), rel=1e-5)
    assert 2.0 < found.value < 3.1
    assert found.log_loss_before == pytest.approx(loss(1.0, everyone))
    fold = temperature.folds(labels, 5, 0)
    outside = [loss(best(everyone[fold != f]), everyone[fold == f]) * (fold == f).sum() for f in range(5)]
    assert found.log_loss_after == pytest.approx(sum(outside) / 400, rel=1e-6)
    assert found.log_loss_after is not None
    assert found.log_loss_after < 0.9 * (found.log_loss_before or 0)
    assert (found.ece_after or 1) < 0.5 * (found.ece_before or 0)
    quick = fitted(scores, labels, exact=False)
    assert quick.log_loss_after == pytest.approx(found.log_loss_after, rel=1e-4)
    monkeypatch.setattr(temperature, "SHORT", 1.0)  # the same by powers of the step, which are no short ones here
    by_powers = fitted(scores, labels, exact=False)
    assert by_powers.log_loss_after == pytest.approx(quick.log_loss_after, rel=2e-5)
    assert by_powers.log_loss_after != quick.log_loss_after
    assert by_powers.ece_after == pytest.approx(quick.ece_after, abs=1e-3)
    counts = np.array([[np.sum((labels == k) & (fold == f)) for f in range(5)] for k in range(5)])
    assert (counts.max(axis=1) - counts.min(axis=1) <= 1).all()


@pytest.mark.parametrize("case", ["all right", "one class", "few"])
def test_temperature_says_where_it_cannot_be_told(case: str) -> None:
    scores, labels = drawn(60 if case != "few" else 6, 3, 0)
    if case == "all right":
        labels = scores.argmax(axis=1)
    if case == "one class":
        labels = np.zeros(60, int)
    found = fitted(scores, labels)
    assert (found.identifiable, found.value, found.log_loss_after) == (False, 1.0, None)
    assert found.log_loss_before is not None
