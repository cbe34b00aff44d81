"""Writes poolings whose number of windows is rounded up with the padding that gives just these windows."""

from __future__ import annotations

import numpy as np
import onnx
from onnx import helper

from mivrat.core.gradients.plain_writer import Write, Writer, replace


def write_out_rounded_up_pools(graph: onnx.GraphProto, opset: int, shapes: dict[str, tuple[int, ...]]) -> bool:
    """Write every pooling whose number of windows is rounded up with the padding that gives just these windows; whether there was
    one. The engine's own account of their number is wrong where the last window would begin in the padding."""

    def wanted(node: onnx.NodeProto) -> Write | None:
        if node.op_type not in ("MaxPool", "AveragePool"):
            return None
        about = {a.name: helper.get_attribute_value(a) for a in node.attribute}
        known = len(shapes.get(node.input[0], ())) == len(shapes.get(node.output[0], ())) > 2
        plain = about.get("auto_pad", b"NOTSET") == b"NOTSET" and not (about.get("count_include_pad") and opset < 11)
        return (lambda w: _pool(w, shapes)) if about.get("ceil_mode") and known and plain else None

    return replace(graph, opset, "pools", wanted)


def _pool(w: Writer, shapes: dict[str, tuple[int, ...]]) -> None:
    node, about = (
        w.node,
        {key: value for key, value in w.about.items() if key not in ("ceil_mode", "count_include_pad")},
    )
    kernel = about["kernel_shape"]
    axes = len(kernel)
    strides, dilations = (about.get(name, [1] * axes) for name in ("strides", "dilations"))
    pads = list(about.get("pads", [0] * 2 * axes))
    source, size, out = node.input[0], shapes[node.input[0]][2:], shapes[node.output[0]][2:]
    if w.about.get("count_include_pad") and any(pads):
        # Its own padding counts in the mean, what rounding up adds does not: so the former is made part of the picture.
        given = [0, 0, *pads[:axes], 0, 0, *pads[axes:]]
        source = w.add("Pad", source, w.constant(given, np.int64))
        size = tuple(n + a + b for n, a, b in zip(size, pads[:axes], pads[axes:], strict=True))
        pads = [0] * 2 * axes
    reach = [(k - 1) * d + 1 for k, d in zip(kernel, dilations, strict=True)]
    after = [
        max(0, (o - 1) * s + r - n - b) for o, s, r, n, b in zip(out, strides, reach, size, pads[:axes], strict=True)
    ]
    about["pads"] = [*pads[:axes], *after]
    made = helper.make_node(node.op_type, [source], list(node.output), **about)
    w.nodes.append(made)
