"""Small image sets on disk."""

from __future__ import annotations

from pathlib import Path

import numpy as np
from PIL import Image

CLASSES = ["birch", "alder", "hazel"]


def write_set(root: Path, per_class: int = 4, side: int = 16, classes: list[str] | None = None, seed: int = 0) -> Path:
    """One folder per class with random pictures; returns the root."""
    rng = np.random.default_rng(seed)
    for name in classes or CLASSES:
        folder = root / name
        folder.mkdir(parents=True)
        for i in range(per_class):
            Image.fromarray(rng.integers(0, 256, (side, side + i, 3), dtype=np.uint8)).save(folder / f"{i}.png")
    return root


def write_classes(path: Path, classes: list[str] | None = None) -> Path:
    path.write_text("\n".join(classes or CLASSES) + "\n", encoding="utf-8")
    return path
