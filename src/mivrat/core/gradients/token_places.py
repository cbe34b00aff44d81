"""Where in the image each value of a graph lies, found by following the graph: which patch a token is of, in whatever order
tokens stand.

Every value carries a place (down, across), in shares of what the network receives, or none. The image's own values begin with
theirs. What moves values about moves their places; what adds up values of one token keeps them; what joins neighbours (a
convolution, pooling, the merging of patches) gives their mean. In an attention a token takes in all others and stays the
token it is: its place is that of the query. Where no rule knows, there is no place.
"""

from __future__ import annotations

import warnings
from collections.abc import Mapping, Sequence
from typing import Any

import numpy as np
import onnx
from numpy.typing import NDArray
from onnx import TensorProto, helper, numpy_helper

from mivrat.core.base.job import Stopped
from mivrat.core.gradients.graph import GraphView, attributes_of
from mivrat.core.models.engine import new_session, run_session
from mivrat.core.models.operators import Trait, has

# What comes from so large a share of the image, down or across, has no place of its own.
WIDE = 0.5
# Nor what is put together value by value from places so far apart.
APART = 0.15

Places = NDArray[np.float32]  # a tensor's shape, then down and across; NaN where a value has no place


class TokenPlaces:
    """The places of every tensor between the image and the scores; None where they cannot be told."""

    def __init__(self, view: GraphView, channel_axis_of_input: int) -> None:
        self._view = view
        # Tensors of pairs of tokens, such as who attends to whom: their places are the first ones', and lay out no map.
        self.pairs: set[str] = set()
        self._found: dict[str, Places | None] = {view.input: _of_image(view.shapes[view.input], channel_axis_of_input)}
        self._moved: dict[Any, list[Places | None]] = {}
        for node in view.nodes:
            if not any(name in view.depends and name in view.leading for name in node.output):
                continue
            try:
                with warnings.catch_warnings():
                    warnings.simplefilter("ignore", RuntimeWarning)  # the mean of no place is no place
                    made = self._through(node)
            except Stopped:
                raise
            except Exception:  # a graph may hold anything; then nothing is claimed
                made = None
            if node.op_type not in ("MatMul", "Gemm", "Einsum") and any(
                name in self.pairs and view.shapes.get(name) == view.shapes.get(node.output[0]) for name in node.input
            ):
                self.pairs.add(node.output[0])
            for name, places in zip(node.output, made or [None] * len(node.output), strict=False):
                if name:
                    fits = places is not None and places.shape[:-1] == view.shapes.get(name)
                    self._found[name] = places if fits else None

    def of(self, name: str) -> Places | None:
        """A tensor's places."""
        return self._found.get(name)

    def _through(self, node: onnx.NodeProto) -> list[Places | None]:
        """The places of a node's outputs."""
        view, kind = self._view, node.op_type
        shape = view.shapes[node.output[0]]
        data = [name for name in node.input if name in view.depends]
        first = self._found.get(data[0]) if data else None
        if has(kind, Trait.RESHAPES):
            return [first.reshape(*shape, 2) if first is not None else None]
        if kind == "Transpose":
            order = attributes_of(node).get("perm", list(reversed(range(len(shape)))))
            return [first.transpose(*order, len(order)) if first is not None else None]
        if has(kind, Trait.MOVES):
            return self._moved_places(node)
        if first is None and not any(self._found.get(name) is not None for name in data):
            return [None]
        if has(kind, Trait.WINDOW):
            assert first is not None
            return [_through_windows(node, first, shape, view)]
        if kind == "ConvTranspose":
            assert first is not None
            return [_through_windows(node, first, shape, view, spreads=True)]
        if kind in ("GlobalAveragePool", "GlobalMaxPool"):
            assert first is not None
            return [np.broadcast_to(_mean(first, tuple(range(2, first.ndim - 1))), (*shape, 2))]
        if kind.startswith("Reduce"):
            assert first is not None
            return [_reduced(view, node, first, shape)]
        if kind in ("MatMul", "Gemm", "MatMulInteger", "QLinearMatMul"):
            return [self._product(node, shape)]
        if kind == "Einsum":
            return [self._einsum(node, shape)]
        if has(kind, Trait.ATTENTION):
            return [first if first is not None and first.shape[:-1] == shape else None]
        if has(kind, Trait.IN_PLACE) or len(data) == 1:
            return [first if first is not None and first.shape[:-1] == shape else None]
        return [self._together(data, shape)]

    def _moved_places(self, node: onnx.NodeProto) -> list[Places | None]:
        """As ``_moved``, but what blocks alike ask again and again is worked out once."""
        about = sorted(one.SerializeToString() for one in node.attribute)
        operands = []
        for name in node.input:
            places = self._found.get(name) if name in self._view.depends else None
            value = self._view.values.get(name, self._view.shape_values.get(name)) if places is None else None
            operands.append((_content(places), self._view.shapes.get(name), None if value is None else value.tobytes()))
        key = (node.op_type, tuple(about), tuple(operands), len(node.output))
        if key not in self._moved:
            self._moved[key] = _moved(self._view, node, self._found)
        return self._moved[key]

    def _together(self, names: Sequence[str], shape: tuple[int, ...]) -> Places | None:
        """Of several operands taken value by value: the mean of their places. One that is the same all along an axis, where
        the result is not, is a common factor and has no say."""
        known = []
        for name in names:
            here, size = self._found.get(name), self._view.shapes[name]
            if here is None:
                continue
            full = (1,) * (len(shape) - len(size)) + tuple(size)
            if full == tuple(shape):
                known.append(here)
        if len(known) < 2:
            return known[0] if known else None
        alike = tuple(a for a in range(len(shape)) if all(one.strides[a] == 0 for one in known))
        slim = np.stack([_slim(one, alike) for one in known])
        mean = np.asarray(np.nanmean(slim, axis=0, dtype=np.float32))
        mean[(np.nanmax(slim, axis=0) - np.nanmin(slim, axis=0) > APART).any(axis=-1)] = np.nan
        return np.broadcast_to(mean, (*shape, 2))

    def _product(self, node: onnx.NodeProto, shape: tuple[int, ...]) -> Places | None:
        """Rows of the left or columns of the right operand keep their place; of two that could, the left ones: a query's."""
        view, left, right = self._view, node.input[0], node.input[3 if node.op_type == "QLinearMatMul" else 1]
        about = attributes_of(node)
        rows = self._found.get(left)
        columns = self._found.get(right)
        candidates = []
        if rows is not None:
            turned = np.swapaxes(rows, -3, -2) if about.get("transA") else rows
            if len(view.shapes[left]) == 1:
                return None
            candidates.append(np.broadcast_to(_mean(turned, (turned.ndim - 2,)), (*shape, 2)))
        if columns is not None and len(view.shapes[right]) > 1:
            turned = np.swapaxes(columns, -3, -2) if about.get("transB") else columns
            candidates.append(np.broadcast_to(_mean(turned, (turned.ndim - 3,)), (*shape, 2)))
        return self._telling(node, candidates)

    def _telling(self, node: onnx.NodeProto, candidates: Sequence[Places]) -> Places | None:
        """Of what the operands would make of the places of a product, that which tells places apart."""
        images = self._view.image_axes(node.output[0])
        telling = [one for one in candidates if _varies(one, images)]
        if len(telling) > 1:
            self.pairs.add(node.output[0])
        found = [*telling, *candidates]
        return found[0] if found else None

    def _einsum(self, node: onnx.NodeProto, shape: tuple[int, ...]) -> Places | None:
        left, arrow, result = attributes_of(node)["equation"].replace(" ", "").partition("->")
        if not arrow or "." in left:
            return None
        found = []
        for letters, name in zip(left.split(","), node.input, strict=True):
            here = self._found.get(name)
            if here is None:
                continue
            alone = tuple(i for i, letter in enumerate(letters) if letter not in result)
            small = _mean(here, alone).squeeze(alone) if alone else here
            kept = [letter for letter in letters if letter in result]
            order = sorted(range(len(kept)), key=lambda i: result.index(kept[i]))
            small = small.transpose(*order, len(order))
            sizes = [shape[i] if letter in kept else 1 for i, letter in enumerate(result)]
            found.append(np.broadcast_to(small.reshape(*sizes, 2), (*shape, 2)))
        return self._telling(node, found)


