"""Lists the tensors a heatmap can be taken from, and says why the others cannot."""

from __future__ import annotations

import hashlib
import warnings
from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from mivrat.core.base.errors import InputError
from mivrat.core.gradients.default_layer import default_layer
from mivrat.core.gradients.emit import Value
from mivrat.core.gradients.graph import GraphView
from mivrat.core.gradients.layer_names import with_names
from mivrat.core.gradients.placement import Placement, placement_of
from mivrat.core.gradients.plain_writer import WRITTEN_OUT
from mivrat.core.gradients.reverse import blocked_layers
from mivrat.core.gradients.token_places import TokenPlaces, grid_of


@dataclass(frozen=True)
class TokenGrid:
    """How a transformer's tokens are laid back over the image: which of those on ``axis`` (1 or 2) stand where, line by line
    of the ``grid``; ``others`` are tokens of no patch (class tokens, registers)."""

    axis: int
    order: tuple[int, ...]
    grid: tuple[int, int]
    others: int = 0

    @property
    def in_line(self) -> bool:
        """Whether the patches' tokens stand one behind the other as they lie in the image."""
        return self.order == tuple(range(self.order[0], self.order[0] + len(self.order)))


WHOLE = Placement()


@dataclass(frozen=True)
class Layer:
    """One tensor on the way from the image to the scores.

    ``shape`` leaves out the axis of the images, ``image_axis``; all other axes are given as if that were the first. ``reason`` says
    why no heatmap can be taken from it. ``parameters`` counts the numbers learned that the operator which makes it brings along. ``channel_axis`` is that of the activations
    as height and width, for ``tokens`` once they are laid out so. ``has_places``: it has height and width, though maybe no
    gradient reaches it. ``placement`` tells where in the image its cells lie. ``plain`` says what it is in words, ``block`` to
    which part of the network it belongs.
    """

    tensor: str
    op: str
    shape: tuple[int, ...]
    heatmap: bool
    reason: str | None
    default: bool
    channel_axis: int
    parameters: int = 0
    tokens: TokenGrid | None = None
    has_places: bool = True
    placement: Placement = WHOLE
    image_axis: int = 0
    plain: str = ""
    block: str = ""

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

    @property
    def _order(self) -> list[int]:
        rank = len(self.shape) + 1
        return [self.image_axis, *(axis for axis in range(rank) if axis != self.image_axis)]

    def as_json(self) -> dict[str, object]:
        return {
            "tensor": self.tensor,
            "op": self.op,
            "shape": [*self.shape[: self.image_axis], "n", *self.shape[self.image_axis :]],
            "heatmap": self.heatmap,
            "reason": self.reason,
            "default": self.default,
            "plain": self.plain,
            "block": self.block,
        }

    def emit_places(self, value: Value) -> Value:
        """Emit what lays its activations, or their gradient, out as height and width; channels on ``channel_axis``."""
        tokens, emit = self.tokens, value.emitter
        if self.image_axis:
            value = emit.node("Transpose", value, perm=self._order)
        if tokens is None:
            return value
        if not tokens.in_line:
            value = emit.node("Gather", value, emit.integers(tokens.order), axis=tokens.axis)
        elif tokens.others:
            value = emit.slice(value, tokens.axis, tokens.order[0], tokens.order[-1] + 1)
        grid, channels = tokens.grid, self.channels
        return emit.reshape(value, [0, *grid, channels] if tokens.axis == 1 else [0, channels, *grid])

    def channels_first(self, values: NDArray[Any]) -> NDArray[Any]:
        """Its activations, or their gradient, as images x channels x height x width."""
        tokens = self.tokens
        if self.image_axis:
            values = values.transpose(self._order)
        if tokens is not None:
            values = np.take(values, tokens.order, axis=tokens.axis)
            shape = (*tokens.grid, -1) if tokens.axis == 1 else (-1, *tokens.grid)
            values = values.reshape(len(values), *shape)
        return values.transpose(0, 3, 1, 2) if self.channel_axis == 3 else values


