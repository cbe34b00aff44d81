"""Scored studies of several sets and models, of tiny pictures."""

from __future__ import annotations

from pathlib import Path

import numpy as np
from PIL import Image

from mivrat.core.pictures.image_sets import read_image_set
from mivrat.core.running.evaluation import Evaluation
from mivrat.core.study.file import Study
from mivrat.core.study.image_sets import add_image_set
from tests.support.networks import classifier, loaded


def write_tiny_set(root: Path, sizes: list[int], seed: int) -> Path:
    """A folder for each class, with so many tiny pictures."""
    rng = np.random.default_rng(seed)
    for k, size in enumerate(sizes):
        (root / f"kind {k}").mkdir(parents=True)
        for i in range(size):
            pixels = rng.integers(0, 256, (8, 8, 3), dtype=np.uint8)
            Image.fromarray(pixels).save(root / f"kind {k}" / f"{i}.png", compress_level=1)
    return root


def scored_study(folder: Path, classes: int, sets: dict[str, list[int]], models: int) -> Path:
    """A scored study of sets by name and number of images of each class, every model on every set."""
    folder.mkdir()
    names = [f"kind {k}" for k in range(classes)]
    made = [loaded(classifier(seed=seed, classes=classes), folder / f"{seed}.onnx", classes) for seed in range(models)]
    with Study.create(folder / "s.mivrat", names) as study:
        for seed, (name, sizes) in enumerate(sets.items()):
            images = read_image_set(write_tiny_set(folder / name, sizes, seed), names)
            for model in made:
                for _ in Evaluation(model, images, study).run():
                    pass
        bare = folder / "bare"
        bare.mkdir()
        for i in range(9):
            Image.fromarray(np.full((8, 8, 3), 20 * i, np.uint8)).save(bare / f"{i}.png")
        for _ in Evaluation(made[0], read_image_set(bare, names), study).run():
            pass
        add_image_set(study, read_image_set(write_tiny_set(folder / "spare", [1] * classes, 99), names))
    return folder / "s.mivrat"