def _of_image(shape: tuple[int, ...], channel_axis: int) -> Places:
    height, width = (shape[2], shape[3]) if channel_axis == 1 else (shape[1], shape[2])
    down, across = (np.arange(height) + 0.5) / height, (np.arange(width) + 0.5) / width
    grid = np.stack(np.meshgrid(down, across, indexing="ij"), axis=-1).astype(np.float32)
    spread = grid[None, None] if channel_axis == 1 else grid[None, :, :, None]
    return np.broadcast_to(spread, (*shape, 2))


def _content(places: Places | None) -> tuple[Any, ...] | None:
    """What tells places apart from others."""
    if places is None:
        return None
    alike = [a for a in range(places.ndim - 1) if places.strides[a] == 0]
    return (places.shape, tuple(alike), _slim(places, alike).tobytes())


def _slim(places: Places, axes: Sequence[int]) -> Places:
    """Only the first along some axes along which places are the same."""
    return places[tuple(slice(0, 1) if a in axes else slice(None) for a in range(places.ndim))]


def _mean(places: Places, axes: tuple[int, ...]) -> Places:
    """The mean place along some axes; what takes in values from more than half the image across or down has no place."""
    alike = [a for a in range(places.ndim - 1) if places.strides[a] == 0]
    slim = _slim(places, alike)
    mean: Places = np.asarray(np.nanmean(slim, axis=axes, keepdims=True, dtype=np.float32))
    wide = np.nanmax(slim, axis=axes, keepdims=True) - np.nanmin(slim, axis=axes, keepdims=True) > WIDE
    mean[wide.any(axis=-1)] = np.nan
    return np.broadcast_to(mean, [1 if a in axes else n for a, n in enumerate(places.shape)])


