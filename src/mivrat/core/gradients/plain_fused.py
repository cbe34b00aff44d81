"""Writes operators that the engine has made one of several, when it optimised a graph, out as those several."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence

import numpy as np
import onnx

from mivrat.core.gradients.plain_writer import WINDOW, Write, Writer, replace

Shapes = Mapping[str, tuple[int, ...]]
# The domain of the engine's own operators.
_DOMAIN = "com.microsoft"


def _text(w: Writer, name: str) -> str:
    found = w.about.get(name, b"")
    return found.decode() if isinstance(found, bytes) else str(found)


def _activated(w: Writer, value: str, kind: str, parameters: Sequence[float]) -> None:
    """The activation that a product or convolution ends in, as the node's output."""
    to = w.node.output[0]
    if kind == "Clip":
        if w.opset >= 11:
            w.add("Clip", value, *(w.number(bound) for bound in parameters), to=to)
        else:
            w.add("Clip", value, to=to, min=parameters[0], max=parameters[1])
    elif kind in ("LeakyRelu", "HardSigmoid"):
        w.add(kind, value, to=to, **dict(zip(("alpha", "beta"), parameters, strict=False)))
    else:
        w.add(kind or "Identity", value, to=to)


def _conv(w: Writer, shapes: Shapes) -> None:
    made = w.add("Conv", *[name for name in w.node.input[:3] if name], **w.keep(*WINDOW))
    if w.has(3):
        made = w.add("Add", made, w.node.input[3])
    _activated(w, made, _text(w, "activation"), w.about.get("activation_params", []))


def _gemm(w: Writer, shapes: Shapes) -> None:
    made = w.add("Gemm", *[name for name in w.node.input if name], **w.keep("alpha", "beta", "transA", "transB"))
    given = [w.about[name] for name in ("activation_alpha", "activation_beta") if name in w.about]
    _activated(w, made, _text(w, "activation"), given)


def _matmul(w: Writer, shapes: Shapes) -> None:
    sides = []
    for i, side in enumerate("AB"):
        name = w.node.input[i]
        order = list(range(len(shapes[name])))
        if w.about.get(f"transBatch{side}"):
            order = [*order[1:-1], order[0], order[-1]]
        if w.about.get(f"trans{side}") and len(order) > 1:
            order[-2:] = order[:-3:-1]
        sides.append(w.add("Transpose", name, perm=order) if order != sorted(order) else name)
    alpha = float(w.about.get("alpha", 1.0))
    if alpha == 1:
        w.add("MatMul", *sides, to=w.node.output[0])
    else:
        w.add("Mul", w.add("MatMul", *sides), w.number(alpha), to=w.node.output[0])


def _gelu(w: Writer, x: str) -> None:
    """x Phi(x), with the error function (Hendrycks 2016)."""
    below = w.add("Add", w.add("Erf", w.add("Mul", x, w.number(0.5**0.5))), w.number(1.0))
    w.add("Mul", w.add("Mul", x, w.number(0.5)), below, to=w.node.output[0])


def _bias_gelu(w: Writer, shapes: Shapes) -> None:
    _gelu(w, w.add("Add", w.node.input[0], w.node.input[1]) if w.has(1) else w.node.input[0])


def _fast_gelu(w: Writer, shapes: Shapes) -> None:
    """The same by a hyperbolic tangent: x/2 (1 + tanh(sqrt(2/pi) (x + 0.044715 x^3)))."""
    x = w.add("Add", w.node.input[0], w.node.input[1]) if w.has(1) else w.node.input[0]
    cubed = w.add("Mul", w.add("Mul", x, x), w.add("Mul", x, w.number(0.044715)))
    inner = w.add("Mul", w.add("Add", x, cubed), w.number((2 / np.pi) ** 0.5))
    w.add("Mul", w.add("Mul", x, w.number(0.5)), w.add("Add", w.add("Tanh", inner), w.number(1.0)), to=w.node.output[0])


def _quick_gelu(w: Writer, shapes: Shapes) -> None:
    """x sigmoid(alpha x)."""
    x, alpha = w.node.input[0], float(w.about.get("alpha", 1.702))
    w.add("Mul", x, w.add("Sigmoid", w.add("Mul", x, w.number(alpha)) if alpha != 1 else x), to=w.node.output[0])


