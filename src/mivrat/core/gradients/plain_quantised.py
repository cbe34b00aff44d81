"""Writes quantised operators out as what they stand for: their operands as real numbers, the operator on these, and the rounding of
the result."""

from __future__ import annotations

from typing import Any

import numpy as np
import onnx

from mivrat.core.gradients.plain_writer import WINDOW, Write, Writer, replace


def _real(w: Writer, first: int, axis: int | None = None) -> str:
    """What a quantised operand with its scale and zero point behind it stands for."""
    names = [w.node.input[i] for i in range(first, first + 3) if w.has(i)]
    given: dict[str, Any] = {} if axis is None else {"axis": axis}
    return w.add("DequantizeLinear", *names, **given)


def _rounded(w: Writer, first: int, op: str, *inputs: str, **attributes: Any) -> None:
    """An operator's result as the quantised output; its scale and zero point stand from ``first`` on. The name that the file has
    for the rounded numbers is that of the real ones here, so that they can be asked for by a name that is in the file."""
    names = [w.node.input[i] for i in range(first, first + 2) if w.has(i)]
    real = w.add(op, *inputs, to=w.node.output[0], **attributes)
    w.renamed[real] = w.add("QuantizeLinear", real, *names)


def _conv(w: Writer) -> None:
    """QLinearConv: x, its scale and zero point, w with its own, those of y, and a bias in units of both scales."""
    kept = w.keep(*WINDOW)
    inputs = [_real(w, 0), _real(w, 3, axis=0)]
    if w.has(8):
        unit = w.add("Mul", w.node.input[1], w.node.input[4])
        inputs.append(w.add("Mul", w.cast_float(w.node.input[8]), unit))
    _rounded(w, 6, "Conv", *inputs, **kept)


def _qgemm(w: Writer) -> None:
    """com.microsoft QGemm: A and B with scales and zero points, C in units of both, and, if the result is rounded, y's."""
    kept = w.keep("alpha", "transA", "transB")
    inputs = [_real(w, 0), _real(w, 3, axis=0 if w.about.get("transB") else 1)]
    if w.has(6):
        unit = w.add("Mul", w.node.input[1], w.node.input[4])
        inputs.append(w.add("Mul", w.cast_float(w.node.input[6]), unit))
    if w.has(7):
        _rounded(w, 7, "Gemm", *inputs, **kept)
    else:
        w.add("Gemm", *inputs, to=w.node.output[0], **kept)


def _binary(op: str) -> Write:
    return lambda w: _rounded(w, 6, op, _real(w, 0), _real(w, 3))


def _unary(op: str, *kept: str) -> Write:
    return lambda w: _rounded(w, 3, op, _real(w, 0), **w.keep(*kept))


def _global_pool(w: Writer) -> None:
    axes = [1, 2] if w.about.get("channels_last") else [2, 3]
    if w.opset >= 18:
        _rounded(w, 3, "ReduceMean", _real(w, 0), w.constant(axes, np.int64))
    else:
        _rounded(w, 3, "ReduceMean", _real(w, 0), axes=axes)


def _concat(w: Writer) -> None:
    """com.microsoft QLinearConcat: y's scale and zero point first, then each operand with its own."""
    parts = [_real(w, i) for i in range(2, len(w.node.input), 3)]
    _rounded(w, 0, "Concat", *parts, **w.keep("axis"))


def _less_zero(w: Writer, position: int, zero: int) -> str:
    value = w.cast_float(w.node.input[position])
    return w.add("Sub", value, w.cast_float(w.node.input[zero])) if w.has(zero) else value


def _conv_integer(w: Writer) -> None:
    kept = w.keep(*WINDOW)
    w.add("Conv", _less_zero(w, 0, 2), _less_zero(w, 1, 3), to=w.node.output[0], **kept)


def _matmul_integer(w: Writer) -> None:
    w.add("MatMul", _less_zero(w, 0, 2), _less_zero(w, 1, 3), to=w.node.output[0])


_QUANTISED: dict[str, Write] = {
    "QLinearConv": _conv,
    "QLinearMatMul": _binary("MatMul"),
    "QGemm": _qgemm,
    "QLinearAdd": _binary("Add"),
    "QLinearMul": _binary("Mul"),
    "QLinearSigmoid": _unary("Sigmoid"),
    "QLinearLeakyRelu": _unary("LeakyRelu", "alpha"),
    "QLinearSoftmax": _unary("Softmax", "axis"),
    "QLinearAveragePool": _unary(
        "AveragePool", "auto_pad", "ceil_mode", "count_include_pad", "kernel_shape", "pads", "strides"
    ),
    "QLinearGlobalAveragePool": _global_pool,
    "QLinearConcat": _concat,
    "ConvInteger": _conv_integer,
    "MatMulInteger": _matmul_integer,
}


def write_out_quantised(graph: onnx.GraphProto, opset: int) -> bool:
    """Write every quantised operator out; whether there was one. Nothing is done before operator-set version 13, which has no scales
    by channel."""
    return opset >= 13 and replace(graph, opset, "quantised", lambda node: _QUANTISED.get(node.op_type))
