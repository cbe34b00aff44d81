"""Emits ONNX nodes for the reverse pass, in the operator-set version of the model they join."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any, Union

import numpy as np
import onnx
from numpy.typing import NDArray
from onnx import TensorProto, helper, numpy_helper

Operand = Union["Value", float]


class Emitter:
    """Collects new nodes and constants; hands out names that no model uses."""

    def __init__(self, opset: int) -> None:
        self.opset = opset
        self.nodes: list[onnx.NodeProto] = []
        self.constants: list[onnx.TensorProto] = []
        self._count = 0

    def fresh(self) -> str:
        self._count += 1
        return f"mivrat:{self._count}"

    def node(self, op: str, *inputs: str | Value, outputs: int = 1, **attributes: Any) -> Value:
        """Add a node and return its first output; attributes that are None are left out."""
        names = [self.fresh() for _ in range(outputs)]
        given = {key: value for key, value in attributes.items() if value is not None}
        self.nodes.append(helper.make_node(op, [v.name if isinstance(v, Value) else v for v in inputs], names, **given))
        return Value(self, names[0])

    def value(self, name: str) -> Value:
        return Value(self, name)

    def constant(self, array: NDArray[Any]) -> Value:
        name = self.fresh()
        self.constants.append(numpy_helper.from_array(np.ascontiguousarray(array), name))
        return Value(self, name)

    def floats(self, values: Any) -> Value:
        return self.constant(np.asarray(values, np.float32))

    def integers(self, values: Any) -> Value:
        return self.constant(np.asarray(values, np.int64))

    def shape_of(self, value: str | Value) -> Value:
        return self.node("Shape", value)

    def reshape(self, value: Value, shape: Sequence[int]) -> Value:
        """Reshape; 0 keeps that axis, -1 takes what is left."""
        return self.node("Reshape", value, self.integers(list(shape)))

    def reshape_like(self, value: Value, like: str | Value) -> Value:
        return self.node("Reshape", value, self.shape_of(like))

    def expand_like(self, value: Value, like: str | Value) -> Value:
        return self.node("Expand", value, self.shape_of(like))

    def reduce_sum(self, value: Value, axes: Sequence[int], keepdims: bool = True) -> Value:
        if not axes:
            return value
        if self.opset >= 13:
            return self.node("ReduceSum", value, self.integers(list(axes)), keepdims=int(keepdims))
        return self.node("ReduceSum", value, axes=list(axes), keepdims=int(keepdims))

    def reduce_mean(self, value: Value, axes: Sequence[int]) -> Value:
        if self.opset >= 18:
            return self.node("ReduceMean", value, self.integers(list(axes)))
        return self.node("ReduceMean", value, axes=list(axes))

    def unsqueeze(self, value: Value, axes: Sequence[int]) -> Value:
        if self.opset >= 13:
            return self.node("Unsqueeze", value, self.integers(list(axes)))
        return self.node("Unsqueeze", value, axes=list(axes))

    def slice(self, value: Value, axis: int, start: int, end: int) -> Value:
        if self.opset >= 10:
            return self.node("Slice", value, self.integers([start]), self.integers([end]), self.integers([axis]))
        return self.node("Slice", value, starts=[start], ends=[end], axes=[axis])

    def pad(self, value: Value, before: Sequence[int], after: Sequence[int]) -> Value:
        """Put zeros around; one number per axis."""
        pads = [*before, *after]
        if self.opset >= 11:
            return self.node("Pad", value, self.integers(pads))
        return self.node("Pad", value, pads=pads)

    def cast_float(self, value: Value) -> Value:
        return self.node("Cast", value, to=TensorProto.FLOAT)

    def unbroadcast(self, value: Value, shape: Sequence[int], like: str, like_shape: Sequence[int]) -> Value:
        """Sum a gradient of ``shape`` over the axes along which a tensor of ``like_shape`` was broadcast to it."""
        extra = len(shape) - len(like_shape)
        axes = list(range(extra)) + [i + extra for i, n in enumerate(like_shape) if n == 1 and shape[i + extra] != 1]
        summed = self.reduce_sum(value, axes)
        return self.reshape_like(summed, like) if extra else summed


class Value:
    """A tensor of the graph under construction; arithmetic on it emits nodes."""

    def __init__(self, emitter: Emitter, name: str) -> None:
        self.emitter = emitter
        self.name = name

    def _with(self, op: str, other: Operand, swapped: bool = False) -> Value:
        right = other if isinstance(other, Value) else self.emitter.floats(other)
        return self.emitter.node(op, *((right, self) if swapped else (self, right)))

    def __add__(self, other: Operand) -> Value:
        return self._with("Add", other)

    __radd__ = __add__

    def __sub__(self, other: Operand) -> Value:
        return self._with("Sub", other)

    def __rsub__(self, other: Operand) -> Value:
        return self._with("Sub", other, swapped=True)

    def __mul__(self, other: Operand) -> Value:
        return self._with("Mul", other)

    __rmul__ = __mul__

    def __truediv__(self, other: Operand) -> Value:
        return self._with("Div", other)

    def __rtruediv__(self, other: Operand) -> Value:
        return self._with("Div", other, swapped=True)

    def __neg__(self) -> Value:
        return self.emitter.node("Neg", self)

    def __gt__(self, other: Operand) -> Value:
        return self._with("Greater", other)

    def __lt__(self, other: Operand) -> Value:
        return self._with("Less", other)

    def where(self, true: Operand, false: Operand) -> Value:
        """Elementwise choice, self being the condition."""
        lifted = [v if isinstance(v, Value) else self.emitter.floats(v) for v in (true, false)]
        return self.emitter.node("Where", self, *lifted)