def _normalised(w: Writer, x: str, axes: Sequence[int], scale: str, shift: str, centred: bool) -> None:
    """(x - mean) / sqrt(variance + epsilon), scaled and shifted; not centred, x over its root mean square."""
    if centred:
        x = w.add("Sub", x, w.reduce_mean(x, axes))
    variance = w.reduce_mean(w.add("Mul", x, x), axes)
    # The epsilon that the engine takes where a graph names none.
    root = w.add("Sqrt", w.add("Add", variance, w.number(float(w.about.get("epsilon", 1e-5)))))
    last = w.add("Div", x, root)
    if shift:
        w.add("Add", w.add("Mul", last, scale), shift, to=w.node.output[0])
    else:
        w.add("Mul", last, scale, to=w.node.output[0])


def _norm(centred: bool) -> Callable[[Writer, Shapes], None]:
    def write(w: Writer, shapes: Shapes) -> None:
        rank = len(shapes[w.node.input[0]])
        axes = list(range(w.about.get("axis", -1) % rank, rank))
        _normalised(w, w.node.input[0], axes, w.node.input[1], w.node.input[2] if w.has(2) else "", centred)

    return write


def _skip_norm(centred: bool) -> Callable[[Writer, Shapes], None]:
    """Input, skip, scale, shift (only where centred) and a bias; the sum of the first two and the bias is the fourth output."""

    def write(w: Writer, shapes: Shapes) -> None:
        bias = 4 if centred else 3
        total = w.node.output[3] if w.asks_for(3) else ""
        if w.has(bias):
            x = w.add("Add", w.add("Add", w.node.input[0], w.node.input[1]), w.node.input[bias], to=total)
        else:
            x = w.add("Add", w.node.input[0], w.node.input[1], to=total)
        _normalised(w, x, [-1], w.node.input[2], w.node.input[3] if centred and w.has(3) else "", centred)

    return write


def _shifted(w: Writer, position: int, zero: int) -> str:
    value = w.cast_float(w.node.input[position])
    return w.add("Sub", value, w.cast_float(w.node.input[zero])) if w.has(zero) else value


def _integer_product(w: Writer, shapes: Shapes) -> None:
    """MatMulIntegerToFloat: A, B, their scales, their zero points, a bias."""
    _scaled_product(w, _shifted(w, 0, 4), _shifted(w, 1, 5), w.add("Mul", w.node.input[2], w.node.input[3]), 6)


def _dynamic_product(w: Writer, shapes: Shapes) -> None:
    """DynamicQuantizeMatMul: A in floats, B with its scale and zero point, a bias."""
    rounded, scale, zero = (w.fresh() for _ in range(3))
    w.nodes.append(onnx.helper.make_node("DynamicQuantizeLinear", [w.node.input[0]], [rounded, scale, zero]))
    left = w.add("Sub", w.cast_float(rounded), w.cast_float(zero))
    _scaled_product(w, left, _shifted(w, 1, 3), w.add("Mul", scale, w.node.input[2]), 4)


def _scaled_product(w: Writer, left: str, right: str, scale: str, bias: int) -> None:
    product = w.add("MatMul", left, right)
    if w.has(bias):
        w.add("Add", w.add("Mul", product, scale), w.node.input[bias], to=w.node.output[0])
    else:
        w.add("Mul", product, scale, to=w.node.output[0])


_FUSED: dict[str, Callable[[Writer, Shapes], None]] = {
    "FusedConv": _conv,
    "FusedGemm": _gemm,
    "FusedMatMul": _matmul,
    "TransposeMatMul": _matmul,
    "Gelu": _bias_gelu,
    "BiasGelu": _bias_gelu,
    "FastGelu": _fast_gelu,
    "QuickGelu": _quick_gelu,
    "LayerNormalization": _norm(centred=True),
    "SimplifiedLayerNormalization": _norm(centred=False),
    "SkipLayerNormalization": _skip_norm(centred=True),
    "SkipSimplifiedLayerNormalization": _skip_norm(centred=False),
    "MatMulIntegerToFloat": _integer_product,
    "DynamicQuantizeMatMul": _dynamic_product,
}
# This one the engine also writes under the standard's name, which does not know it.
_UNDER_THE_STANDARD = "SimplifiedLayerNormalization"


def write_out_fused(graph: onnx.GraphProto, opset: int, shapes: Shapes) -> bool:
    """Write every operator of the engine's own out, where it is one that is known here; whether there was one."""

    def wanted(node: onnx.NodeProto) -> Write | None:
        write = _FUSED.get(node.op_type) if node.domain == _DOMAIN or node.op_type == _UNDER_THE_STANDARD else None
        # Statistics that a normalisation gives beside its result are for training.
        if write is None or any(node.output[1:3]):
            return None
        return lambda w: write(w, shapes)

    return replace(graph, opset, "fused", wanted)
