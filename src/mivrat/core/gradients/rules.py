"""The derivative table: one short rule per ONNX operator that emits the gradient of its inputs as ONNX nodes.

A rule gets a ``NodeBack`` (one forward node and the gradient ``g`` of its output) and returns the gradient of each input
it was asked for, by position; for one-input operators just that gradient.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
import onnx
from numpy.typing import NDArray

from mivrat.core.gradients.blocked import LARGEST_BOUND, STEEP, beyond, lies_in_blocks
from mivrat.core.gradients.emit import Emitter, Value
from mivrat.core.gradients.node import Gradients, NodeBack, NoRule, Rule, distribution_axes
from mivrat.core.gradients.rules_norms import NORMS
from mivrat.core.gradients.rules_places import PLACES


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
    if lies_in_blocks(s):
        return s.g * beyond(s, 0.0)
    return s.g * s.emit.node("HardSigmoid", s.y, alpha=STEEP, beta=0.0)


def _hard_sigmoid(s: NodeBack) -> Gradients:
    inside = (s.y > 0.0).where((s.y < 1.0).where(s.g, 0.0), 0.0)
    return inside * float(s.attributes.get("alpha", 0.2))


def _hard_swish(s: NodeBack) -> Gradients:
    slope = (s.x > -3.0).where((s.x < 3.0).where(s.x * (1 / 3) + 0.5, 1.0), 0.0)
    return s.g * slope


def _prelu(s: NodeBack) -> Gradients:
    s.only_first()
    return (s.x > 0.0).where(s.g, s.g * s.emit.value(s.node.input[1]))


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
    s.only_first()
    exponent = s.constant(1)
    if exponent is None:
        raise NoRule("Pow with an exponent that depends on the image")
    power = exponent.astype(np.float32)
    slope = s.emit.node("Pow", s.x, s.emit.floats(power - 1)) * s.emit.floats(power)
    return s.emit.unbroadcast(s.g * slope, s.out_shape, s.node.input[0], s.shape(0))


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


@dataclass(frozen=True)
class Window:
    """A sliding window over the spatial axes: sizes per axis, padding before and after resolved to numbers."""

    kernel: list[int]
    strides: list[int]
    dilations: list[int]
    before: list[int]
    after: list[int]
    size_in: list[int]
    size_out: list[int]

    @property
    def extent(self) -> list[int]:
        return [(k - 1) * d + 1 for k, d in zip(self.kernel, self.dilations, strict=True)]

    def back_padding(self) -> tuple[list[int], list[int]]:
        """``pads`` and ``output_padding`` with which ConvTranspose gives back exactly the input's size."""
        after, extra = [], []
        for n, out, e, stride, pad in zip(
            self.size_in, self.size_out, self.extent, self.strides, self.before, strict=True
        ):
            missing = n - ((out - 1) * stride + e - pad)
            after.append(max(0, -missing))
            extra.append(max(0, missing))
        return [*self.before, *after], extra


def window_of(s: NodeBack, kernel: list[int]) -> Window:
    """The window of a Conv or pooling node."""
    axes = len(kernel)
    strides = list(s.attributes.get("strides", [1] * axes))
    dilations = list(s.attributes.get("dilations", [1] * axes))
    size_in, size_out = list(s.shape(0)[2:]), list(s.out_shape[2:])
    automatic = s.attributes.get("auto_pad", "NOTSET")
    pads = list(s.attributes.get("pads", [0] * 2 * axes))
    before, after = pads[:axes], pads[axes:]
    if automatic == "VALID":
        before, after = [0] * axes, [0] * axes
    elif automatic.startswith("SAME"):
        for i in range(axes):
            total = max(0, (size_out[i] - 1) * strides[i] + (kernel[i] - 1) * dilations[i] + 1 - size_in[i])
            small, large = total // 2, total - total // 2
            before[i], after[i] = (small, large) if automatic == "SAME_UPPER" else (large, small)
    return Window(kernel, strides, dilations, before, after, size_in, size_out)


def _conv(s: NodeBack) -> Gradients:
    s.only_first()
    weight, weight_shape = s.constant(1), s.shape(1)
    window, groups = window_of(s, list(weight_shape[2:])), s.attributes.get("group", 1)
    strided = any(n > 1 for n in window.strides)
    if weight is not None and not strided:
        # What the transposed padding of a stride-1 convolution comes to; negative where it was padded beyond its own reach.
        pads = [e - 1 - p for e, p in zip(window.extent * 2, [*window.before, *window.after], strict=True)]
        if min(pads, default=0) >= 0:
            return _turned_conv(s, s.g, weight, window, groups, pads)
    if weight is not None and strided and max(window.kernel) == 1 and not any(window.before):
        # Of single points: first the few places there are, then room between them.
        few = _turned_conv(s, s.g, weight, window, groups, [0] * 2 * len(window.kernel))
        return _spaced(s, few, window, s.shape(0)[1], window.size_in)
    if weight is not None and strided and groups > 1:
        before = [e - 1 - p for e, p in zip(window.extent, window.before, strict=True)]
        sizes = [n + e - 1 - b for n, e, b in zip(window.size_in, window.extent, before, strict=True)]
        if min(before) >= 0:
            spaced = _spaced(s, s.g, window, s.out_shape[1], sizes)
            return _turned_conv(s, spaced, weight, window, groups, [*before, *[0] * len(before)])
    pads, extra = window.back_padding()
    return s.emit.node(
        "ConvTranspose",
        s.g,
        s.node.input[1],
        kernel_shape=window.kernel,
        strides=window.strides,
        dilations=window.dilations,
        group=groups,
        pads=pads,
        output_padding=extra,
    )


