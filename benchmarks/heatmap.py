"""Heatmaps against the forward pass alone: the last stage, and every convolution at once, in batches of 32."""

from __future__ import annotations

import tempfile
from pathlib import Path

import numpy as np

from benchmarks.networks import mobile, residual
from benchmarks.side_by_side import in_turn, spread
from mivrat.core.heatmaps.maps import HeatmapMaker, Target
from mivrat.core.models.onnx_model import OnnxModel
from mivrat.core.pictures.recipe import read_recipe
from mivrat.demo.study import DATA

BATCH, ROUNDS = 32, 7


def measure(title: str, model: OnnxModel) -> None:
    maker = HeatmapMaker(model)
    batch = np.random.default_rng(0).uniform(0, 1, model.sample_shape(BATCH)).astype(np.float32)
    targets = [Target(i % model.class_count) for i in range(BATCH)]
    last = [maker.layer(None)]
    every = [layer for layer in maker.layers if layer.op == "Conv" and layer.heatmap]
    found = in_turn(
        {
            "forward": lambda: model.scores(batch),
            "last": lambda: maker.maps(batch, targets, last),
            "every": lambda: maker.maps(batch, targets, every),
        },
        ROUNDS,
    )
    print(
        f"{title}: batch {BATCH}, heatmap / forward pass: last stage ({last[0].grid[0]} x {last[0].grid[1]}) "
        f"{spread([a / b for a, b in zip(found['last'], found['forward'], strict=True)])}; "
        f"all {len(every)} convolutions {spread([a / b for a, b in zip(found['every'], found['forward'], strict=True)])}"
    )


def main() -> None:
    with tempfile.TemporaryDirectory() as folder:
        measure("demonstration network", OnnxModel(DATA / "grain-net-1.onnx", read_recipe(DATA / "recipe.toml"), 8))
        measure("residual, 18 layers, 224 px", residual(Path(folder)))
        measure("mobile, inverted residuals, 224 px", mobile(Path(folder)))


if __name__ == "__main__":
    main()
