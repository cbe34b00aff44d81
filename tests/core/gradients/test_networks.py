"""Small networks of many kinds from two exporters, with gradient maps found by another automatic differentiation in float64.

``tools/network_range.py vectors`` makes the files.
"""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest

from mivrat.core.heatmaps.maps import HeatmapMaker, Target
from mivrat.core.models.onnx_model import OnnxModel
from mivrat.core.pictures.recipe import Recipe, Resize, Values

DATA = Path(__file__).resolve().parents[2] / "data" / "networks"
RECIPE = Recipe(resize=Resize(rule="stretch", size=(32, 32)), values=Values(scale=1 / 255, mean=(0.5,), std=(0.25,)))
TARGETS = [Target(1), Target(3)]
NAMES = sorted(path.stem for path in DATA.glob("*.onnx"))


def test_the_range_is_whole() -> None:
    assert len(NAMES) >= 11


# Recurrent layers written out have many nodes; against finite differences they are tested elsewhere.
MANY_NODES = ("recurrent-gru", "recurrent-lstm")


@pytest.mark.parametrize(
    "name", [pytest.param(one, marks=pytest.mark.slow) if one in MANY_NODES else one for one in NAMES]
)
def test_maps_against_another_automatic_differentiation(name: str) -> None:
    """Both the weighted and the signed map of up to three layers of each network, for two images and targets."""
    with np.load(DATA / "vectors.npz") as held:
        batch = held["batch"].astype(np.float32)
        expected = {key: held[key] for key in held if key.split("|")[0] == name}
    maker = HeatmapMaker(OnnxModel(DATA / f"{name}.onnx", RECIPE, 4))
    assert expected
    for key, maps in expected.items():
        tensor, signed = key.split("|")[1], key.endswith("|signed")
        found = maker.maps(batch, TARGETS, [maker.layer(tensor)], "signed" if signed else "gradient")[0]
        peak = np.abs(maps).max()
        np.testing.assert_allclose(found, maps, atol=2e-5 * peak, rtol=1e-4)
        alone = maker.maps(batch[1:], TARGETS[1:], [maker.layer(tensor)], "signed" if signed else "gradient")[0]
        np.testing.assert_allclose(alone[0], found[1], atol=1e-5 * peak, rtol=1e-4)  # a batch of one says the same


@pytest.mark.parametrize("name", [n for n in NAMES if n in {"tokens", "windows", "hierarchy", "unrolled", "mixer"}])
def test_tokens_lie_where_a_changed_patch_moves_them(name: str) -> None:
    """Change the image under one cell of a layer's grid: before tokens take each other in only that cell moves, afterwards it
    moves most. The default is a layer of the last stage."""
    with np.load(DATA / "vectors.npz") as held:
        batch = held["batch"].astype(np.float32)[:1]
    maker = HeatmapMaker(OnnxModel(DATA / f"{name}.onnx", RECIPE, 4))
    layers = [one for one in maker.layers if one.heatmap and one.grid[0] * one.grid[1] > 1]
    alone, most, rng = 0, [], np.random.default_rng(1)
    for layer in layers:
        rows, columns = layer.grid
        before = maker.activations(batch, layer)
        for _ in range(3):
            r, c = int(rng.integers(rows)), int(rng.integers(columns))
            high, wide = batch.shape[2] // rows, batch.shape[3] // columns
            changed = batch.copy()
            changed[:, :, r * high : (r + 1) * high, c * wide : (c + 1) * wide] += 0.5
            moved = np.abs(maker.activations(changed, layer) - before)[0].sum(axis=0)
            most.append(np.unravel_index(moved.argmax(), moved.shape) == (r, c))
            others = moved.copy()
            others[r, c] = 0
            alone += others.max() < 1e-5 * moved.max()
    assert alone >= 3
    assert np.mean(most) > 0.8, name  # of what an attention has found, before it is added, less
    assert np.prod(maker.layer(None).grid) == min(np.prod(one.grid) for one in layers)
    rolled = [one for one in maker.layers if one.reason and "another order" in one.reason]
    assert bool(rolled) == (name == "windows")
