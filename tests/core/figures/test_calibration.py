"""Calibration by hand, by loops over bins of equal width and of equal count, and the error by chance in simulation."""

from __future__ import annotations

import math
from dataclasses import replace

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from mivrat.core.figures import (
    calibration,
)
from mivrat.core.figures.intervals import proportion
from tests.support.drawn import drawn, softmax


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


@settings(max_examples=40, deadline=None)
@given(st.lists(st.tuples(st.sampled_from([0.1, 0.4, 0.5, 0.77, 1.0]), st.booleans()), min_size=1, max_size=40))
def test_bins_of_equal_count(pairs: list[tuple[float, bool]]) -> None:
    confidence, right = np.array([c for c, _ in pairs]), np.array([r for _, r in pairs])
    found = calibration.adaptive_calibration(confidence, right)
    sizes = [one.count for one in found.bins]
    assert sum(sizes) == len(pairs)
    if len({c for c, _ in pairs}) == len(pairs):
        assert max(sizes) - min(sizes) <= 1
    for at, one in enumerate(found.bins):  # equal confidences are never parted
        last = at == len(found.bins) - 1
        assert one.count == sum(one.low <= c < one.high or (last and c == one.high) for c, _ in pairs)
    turned = calibration.adaptive_calibration(confidence[::-1], right[::-1])
    assert (turned.ece, turned.mce) == pytest.approx((found.ece, found.mce))
    ordered = sorted(pairs, key=lambda one: one[0])
    at, expected = 0, 0.0
    for size, one in zip(sizes, found.bins, strict=True):
        inside = sorted(ordered[at : at + size])
        assert one.confidence == pytest.approx(sum(c for c, _ in inside) / size)
        assert one.low <= inside[0][0] <= inside[-1][0] <= one.high
        expected += size / len(pairs) * abs(one.accuracy.hits / size - (one.confidence or 0))
        at += size
    assert found.ece == pytest.approx(expected)


def test_ece_by_chance_is_that_of_labels_drawn_anew() -> None:
    scores, _ = drawn(150, 4, 1)
    p = softmax(scores)
    confidence, predicted, rng = p.max(axis=1), p.argmax(axis=1), np.random.default_rng(7)
    eces = []
    for _ in range(1500):
        labels = np.minimum((rng.random((150, 1)) > p.cumsum(axis=1)).sum(axis=1), 3)
        eces.append(calibration.calibration(confidence, labels == predicted).ece)
    found = calibration.ece_if_calibrated(confidence)
    assert found is not None
    assert found.median == pytest.approx(np.median(np.array(eces, float)), rel=0.03)
    assert found.high == pytest.approx(np.quantile(np.array(eces, float), 0.95), rel=0.05)
    assert calibration.ece_if_calibrated(np.zeros(0)) is None
    assert calibration.ece_if_calibrated(np.ones(20)) == calibration.ChanceEce(0.0, 0.0)


def test_what_chance_allows_holds_for_calibrated_models() -> None:
    """All bins of a calibrated model, whose confidences differ inside a bin, lie inside in at least 95 % of studies; of an overconfident
    one hardly ever."""
    rng = np.random.default_rng(4)
    inside, beside = [], []
    for _ in range(150):
        confidence = rng.uniform(0.2, 1, 900)
        for studies, truth in ((inside, confidence), (beside, confidence - 0.15)):
            found = calibration.calibration(confidence, rng.random(900) < truth)
            low, high = calibration.chance_bands(found.bins)
            assert [bool(one) for one in np.isnan(low)] == [one.count == 0 for one in found.bins]
            studies.append(
                all(a <= one.accuracy.value <= b for one, a, b in zip(found.bins, low, high, strict=True) if one.count)
            )
            assert studies[-1] == (not calibration.beyond_chance([one for one in found.bins if one.count]).any())
    assert np.mean(inside) >= 0.93
    assert np.mean(beside) < 0.02
    certain = calibration.ReliabilityBin(0.9, 1.0, 40, 1.0, proportion(39, 40))
    of_units = calibration.ReliabilityBin(0.9, 1.0, 40, 0.97, replace(proportion(39, 40), units=7))
    low, high = calibration.chance_bands([certain, of_units])
    assert (low[0], high[0]) == (1.0, 1.0)
    assert np.isnan([low[1], high[1]]).all()
    doubtful = replace(of_units, accuracy=replace(proportion(30, 40), units=7))
    humble = replace(doubtful, confidence=0.4)
    assert calibration.beyond_chance([certain, of_units, doubtful, humble]).tolist() == [-1, 0, -1, 1]
    assert calibration.beyond_chance([]).tolist() == []


def test_answers_drawn_together_show_what_those_drawn_one_by_one_do(monkeypatch: pytest.MonkeyPatch) -> None:
    rng = np.random.default_rng(5)
    for confidence in (rng.beta(5, 1, 3000), np.concatenate([rng.uniform(0, 1, 900), np.ones(300)])):
        one_by_one = [calibration.ece_if_calibrated(confidence, seed=seed) for seed in range(6)]
        monkeypatch.setattr(calibration, "MOST_DRAWN", 0)
        together = [calibration.ece_if_calibrated(confidence, seed=seed) for seed in range(6)]
        monkeypatch.undo()
        for which in ("median", "high"):
            told, found = ([getattr(one, which) for one in some] for some in (one_by_one, together))
            assert np.mean(found) == pytest.approx(np.mean(told), rel=0.02)


@settings(max_examples=60)
@given(st.lists(st.sampled_from([0.1, 0.2, 0.2, 0.4, 0.7, 0.7, 0.7, 0.9]), min_size=1, max_size=30), st.integers(1, 8))
def test_bins_of_equal_count_by_the_middle_image_of_each_value(confidence: list[float], bins: int) -> None:
    """The middle one of n equal confidences behind m lower ones stands at m + n/2 of N; its bin is that share of the bins."""
    found = calibration.adaptive_calibration(np.array(confidence), np.zeros(len(confidence), bool), bins)
    by_hand: dict[int, int] = {}
    for value in sorted(set(confidence)):
        below, equal = sum(one < value for one in confidence), confidence.count(value)
        place = math.floor((below + equal / 2) * min(bins, len(confidence)) / len(confidence))
        by_hand[place] = by_hand.get(place, 0) + equal
    assert [one.count for one in found.bins] == [by_hand[place] for place in sorted(by_hand)]
