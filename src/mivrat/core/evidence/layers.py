"""Lists the tensors a heatmap can be taken from, and says why the others cannot."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from mivrat.core.errors import InputError
from mivrat.core.evidence.emit import Value
from mivrat.core.evidence.graph import GraphView
from mivrat.core.evidence.reverse import SEED, blocked_layers, build_reverse
from mivrat.core.models.onnx_model import new_session

# Tokens before those of the image's patches: none, a class token, and one for distillation or four registers beside it.
BEFORE_PATCHES = (0, 1, 2, 5)


@dataclass(frozen=True)
class Tokens:
    """How a transformer's tokens are laid back over the image: those on ``axis`` (1 or 2) after the first ``before``, line by line."""

    axis: int
    before: int
    grid: tuple[int, int]


@dataclass(frozen=True)
class Layer:
    """One tensor on the way from the image to the scores.

    ``shape`` leaves out the first axis (the images); ``reason`` says why no heatmap can be taken from it. ``parameters``
    counts the numbers learned that the operator which makes it brings along. ``channel_axis`` is that of the activations
    as height and width, for ``tokens`` once they are laid out so. ``has_places``: it has height and width, though maybe no
    gradient reaches it.
    """

    tensor: str
    op: str
    shape: tuple[int, ...]
    heatmap: bool
    reason: str | None
    default: bool
    channel_axis: int
    parameters: int = 0
    tokens: Tokens | None = None
    has_places: bool = True

    @property
    def grid(self) -> tuple[int, int]:
        """Height and width of its heatmap."""
        if self.tokens is not None:
            return self.tokens.grid
        return (self.shape[0], self.shape[1]) if self.channel_axis == 3 else (self.shape[1], self.shape[2])

    @property
    def channels(self) -> int:
        """How many channels its activations have."""
        if self.tokens is not None:
            return self.shape[2 - self.tokens.axis]
        return self.shape[2] if self.channel_axis == 3 else self.shape[0]

    def as_json(self) -> dict[str, object]:
        return {
            "tensor": self.tensor,
            "op": self.op,
            "shape": ["n", *self.shape],
            "heatmap": self.heatmap,
            "reason": self.reason,
            "default": self.default,
        }

    def emit_places(self, value: Value) -> Value:
        """Emit what lays its activations, or their gradient, out as height and width; channels on ``channel_axis``."""
        tokens, emit = self.tokens, value.emitter
        if tokens is None:
            return value
        if tokens.before:
            value = emit.slice(value, tokens.axis, tokens.before, self.shape[tokens.axis - 1])
        grid, channels = tokens.grid, self.channels
        return emit.reshape(value, [0, *grid, channels] if tokens.axis == 1 else [0, channels, *grid])

    def channels_first(self, values: NDArray[Any]) -> NDArray[Any]:
        """Its activations, or their gradient, as images x channels x height x width."""
        tokens = self.tokens
        if tokens is not None:
            some = slice(tokens.before, None)
            values = values[:, some] if tokens.axis == 1 else values[:, :, some]
            shape = (*tokens.grid, -1) if tokens.axis == 1 else (-1, *tokens.grid)
            values = values.reshape(len(values), *shape)
        return values.transpose(0, 3, 1, 2) if self.channel_axis == 3 else values


