"""Deletion, insertion and shuffled weights: by loops, on a model that looks at one spot, and with a method made blind on purpose."""

from __future__ import annotations

from collections.abc import Sequence
from functools import partial
from pathlib import Path

import numpy as np
import onnx
import pytest
from scipy.stats import spearmanr

from mivrat.core.heatmaps.board import Column, Row, board_cells
from mivrat.core.heatmaps.combining import mean_map, spread_of, together
from mivrat.core.heatmaps.faithfulness import DRAWS, STEPS, faithfulness
from mivrat.core.heatmaps.maps import HeatmapMaker, Target
from mivrat.core.heatmaps.shuffled import (
    DEPTHS,
    overlap_of_hottest,
    rank_correlation,
    shuffle_check,
    weight_layers,
    with_shuffled_weights,
)
from tests.support.networks import classifier, loaded, random_batch, seeing_one_spot


@pytest.mark.parametrize("channels_last", [False, True])
def test_deletion_and_insertion_by_loops(channels_last: bool, tmp_path: Path) -> None:
    maker = seeing_one_spot(tmp_path, channels_last=channels_last)
    rng = np.random.default_rng(3)
    planes = rng.uniform(0, 0.4, (3, 30, 40)).astype(np.float32)
    planes[:, 4:8, 20:25] = 1.0
    picture = planes.transpose(1, 2, 0).copy() if channels_last else planes
    heat = rng.uniform(0, 1, (30, 40)).astype(np.float32)
    answer = partial(maker.answers, Target(0))
    found = faithfulness(picture, heat, answer, channels_last, seed=5)
    order = np.argsort(-heat.ravel(), kind="stable")
    for k in (0, 3, 11, STEPS):
        taken = order[: round(k / STEPS * 1200)]
        changed = planes.copy().reshape(3, -1)
        changed[:, taken] = planes.mean(axis=(1, 2))[:, None]
        changed = changed.reshape(planes.shape)
        batch = (changed.transpose(1, 2, 0) if channels_last else changed)[None]
        assert found.deletion[k] == pytest.approx(float(maker.probabilities(batch)[0, 0]), abs=1e-5)
    assert found.insertion[STEPS] == pytest.approx(float(maker.probabilities(picture[None])[0, 0]), abs=1e-6)
    assert found.deletion_area == pytest.approx(np.trapezoid(found.deletion, found.shares))
    assert found.random_deletion.shape == (DRAWS, STEPS + 1)
    again = faithfulness(picture, heat, answer, channels_last, seed=5)
    assert (again.random_insertion == found.random_insertion).all()


def test_a_true_map_beats_random_orders_and_a_false_one_does_not(tmp_path: Path) -> None:
    maker = seeing_one_spot(tmp_path)
    picture = np.full((3, 30, 40), 0.2, np.float32)
    picture[:, 4:8, 20:25] = 3.0
    true = np.zeros((30, 40), np.float32)
    true[4:8, 20:25] = 1.0
    answer = partial(maker.answers, Target(0))
    right = faithfulness(picture, true, answer, False)
    wrong = faithfulness(picture, 1 - true, answer, False)
    assert right.deletion_area < right.random_deletion_areas.min()
    assert right.insertion_area > right.random_insertion_areas.max()
    assert wrong.deletion_area > wrong.random_deletion_areas.max()
    assert wrong.insertion_area < wrong.random_insertion_areas.min()


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


def test_maps_together_by_hand() -> None:
    one, other = np.array([[2.0, 0.0]], np.float32), np.array([[1.0, -4.0]], np.float32)
    np.testing.assert_allclose(together([one, other]), [[(1 + 0.25) / 2, (0 - 1) / 2]])
    np.testing.assert_allclose(together([one, other], [3, 1]), [[(3 + 0.25) / 4, -0.25]])
    fine = np.array([[4.0, 4.0, 0.0, 0.0]], np.float32)
    assert together([one, fine]).shape == (1, 4)
    mean = mean_map([one, np.zeros((1, 2), np.float32)])
    assert (mean.total, mean.zero, mean.heat.tolist()) == (2, 1, [[0.5, 0.0]])
    spread = spread_of([one, other, np.zeros((1, 2), np.float32), np.array([[1.0, 1.0]], np.float32)])
    np.testing.assert_allclose(spread @ spread[3], [np.sqrt(0.5), np.sqrt(0.5), 0, 1], rtol=1e-6)


def test_a_board_holds_each_map_where_it_belongs(tmp_path: Path) -> None:
    maker = HeatmapMaker(loaded(classifier(side=16), tmp_path / "m.onnx", 3))
    tensor = random_batch(maker.model, 1)[0]
    early, late = (next(one for one in maker.layers if one.op == op) for op in ("Conv", "Relu"))
    rows = [Row("late", (late,)), Row("both", (early, late))]
    columns = [
        Column("1", (Target(1),)),
        Column("2 rather than 0", (Target(2, 0),)),
        Column("mix", (Target(0), Target(1)), (3, 1)),
    ]
    for method in ("signed", "score"):
        cells = {(c.row, c.column): c.heat for c in board_cells(maker, tensor, rows, columns, method)}  # type: ignore[arg-type]

        def alone(target: Target, layer: object, method: str = method) -> np.ndarray:
            return maker.maps(tensor[None], [target], [layer], method)[0][0]  # type: ignore[arg-type, list-item]

        assert len(cells) == 6
        np.testing.assert_allclose(cells[0, 1], alone(Target(2, 0), late), rtol=1e-5, atol=1e-7)
        np.testing.assert_allclose(
            cells[1, 0], together([alone(Target(1), early), alone(Target(1), late)]), rtol=1e-4, atol=1e-6
        )
        mixed = together([alone(Target(0), late), alone(Target(1), late)], (3, 1))
        np.testing.assert_allclose(cells[0, 2], mixed, rtol=1e-4, atol=1e-6)
    (cell,) = board_cells(maker, tensor, [Row("", ())], columns[:1], "occlusion")
    assert cell.heat.shape[0] > 3
