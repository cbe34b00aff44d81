"""Loads whatever can answer for images: an ONNX file, or a table of predictions made elsewhere."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

from mivrat.core.models.onnx_model import OnnxModel
from mivrat.core.models.predictions import PredictionTable
from mivrat.core.pictures.image_sets import TABLE_ENDINGS
from mivrat.core.pictures.recipe import Recipe


def load_model(
    path: Path, classes: Sequence[str], recipe: Recipe | None = None, threads: int = 0
) -> OnnxModel | PredictionTable:
    """The model in a file, told by the file's ending; of a recipe a table takes the kind of scores. Raises InputError."""
    if path.suffix.lower() in TABLE_ENDINGS:
        return PredictionTable(path, classes, recipe)
    return OnnxModel(path, recipe, len(classes), threads)
