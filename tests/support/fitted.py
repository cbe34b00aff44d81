"""A small classifier that really has learnt something: random convolutions, pooling, and a head fitted by least squares.

Its pictures are striped and tinted, wider than high, so that channel order, value range, crop and antialias all matter.
"""

from __future__ import annotations

from pathlib import Path

import numpy as np
from numpy.typing import NDArray
from PIL import Image

from mivrat.core.models.onnx_model import OnnxModel
from mivrat.core.pictures.prepare import prepare_file
from mivrat.core.pictures.recipe import Recipe
from tests.support.networks import Net, saved

# Tint (red, green, blue) and the stripes' wavelength in pixels and direction in degrees.
STRIPED = {
    "rust fine": ((200, 110, 60), 6.0, 0.0),
    "rust coarse": ((200, 110, 60), 12.0, 0.0),
    "slate fine": ((60, 110, 200), 6.0, 0.0),
    "slate coarse": ((60, 110, 200), 12.0, 0.0),
    "moss slanted": ((110, 170, 70), 9.0, 40.0),
    "moss level": ((110, 170, 70), 9.0, 90.0),
}


def striped_picture(name: str, rng: np.random.Generator) -> NDArray[np.uint8]:
    """One picture of 64 to 80 by 100 to 130 pixels of a class."""
    tint, wavelength, degrees = STRIPED[name]
    height, width = int(rng.integers(64, 80)), int(rng.integers(100, 130))
    y, x = np.mgrid[:height, :width]
    angle = np.deg2rad(degrees + rng.normal(0, 6))
    phase = 2 * np.pi * (x * np.cos(angle) + y * np.sin(angle)) / (wavelength * rng.normal(1, 0.06)) + rng.uniform(0, 6)
    light = 1 + 0.35 * np.sin(phase) + rng.normal(0, 0.1)
    colour = np.array(tint) + rng.normal(0, 22, 3)
    return np.clip(light[..., None] * colour + rng.normal(0, 16, (height, width, 3)), 0, 255).astype(np.uint8)


def write_striped(root: Path, per_class: int, seed: int = 0) -> Path:
    """One folder for each class; returns the root."""
    rng = np.random.default_rng(seed)
    for name in STRIPED:
        (root / name).mkdir(parents=True, exist_ok=True)
        for i in range(per_class):
            Image.fromarray(striped_picture(name, rng)).save(root / name / f"{seed}-{i:03}.png")
    return root


def fitted(
    path: Path, recipe: Recipe, folder: Path, per_class: int = 60, seed: int = 0, *, grey: bool = False
) -> OnnxModel:
    """A classifier of STRIPED fitted on pictures prepared by ``recipe``, which are drawn into ``folder`` (``grey``: without colour)."""
    root = write_striped(folder, per_class, seed + 1000)
    files = [(file, k) for k, name in enumerate(STRIPED) for file in sorted((root / name).glob("*.png"))]
    if grey:
        for file, _ in files:
            Image.open(file).convert("L").save(file)
    inputs = np.stack([prepare_file(file, recipe) for file, _ in files])
    net, height_width = Net(seed), recipe.output_size()
    assert height_width is not None
    spread = float(inputs.std()) or 1.0
    x = net.add(
        "Conv",
        "image",
        net.weight(24, 3, 7, 7, scale=0.4 / spread / 7),
        net.weight(24, scale=0.5),
        kernel_shape=[7, 7],
        pads=[3, 3, 3, 3],
        strides=[1, 1] if grey else [2, 2],  # the probes ask it thousands of times
    )
    x = net.add("Relu", x)
    x = net.add("MaxPool", x, kernel_shape=[3, 3], strides=[2, 2])
    x = net.add("Conv", x, net.weight(48, 24, 3, 3, scale=0.15), net.weight(48, scale=0.5), kernel_shape=[3, 3])
    x = net.add("Relu", x, name="features")
    pooled = net.add("Flatten", net.add("GlobalAveragePool", x), name="pooled", axis=1)
    columns: list[int | str] = ["n", 3, *height_width]
    body = net.model(columns, {"pooled": ["n", 48]})
    features = OnnxModel(saved(body, path), recipe).scores(inputs)
    mean, deviation = features.mean(axis=0), features.std(axis=0) + 1e-6
    design = np.c_[(features - mean) / deviation, np.ones(len(features))].astype(np.float64)
    wanted = np.eye(len(STRIPED))[[k for _, k in files]] * 2 - 1
    head = np.linalg.solve(design.T @ design + 1e-2 * len(design) * np.eye(design.shape[1]), design.T @ wanted) * 6
    weights = (head[:-1] / deviation[:, None]).astype(np.float32)
    bias = (head[-1] - mean @ (head[:-1] / deviation[:, None])).astype(np.float32)
    net.add("Gemm", pooled, net.weight(values=weights), net.weight(values=bias), name="scores")
    return OnnxModel(saved(net.model(columns, {"scores": ["n", len(STRIPED)]}), path), recipe, len(STRIPED))
