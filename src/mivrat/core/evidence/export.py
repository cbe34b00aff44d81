"""Writes heatmaps of image files: the raw map and the overlay."""

from __future__ import annotations

import io
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray
from PIL import Image

from mivrat.core.evidence.layers import Layer
from mivrat.core.evidence.maps import SIGNED, HeatmapMaker, Map, Method, Target
from mivrat.core.evidence.overlay import overlay
from mivrat.core.files import write_whole
from mivrat.core.pictures.decode import Pixels, UnreadablePicture, read_picture
from mivrat.core.pictures.prepare import Geometry, fitted_pixels, to_tensor

BATCH = 16


@dataclass(frozen=True)
class Made:
    """What came of one image: the overlay written, its target and the map's peak, or the problem with the file."""

    path: Path
    written: Path | None
    target: Target
    peak: float
    problem: str | None = None


def free_stem(path: Path, taken: set[str]) -> str:
    """A file name without ending that is not taken yet, which it then is."""
    stem, number = path.stem, 1
    while stem in taken:
        number += 1
        stem = f"{path.stem}-{number}"
    taken.add(stem)
    return stem


def write_heatmaps(
    maker: HeatmapMaker, files: Sequence[Path], folder: Path, layer: Layer | None, target: Target | None, method: Method
) -> Iterator[Made]:
    """Write ``<stem>.npy`` (the map as it is, float32) and ``<stem>.png`` (over the picture) for each file, in order.

    ``target`` None stands for each image's predicted class. Files of the same stem get ``-2``, ``-3`` … behind it.
    """
    recipe, taken = maker.model.recipe, set[str]()
    scale = "difference" if method in SIGNED else "heat"
    layers = [layer] if layer is not None else []
    for first in range(0, len(files), BATCH):
        chunk: list[tuple[Path, tuple[Pixels, Geometry] | str]] = []
        tensors: list[NDArray[Any]] = []
        for path in files[first : first + BATCH]:
            try:
                pixels = read_picture(path, recipe.picture.mode, recipe.picture.exif_rotate)
            except UnreadablePicture as error:
                chunk.append((path, str(error)))
                continue
            fitted, place = fitted_pixels(pixels, recipe)
            tensors.append(to_tensor(fitted, recipe))
            chunk.append((path, (pixels[..., ::-1] if recipe.picture.mode == "BGR" else pixels, place)))
        batches = [np.stack(tensors)] if len({t.shape for t in tensors}) == 1 else [t[None] for t in tensors]
        heats: list[Map] = []
        targets: list[Target] = []
        for batch in batches:
            if target is None:
                chosen = [Target(int(k)) for k in maker.probabilities(batch).argmax(axis=1)]
            else:
                chosen = [target] * len(batch)
            heats += list(maker.maps(batch, chosen, layers, method)[0])
            targets += chosen
        made = iter(zip(heats, targets, strict=True))
        for path, shown in chunk:
            if isinstance(shown, str):
                yield Made(path, None, Target(0), 0.0, shown)
                continue
            heat, used = next(made)
            stem = free_stem(path, taken)
            raw, drawn = io.BytesIO(), io.BytesIO()
            np.save(raw, heat)
            Image.fromarray(overlay(shown[0], heat, shown[1], scale=scale)).save(drawn, "PNG")
            write_whole(folder / f"{stem}.npy", raw.getvalue())
            write_whole(folder / f"{stem}.png", drawn.getvalue())
            yield Made(path, folder / f"{stem}.png", used, float(np.abs(heat).max(initial=0.0)))
