"""Rules of the derivative table for operators that reduce over axes or normalise by what they find there."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import numpy as np

from mivrat.core.gradients.emit import Value
from mivrat.core.gradients.node import Gradients, NodeBack, NoRule, Rule, distribution_axes
from mivrat.core.gradients.rules_places import same


def _reduced(s: NodeBack) -> tuple[list[int], Value, Value]:
    """The axes a reduction goes over, and its gradient and result with those axes kept."""
    s.only_first()
    axes = s.axes(len(s.shape(0)))
    s.only_within_images(axes)
    if s.attributes.get("keepdims", 1) or not axes:
        return axes, s.g, s.y
    return axes, s.emit.unsqueeze(s.g, axes), s.emit.unsqueeze(s.y, axes)


def _reduce_sum(s: NodeBack) -> Gradients:
    _, g, _ = _reduced(s)
    return s.emit.expand_like(g, s.node.input[0])


def _reduce_mean(s: NodeBack) -> Gradients:
    axes, g, _ = _reduced(s)
    count = int(np.prod([s.shape(0)[a] for a in axes], dtype=np.int64))
    return s.emit.expand_like(g * (1.0 / count), s.node.input[0])


def _reduce_extreme(s: NodeBack) -> Gradients:
    """To the values that are the extreme, in equal parts where several are."""
    axes, g, y = _reduced(s)
    mask = same(s, s.x, y)
    return g * mask / s.emit.reduce_sum(mask, axes)


def _reduce_l2(s: NodeBack) -> Gradients:
    _, g, y = _reduced(s)
    safe = (y > 0.0).where(y, 1.0)
    return g * s.x / safe


def _reduce_log_sum_exp(s: NodeBack) -> Gradients:
    _, g, y = _reduced(s)
    return g * s.emit.node("Exp", s.x - y)


def _reduce_log_sum(s: NodeBack) -> Gradients:
    _, g, y = _reduced(s)
    return s.emit.expand_like(g / s.emit.node("Exp", y), s.node.input[0])


def _reduce_prod(s: NodeBack) -> Gradients:
    """Each factor's slope is the product of the others: y / x, and where one factor alone is 0 the product of the rest."""
    axes, g, _ = _reduced(s)
    none = same(s, s.x, s.emit.floats(0.0))
    rest = s.x + none  # 1 in place of 0
    parameters: dict[str, Any] = {"axes": axes} if s.view.opset < 18 else {}
    further = [s.emit.integers(axes)] if s.view.opset >= 18 else []
    product = s.emit.node("ReduceProd", rest, *further, keepdims=1, **parameters) if axes else rest
    zeros = s.emit.reduce_sum(none, axes)
    others = (zeros - none) > 0.5
    return g * others.where(0.0, product / rest)


def _rms_normalization(s: NodeBack) -> Gradients:
    """y = x / r * scale with r the root of the mean square over the last axes (Zhang 2019)."""
    s.only_first()
    rank = len(s.out_shape)
    axes = list(range(s.attributes.get("axis", -1) % rank, rank))
    s.only_within_images(axes)
    mean = s.emit.reduce_mean(s.x * s.x, axes) + float(s.attributes.get("epsilon", 1e-5))
    inverse = 1.0 / s.emit.node("Sqrt", mean)
    g, standard = s.g * s.emit.value(s.node.input[1]), s.x * inverse
    return inverse * (g - standard * s.emit.reduce_mean(g * standard, axes))


def _global_max_pool(s: NodeBack) -> Gradients:
    mask = same(s, s.x, s.y)
    return s.g * mask / s.emit.reduce_sum(mask, list(range(2, len(s.out_shape))))


def _log_softmax(s: NodeBack) -> Gradients:
    return s.g - s.emit.node("Exp", s.y) * s.emit.reduce_sum(s.g, distribution_axes(s))


def _standardised(s: NodeBack, x: Value, g: Value, axes: Sequence[int], epsilon: float) -> Value:
    """The gradient at x of (x - mean) / sqrt(variance + epsilon) over some axes, g being the gradient of that."""
    emit = s.emit
    centred = x - emit.reduce_mean(x, axes)
    inverse = 1.0 / emit.node("Sqrt", emit.reduce_mean(centred * centred, axes) + epsilon)
    standard = centred * inverse
    return inverse * (g - emit.reduce_mean(g, axes) - standard * emit.reduce_mean(g * standard, axes))


def _layer_normalization(s: NodeBack) -> Gradients:
    s.only_first()
    rank = len(s.out_shape)
    axes = list(range(s.attributes.get("axis", -1) % rank, rank))
    return _standardised(s, s.x, s.g * s.emit.value(s.node.input[1]), axes, float(s.attributes.get("epsilon", 1e-5)))


