"""The derivative table: one short rule per ONNX operator that emits the gradient of its inputs as ONNX nodes.

A rule gets a ``NodeBack`` (one forward node and the gradient ``g`` of its output) and returns the gradient of each input
it was asked for, by position; for one-input operators just that gradient.
"""

from __future__ import annotations

import numpy as np
import onnx

from mivrat.core.gradients.blocked import LARGEST_BOUND, beyond, lies_in_blocks
from mivrat.core.gradients.emit import Emitter, Value
from mivrat.core.gradients.node import Gradients, NodeBack, NoRule, Rule, distribution_axes
from mivrat.core.gradients.rules_norms import NORMS
from mivrat.core.gradients.rules_places import PLACES
from mivrat.core.gradients.rules_windows import WINDOWS


def _add(s: NodeBack) -> Gradients:
    return {i: s.emit.unbroadcast(s.g, s.out_shape, s.node.input[i], s.shape(i)) for i in s.needed}


def _sub(s: NodeBack) -> Gradients:
    return {i: s.emit.unbroadcast(-s.g if i else s.g, s.out_shape, s.node.input[i], s.shape(i)) for i in s.needed}


def _mul(s: NodeBack) -> Gradients:
    return {
        i: s.emit.unbroadcast(s.g * s.emit.value(s.node.input[1 - i]), s.out_shape, s.node.input[i], s.shape(i))
        for i in s.needed
    }


def _div(s: NodeBack) -> Gradients:
    b = s.emit.value(s.node.input[1])
    return {
        i: s.emit.unbroadcast(s.g / b if i == 0 else -(s.g * s.y / b), s.out_shape, s.node.input[i], s.shape(i))
        for i in s.needed
    }


def _clip(s: NodeBack) -> Gradients:
    s.only_first()
    out, in_blocks = s.g, lies_in_blocks(s)
    for position, name in ((1, "min"), (2, "max")):
        bound: Value | float
        if name in s.attributes:
            bound = float(s.attributes[name])
        elif s.has(position):
            bound = s.emit.value(s.node.input[position])
            if (known := s.constant(position)) is not None and known.size == 1:
                bound = float(known.ravel()[0])
        else:
            continue
        if in_blocks and isinstance(bound, float) and abs(bound) <= LARGEST_BOUND:
            out = out * beyond(s, bound, below=name == "max")
            continue
        out = (s.y > bound if name == "min" else s.y < bound).where(out, 0.0)
    return out


def _relu(s: NodeBack) -> Gradients:
    return s.g * beyond(s, 0.0)


def _hard_sigmoid(s: NodeBack) -> Gradients:
    inside = (s.y > 0.0).where((s.y < 1.0).where(s.g, 0.0), 0.0)
    return inside * float(s.attributes.get("alpha", 0.2))


def _hard_swish(s: NodeBack) -> Gradients:
    slope = (s.x > -3.0).where((s.x < 3.0).where(s.x * (1 / 3) + 0.5, 1.0), 0.0)
    return s.g * slope


def _prelu(s: NodeBack) -> Gradients:
    parts = {0: lambda: s.g * s.emit.value(s.node.input[1]), 1: lambda: s.g * s.x}
    above = s.x > 0.0
    out = {}
    for i in s.needed:
        found = above.where(s.g if i == 0 else 0.0, parts[i]())
        out[i] = s.emit.unbroadcast(found, s.out_shape, s.node.input[i], s.shape(i))
    return out


def _softmax(s: NodeBack) -> Gradients:
    return s.y * (s.g - s.emit.reduce_sum(s.g * s.y, distribution_axes(s)))


def _concat(s: NodeBack) -> Gradients:
    axis, start, out = s.attributes["axis"] % len(s.out_shape), 0, {}
    for i in range(len(s.node.input)):
        end = start + s.shape(i)[axis]
        if i in s.needed:
            out[i] = s.emit.slice(s.g, axis, start, end)
        start = end
    return out


def _split(s: NodeBack) -> Gradients:
    parts = []
    for name, gradient in zip(s.node.output, s.gradients, strict=True):
        parts.append(gradient if gradient is not None else s.emit.node("ConstantOfShape", s.emit.shape_of(name)))
    return s.emit.node("Concat", *parts, axis=s.attributes.get("axis", 0))


def _pow(s: NodeBack) -> Gradients:
    exponent, out = s.constant(1), {}
    power = s.emit.floats(exponent) if exponent is not None else s.emit.value(s.node.input[1])
    if 0 in s.needed:
        less = s.emit.floats(exponent.astype(np.float32) - 1) if exponent is not None else power - 1.0
        out[0] = s.g * s.emit.node("Pow", s.x, less) * power
    if 1 in s.needed:  # of x^e at e: x^e ln x, and nothing where x is 0
        positive = s.x > 0.0
        out[1] = s.g * positive.where(s.y * s.emit.node("Log", positive.where(s.x, 1.0)), 0.0)
    return {i: s.emit.unbroadcast(v, s.out_shape, s.node.input[i], s.shape(i)) for i, v in out.items()}