def _turned_conv(s: NodeBack, g: Value, weight: NDArray[Any], window: Window, groups: int, pads: list[int]) -> Value:
    """A convolution of stride 1 by the kernels turned round, from output channels to input channels."""
    out_per, in_per, kernel = weight.shape[0] // groups, weight.shape[1], weight.shape[2:]
    apart = weight.reshape(groups, out_per, in_per, *kernel).swapaxes(1, 2)
    turned = apart.reshape(groups * in_per, out_per, *kernel)
    flipped = turned[(slice(None), slice(None), *[slice(None, None, -1)] * len(window.kernel))]
    return s.emit.node(
        "Conv",
        g,
        s.emit.floats(flipped),
        kernel_shape=window.kernel,
        dilations=window.dilations,
        group=groups,
        pads=pads,
    )


def _spaced(s: NodeBack, g: Value, window: Window, channels: int, wanted: list[int]) -> Value:
    """A gradient with its places as far apart as the strides took them, zeros between and behind up to the sizes wanted.

    Channel by channel, as the transposed convolution of a single point: a grouped one is far slower in the runtime.
    """
    sizes = [(out - 1) * stride + 1 for out, stride in zip(window.size_out, window.strides, strict=True)]
    extra = [max(0, min(stride - 1, n - size)) for stride, n, size in zip(window.strides, wanted, sizes, strict=True)]
    sizes = [size + more for size, more in zip(sizes, extra, strict=True)]
    single = s.emit.node(
        "ConvTranspose",
        s.emit.reshape(g, [-1, 1, *window.size_out]),
        s.emit.floats(np.ones((1, 1, *[1] * len(sizes)))),
        kernel_shape=[1] * len(sizes),
        strides=window.strides,
        output_padding=extra,
    )
    spread = s.emit.reshape(single, [-1, channels, *sizes])
    for axis, (size, n) in enumerate(zip(sizes, wanted, strict=True)):
        if n < size:
            spread = s.emit.slice(spread, axis + 2, 0, n)
    missing = [max(0, n - size) for n, size in zip(wanted, sizes, strict=True)]
    return s.emit.pad(spread, [0] * (len(sizes) + 2), [0, 0, *missing]) if any(missing) else spread


def _conv_transpose(s: NodeBack) -> Gradients:
    """The gradient of a transposed convolution is the convolution that it transposes."""
    s.only_first()
    kernel = list(s.shape(1)[2:])
    axes = len(kernel)
    strides, dilations = (list(s.attributes.get(name, [1] * axes)) for name in ("strides", "dilations"))
    extent = [(k - 1) * d + 1 for k, d in zip(kernel, dilations, strict=True)]
    size_in, size_out = list(s.shape(0)[2:]), list(s.out_shape[2:])
    before = list(s.attributes.get("pads", [0] * 2 * axes))[:axes]
    automatic = s.attributes.get("auto_pad", "NOTSET")
    after = []
    for i in range(axes):
        whole = (size_in[i] - 1) * strides[i] + extent[i]
        if automatic.startswith("SAME") or "output_shape" in s.attributes:
            total = max(0, whole + s.attributes.get("output_padding", [0] * axes)[i] - size_out[i])
            before[i] = total // 2 if automatic == "SAME_UPPER" else total - total // 2
        elif automatic == "VALID":
            before[i] = 0
        # So much behind that the convolution gives back just the input's size; negative: what it would not reach.
        after.append(whole - before[i] - size_out[i])
    g = s.g
    if min(after) < 0:
        for i, beyond in enumerate(after):
            if beyond < 0:
                g = s.emit.slice(g, i + 2, 0, size_out[i] + beyond)
    return s.emit.node(
        "Conv",
        g,
        s.node.input[1],
        kernel_shape=kernel,
        strides=strides,
        dilations=dilations,
        group=s.attributes.get("group", 1),
        pads=[*before, *(max(0, beyond) for beyond in after)],
    )


def _spread(s: NodeBack, window: Window, parts: Value, weight: NDArray[Any]) -> Value:
    """Lay values (N*C x m x out...) back on the input through ``weight`` (m x 1 x kernel...), adding where they overlap."""
    pads, extra = window.back_padding()
    laid = s.emit.node(
        "ConvTranspose",
        parts,
        s.emit.floats(weight),
        kernel_shape=window.kernel,
        strides=window.strides,
        dilations=window.dilations,
        pads=pads,
        output_padding=extra,
    )
    return s.emit.reshape_like(laid, s.node.input[0])


