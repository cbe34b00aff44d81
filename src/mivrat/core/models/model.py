"""The one interface of everything that answers for images, with what it can do as data: nothing above asks what kind it is."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING, Any, NamedTuple, Protocol

import numpy as np
from numpy.typing import NDArray

from mivrat.core.models.scores import Kind
from mivrat.core.pictures.recipe import Recipe, canonical

if TYPE_CHECKING:
    from mivrat.core.pictures.image_sets import ImageSet


class ModelId(NamedTuple):
    """A model by content: the hash of its file (of a service its address, name and version), and its recipe's canonical form."""

    content: str
    recipe: str


def identity_of(model: Model) -> ModelId:
    """What a model is, wherever its file lies and whatever it is called."""
    return ModelId(model.content, canonical(model.recipe))


@dataclass(frozen=True)
class Capabilities:
    """What a kind of model can do.

    ``scores``: answer for any prepared image, as often as asked; one that cannot has its answers looked up for the images it
    lists. ``gradients``: tell how its answer depends on each layer. ``features``: tell what its last layer makes of an image.
    ``asked``: its answers come from elsewhere, request by request: that takes agreement, and what failed may succeed later.
    """

    scores: bool
    gradients: bool
    features: bool
    asked: bool = False


class Model(Protocol):
    """Answers raw scores. ``settled`` is the kind of its scores where it, or its recipe, says so; ``columns`` how many numbers
    it gives for each image; ``remarks`` what was chosen for the user, in words."""

    path: Path
    name: str
    recipe: Recipe
    recipe_is_guess: bool
    remarks: list[str]
    columns: int

    @property
    def kind(self) -> ModelKind: ...

    @property
    def content(self) -> str:
        """What it is, as in ModelId."""
        ...

    @property
    def settled(self) -> Kind | None: ...

    @property
    def row_dtype(self) -> type[np.float32] | type[np.float64]:
        """What a row of its scores loses nothing in."""
        ...

    @property
    def class_count(self) -> int: ...

    def misfit(self, shape: tuple[int, ...]) -> str:
        """Why a prepared image of this shape cannot go in; empty where it can."""
        ...

    def scores(self, batch: NDArray[Any]) -> NDArray[np.float32]:
        """Raw scores, images x columns, for prepared images stacked on the first axis; of a model that can."""
        ...

    def looked_up(self, image_set: ImageSet) -> tuple[NDArray[np.int64], Iterator[NDArray[np.floating]]]:
        """Of a model that cannot score: the row of each image of a set (-1: it has none), and all rows, some at a time."""
        ...


@dataclass(frozen=True)
class ModelKind:
    """A kind of model: its ``name`` in studies, what it is ``called``, the ``endings`` of its files, what it ``can`` do, how one is
    loaded (path, classes, recipe, threads), and what is said where it is not the one it was (``other``)."""

    name: str
    called: str
    endings: frozenset[str]
    can: Capabilities
    load: Callable[[Path, Sequence[str], Recipe | None, int], Model]
    other: str = "is another file than the one this run was scored with"

    def lacks(self, what: str) -> str:
        """The sentence that says that something takes more than this kind can do."""
        return f"{what} the ONNX model; {self.called} is not enough."
