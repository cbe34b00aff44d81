"""An ONNX classifier run by ONNX Runtime on the CPU."""

from __future__ import annotations

import copy
import hashlib
import json
import os
from collections.abc import Iterator, Sequence
from functools import cached_property
from math import prod
from pathlib import Path
from typing import Any

import numpy as np
import onnx
from numpy.typing import NDArray

from mivrat.core.base.errors import InputError
from mivrat.core.base.files import sha256_of
from mivrat.core.models import onnx_file
from mivrat.core.models.bounds import is_plainly_bounded
from mivrat.core.models.engine import VERSION, EngineFault, new_session, run_session, short_reason
from mivrat.core.models.model import Capabilities, ModelKind
from mivrat.core.models.scores import Kind, as_rows, column_count_fits
from mivrat.core.models.trial import passes_trial
from mivrat.core.pictures.image_sets import ImageSet
from mivrat.core.pictures.prepare import MOST_RECEIVED
from mivrat.core.pictures.recipe import Recipe, guess_recipe, recipe_to_toml

# Four images of 224 x 224 pixels.
PIXELS_AT_ONCE = 4 * 224 * 224
# A model of a fixed batch is given no more numbers than this at a time.
MOST_AT_ONCE = 3 * MOST_RECEIVED


def in_pieces(batch: NDArray[Any], size: int, limit: int | None) -> Iterator[tuple[NDArray[Any], int]]:
    """A batch in pieces of at most ``size`` images, each with how many of them count.

    A model of a fixed batch size (``limit``, then in place of ``size``) gets its last piece filled up with the last image.
    """
    size = limit or size
    for first in range(0, len(batch), size):
        piece = batch[first : first + size]
        kept = len(piece)
        if limit and kept < limit:
            piece = np.concatenate([piece, np.repeat(piece[-1:], limit - kept, axis=0)])
        yield piece, kept