def _swish(s: NodeBack) -> Gradients:
    alpha = float(s.attributes.get("alpha", 1.0))
    gate = s.emit.node("Sigmoid", s.x * alpha)
    return s.g * (gate + s.x * gate * (1.0 - gate) * alpha)


def _elu(s: NodeBack) -> Gradients:
    alpha = float(s.attributes.get("alpha", 1.0))
    return (s.x > 0.0).where(s.g, s.g * (s.y + alpha))


def _selu(s: NodeBack) -> Gradients:
    alpha, gamma = float(s.attributes.get("alpha", 1.6732632)), float(s.attributes.get("gamma", 1.0507010))
    return (s.x > 0.0).where(s.g * gamma, s.g * (s.y + alpha * gamma))


def _gelu(s: NodeBack) -> Gradients:
    x = s.x
    if s.attributes.get("approximate", "none") == "tanh":
        inner = (x + x * x * x * 0.044715) * float(np.sqrt(2 / np.pi))
        t = s.emit.node("Tanh", inner)
        slope = (1.0 + x * x * (3 * 0.044715)) * float(np.sqrt(2 / np.pi))
        return s.g * ((1.0 + t) * 0.5 + x * (1.0 - t * t) * slope * 0.5)
    below = (1.0 + s.emit.node("Erf", x * float(np.sqrt(0.5)))) * 0.5
    density = s.emit.node("Exp", x * x * -0.5) * float(1 / np.sqrt(2 * np.pi))
    return s.g * (below + x * density)


def _quantize(s: NodeBack) -> Gradients:
    """Rounding to a few levels is passed straight through (Bengio 2013), and whoever shows a map says so. A value beyond the
    range that samples have set passes the gradient as well, as in the network before it was quantised; but where the lowest
    level is zero itself, the quantiser has taken in a Relu, and with a highest level of 6 a Relu6."""
    s.only_first()
    scale, zero = s.constant(1), s.constant(2)
    kind = s.view.dtypes.get(s.node.output[0])
    if scale is None or (s.has(2) and zero is None) or kind is None or kind.kind not in "iu":
        return s.g
    least, most = np.iinfo(kind).min, np.iinfo(kind).max
    shift = np.zeros_like(scale) if zero is None else zero.astype(np.float64)
    relu = shift == least
    if not relu.any():
        return s.g
    highest = (most - shift) * scale.astype(np.float64)
    relu6 = relu & (np.abs(highest - 6) <= 0.5 * scale)
    bounds = [np.where(relu, 0.0, -np.inf), np.where(relu6, highest, np.inf)]
    if scale.ndim and scale.size > 1:
        axis = s.attributes.get("axis", 1) % len(s.out_shape)
        bounds = [b.reshape([-1 if i == axis else 1 for i in range(len(s.out_shape))]) for b in bounds]
    low, high = (s.emit.floats(b) for b in bounds)
    return (s.x > low).where((s.x < high).where(s.g, 0.0), 0.0)


def _mod(s: NodeBack) -> Gradients:
    """The rest of a division: of floats x - b trunc(x / b), flat in b but for that factor, which is refused."""
    s.only_first()
    return s.emit.unbroadcast(s.g, s.out_shape, s.node.input[0], s.shape(0))


def _cum_sum(s: NodeBack) -> Gradients:
    s.only_first()
    axis = s.constant(1)
    if axis is None:
        raise NoRule("CumSum over an axis that depends on the image")
    s.only_within_images([int(axis.ravel()[0]) % len(s.out_shape)])
    turned = {"reverse": 1 - s.attributes.get("reverse", 0), "exclusive": s.attributes.get("exclusive", 0)}
    return s.emit.node("CumSum", s.g, s.node.input[1], **turned)


def _trilu(s: NodeBack) -> Gradients:
    s.only_first()
    further = [s.node.input[1]] if s.has(1) else []
    return s.emit.node("Trilu", s.g, *further, upper=s.attributes.get("upper", 1))


def _cast(s: NodeBack) -> Gradients:
    kind = s.view.dtypes.get(s.node.output[0])
    if kind is not None and kind.kind != "f" and s.view.is_float(s.node.input[0]):
        raise NoRule(f"{s.node.op_type} to whole numbers")
    return s.g


