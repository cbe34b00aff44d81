"""The kinds of models there are, and loading whatever can answer for images by the kind of its file."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

from mivrat.core.models.model import Model, ModelKind
from mivrat.core.models.onnx_model import ONNX
from mivrat.core.models.prediction_table import TABLE
from mivrat.core.models.service.model import SERVICE
from mivrat.core.pictures.recipe import Recipe

# By the name they go by in studies. A kind is one module and one entry here.
KINDS: dict[str, ModelKind] = {kind.name: kind for kind in (ONNX, TABLE, SERVICE)}


def kind_of(path: Path) -> ModelKind:
    """The kind of model in a file, told by the file's ending, ONNX where that says nothing."""
    ending = path.suffix.lower()
    return next((one for one in KINDS.values() if ending in one.endings), ONNX)


def load_model(path: Path, classes: Sequence[str], recipe: Recipe | None = None, threads: int = 0) -> Model:
    """The model in a file, or behind a service description. Raises InputError where it cannot be used."""
    return kind_of(path).load(path, classes, recipe, threads)


def model_endings(*, scoring: bool = False) -> list[str]:
    """The endings of files that models are in, in order; ``scoring``: of those kinds alone that answer for new images.

    >>> model_endings(scoring=True)
    ['.onnx', '.toml']
    """
    return sorted(set().union(*(one.endings for one in KINDS.values() if one.can.scores or not scoring)))