class OnnxModel:
    """A loaded classifier together with the recipe its images are prepared by.

    ``recipe_is_guess`` tells that no recipe was given; ``remarks`` says in words what was chosen for the user.
    """

    def __init__(
        self,
        path: Path,
        recipe: Recipe | None = None,
        classes: int | None = None,
        threads: int = 0,
        *,
        tried: bool = False,
    ) -> None:
        """Load a model and run it once on a made-up batch. InputError where it cannot be used.

        Unless it is plain from the graph that this is short and small, it is done in a process of its own first; ``tried`` says
        that this is that process.
        """
        self.path = path
        self._given, self._classes = recipe, classes
        self.name = path.stem
        self.threads = threads
        self.remarks: list[str] = []
        self._bounded: dict[tuple[int, ...], bool] = {}
        self.proto, self.weights = onnx_file.load_onnx(path)
        self.input = onnx_file.image_input(self.proto, recipe.tensor.input if recipe else "", path)
        self.recipe_is_guess = recipe is None
        if recipe is None:
            shape = self.input.shape or (None, 3, None, None)
            recipe = guess_recipe(shape, self.input.dtype)
            self.remarks.append(
                f"no recipe given; guessed: {recipe.summary()}, {recipe.tensor.order}, shorter side resized and centre cropped"
            )
        self.recipe = recipe
        onnx_file.check_recipe_fits(self.input, recipe, path)
        self.output = self._choose_output(classes)
        self.batch_limit = self.input.shape[0] if self.input.shape else None
        self._refuse_giant_batch()
        if not tried:
            self.try_first()
        self.session = new_session(str(path.resolve()), threads, path)
        self._probe(classes)

    def try_first(self, *, tensors: bool = False, sides: tuple[int, int] | None = None) -> None:
        """Load and run it in a process of its own, with limits, where the graph does not show that it is harmless;
        ``tensors``: with every tensor it makes, for images of these sides. InputError where it is not."""
        shape = self.sample_shape(self.batch_limit or 2, sides)
        if shape not in self._bounded:
            self._bounded[shape] = is_plainly_bounded(self.proto, self.input.name, shape)
        if self._bounded[shape]:
            return
        recipe = recipe_to_toml(self._given) if self._given is not None else None
        task = {"recipe": recipe, "classes": self._classes, "tensors": tensors, "sides": sides}
        files = (self.path, *self.weights)
        told = json.dumps([VERSION, task, [sha256_of(file) for file in files]])
        where = {"path": os.fsencode(self.path.resolve()).hex(), "weights": sum(file.stat().st_size for file in files)}
        passes_trial(self.path, task | where, hashlib.sha256(told.encode()).hexdigest())

    def _refuse_giant_batch(self) -> None:
        """InputError where one batch is more than is ever given to a model at once."""
        shape = self.sample_shape(self.batch_limit or 1)
        if prod(shape[1:]) // self.recipe.channels > MOST_RECEIVED or prod(shape) > MOST_AT_ONCE:
            raise InputError(
                f"takes {prod(shape):,} numbers at a time ({' × '.join(str(n) for n in shape)}), which is more than Mivrat gives to a model".replace(
                    ",", " "
                ),
                where=self.path,
                hint="export it for smaller images, or with a batch of any size; or correct the sizes in the recipe",
            )

    def _choose_output(self, classes: int | None) -> onnx_file.Port:
        ports = onnx_file.outputs_of(self.proto)
        listed = "; ".join(port.describe() for port in ports)
        if self.recipe.tensor.output:
            for port in ports:
                if port.name == self.recipe.tensor.output:
                    return port
            raise InputError(
                f"has no output '{self.recipe.tensor.output}'; its outputs: {listed}",
                where=self.path,
                hint="correct tensor.output in the recipe",
            )
        fits = onnx_file.fitting_outputs(self.proto, classes)
        if not fits:
            if classes is not None and (any_class := onnx_file.fitting_outputs(self.proto, None)):
                raise InputError(
                    f"the model's outputs are {'; '.join(p.describe() for p in any_class)}, the class list names {classes} classes",
                    where=self.path,
                    hint="use the class list this model was trained with",
                )
            raise InputError(
                f"is not an image classifier: no output gives one score per class (outputs: {listed})",
                where=self.path,
                hint="name a model whose output is images x classes",
            )
        if len(fits) > 1:
            self.remarks.append(
                f"several outputs fit ({', '.join(p.name for p in fits)}); taken: {fits[0].name}; name another as tensor.output in the recipe"
            )
        return fits[0]

    def sample_shape(self, images: int, free: tuple[int, int] | None = None) -> tuple[int, ...]:
        """The shape of a batch of so many prepared images; sides that the recipe leaves open are those of the model's input,
        or, where that leaves them open too, ``free`` (224 without)."""
        sides: list[int | None] = list(self.recipe.output_size() or (None, None))
        if len(self.input.shape) == 4:
            fixed = list(self.input.shape[1:])[self.sides]
            sides = [side or own for side, own in zip(sides, fixed, strict=True)]
        height, width = (side or open_ for side, open_ in zip(sides, free or (224, 224), strict=True))
        if self.recipe.tensor.order == "NCHW":
            return images, self.recipe.channels, height, width
        return images, height, width, self.recipe.channels

    @property
    def sides(self) -> slice:
        """Where height and width stand in the shape of one prepared image."""
        return slice(1, 3) if self.recipe.tensor.order == "NCHW" else slice(0, 2)

    def misfit(self, shape: tuple[int, ...]) -> str:
        """Why a prepared image of this shape cannot go into the model; empty where it can."""
        wants = self.input.shape[1:]
        if not wants or all(want in (None, n) for want, n in zip(wants, shape, strict=True)):
            return ""
        (height, width), wanted = shape[self.sides], wants[self.sides]
        told = " × ".join("any" if n is None else str(n) for n in reversed(wanted))
        return f"is {width} × {height} px once prepared; the model takes {told}"

    def _probe(self, classes: int | None) -> None:
        """Run a made-up batch once, so that a model that cannot answer, or only one image at a time, is known now."""
        sizes = [self.batch_limit] if self.batch_limit else [2, 1]
        answer: NDArray[Any] | None = None
        for images in sizes:
            batch = np.zeros(self.sample_shape(images), self.recipe.tensor.dtype)
            try:
                answer = run_session(self.session, [self.output.name], {self.input.name: batch})[0]
            except EngineFault as error:
                if images == sizes[-1]:
                    raise InputError(
                        f"the model does not run on a batch of shape {list(batch.shape)} ({short_reason(error)})",
                        where=self.path,
                        hint="check the recipe's size and order against the model's input",
                    ) from error
                continue
            if answer.ndim and answer.shape[0] == images:
                self.batch_limit = self.batch_limit or (None if images == 2 else 1)
                break
        if answer is None or answer.ndim == 0 or answer.shape[0] != (self.batch_limit or 2):
            raise InputError(
                f"is not an image classifier: output '{self.output.name}' does not give one row per image",
                where=self.path,
                hint="name a model whose output is images x classes",
            )
        rows = as_rows(answer)
        if rows.ndim != 2:
            raise InputError(
                f"is not an image classifier: output '{self.output.name}' has shape {list(answer.shape)}, images x classes is needed",
                where=self.path,
                hint="name another output as tensor.output in the recipe, or another model",
            )
        self.columns = rows.shape[1]
        if classes is not None and not column_count_fits(self.columns, classes):
            raise InputError(
                f"the model gives {self.columns} scores per image (output '{self.output.name}'), the class list names {classes} classes",
                where=self.path,
                hint="use the class list this model was trained with",
            )
        if classes is None and self.columns == 1:
            self.remarks.append("one score column is read as two classes, 0 and 1")

    def altered(self, proto: onnx.ModelProto) -> OnnxModel:
        """The same model with another graph of the same inputs and outputs, in single precision."""
        made = copy.copy(self)
        made.proto = proto
        made.session = new_session(proto.SerializeToString(), self.threads, self.path)
        if self.recipe.tensor.dtype == "float16":
            tensor = self.recipe.tensor.model_copy(update={"dtype": "float32"})
            made.recipe = self.recipe.model_copy(update={"tensor": tensor})
        return made

    @property
    def kind(self) -> ModelKind:
        return ONNX

    @cached_property
    def content(self) -> str:
        """The hash of its file."""
        return sha256_of(self.path)

    @property
    def settled(self) -> Kind | None:
        """The kind of scores that the recipe says."""
        kind = self.recipe.scores.kind
        return None if kind == "auto" else kind

    @property
    def class_count(self) -> int:
        return 2 if self.columns == 1 else self.columns

    def scores(self, batch: NDArray[Any]) -> NDArray[np.float32]:
        """Raw scores (images x columns) for prepared images; a model of fixed batch size gets padded pieces.

        Larger inputs go in smaller pieces: what lies between the layers then stays near the processor, which is both
        faster and lighter than many images at once.
        """
        limit = self.batch_limit
        if limit is None:
            at_once = max(1, PIXELS_AT_ONCE // (batch[0].size // self.recipe.channels)) if len(batch) else 1
            parts = [batch[first : first + at_once] for first in range(0, len(batch), at_once)]
            found = [
                as_rows(run_session(self.session, [self.output.name], {self.input.name: part})[0]) for part in parts
            ]
            return found[0] if len(found) == 1 else np.concatenate(found)
        return np.concatenate(
            [
                as_rows(run_session(self.session, [self.output.name], {self.input.name: piece})[0])[:kept]
                for piece, kept in in_pieces(batch, limit, limit)
            ]
        )

    @property
    def row_dtype(self) -> type[np.float32]:
        return np.float32

    def looked_up(self, image_set: ImageSet) -> tuple[NDArray[np.int64], Iterator[NDArray[np.floating]]]:
        """It scores, and lists nothing."""
        raise NotImplementedError


def _load(path: Path, classes: Sequence[str], recipe: Recipe | None, threads: int) -> OnnxModel:
    return OnnxModel(path, recipe, len(classes), threads)


ONNX = ModelKind("onnx", "an ONNX model", frozenset({".onnx"}), Capabilities(True, True, True), _load)


def opset_of(model: onnx.ModelProto) -> int:
    """The version of the standard operator set a model uses."""
    return next((entry.version for entry in model.opset_import if entry.domain in ("", "ai.onnx")), 1)