def _dropout(s: NodeBack) -> Gradients:
    training = s.constant(2)
    if s.has(2) and (training is None or bool(training.ravel()[0])):
        raise NoRule("Dropout in training mode")
    return s.g


def _dynamic_quantize(s: NodeBack) -> Gradients:
    """Rounding by a scale found in the values themselves, passed straight through; what the scale owes to them is taken back
    when the values are multiplied by it again, so it has no gradient of its own."""
    return s.g / s.emit.value(s.node.output[1])


def _mish(s: NodeBack) -> Gradients:
    t = s.emit.node("Tanh", s.emit.node("Softplus", s.x))
    return s.g * (t + s.x * s.emit.node("Sigmoid", s.x) * (1.0 - t * t))


def _reshaped(s: NodeBack) -> Gradients:
    s.only_first()
    return s.emit.reshape_like(s.g, s.node.input[0])


def _transpose(s: NodeBack) -> Gradients:
    order = s.attributes.get("perm", list(reversed(range(len(s.out_shape)))))
    return s.emit.node("Transpose", s.g, perm=[order.index(i) for i in range(len(order))])


def _gemm(s: NodeBack) -> Gradients:
    a, b = s.emit.value(s.node.input[0]), s.emit.value(s.node.input[1])
    turned_a, turned_b, alpha = (
        s.attributes.get("transA", 0),
        s.attributes.get("transB", 0),
        float(s.attributes.get("alpha", 1.0)),
    )
    nothing = s.emit.floats([0.0])  # older versions insist on the third input

    def product(left: Value, right: Value, turn_left: int, turn_right: int) -> Value:
        return s.emit.node("Gemm", left, right, nothing, transA=turn_left, transB=turn_right, alpha=alpha)

    out = {}
    if 0 in s.needed:
        out[0] = product(b, s.g, turned_b, 1) if turned_a else product(s.g, b, 0, 1 - turned_b)
    if 1 in s.needed:
        out[1] = product(s.g, a, 1, turned_a) if turned_b else product(a, s.g, 1 - turned_a, 0)
    if 2 in s.needed:
        out[2] = s.emit.unbroadcast(
            s.g * float(s.attributes.get("beta", 1.0)), s.out_shape, s.node.input[2], s.shape(2)
        )
    return out


def _swap_last(emit: Emitter, value: Value, rank: int) -> Value:
    return emit.node("Transpose", value, perm=[*range(rank - 2), rank - 1, rank - 2])


def _matmul(s: NodeBack) -> Gradients:
    shapes = [s.shape(0), s.shape(1)]
    a, b, g = s.emit.value(s.node.input[0]), s.emit.value(s.node.input[1]), s.g
    full = list(s.out_shape)
    if len(shapes[0]) == 1:  # a vector on the left is a one-row matrix, one on the right a one-column matrix
        a, shapes[0], full = (
            s.emit.unsqueeze(a, [0]),
            (1, *shapes[0]),
            [*full[:-1], 1, full[-1]] if len(shapes[1]) > 1 else [1, *full],
        )
        g = s.emit.unsqueeze(g, [len(full) - 2])
    if len(shapes[1]) == 1:
        b, shapes[1], full = s.emit.unsqueeze(b, [1]), (*shapes[1], 1), [*full, 1]
        g = s.emit.unsqueeze(g, [len(full) - 1])
    out = {}
    for i in s.needed:
        if i == 0:
            raw, raw_shape = (
                s.emit.node("MatMul", g, _swap_last(s.emit, b, len(shapes[1]))),
                [*full[:-1], shapes[0][-1]],
            )
        else:
            raw, raw_shape = (
                s.emit.node("MatMul", _swap_last(s.emit, a, len(shapes[0])), g),
                [*full[:-2], *shapes[1][-2:]],
            )
        extra = len(raw_shape) - len(shapes[i])
        axes = list(range(extra)) + [
            j + extra for j, n in enumerate(shapes[i][:-2]) if n == 1 and raw_shape[j + extra] != 1
        ]
        out[i] = s.emit.reshape_like(s.emit.reduce_sum(raw, axes), s.node.input[i])
    return out


def _batch_normalization(s: NodeBack) -> Gradients:
    s.only_first()
    if s.attributes.get("training_mode"):
        raise NoRule("BatchNormalization in training mode")
    scale, variance = s.constant(1), s.constant(4)
    if scale is None or variance is None:
        raise NoRule("BatchNormalization with image-dependent statistics")
    factor = scale.astype(np.float64) / np.sqrt(variance.astype(np.float64) + s.attributes.get("epsilon", 1e-5))
    return s.g * s.emit.floats(factor.reshape(-1, *[1] * (len(s.out_shape) - 2)))