class _Places:
    """Finds height and width of a graph's tensors; how tokens lie in the image has to be shown by following the graph."""

    def __init__(self, view: GraphView) -> None:
        self._view = view
        self._places = TokenPlaces(view, view.channel_axis[view.input] or 1)
        # Many layers lie alike: what their places come to is worked out once.
        self._worked_out: dict[tuple[int, int, int], NDArray[np.floating]] = {}
        self._placements: dict[bytes, Placement | None] = {}
        self._grids: dict[bytes, tuple[tuple[int, ...], tuple[int, int]] | None] = {}
        self._keys: dict[int, tuple[NDArray[np.floating], bytes]] = {}

    def of(self, name: str) -> Laid | str:
        """How a tensor's values lie in the image, or why that cannot be told."""
        view = self._view
        axis, images = view.channel_axis.get(name), view.image_axis(name)
        if images is None:
            return "none of its axes counts the images"
        shape = _images_first(view.shapes[name], images)
        if len(shape) == 3:
            return self._as_tokens(name, shape, images)
        if len(shape) != 4:
            return "it has no height and width"
        placements = {k: found for k in (1, 3) if (found := self._placement(name, k, images)) is not None}
        if axis not in placements and len(placements) == 1:
            axis = next(iter(placements))
        if axis is None:
            return "its height and width axes are unknown"
        grid = (shape[1], shape[2]) if axis == 3 else (shape[2], shape[3])
        if grid[0] * grid[1] == 1:
            return "it has a single place only"
        if axis not in placements:
            return "its values are in another order than in the image, or their places are unknown"
        return Laid(axis, placements[axis], image_axis=images)

    def _means(self, name: str, channel_axis: int, images: int) -> NDArray[np.floating] | None:
        """The mean place over the channels, for each value of an image along the other axes; None where nothing is known."""
        places = self._places.of(name)
        if places is None or name in self._places.pairs:
            return None
        key = (id(places), channel_axis, images)  # these stay as long as the graph is looked at
        if key not in self._worked_out:
            with warnings.catch_warnings():
                warnings.simplefilter("ignore", RuntimeWarning)  # a token of no place has none on the average either
                means = np.asarray(np.nanmean(places.take(0, axis=images), axis=channel_axis - 1))
            self._worked_out[key] = means
        return self._worked_out[key]

    def _placement(self, name: str, channel_axis: int, images: int) -> Placement | None:
        means = self._means(name, channel_axis, images)
        return self._placed(means) if means is not None else None

    def _placed(self, means: NDArray[np.floating]) -> Placement | None:
        key = self._key(means)
        if key not in self._placements:
            self._placements[key] = placement_of(means)
        return self._placements[key]

    def _grid(self, means: NDArray[np.floating]) -> tuple[tuple[int, ...], tuple[int, int]] | None:
        key = self._key(means)
        if key not in self._grids:
            self._grids[key] = grid_of(means.reshape(-1, 2))
        return self._grids[key]

    def _key(self, means: NDArray[np.floating]) -> bytes:
        """What tells some places from others, worked out once for each array."""
        if id(means) not in self._keys:
            self._keys[id(means)] = (means, hashlib.sha256(means.tobytes()).digest() + repr(means.shape).encode())
        return self._keys[id(means)][1]

    def _as_tokens(self, name: str, shape: tuple[int, ...], images: int) -> Laid | str:
        if name in self._places.pairs:
            return "its token axis is unknown"
        found = []
        for axis in (1, 2):
            means = self._means(name, 3 - axis, images)
            laid = self._grid(means) if means is not None else None
            if laid is None or means is None:
                continue
            order, grid = laid
            placement = self._placed(means[list(order)].reshape(*grid, 2))
            if placement is not None:
                tokens = TokenGrid(axis, order, grid, others=shape[axis] - len(order))
                found.append(Laid(3 if axis == 1 else 1, placement, tokens, images))
        if len(found) == 1:
            return found[0]
        if found:
            return "its token axis is unknown"
        return f"the places of its {shape[1]} × {shape[2]} values in the image are unknown"


@dataclass(frozen=True)
class Laid:
    """How a tensor's values lie in the image: the axis of its channels, where its cells are, how its tokens are laid out, and
    which axis counts the images (the others as if it were the first)."""

    channel_axis: int
    placement: Placement
    tokens: TokenGrid | None = None
    image_axis: int = 0


