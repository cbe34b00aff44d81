"""What a study tells of its runs, image sets and models."""

from __future__ import annotations

from dataclasses import dataclass, field
from pathlib import Path
from typing import Any, Protocol

from mivrat.core.pictures.image_sets import ImageSet, Role
from mivrat.core.pictures.recipe import Recipe
from mivrat.core.running.answers import Answers


@dataclass(frozen=True)
class RunInfo:
    """One run as the study lists it: a model on an image set."""

    id: int
    model: str
    image_set: str
    model_id: int
    set_id: int


@dataclass(frozen=True)
class SetInfo:
    """One image set as the study lists it; ``drawn`` tells how a subset was drawn, ``together`` the column by which images
    belong together (empty: none), ``columns`` those it could be."""

    id: int
    name: str
    role: Role
    root: Path
    images: int
    labelled: int
    drawn: str
    together: str = ""
    columns: tuple[str, ...] = ()


@dataclass(frozen=True)
class ModelInfo:
    """One model as the study lists it: the same file with another recipe is another model."""

    id: int
    kind: str
    name: str
    path: Path
    recipe: Recipe
    recipe_is_guess: bool


@dataclass(frozen=True)
class Removed:
    """Rows that were taken away, by table, so that they can be put back."""

    rows: list[tuple[str, list[tuple[Any, ...]]]]
    model_id: int | None = None


@dataclass
class RunRecord:
    """Everything one run needs to be shown or gone on with; no model is loaded for it."""

    info: RunInfo
    classes: list[str]
    model_path: Path
    recipe: Recipe
    recipe_is_guess: bool
    image_set: ImageSet
    answers: Answers
    model_kind: str = "onnx"
    model_sha256: str = ""
    families: dict[int, str] = field(default_factory=dict)
    threshold: float | None = None
    temperature: float | None = None


class Scorer(Protocol):
    """What the study keeps of a model."""

    path: Path
    name: str
    kind: str
    recipe: Recipe
    recipe_is_guess: bool
