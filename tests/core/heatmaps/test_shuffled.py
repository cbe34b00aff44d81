"""Shuffled weights: values stay within their own, and a method made blind on purpose fails the check."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

import numpy as np
import onnx
import pytest
from scipy.stats import spearmanr

from mivrat.core.heatmaps.maps import HeatmapMaker, Target
from mivrat.core.heatmaps.shuffled import (
    DEPTHS,
    overlap_of_hottest,
    rank_correlation,
    shuffle_check,
    weight_layers,
    with_shuffled_weights,
)
from tests.support.networks import classifier, loaded, random_batch


def test_shuffling_moves_values_within_their_own_weights_only(tmp_path: Path) -> None:
    maker = HeatmapMaker(loaded(classifier(), tmp_path / "m.onnx", 3))
    layers = weight_layers(maker.view)
    assert [len(some) for some in layers] == [1, 1, 1]
    before = {t.name: onnx.numpy_helper.to_array(t) for t in maker.view.proto.graph.initializer}
    after = {
        t.name: onnx.numpy_helper.to_array(t)
        for t in with_shuffled_weights(maker.view, layers[0], seed=1).graph.initializer
    }
    assert before[layers[0][0]].shape == (8, 3)  # the head comes first
    for name, values in before.items():
        assert sorted(values.ravel()) == sorted(after[name].ravel())
        assert (values == after[name]).all() == (name not in layers[0])


def test_the_check_passes_for_gradient_maps_and_fails_for_a_blind_method(tmp_path: Path) -> None:
    maker = HeatmapMaker(loaded(classifier(side=24, seed=8), tmp_path / "m.onnx", 3))
    batch = random_batch(maker.model, 4)
    targets = [Target(k % 3) for k in range(4)]

    def blind(one: HeatmapMaker, some: np.ndarray, _: object) -> list[np.ndarray]:
        """The picture's own edges: it never asks the model anything."""
        return [np.abs(np.diff(picture.mean(axis=0)[:-1], axis=1)) for picture in some]

    def signed(one: HeatmapMaker, some: np.ndarray, wanted: Sequence[Target]) -> list[np.ndarray]:
        return list(one.maps(some, wanted, [one.layer(None)], "signed")[0])

    seeing = list(shuffle_check(maker, batch, targets, signed))
    assert [one.depth for one in seeing] == [depth for depth in DEPTHS for _ in range(3)]
    assert np.median(np.abs([one.alike for one in seeing if one.depth == DEPTHS[0]])) < 0.5
    assert all((one.alike == pytest.approx(1.0)) for one in shuffle_check(maker, batch, targets, blind))


def test_rank_correlation_and_overlap() -> None:
    rng = np.random.default_rng(0)
    one, other = rng.integers(0, 6, (2, 5, 7)).astype(np.float32)
    assert rank_correlation(one, other) == pytest.approx(spearmanr(one.ravel(), other.ravel()).statistic)
    assert rank_correlation(one, 2 * one + 3) == pytest.approx(1)
    assert rank_correlation(one, np.zeros((5, 7), np.float32)) == 0
    assert np.isnan(rank_correlation(np.ones((5, 7), np.float32), one))
    assert overlap_of_hottest(one, one) == 1
    left, right = np.zeros((4, 4), np.float32), np.zeros((4, 4), np.float32)
    left[0, 0], right[3, 3] = 1, 1
    assert overlap_of_hottest(left, right, 0.05) == 0
    assert np.isnan(overlap_of_hottest(np.zeros((2, 2), np.float32), np.zeros((2, 2), np.float32)))
