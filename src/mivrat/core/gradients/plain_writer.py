"""Puts several plain operators in the place of one that holds several steps, so that the reverse pass needs no rules of their own."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import Any

import numpy as np
import onnx
from onnx import helper, numpy_helper

Nodes = list[onnx.NodeProto]
# What the tensors between such steps are called.
WRITTEN_OUT = "mivrat/"
# The attributes that say how a convolution's windows lie.
WINDOW = ("auto_pad", "dilations", "group", "kernel_shape", "pads", "strides")


class Writer:
    """Collects the nodes that take the place of one."""

    def __init__(self, node: onnx.NodeProto, place: str, opset: int) -> None:
        self.node, self.nodes, self.constants = node, Nodes(), list[onnx.TensorProto]()
        self.opset = opset
        self._prefix, self._count = f"{WRITTEN_OUT}{place}/", 0
        self.about = {a.name: helper.get_attribute_value(a) for a in node.attribute}
        # Outputs of the node that hold another kind of number now and so take another name, for whatever reads them.
        self.renamed: dict[str, str] = {}

    def fresh(self) -> str:
        self._count += 1
        return f"{self._prefix}{self._count}"

    def add(self, op: str, *inputs: str, to: str = "", **attributes: Any) -> str:
        name = to or self.fresh()
        made = helper.make_node(op, list(inputs), [name], **attributes)
        self.nodes.append(made)
        return name

    def constant(self, value: Any, dtype: Any) -> str:
        name = self.fresh()
        self.constants.append(numpy_helper.from_array(np.asarray(value, dtype), name))
        return name

    def number(self, value: float) -> str:
        return self.constant(value, np.float32)

    def cast_float(self, name: str) -> str:
        made = self.fresh()
        self.nodes.append(helper.make_node("Cast", [name], [made], to=onnx.TensorProto.FLOAT))
        return made

    def has(self, position: int) -> bool:
        return position < len(self.node.input) and bool(self.node.input[position])

    def asks_for(self, position: int) -> bool:
        """Whether an output is used at all."""
        return position < len(self.node.output) and bool(self.node.output[position])

    def keep(self, *names: str) -> dict[str, Any]:
        """Some of the operator's own attributes."""
        return {name: self.about[name] for name in names if name in self.about}

    # What takes numbers as an attribute in one version of the operator set and as an input in another.
    def slice(self, value: str, axis: int, start: int, end: int, to: str = "") -> str:
        if self.opset >= 10:
            at = (self.constant([n], np.int64) for n in (start, end, axis))
            return self.add("Slice", value, *at, to=to)
        return self.add("Slice", value, to=to, starts=[start], ends=[end], axes=[axis])

    def squeeze(self, value: str, axes: Sequence[int], to: str = "") -> str:
        return self._on_axes("Squeeze", value, axes, 13, to)

    def unsqueeze(self, value: str, axes: Sequence[int], to: str = "") -> str:
        return self._on_axes("Unsqueeze", value, axes, 13, to)

    def reduce_mean(self, value: str, axes: Sequence[int], to: str = "") -> str:
        return self._on_axes("ReduceMean", value, axes, 18, to)

    def _on_axes(self, op: str, value: str, axes: Sequence[int], since: int, to: str) -> str:
        if self.opset >= since:
            return self.add(op, value, self.constant(list(axes), np.int64), to=to)
        return self.add(op, value, to=to, axes=list(axes))


Write = Callable[[Writer], None]


def replace(graph: onnx.GraphProto, opset: int, what: str, wanted: Callable[[onnx.NodeProto], Write | None]) -> bool:
    """Put in place of every node for which there is a way what that way writes; whether there was one. ``what`` is written out so: the
    tensors between are named by it, as a graph may be gone through for several."""
    nodes, found, renamed = Nodes(), False, dict[str, str]()
    for at, node in enumerate(graph.node):
        for i, name in enumerate(node.input) if renamed else ():
            if name in renamed:
                node.input[i] = renamed[name]
        write = wanted(node)
        if write is None:
            nodes.append(node)
            continue
        writer = Writer(node, f"{what}/{at}", opset)
        write(writer)
        nodes += writer.nodes
        renamed |= writer.renamed
        graph.initializer.extend(writer.constants)
        found = True
    if found:
        kept = [onnx.NodeProto() for _ in nodes]
        for copy, node in zip(kept, nodes, strict=True):
            copy.CopyFrom(node)
        del graph.node[:]
        graph.node.extend(kept)
        wrong = {name for node in kept for name in node.output}
        described = [one for one in graph.value_info if one.name not in wrong]
        del graph.value_info[:]
        graph.value_info.extend(described)
    return found