class _Places:
    """Finds height and width of a graph's tensors, in graph order, so that tokens are laid out as the patches before them were."""

    def __init__(self, view: GraphView) -> None:
        self._view = view
        self._grids: list[tuple[int, int]] = []

    def of(self, name: str) -> tuple[str | None, Tokens | None]:
        """Why a tensor has no height and width, or None; and how tokens are laid out."""
        view = self._view
        shape, axis = view.shapes[name], view.channel_axis.get(name)
        if not shape or shape[0] != view.batch:
            return "its first axis does not count the images", None
        if len(shape) == 3:
            return self._as_tokens(shape)
        if len(shape) != 4:
            return "it has no height and width", None
        if axis is None:
            return "which of its axes are height and width cannot be told", None
        grid = (shape[1], shape[2]) if axis == 3 else (shape[2], shape[3])
        if grid[0] * grid[1] == 1:
            return "it has a single place only", None
        if grid not in self._grids[-1:]:
            self._grids.append(grid)
        return None, None

    def _as_tokens(self, shape: tuple[int, ...]) -> tuple[str | None, Tokens | None]:
        found = [Tokens(axis, *laid) for axis in (1, 2) if (laid := self._grid_for(shape[axis])) is not None]
        if len(found) == 1:
            return None, found[0]
        if found:
            return "which of its axes are its tokens cannot be told", None
        return f"its {shape[1]} × {shape[2]} values cannot be laid over the image as tokens", None

    def _grid_for(self, count: int) -> tuple[int, tuple[int, int]] | None:
        for grid in reversed(self._grids):
            if count - grid[0] * grid[1] in BEFORE_PATCHES:
                return count - grid[0] * grid[1], grid
        if self._grids:
            return None
        shape = self._view.shapes[self._view.input]  # cut into patches without a convolution
        height, width = (shape[1], shape[2]) if shape[-1] in (1, 3) else (shape[-2], shape[-1])
        for before in BEFORE_PATCHES:
            rows = round(((count - before) * height / width) ** 0.5) if count > before + 1 else 0
            if rows and rows * rows * width == (count - before) * height and (count - before) % rows == 0:
                return before, (rows, (count - before) // rows)
        return None


def _learned(view: GraphView) -> dict[str, int]:
    """How many learned numbers stand behind each tensor that does not depend on the image; whole numbers and single ones
    (shapes, axes, factors) are not learned."""
    found: dict[str, int] = {}
    for name, value in view.values.items():
        if name not in view.producer or view.producer[name].op_type == "Constant":
            found[name] = value.size if value.size > 1 and (value.dtype.kind == "f" or value.dtype == np.int8) else 0
    for node in view.nodes:
        if node.op_type != "Constant" and node.output[0] not in view.depends:
            found[node.output[0]] = sum(found.get(one, 0) for one in dict.fromkeys(node.input))
    return found


def list_layers(view: GraphView) -> list[Layer]:
    """All float tensors that lead from the image to the logits, in graph order.

    The default is the last one with spatial extent that a heatmap can be taken from (where none can: the last with extent).
    """
    places, learned = _Places(view), _learned(view)
    found: list[Layer] = []
    for node in view.nodes:
        for name in node.output:
            if name in view.depends and name in view.leading and view.is_float(name):
                problem, tokens = places.of(name)
                axis = (3 if tokens.axis == 1 else 1) if tokens is not None else view.channel_axis.get(name) or 1
                count = sum(learned.get(one, 0) for one in dict.fromkeys(node.input))
                found.append(
                    Layer(
                        name,
                        node.op_type,
                        view.shapes[name][1:],
                        problem is None,
                        problem,
                        False,
                        axis,
                        count,
                        tokens,
                        problem is None,
                    )
                )
    spatial = [layer.tensor for layer in found if layer.heatmap]
    for name, operators in blocked_layers(view, spatial).items():
        at = next(i for i, layer in enumerate(found) if layer.tensor == name)
        reason = f"the reverse pass has no rule for {', '.join(operators[:3])}, behind it"
        found[at] = replace(found[at], heatmap=False, reason=reason)
    usable = [i for i, layer in enumerate(found) if layer.heatmap] or [
        i for i, layer in enumerate(found) if layer.tensor in spatial
    ]
    if usable:
        at = _last_with_evidence(view, found, usable)
        found[at] = replace(found[at], default=True)
    return found


def _last_with_evidence(view: GraphView, layers: Sequence[Layer], usable: Sequence[int]) -> int:
    """The last usable layer. Behind the last attention only the class token is read: then the last one of the same shape
    whose other tokens still have a say, as one run of the reverse pass shows."""
    last = layers[usable[-1]]
    if last.tokens is None or not last.tokens.before or not last.heatmap:
        return usable[-1]
    alike = [i for i in usable if layers[i].tokens == last.tokens and layers[i].shape == last.shape]
    shape = view.shapes[view.input]
    batch = np.random.default_rng(0).uniform(0, 1, shape).astype(view.dtypes[view.input])
    seed = np.eye(1, int(np.prod(view.shapes[view.logits][1:])), dtype=np.float32).repeat(len(batch), axis=0)
    proto, names = build_reverse(view, [layers[i].tensor for i in alike])
    gradients = new_session(proto.SerializeToString(), 0, view.where).run(names[1::2], {view.input: batch, SEED: seed})
    telling = [i for i, g in zip(alike, gradients, strict=True) if np.any(layers[i].channels_first(g))]
    return telling[-1] if telling else usable[-1]


def choose_layer(layers: Sequence[Layer], wanted: str | None, where: object) -> Layer:
    """The layer asked for by tensor name, or the default; InputError where it gives no heatmap."""
    if wanted is None:
        layer = next((one for one in layers if one.default), None)
        if layer is None:
            raise InputError(
                "has no layer with height and width to take a heatmap from",
                where=where,
                mend="use a method that needs only answers",
            )
    else:
        layer = next((one for one in layers if one.tensor == wanted), None)
        if layer is None:
            raise InputError(
                f"has no layer '{wanted}' between image and scores", where=where, mend="'mivrat layers' lists them"
            )
    if not layer.heatmap:
        raise InputError(
            f"no heatmap can be taken from '{layer.tensor}': {layer.reason}",
            where=where,
            mend="'mivrat layers' lists the layers that can be used",
        )
    return layer


def stages(layers: Sequence[Layer], most: int = 3) -> list[Layer]:
    """The last usable layer of each resolution, the last first: what a network has to say at each of its stages."""
    found: dict[tuple[int, int], Layer] = {}
    for layer in layers:
        if layer.heatmap:
            found[layer.grid] = layer
    default = next((one for one in layers if one.default and one.heatmap), None)
    if default is not None:
        found[default.grid] = default
    return sorted(found.values(), key=lambda one: layers.index(one), reverse=True)[:most]
