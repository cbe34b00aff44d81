"""Writes the sampling of a picture at places that may depend on the image out: what lies round each place, weighed by how near it is."""

from __future__ import annotations

import itertools
from collections.abc import Mapping

import numpy as np
import onnx
from onnx import TensorProto, helper

from mivrat.core.gradients.plain_writer import Write, Writer, replace


def write_out_grid_samples(graph: onnx.GraphProto, opset: int, shapes: Mapping[str, tuple[int, ...]]) -> bool:
    """Write every GridSample of a picture out that takes the nearest or the four nearest values; whether there was one. What it
    would reflect at the edges, and cubic sampling, stay as they are. ``shapes`` tells the shape of each value, N × C × H × W
    for a picture. The graph is changed in place."""

    def wanted(node: onnx.NodeProto) -> Write | None:
        about = {a.name: helper.get_attribute_value(a) for a in node.attribute}
        plain = about.get("mode", b"linear") in (b"linear", b"bilinear", b"nearest")
        plain = plain and about.get("padding_mode", b"zeros") != b"reflection"
        known = len(shapes.get(node.input[0], ())) == 4 if node.op_type == "GridSample" else False
        return (lambda w: _grid_sample(w, shapes)) if known and plain else None

    return replace(graph, opset, "sampled", wanted)


def _grid_sample(w: Writer, shapes: Mapping[str, tuple[int, ...]]) -> None:
    source, grid = w.node.input[:2]
    (_, channels, *sides), (_, rows, columns, _) = shapes[source], shapes[grid]
    count = rows * columns
    flat = w.add("Reshape", source, w.constant([0, channels, -1], np.int64))
    nearest = w.about.get("mode", b"linear") == b"nearest"
    # For each axis, down and across: the whole numbers to take and how much of each.
    near: list[list[tuple[str, str]]] = []
    for axis, size in enumerate(sides):
        share = w.add(
            "Add",
            w.add("Reshape", w.slice(grid, 3, 1 - axis, 2 - axis), w.constant([-1, 1, count], np.int64)),
            w.number(1.0),
        )
        if w.about.get("align_corners"):
            at = w.add("Mul", share, w.number((size - 1) / 2))
        else:
            at = w.add("Sub", w.add("Mul", share, w.number(size / 2)), w.number(0.5))
        if w.about.get("padding_mode", b"zeros") == b"border":
            at = w.add("Clip", at, w.number(0.0), w.number(size - 1.0))
        if nearest:
            near.append([(w.add("Round", at), "")])
            continue
        low = w.add("Floor", at)
        above = w.add("Sub", at, low)
        near.append([(low, w.add("Sub", w.number(1.0), above)), (w.add("Add", low, w.number(1.0)), above)])
    parts = []
    for (down, high), (across, wide) in itertools.product(*near):
        inside, places = [], []
        for at, size in ((down, sides[0]), (across, sides[1])):
            within = w.add("Clip", at, w.number(0.0), w.number(size - 1.0))
            inside.append(w.add("Equal", at, within))
            places.append(within)
        index = w.fresh()
        line = w.add("Add", w.add("Mul", places[0], w.number(sides[1])), places[1])
        w.nodes.append(helper.make_node("Cast", [line], [index], to=TensorProto.INT64))
        index = w.add("Expand", index, w.constant([1, channels, 1], np.int64))
        taken = w.add("GatherElements", flat, index, axis=2)
        for weight in (high, wide):
            taken = w.add("Mul", taken, weight) if weight else taken
        parts.append(w.add("Where", w.add("And", *inside), taken, w.number(0.0)))
    summed = w.add("Sum", *parts) if len(parts) > 1 else parts[0]
    w.add("Reshape", summed, w.constant([0, channels, rows, columns], np.int64), to=w.node.output[0])
