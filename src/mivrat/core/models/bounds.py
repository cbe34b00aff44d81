"""Tells of an ONNX graph, without running it, whether answering is bound to be short and small."""

from __future__ import annotations

from collections.abc import Sequence
from math import prod

import onnx
from onnx import TensorProto

from mivrat.core.models.operators import Trait, has

# As much as a large network takes for two images; what takes more is looked at while it runs.
MOST_NUMBERS = 200_000_000
MOST_WORK = 200_000_000_000
# Constants of up to so many numbers can say how large something is to be.
_TELLING = 256
# So many numbers may be worked out of them at one node.
_MOST_VALUES, _MOST_AXES = 20_000, 8


def is_plainly_bounded(model: onnx.ModelProto, input_name: str, shape: Sequence[int]) -> bool:
    """Whether every tensor's size follows from the graph for an input of this shape, and all together are moderate.

    False says no more than that it cannot be told: a size worked out on the way, a loop, an operator not known here.
    """
    graph = model.graph
    if model.functions or any(
        not has(node.op_type, Trait.PLAIN)
        or node.domain not in ("", "ai.onnx")
        or any(a.HasField("g") for a in node.attribute)
        for node in graph.node
    ):
        return False
    if not values_stay_small(graph):
        return False
    sizes: dict[str, tuple[int, ...]] = {input_name: tuple(shape)}
    constants = {tensor.name: tuple(tensor.dims) for tensor in graph.initializer}
    sizes.update(constants)
    try:
        inferred = onnx.shape_inference.infer_shapes(without_weights(model, input_name, shape), data_prop=True).graph
    except Exception:  # whatever it stumbles over is for the engine to judge
        return False
    for value in (*inferred.value_info, *inferred.output):
        dims = value.type.tensor_type.shape.dim
        known = value.type.HasField("tensor_type") and value.type.tensor_type.HasField("shape")
        if known and all(d.HasField("dim_value") and d.dim_value >= 0 for d in dims):
            sizes.setdefault(value.name, tuple(d.dim_value for d in dims))
    numbers = work = 0
    for node in graph.node:
        inputs = [name for name in node.input if name]
        outputs = [name for name in node.output if name]
        if any(name not in sizes for name in (*inputs, *outputs)):
            return False
        made = sum(prod(sizes[name]) for name in outputs)
        # Each number made may look at a whole filter, a line, or a window.
        looks = [prod(sizes[name]) // max(1, min(sizes[name], default=1)) for name in inputs if name in constants]
        looks += [sizes[name][-1] for name in inputs if name not in constants and sizes[name]]
        window = prod(n for a in node.attribute if a.name == "kernel_shape" for n in a.ints)
        numbers += made
        work += made * max(*looks, 1, 1) * (window if "Pool" in node.op_type else 1)
    return numbers <= MOST_NUMBERS and work <= MOST_WORK


def values_stay_small(graph: onnx.GraphProto) -> bool:
    """Whether what the standard's rules work out of small constants and of shapes stays small: such values may be joined over and
    over."""
    numbers = {tensor.name: prod(tensor.dims) for tensor in graph.initializer if prod(tensor.dims) <= _TELLING}
    for node in graph.node:
        if node.op_type == "Constant":
            given = sum(prod(a.t.dims) for a in node.attribute if a.HasField("t"))
            total = given + sum(len(a.ints) + len(a.floats) for a in node.attribute)
        elif node.op_type in ("Shape", "Size"):
            total = _MOST_AXES
        else:  # of what an image or a large weight has a part in, nothing is worked out
            given = [name for name in node.input if name]
            total = sum(numbers[name] for name in given) if all(name in numbers for name in given) else 0
        if total > _MOST_VALUES:
            if node.op_type == "Constant":
                continue  # a weight, out of which no size is worked out
            return False
        if total:
            numbers.update((name, total) for name in node.output)
    return True


def without_weights(model: onnx.ModelProto, input_name: str, shape: Sequence[int]) -> onnx.ModelProto:
    """The graph with its input's size settled, and of large constants their sizes alone."""
    slim = onnx.ModelProto(ir_version=model.ir_version)
    slim.opset_import.extend(model.opset_import)
    slim.graph.name = "sizes"
    slim.graph.node.extend(model.graph.node)
    for value in model.graph.input:
        kept = slim.graph.input.add()
        kept.CopyFrom(value)
        if value.name == input_name:
            kind = value.type.tensor_type.elem_type
            kept.CopyFrom(onnx.helper.make_tensor_value_info(value.name, kind or TensorProto.FLOAT, list(shape)))
    listed = {value.name for value in slim.graph.input}
    for tensor in model.graph.initializer:
        if prod(tensor.dims) <= _TELLING:
            slim.graph.initializer.add().CopyFrom(tensor)
        elif tensor.name not in listed:
            slim.graph.input.append(
                onnx.helper.make_tensor_value_info(tensor.name, tensor.data_type, list(tensor.dims))
            )
    slim.graph.output.extend(model.graph.output)
    return slim