def _images_first(shape: tuple[int, ...], axis: int) -> tuple[int, ...]:
    """A shape with one axis moved to the front."""
    return (*shape[axis : axis + 1], *shape[:axis], *shape[axis + 1 :])


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

    One of them is the default (``default_layer``); none where no place of any of them has a say.
    """
    places, learned = _Places(view), _learned(view)
    found: list[Layer] = []
    for node in view.nodes:
        for name in node.output:
            if name in view.depends and name in view.leading and view.is_float(name):
                if name.startswith(WRITTEN_OUT):
                    continue  # a step of what stands in the file as one operator, and has no name there
                laid = places.of(name)
                problem = laid if isinstance(laid, str) else None
                if isinstance(laid, str):
                    laid = Laid(view.channel_axis.get(name) or 1, WHOLE, image_axis=view.image_axis(name) or 0)
                count = sum(learned.get(one, 0) for one in dict.fromkeys(node.input))
                found.append(
                    Layer(
                        name,
                        node.op_type,
                        _images_first(view.shapes[name], laid.image_axis)[1:],
                        problem is None,
                        problem,
                        False,
                        laid.channel_axis,
                        count,
                        laid.tokens,
                        problem is None,
                        laid.placement,
                        laid.image_axis,
                    )
                )
    spatial = [layer.tensor for layer in found if layer.heatmap]
    for name, operators in blocked_layers(view, spatial).items():
        at = next(i for i, layer in enumerate(found) if layer.tensor == name)
        reason = f"the reverse pass has no rule for {', '.join(operators[:3])}, behind it"
        found[at] = replace(found[at], heatmap=False, reason=reason)
    found = with_names(view, found)
    default = default_layer(view, found)
    if default is not None:
        found[default] = replace(found[default], default=True)
    return found


def short_name(tensor: str) -> str:
    """A layer's name as it is read: without what exporters put around it."""
    name = tensor.strip("/")
    for ending in ("_output_0", ":0"):
        name = name.removesuffix(ending)
    return name or tensor


def find_layer(layers: Sequence[Layer], wanted: str, where: object) -> Layer:
    """The layer with this tensor name, else the one with this short name; InputError where there is none, or several."""
    found = [one for one in layers if one.tensor == wanted] or [
        one for one in layers if short_name(one.tensor) == short_name(wanted)
    ]
    if len(found) > 1:
        raise InputError(
            f"'{wanted}' may be any of {', '.join(repr(one.tensor) for one in found)}",
            where=where,
            hint="give the whole name",
        )
    if not found:
        raise InputError(
            f"has no layer '{wanted}' between image and scores", where=where, hint="'mivrat layers' lists them"
        )
    return found[0]


def _why_no_default(layers: Sequence[Layer]) -> str:
    spatial = [one for one in layers if one.has_places]
    if not spatial:
        return "has no layer with height and width to take a heatmap from"
    if any(one.heatmap for one in spatial):
        return "at none of the layers do the places of the image have a say in the scores"
    return (
        f"no heatmap can be taken from any layer; from the last, '{spatial[-1].tensor}', because {spatial[-1].reason}"
    )


def choose_layer(layers: Sequence[Layer], wanted: str | None, where: object) -> Layer:
    """The layer asked for, by whole or short name, or the default; InputError where it gives no heatmap."""
    if wanted is None:
        layer = next((one for one in layers if one.default), None)
        if layer is None:
            raise InputError(_why_no_default(layers), where=where, hint="use a method that needs only answers")
    else:
        layer = find_layer(layers, wanted, where)
    if not layer.heatmap:
        raise InputError(
            f"no heatmap can be taken from '{layer.tensor}': {layer.reason}",
            where=where,
            hint="'mivrat layers' lists the layers that can be used",
        )
    return layer


def corresponding(layer: Layer, layers: Sequence[Layer], others: Sequence[Layer]) -> Layer | None:
    """The layer of another model that corresponds to one of this model's: default to default, else the one of the same name, else
    the one as far along between the image and the scores. None where no map can be taken from any."""
    usable = [one for one in others if one.heatmap]
    if not usable:
        return None
    if layer.default:
        return next((one for one in usable if one.default), usable[-1])
    same = next((one for one in usable if one.tensor == layer.tensor), None)
    if same is not None:
        return same
    mine = [one.tensor for one in layers if one.heatmap]
    along = mine.index(layer.tensor) / max(1, len(mine) - 1) if layer.tensor in mine else 1.0
    return usable[round(along * (len(usable) - 1))]


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
