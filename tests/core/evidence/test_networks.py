"""Small networks of many kinds from two exporters, with gradient maps found by another automatic differentiation in float64.

``tools/network_range.py vectors`` makes the files.
"""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest

from mivrat.core.evidence.maps import HeatmapMaker, Target
from mivrat.core.models.onnx_model import OnnxModel
from mivrat.core.pictures.recipe import Recipe, Resize, Values

DATA = Path(__file__).resolve().parents[2] / "data" / "networks"
RECIPE = Recipe(resize=Resize(rule="stretch", size=(32, 32)), values=Values(scale=1 / 255, mean=(0.5,), std=(0.25,)))
TARGETS = [Target(1), Target(3)]
NAMES = sorted(path.stem for path in DATA.glob("*.onnx"))


def test_the_range_is_whole() -> None:
    assert len(NAMES) >= 11


@pytest.mark.parametrize("name", NAMES)
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
