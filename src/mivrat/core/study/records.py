"""What a study tells of its runs, image sets and models."""

from __future__ import annotations

import hashlib
from dataclasses import dataclass, field
from functools import cached_property
from pathlib import Path
from typing import Any, NamedTuple

from mivrat.core.answers.answers import Answers
from mivrat.core.models.model import ModelKind
from mivrat.core.models.onnx_model import ONNX
from mivrat.core.pictures.image_names import ImageNames
from mivrat.core.pictures.image_sets import ImageSet, Role, paths_of
from mivrat.core.pictures.recipe import Recipe, canonical


@dataclass(frozen=True)
class RunInfo:
    """One run as the study lists it: a model on an image set."""

    id: int
    model: str
    image_set: str
    model_id: int
    set_id: int


class RunKey(NamedTuple):
    """A run by what it is of, never by its row: the study file, the model's and the recipe's content, the list of images, and the
    classes. Numbers of rows are the same in every study."""

    study: str
    model: str
    recipe: str
    images: str
    classes: str


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
    unit_column: str = ""
    columns: tuple[str, ...] = ()


@dataclass(frozen=True)
class ModelInfo:
    """One model as the study lists it: the same file with another recipe is another model."""

    id: int
    kind: ModelKind
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
    kind: ModelKind = ONNX
    model_sha256: str = ""
    families: dict[int, str] = field(default_factory=dict)
    threshold: float | None = None
    temperature: float | None = None
    study: str = ""

    @cached_property
    def key(self) -> RunKey:
        """What this run is of."""
        listed = hashlib.sha256(str(self.image_set.root).encode("utf-8", "surrogateescape"))
        listed.update("\n".join(["", *paths_of(self.image_set.items)]).encode("utf-8", "surrogateescape"))
        named = hashlib.sha256("\n".join(self.classes).encode("utf-8", "surrogateescape"))
        recipe = canonical(self.recipe)
        return RunKey(self.study, self.model_sha256, recipe, listed.hexdigest(), named.hexdigest())

    @cached_property
    def names(self) -> ImageNames:
        """Its images by name."""
        return ImageNames(self.image_set.items, self.answers.contents)

    @property
    def set_key(self) -> tuple[str, str]:
        """What its image set is."""
        return self.key.study, self.key.images

    @property
    def model_key(self) -> tuple[str, str, str]:
        """What its model is, with the recipe, in this study."""
        return self.key.study, self.key.model, self.key.recipe