def _per_channel(s: NodeBack, position: int) -> Value:
    """A constant with one number for each channel, laid out to multiply a tensor of the node's rank."""
    found = s.constant(position)
    if found is None:
        raise NoRule(f"{s.node.op_type} with an image-dependent scale")
    return s.emit.floats(found.reshape(-1, *[1] * (len(s.out_shape) - 2)))


def _instance_normalization(s: NodeBack) -> Gradients:
    s.only_first()
    axes = list(range(2, len(s.out_shape)))
    return _standardised(s, s.x, s.g * _per_channel(s, 1), axes, float(s.attributes.get("epsilon", 1e-5)))


def _group_normalization(s: NodeBack) -> Gradients:
    s.only_first()
    groups, scale, channels = s.attributes["num_groups"], s.constant(1), s.out_shape[1]
    if scale is None:
        raise NoRule("GroupNormalization with an image-dependent scale")
    if scale.size != channels:  # before version 21 there is one for each group
        scale = np.repeat(scale, channels // groups)
    g = s.g * s.emit.floats(scale.reshape(-1, *[1] * (len(s.out_shape) - 2)))
    together = [0, groups, -1]
    x, g = s.emit.reshape(s.x, together), s.emit.reshape(g, together)
    return s.emit.reshape_like(_standardised(s, x, g, [2], float(s.attributes.get("epsilon", 1e-5))), s.node.input[0])


def _mean_variance_normalization(s: NodeBack) -> Gradients:
    axes = [axis % len(s.out_shape) for axis in s.attributes.get("axes", [0, 2, 3])]
    s.only_within_images(axes)
    return _standardised(s, s.x, s.g, axes, 0.0)


def _lp_normalization(s: NodeBack) -> Gradients:
    axis, power = s.attributes.get("axis", -1) % len(s.out_shape), s.attributes.get("p", 2)
    s.only_within_images([axis])
    total = s.emit.reduce_sum(s.g * s.y, [axis])
    if power == 1:
        length = s.emit.reduce_sum(s.emit.node("Abs", s.x), [axis])
        return (s.g - s.emit.node("Sign", s.x) * total) / length
    return (s.g - s.y * total) / s.emit.node("Sqrt", s.emit.reduce_sum(s.x * s.x, [axis]))


def _lrn(s: NodeBack) -> Gradients:
    """Local response normalisation (Krizhevsky 2012): y = x / S^beta, S = bias + alpha/size * sum of x^2 over near channels."""
    size = s.attributes["size"]
    alpha, beta = float(s.attributes.get("alpha", 1e-4)), float(s.attributes.get("beta", 0.75))
    behind, ahead = (size - 1) // 2, size - 1 - (size - 1) // 2

    def over_channels(value: Value, pads: tuple[int, int]) -> Value:
        flat = s.emit.unsqueeze(s.emit.reshape(value, [0, s.out_shape[1], -1]), [1])
        ones = s.emit.floats(np.ones((1, 1, size, 1)))
        summed = s.emit.node("Conv", flat, ones, kernel_shape=[size, 1], pads=[pads[0], 0, pads[1], 0])
        return s.emit.reshape_like(summed, s.node.input[0])

    total = over_channels(s.x * s.x, (behind, ahead)) * (alpha / size) + float(s.attributes.get("bias", 1.0))
    shrunk = s.emit.node("Pow", total, s.emit.floats(-beta))
    spread = over_channels(s.g * s.x * shrunk / total, (ahead, behind))
    return s.g * shrunk - s.x * spread * (2 * alpha * beta / size)


NORMS: dict[str, Rule] = {
    "ReduceSum": _reduce_sum,
    "ReduceMean": _reduce_mean,
    "ReduceMax": _reduce_extreme,
    "ReduceMin": _reduce_extreme,
    "ReduceL1": lambda s: _reduced(s)[1] * s.emit.node("Sign", s.x),
    "ReduceL2": _reduce_l2,
    "ReduceSumSquare": lambda s: _reduced(s)[1] * s.x * 2.0,
    "ReduceLogSumExp": _reduce_log_sum_exp,
    "ReduceLogSum": _reduce_log_sum,
    "ReduceProd": _reduce_prod,
    "RMSNormalization": _rms_normalization,
    "MeanVarianceNormalization": _mean_variance_normalization,
    "GlobalMaxPool": _global_max_pool,
    "LogSoftmax": _log_softmax,
    "LayerNormalization": _layer_normalization,
    "InstanceNormalization": _instance_normalization,
    "GroupNormalization": _group_normalization,
    "LpNormalization": _lp_normalization,
    "LRN": _lrn,
}