def _varies(places: Places, image_axes: frozenset[int]) -> bool:
    """Whether there are different places in one image."""
    one = _slim(places, [*image_axes, *(a for a in range(places.ndim - 1) if places.strides[a] == 0)]).reshape(-1, 2)
    one = one[~np.isnan(one[:, 0])]
    return len(one) > 1 and bool((np.ptp(one, axis=0) > 1e-3).any())


def _reduced(view: GraphView, node: onnx.NodeProto, places: Places, shape: tuple[int, ...]) -> Places | None:
    about = attributes_of(node)
    axes = about.get("axes")
    if axes is None and len(node.input) > 1 and node.input[1] in view.values:
        axes = view.values[node.input[1]].ravel().tolist()
    rank = places.ndim - 1
    over = tuple(int(a) % rank for a in axes) if axes else tuple(range(rank))
    return _mean(places, over).reshape(*shape, 2)


def _through_windows(
    node: onnx.NodeProto, places: Places, shape: tuple[int, ...], view: GraphView, spreads: bool = False
) -> Places | None:
    """The middle of each window; over the edge places go on in equal steps. ``spreads``: of a transposed convolution, whose windows
    lie over what it gives."""
    about = attributes_of(node)
    position = 3 if node.op_type == "QLinearConv" else 1
    weights = view.shapes.get(node.input[position]) if len(node.input) > position else None
    kernel = about.get("kernel_shape") or (weights[2:] if weights else None)
    if kernel is None or places.ndim != 5:
        return None
    if (
        np.isnan(places[0, :1]).all() and places.strides[1] == 0
    ):  # of nothing that has a place, as behind a mean over all
        return np.broadcast_to(np.float32(np.nan), (*shape, 2))
    flat = _slim(places, (0, 1))[0, 0]  # all channels of a place lie there, in every image
    if places.strides[1]:
        flat = np.nanmean(places[0], axis=0)
    middles = []
    for axis in (0, 1):
        size, out = flat.shape[axis], shape[2 + axis]
        stride = about.get("strides", [1, 1])[axis]
        reach = (kernel[axis] - 1) * about.get("dilations", [1, 1])[axis] + 1
        before = about.get("pads", [0] * 4)[axis]
        if about.get("auto_pad", "NOTSET").startswith("SAME") or (spreads and "output_shape" in about):
            total = max(0, (size - 1) * stride + reach - out if spreads else (out - 1) * stride + reach - size)
            before = total // 2 if about["auto_pad"] == "SAME_UPPER" else total - total // 2
        elif about.get("auto_pad") == "VALID":
            before = 0
        if spreads:
            middles.append((np.arange(out) + before - (reach - 1) / 2) / stride)
        else:
            middles.append(np.arange(out) * stride - before + (reach - 1) / 2)
    for down, across in ((0, 1), (1, 0)):  # rows one below the other, or side by side
        lines = []
        for axis, part in ((0, down), (1, across)):
            line = np.nanmean(flat[..., part], axis=1 - axis)
            if np.nanmax(np.abs(flat[..., part] - np.expand_dims(line, 1 - axis))) > 1e-3:
                break
            lines.append(_along(line, middles[axis]))
        if len(lines) == 2:
            laid = np.meshgrid(*lines, indexing="ij")
            grid = np.stack([laid[down], laid[across]], axis=-1).astype(np.float32)
            return np.broadcast_to(grid[None, None], (*shape, 2))
    return None  # no grid of lines and columns: nothing is claimed of the windows over it


