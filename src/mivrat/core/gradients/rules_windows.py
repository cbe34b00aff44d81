"""Rules of the derivative table for convolutions and poolings: sums over sliding windows."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from mivrat.core.gradients.emit import Value
from mivrat.core.gradients.node import Gradients, NodeBack, NoRule, Rule


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
    out: dict[int, Value] = {}
    if 0 in s.needed:
        out[0] = _conv_source(s)
    if 1 in s.needed:
        out[1] = _conv_kernel(s)
    if 2 in s.needed:
        out[2] = s.emit.reduce_sum(s.g, [0, *range(2, len(s.out_shape))], keepdims=False)
    return out


def _conv_kernel(s: NodeBack) -> Value:
    """The gradient at a kernel that depends on the image: a convolution of the source by the gradient, images as channels; strides
    and dilations change places."""
    window, groups = window_of(s, list(s.shape(1)[2:])), s.attributes.get("group", 1)
    places = list(range(2, len(s.out_shape)))
    source, g, found = s.x, s.g, []
    given, made = s.shape(0)[1] // groups, s.out_shape[1] // groups
    for k in range(groups):
        x = s.emit.slice(source, 1, k * given, (k + 1) * given) if groups > 1 else source
        part = s.emit.slice(g, 1, k * made, (k + 1) * made) if groups > 1 else g
        kernel = s.emit.node(
            "Conv",
            s.emit.node("Transpose", x, perm=[1, 0, *places]),
            s.emit.node("Transpose", part, perm=[1, 0, *places]),
            kernel_shape=window.size_out,
            strides=window.dilations,
            dilations=window.strides,
            pads=[*window.before, *window.after],
        )
        for axis, size in zip(places, window.kernel, strict=True):  # what no step reached gives further places
            kernel = s.emit.slice(kernel, axis, 0, size)
        found.append(s.emit.node("Transpose", kernel, perm=[1, 0, *places]))
    return s.emit.node("Concat", *found, axis=0) if groups > 1 else found[0]


def _conv_source(s: NodeBack) -> Value:
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


WINDOWS: dict[str, Rule] = {
    "Conv": _conv,
    "ConvTranspose": _conv_transpose,
    "MaxPool": _max_pool,
    "AveragePool": _average_pool,
    "LpPool": _lp_pool,
    "GlobalLpPool": _global_lp_pool,
    "GlobalAveragePool": _global_average_pool,
}
