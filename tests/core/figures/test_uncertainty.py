"""Intervals of metrics other than proportions: against figures worked out anew without an image or a unit, and against the truth."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from numpy.typing import NDArray

from mivrat.core.base.job import stopped_by
from mivrat.core.figures import jackknife
from mivrat.core.figures.metrics import COUNTED
from mivrat.core.figures.outcomes import Outcomes, outcomes
from mivrat.core.figures.summary import summarise
from mivrat.core.figures.uncertainty import NAMES, Intervals, intervals
from mivrat.core.figures.uncertainty import _gap as intervals_of_gap
from tests.support.drawn import drawn, softmax
from tests.support.stopping import StopsAfter


def told(
    labels: NDArray[np.int64], predicted: NDArray[np.int64], confidence: float | NDArray[np.float64] = 0.9
) -> Outcomes:
    """Outcomes of which nothing is known but label, prediction and confidence."""
    n = len(labels)
    nothing, sure = np.full(n, np.nan), np.broadcast_to(np.asarray(confidence, float), n).copy()
    return Outcomes(labels, predicted, sure, np.zeros(n, np.int64), nothing, nothing, np.zeros(n, bool))


def plain(labels: NDArray[np.int64], predicted: NDArray[np.int64], classes: int) -> list[float]:
    """The figures in COUNTED as the summary has them."""
    found = summarise(told(labels, predicted), classes, [1]).averages
    return [np.nan if value is None else value for value in (found[one.key] for one in COUNTED)]


@given(st.integers(2, 5), st.integers(2, 30), st.integers(0, 10_000))
def test_figures_without_an_image_or_a_unit_are_those_worked_out_anew(classes: int, n: int, seed: int) -> None:
    rng = np.random.default_rng(seed)
    labels = rng.integers(0, classes, n)
    predicted = np.where(rng.random(n) < 0.6, labels, rng.integers(0, classes, n))
    right = predicted == labels
    counts = jackknife.ClassCounts(
        np.bincount(labels, minlength=classes).astype(float),
        np.bincount(predicted, minlength=classes).astype(float),
        np.bincount(labels, right, classes).astype(float),
    )
    np.testing.assert_allclose(counts.figures(), plain(labels, predicted, classes), atol=1e-12)
    without = jackknife.without_one(counts, labels, predicted)
    for i in range(n):
        kept = np.arange(n) != i
        np.testing.assert_allclose(without[i], plain(labels[kept], predicted[kept], classes), atol=1e-9, err_msg=str(i))
    unit = np.unique(rng.integers(0, 4, n), return_inverse=True)[1]
    units = int(unit.max()) + 1
    whole = jackknife.without_units(counts, told(labels, predicted), classes, unit, units)
    assert whole is not None
    for u in range(units if units > 1 else 0):
        expected = plain(labels[unit != u], predicted[unit != u], classes)
        np.testing.assert_allclose(whole[u], expected, atol=1e-9)


@pytest.mark.slow
def test_intervals_hold_the_truth_about_as_often_as_they_say() -> None:
    """Strong and weak, calibrated and not, at 50 images: at least nine in ten of each, and not always."""
    inside, shown = dict.fromkeys(NAMES, 0), dict.fromkeys(NAMES, 0)
    for strength, sharp in ((1.0, 1.0), (2.5, 1.0), (1.5, 1.8)):
        rng = np.random.default_rng(7)

        def some(
            images: int, rng: np.random.Generator = rng, strength: float = strength, sharp: float = sharp
        ) -> Outcomes:
            scores = rng.normal(0, 1.5, (images, 4)) * strength
            cumulated = softmax(scores / sharp).cumsum(axis=1)
            labels = np.minimum((rng.random((images, 1)) > cumulated).sum(axis=1), 3)
            return outcomes(scores, softmax(scores), labels)

        big = summarise(some(100_000), 4, [1])
        assert big.log_loss is not None
        truth = big.averages | {
            "log_loss": big.log_loss.value,
            "brier": big.brier,
            "ece": big.calibration.ece,
            "signed_gap": big.calibration.signed_gap,
        }
        for _ in range(80):
            found = intervals(some(50), 4)
            assert found is not None
            for name, one in found.of.items():
                shown[name] += 1
                inside[name] += one.low <= (truth[name] or 0) <= one.high
    for name in NAMES:
        assert shown[name] >= 200, name
        assert inside[name] / shown[name] >= 0.9, (name, inside[name] / shown[name])
    assert sum(inside.values()) < sum(shown.values())


def test_units_alone_are_images_and_units_that_share_their_fate_widen() -> None:
    scores, labels = drawn(200, 3, 1)
    found = outcomes(scores, softmax(scores), labels)
    alone, by_one = intervals(found, 3), intervals(found, 3, np.arange(200), "slide")
    assert alone is not None
    assert by_one is not None
    for name in (one.key for one in COUNTED):
        assert by_one.of[name].low == pytest.approx(alone.of[name].low)
        assert by_one.of[name].high == pytest.approx(alone.of[name].high)
    predicted, labels = np.repeat([0, 1, 0, 0, 1, 1, 0, 0, 1, 0] * 2, 10), np.repeat([0, 1], 100)
    flat = told(labels, predicted)
    single, grouped = intervals(flat, 2), intervals(flat, 2, np.arange(200) // 10, "slide")
    assert single is not None
    assert grouped is not None
    for name in ("macro_f1", "balanced_accuracy", "signed_gap", "ece"):
        wide, narrow = (one.of[name].high - one.of[name].low for one in (grouped, single))
        assert wide > 1.8 * narrow, name
    assert "20 units of 'slide'" in grouped.how("macro_f1")
    few = intervals(flat, 2, np.arange(200) // 50, "slide")
    assert few is not None
    assert (few.of, few.missing["mcc"]) == ({}, "4 units are too few, 5 are enough")


def test_nothing_depends_on_the_order_and_a_stop_is_heeded() -> None:
    scores, labels = drawn(120, 3, 2)
    found, order = outcomes(scores, softmax(scores), labels), np.random.default_rng(0).permutation(120)
    turned = Outcomes(*(value[order] for value in vars(found).values()))
    one, other = intervals(found, 3), intervals(turned, 3)
    assert one is not None
    assert other is not None
    for name, ends in one.of.items():
        assert (other.of[name].low, other.of[name].high) == pytest.approx((ends.low, ends.high))
    with stopped_by(StopsAfter(0)):
        assert intervals(found, 3, np.arange(120), "slide") is None


@pytest.mark.parametrize("right", [True, False])
def test_all_right_and_all_wrong_have_intervals_that_reach_beyond(right: bool) -> None:
    labels = np.arange(60) % 3
    found = intervals(told(labels, labels if right else (labels + 1) % 3, np.linspace(0.5, 0.99, 60)), 3)
    assert found is not None
    for name in ("balanced_accuracy", "macro_f1", "weighted_f1"):
        low, high = found.of[name].low, found.of[name].high
        assert (0.85 < low < 0.97 and high == 1.0) if right else (low == 0.0 and 0.03 < high < 0.15), name
    assert "signed_gap" not in found.of
    assert found.how("signed_gap").startswith(f"No interval: no answer is {'wrong' if right else 'right'}")


def test_what_is_too_few_is_said_with_what_would_do() -> None:
    labels = np.arange(19) % 3
    few = intervals(told(labels, labels), 3)
    assert few is not None
    assert few.of == {}
    assert few.how("mcc") == "No interval: 19 images are too few, 20 are enough."
    many = np.repeat(np.arange(40), 2)
    sparse = intervals(told(many, many), 40)
    assert sparse is not None
    assert (
        sparse.how("macro_f1")
        == "No interval: some classes have too few images, some 120 images like these are enough."
    )
    assert "weighted_f1" in sparse.of
    short = intervals(told(labels.repeat(2), labels.repeat(2)), 3)
    assert short is not None
    assert short.missing["ece"] == "38 images are too few, 50 are enough"
    assert isinstance(short, Intervals)


def test_calibrated_models_have_zero_in_the_interval_of_the_ece_and_others_do_not() -> None:
    rng = np.random.default_rng(3)
    with_zero = [0, 0]
    for i, shift in enumerate((0.0, 0.25)):
        for _ in range(40):
            confidence = rng.uniform(0.5, 1.0, 300)
            right = rng.random(300) < confidence - shift
            found = intervals(told(np.zeros(300, int), (~right).astype(int), confidence), 2)
            assert found is not None
            with_zero[i] += found.of["ece"].low == 0
    assert with_zero[0] >= 36
    assert with_zero[1] == 0


def test_the_signed_gap_of_one_confidence_and_no_mistake_by_hand() -> None:
    """Without a mistake nothing tells the variance: Wilson's interval of one image at Student's t of 3 degrees of freedom, 3.1824."""
    low, high = intervals_of_gap(np.full(50, 0.75), np.ones(50, bool))
    z = 3.182446
    assert low == pytest.approx(0.75 - 1.0)
    assert high == pytest.approx(-0.25 + (1 - 1 / (1 + z * z)), abs=1e-6)
