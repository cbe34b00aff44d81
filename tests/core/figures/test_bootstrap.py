"""Bootstrap intervals: how often they hold the truth, whole groups, and the weighed figures against plain ones."""

from __future__ import annotations

import numpy as np
import pytest

from mivrat.core.figures import (
    bootstrap,
)
from mivrat.core.figures.outcomes import Outcomes, outcomes
from mivrat.core.figures.summary import summarise
from tests.support.drawn import drawn, softmax


def test_bootstrap_covers_and_widens_with_groups() -> None:
    """Stratified: nominal 95 % intervals of macro F1 and log loss hold the true value about that often; whole groups of
    images that share their fate give wider intervals."""
    big_scores, big_labels = drawn(40000, 3, 99)
    truth = summarise(outcomes(big_scores, softmax(big_scores), big_labels), 3, [1])
    assert truth.log_loss is not None
    inside = {"macro_f1": 0, "log_loss": 0}
    for seed in range(60):
        scores, labels = drawn(150, 3, seed)
        found = bootstrap.bootstrap(outcomes(scores, softmax(scores), labels), 3, draws=300, seed=seed)
        assert found is not None
        for name, true in (("macro_f1", truth.averages.macro_f1), ("log_loss", truth.log_loss.value)):
            inside[name] += found.of[name].low <= (true or 0) <= found.of[name].high
    assert inside["macro_f1"] >= 52
    assert inside["log_loss"] >= 52
    predicted, labels = np.repeat([0, 1, 0, 0, 1, 1, 0, 0, 1, 0], 20), np.zeros(200, int)
    p = np.where(np.eye(2)[predicted] > 0, 0.9, 0.1)
    flat = outcomes(p, p, labels)
    alone, grouped = bootstrap.bootstrap(flat, 2), bootstrap.bootstrap(flat, 2, np.arange(200) // 20, "slide")
    assert alone is not None
    assert grouped is not None
    assert grouped.of["top1"].high - grouped.of["top1"].low > 2.5 * (alone.of["top1"].high - alone.of["top1"].low)
    assert "whole units of 'slide'" in grouped.how()
    assert bootstrap.bootstrap(flat, 2, stopped=lambda: True) is None


def test_bootstrap_figures_are_those_of_the_images_drawn() -> None:
    """With every image counted once, and with some twice, the weighed figures are the plain ones of the same images."""
    scores, labels = drawn(50, 4, 5)
    found = outcomes(scores, softmax(scores), labels)
    weigh = bootstrap._Weighed(found, 4)
    weights = np.random.default_rng(0).integers(0, 3, 50)
    repeated = np.repeat(np.arange(50), weights)
    plain = summarise(Outcomes(*(value[repeated] for value in vars(found).values())), 4, [1])
    assert plain.log_loss is not None
    expected = [
        plain.top_k[1].value, plain.averages.balanced_accuracy, plain.averages.macro_f1, plain.averages.weighted_f1,
        plain.averages.cohen_kappa, plain.averages.mcc, plain.log_loss.value, plain.brier, plain.calibration.ece,
        plain.calibration.signed_gap,
    ]  # fmt: skip
    assert weigh.figures(weights) == pytest.approx([float(v or 0) for v in expected], abs=1e-9)