RULES: dict[str, Rule] = {
    # elementwise
    "Identity": lambda s: s.g,
    "Dropout": _dropout,
    "Cast": _cast,
    "CastLike": _cast,
    "QuantizeLinear": _quantize,
    "DequantizeLinear": lambda s: s.g,
    "DynamicQuantizeLinear": _dynamic_quantize,
    "Relu": _relu,
    "LeakyRelu": lambda s: (s.x > 0.0).where(s.g, s.g * float(s.attributes.get("alpha", 0.01))),
    "PRelu": _prelu,
    "Clip": _clip,
    "Sigmoid": lambda s: s.g * s.y * (1.0 - s.y),
    "HardSigmoid": _hard_sigmoid,
    "HardSwish": _hard_swish,
    "Tanh": lambda s: s.g * (1.0 - s.y * s.y),
    "Exp": lambda s: s.g * s.y,
    "Log": lambda s: s.g / s.x,
    "Sqrt": lambda s: s.g / (s.y * 2.0),
    "Neg": lambda s: -s.g,
    "Softplus": lambda s: s.g * s.emit.node("Sigmoid", s.x),
    "Erf": lambda s: s.g * s.emit.node("Exp", -(s.x * s.x)) * float(2 / np.sqrt(np.pi)),
    "Abs": lambda s: s.g * s.emit.node("Sign", s.x),
    "Elu": _elu,
    "Pow": _pow,
    "Selu": _selu,
    "Celu": lambda s: (s.x > 0.0).where(s.g, s.g * (s.y * (1.0 / float(s.attributes.get("alpha", 1.0))) + 1.0)),
    "Gelu": _gelu,
    "Mish": _mish,
    "Swish": _swish,
    "Softsign": lambda s: s.g / ((1.0 + s.emit.node("Abs", s.x)) * (1.0 + s.emit.node("Abs", s.x))),
    "ThresholdedRelu": lambda s: (s.x > float(s.attributes.get("alpha", 1.0))).where(s.g, 0.0),
    "Reciprocal": lambda s: -(s.g * s.y * s.y),
    "Sin": lambda s: s.g * s.emit.node("Cos", s.x),
    "Cos": lambda s: -(s.g * s.emit.node("Sin", s.x)),
    "Tan": lambda s: s.g * (1.0 + s.y * s.y),
    "Asin": lambda s: s.g / s.emit.node("Sqrt", 1.0 - s.x * s.x),
    "Acos": lambda s: -(s.g / s.emit.node("Sqrt", 1.0 - s.x * s.x)),
    "Atan": lambda s: s.g / (1.0 + s.x * s.x),
    "Sinh": lambda s: s.g * s.emit.node("Cosh", s.x),
    "Cosh": lambda s: s.g * s.emit.node("Sinh", s.x),
    "Asinh": lambda s: s.g / s.emit.node("Sqrt", s.x * s.x + 1.0),
    "Acosh": lambda s: s.g / s.emit.node("Sqrt", s.x * s.x - 1.0),
    "Atanh": lambda s: s.g / (1.0 - s.x * s.x),
    "Shrink": lambda s: (s.emit.node("Abs", s.x) > float(s.attributes.get("lambd", 0.5))).where(s.g, 0.0),
    "Mod": _mod,
    "CumSum": _cum_sum,
    "Trilu": _trilu,
    # steps: flat wherever they have a derivative
    "Hardmax": lambda s: s.g * 0.0,
    "Sign": lambda s: s.g * 0.0,
    "Floor": lambda s: s.g * 0.0,
    "Ceil": lambda s: s.g * 0.0,
    "Round": lambda s: s.g * 0.0,
    # arithmetic with broadcasting
    "Add": _add,
    "Sum": _add,
    "Sub": _sub,
    "Mul": _mul,
    "Div": _div,
    # moving values about
    "Concat": _concat,
    "Split": _split,
    "Flatten": _reshaped,
    "Reshape": _reshaped,
    "Squeeze": _reshaped,
    "Unsqueeze": _reshaped,
    "Transpose": _transpose,
    # sums over windows and axes
    "BatchNormalization": _batch_normalization,
    "Gemm": _gemm,
    "MatMul": _matmul,
    "Softmax": _softmax,
    **WINDOWS,
    **PLACES,
    **NORMS,
}


def rule_for(node: onnx.NodeProto) -> Rule:
    """The rule of a node's operator; NoRule, naming it, where there is none."""
    standard = node.domain in ("", "ai.onnx") or node.op_type in ("QuantizeLinear", "DequantizeLinear")
    if not standard or node.op_type not in RULES:
        name = f"{node.domain}.{node.op_type}" if node.domain not in ("", "ai.onnx") else node.op_type
        raise NoRule(name)
    return RULES[node.op_type]