def _offsets(window: Window) -> list[NDArray[np.int64]]:
    """For each spatial axis, the input position of every (output position, kernel offset): size_out x kernel."""
    return [
        np.arange(out)[:, None] * stride - pad + np.arange(k)[None, :] * d
        for out, k, stride, d, pad in zip(
            window.size_out, window.kernel, window.strides, window.dilations, window.before, strict=True
        )
    ]


def _average_pool(s: NodeBack) -> Gradients:
    window = window_of(s, list(s.attributes["kernel_shape"]))
    counts = np.ones(window.size_out, np.float64)
    for axis, at in enumerate(_offsets(window)):
        # Padding counts where the node says so, but never what a rounded-up last window reaches beyond it.
        first, last = (
            (-window.before[axis], window.size_in[axis] + window.after[axis])
            if s.attributes.get("count_include_pad")
            else (0, window.size_in[axis])
        )
        along = np.count_nonzero((at >= first) & (at < last), axis=1)
        counts *= along.reshape([-1 if i == axis else 1 for i in range(counts.ndim)])
    single = s.emit.reshape(s.g, [-1, 1, *window.size_out]) * s.emit.floats(1.0 / counts[None, None])
    return _spread(s, window, single, np.ones((1, 1, *window.kernel)))


def _lp_slope(s: NodeBack) -> tuple[Value, Value]:
    """Of y = (sum |x|^p)^(1/p): the derivative at x is |x|^(p-1) sign(x) / y^(p-1). What x gives to it, and g / y^(p-1)."""
    power, size = float(s.attributes.get("p", 2)) - 1, s.emit.node("Abs", s.x)
    sign = s.emit.node("Sign", s.x)
    if power == 0:
        return sign, s.g
    nonzero = (s.y > 0.0).where(s.y, 1.0)  # where all are 0, x has given 0 already
    return sign * s.emit.node("Pow", size, s.emit.floats(power)), s.g / s.emit.node(
        "Pow", nonzero, s.emit.floats(power)
    )


def _lp_pool(s: NodeBack) -> Gradients:
    window = window_of(s, list(s.attributes["kernel_shape"]))
    of_x, of_y = _lp_slope(s)
    single = s.emit.reshape(of_y, [-1, 1, *window.size_out])
    return of_x * _spread(s, window, single, np.ones((1, 1, *window.kernel)))


def _global_lp_pool(s: NodeBack) -> Gradients:
    of_x, of_y = _lp_slope(s)
    return of_x * of_y


def _max_pool(s: NodeBack) -> Gradients:
    """The gradient goes to the one input that each maximum was taken from (its index, as the runtime reports it)."""
    window = window_of(s, list(s.attributes["kernel_shape"]))
    if s.attributes.get("storage_order"):
        raise NoRule("MaxPool in column order")
    indices = s.extra_outputs.setdefault(s.node.output[0], [])
    if not indices:
        indices.append(s.node.output[1] if len(s.node.output) > 1 and s.node.output[1] else s.emit.fresh())
    area = s.emit.integers(int(np.prod(window.size_in)))
    flat = s.emit.value(indices[0])
    local = s.emit.reshape(flat - flat / area * area, [-1, 1, *window.size_out])
    axes = len(window.kernel)
    place, inside = np.zeros((1,) * 2 * axes, np.int64), np.ones((1,) * 2 * axes, bool)
    for axis, at in enumerate(_offsets(window)):  # outputs on the first axes, the kernel's places on the last
        spread = [1] * 2 * axes
        spread[axis], spread[axes + axis] = at.shape
        place = place * window.size_in[axis] + at.reshape(spread)
        inside = inside & ((at >= 0) & (at < window.size_in[axis])).reshape(spread)
    k = int(np.prod(window.kernel))
    places = np.where(inside, place, -1).reshape(*window.size_out, k)
    taken = s.emit.node("Equal", local, s.emit.integers(np.moveaxis(places, -1, 0)[None]))
    parts = s.emit.cast_float(taken) * s.emit.reshape(s.g, [-1, 1, *window.size_out])
    return _spread(s, window, parts, np.eye(k).reshape(k, 1, *window.kernel))


def _global_average_pool(s: NodeBack) -> Gradients:
    return s.emit.expand_like(s.g * (1.0 / int(np.prod(s.shape(0)[2:]))), s.node.input[0])


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
    "Conv": _conv,
    "BatchNormalization": _batch_normalization,
    "MaxPool": _max_pool,
    "AveragePool": _average_pool,
    "LpPool": _lp_pool,
    "GlobalLpPool": _global_lp_pool,
    "GlobalAveragePool": _global_average_pool,
    "Gemm": _gemm,
    "MatMul": _matmul,
    "Softmax": _softmax,
    "ConvTranspose": _conv_transpose,
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