def _along(line: NDArray[np.floating], at: NDArray[np.float64]) -> NDArray[np.float64]:
    """The places of points between and beyond those of a line, in steps of the line's own."""
    known = np.flatnonzero(~np.isnan(line))
    first, last = known[0], known[-1]
    found = np.interp(at, known, line[known])
    step = (line[last] - line[first]) / (last - first) if last > first else 0.0
    return found + step * (np.minimum(at - first, 0) + np.maximum(at - last, 0))


def _moved(view: GraphView, node: onnx.NodeProto, known: Mapping[str, Places | None]) -> list[Places | None]:
    """Places moved as the node moves values: it is run on them, by the engine itself."""
    # What is moved: the first operand, of a Concat all, of a ScatterND the updates too. The rest says where to.
    carried = range(len(node.input)) if node.op_type == "Concat" else (0, 2) if node.op_type == "ScatterND" else (0,)
    if any(node.input[i] in view.depends and known.get(node.input[i]) is None for i in carried):
        return [None] * len(node.output)
    graph_inputs, given, constants = [], dict[str, NDArray[np.float32]](), []
    layers: list[tuple[str, Places]] = []
    for i, name in enumerate(node.input):
        if not name:
            continue
        if i in carried:
            here = known.get(name) if name in view.depends else None
            size = view.shapes[name]
            places = here if here is not None else np.full((*size, 2), np.nan, np.float32)
            if name not in dict(layers):
                layers.append((name, places))
                graph_inputs.append(helper.make_tensor_value_info(name, TensorProto.FLOAT, list(size)))
        elif name in view.values:
            constants.append(numpy_helper.from_array(view.values[name], name))
        elif name in view.shape_values:
            constants.append(numpy_helper.from_array(view.shape_values[name], name))
        else:
            return [None] * len(node.output)
    outputs = [name for name in node.output if name]
    graph = helper.make_graph(
        [node], "moved", graph_inputs, [onnx.ValueInfoProto(name=name) for name in outputs], constants
    )
    made = helper.make_model(graph, opset_imports=list(view.proto.opset_import))
    made.ir_version = min(made.ir_version, 10)
    session = new_session(made.SerializeToString(), 1)

    def run(part: Any) -> list[NDArray[np.float32]]:
        given.update({name: np.ascontiguousarray(part(places), np.float32) for name, places in layers})
        return run_session(session, outputs, given)

    there = run(lambda places: ~np.isnan(places[..., 0]))
    down, across = (run(lambda places, k=k: np.nan_to_num(places[..., k])) for k in (0, 1))
    found: dict[str, Places] = {}
    for name, mask, y, x in zip(outputs, there, down, across, strict=True):
        places = np.stack([y, x], axis=-1)
        places[mask < 0.999] = np.nan
        found[name] = places
    return [found.get(name) for name in node.output]


def grid_of(places: Places) -> tuple[tuple[int, ...], tuple[int, int]] | None:
    """The tokens in reading order (their numbers, line by line) and the grid's rows and columns, from one place a token (n x 2,
    NaN for a token of no place); None where they make no full grid."""
    inside = np.flatnonzero(~np.isnan(places[:, 0]))
    if len(inside) < 2:
        return None
    lines = []
    for axis in (0, 1):
        values = places[inside, axis]
        order = np.sort(values)
        apart = np.diff(order) > max(1e-4, 2e-3 * float(order[-1] - order[0]))
        edges = (order[1:][apart] + order[:-1][apart]) / 2
        lines.append((np.searchsorted(edges, values), len(edges) + 1))
    (row, rows), (column, columns) = lines
    if rows * columns != len(inside) or len(np.unique(row * columns + column)) != len(inside):
        return None
    return tuple(int(i) for i in inside[np.argsort(row * columns + column)]), (rows, columns)
