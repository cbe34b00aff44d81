"""One map for each image from activations and gradients of a layer, written as nodes of the graph that gives both."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from mivrat.core.gradients.emit import Value
from mivrat.core.gradients.graph import GraphView, attributes_of
from mivrat.core.gradients.layers import Layer

# Kernels of more places than this are not taken apart: reading the input that often costs more than reading the output once.
_MOST_PLACES = 9
# Single precision leaves so much, and less, of what cancels.
ROUNDING = 3e-5


def emit_map(
    activations: Value, gradients: Value, method: str, layer: Layer, made_from: Convolution | None = None
) -> Value:
    """Emit one map per image (n x h x w) from activations and gradients of a layer.

    ``gradient``: max(0, sum_c w_c A_c) with w_c the mean of G_c over places (Selvaraju 2017); ``elementwise``:
    max(0, sum_c max(0, G_c) A_c) (Jiang 2021); ``signed``: sum_c G_c A_c (Draelos 2020). Not normalised. The latter two are all
    zero where their peak is below ROUNDING times the largest sum of the terms' absolute values. ``made_from`` is the
    convolution that gives the activations where its input is the shorter way to their weighted sum.
    """
    emit = activations.emitter
    if method == "gradient" and made_from is not None:
        weights = emit.node("GlobalAveragePool", gradients)
        return emit.node("Relu", emit.reshape(made_from.emit_weighted_sum(weights), [0, *layer.grid]))
    activations, gradients = layer.emit_places(activations), layer.emit_places(gradients)
    first = layer.channel_axis == 1
    if method == "gradient":
        # A product of matrices, so that the weighted channels need not be written down before they are summed.
        weights = emit.node("GlobalAveragePool", gradients) if first else emit.reduce_mean(gradients, [1, 2])
        height, width = layer.grid
        channels = layer.channels
        flat = emit.reshape(activations, [0, channels, height * width] if first else [0, height * width, channels])
        line = emit.reshape(weights, [0, 1, channels] if first else [0, channels, 1])
        out = emit.reshape(emit.node("MatMul", *((line, flat) if first else (flat, line))), [0, height, width])
        return emit.node("Relu", out)
    terms = (emit.node("Relu", gradients) if method == "elementwise" else gradients) * activations
    each = [emit.reduce_sum(one, [layer.channel_axis], keepdims=False) for one in (terms, emit.node("Abs", terms))]
    out, summed = (emit.reshape(one, [0, 1, *layer.grid]) for one in each)
    out = out if method == "signed" else emit.node("Relu", out)
    # What is left of terms that cancel is rounding: such a map is nothing, and must not be shown at full scale.
    peak, most = (emit.node("GlobalMaxPool", one) for one in (emit.node("Abs", out), summed))
    return emit.reshape((peak > most * ROUNDING).where(out, 0.0), [0, *layer.grid])


@dataclass(frozen=True)
class Convolution:
    """A convolution of settled weights, of single points (``weight`` C x c x 1 x 1, c < C) or of each channel by itself
    (C x 1 x kernel). Its output is linear in its input: a weighted sum of output channels can be taken from the input, so that
    the output itself, before the activation that the runtime makes one step with it, need not be written down."""

    source: str
    source_shape: tuple[int, ...]
    weight: NDArray[Any]
    bias: NDArray[Any] | None
    placing: dict[str, Any]

    def emit_weighted_sum(self, weights: Value) -> Value:
        """Emit sum_c w_c A_c (n x 1 x h x w, or n x 1 x h*w) for w of n x C x 1 x 1."""
        emit, channels = weights.emitter, len(self.weight)
        line = emit.reshape(weights, [0, 1, channels])
        x = emit.value(self.source)
        _, given, height, width = self.source_shape
        places = self.weight.reshape(channels, -1)
        flat = emit.reshape(x, [0, given, height * width])
        if self.weight.shape[2:] == (1, 1):
            out = emit.node("MatMul", emit.node("MatMul", line, emit.floats(places)), flat)
        else:
            # The weighted sum of the input under each place of the kernel, then these places laid over each other.
            under = emit.node("MatMul", line * emit.floats(places.T[None]), flat)
            each, kernel = places.shape[1], self.weight.shape[2:]
            out = emit.node(
                "Conv",
                emit.reshape(under, [0, each, height, width]),
                emit.floats(np.eye(each).reshape(1, each, *kernel)),
                kernel_shape=list(kernel),
                **self.placing,
            )
            out = emit.reshape(out, [0, 1, -1])
        if self.bias is None:
            return out
        return out + emit.node("MatMul", line, emit.floats(self.bias.reshape(channels, 1)))


def convolution_of(view: GraphView, layer: Layer) -> Convolution | None:
    """The convolution that gives a layer, where its input is the shorter way; else None."""
    node = view.producer.get(layer.tensor)
    if node is None or node.op_type != "Conv" or node.domain not in ("", "ai.onnx") or layer.tokens is not None:
        return None
    weight, bias = view.values.get(node.input[1]), None
    if len(node.input) > 2 and node.input[2]:
        bias = view.values.get(node.input[2])
        if bias is None:
            return None
    shape = view.shapes[node.input[0]]
    if weight is None or weight.ndim != 4 or view.dtypes.get(node.input[0]) != np.float32:
        return None
    about = attributes_of(node)
    groups, kernel = about.get("group", 1), weight.shape[2:]
    if any(n != 1 for n in about.get("strides", [])):
        return None
    points = groups == 1 and kernel == (1, 1) and not any(about.get("pads", [])) and shape[1] < len(weight)
    by_channel = groups > 1 and groups == len(weight) == shape[1] and 1 < np.prod(kernel) <= _MOST_PLACES
    if not points and not by_channel:
        return None
    placing: dict[str, Any] = {name: about[name] for name in ("pads", "dilations", "auto_pad") if name in about}
    return Convolution(node.input[0], shape, weight, bias, placing)
