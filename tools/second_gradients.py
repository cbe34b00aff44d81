"""A second way to every layer's gradient: interprets an ONNX graph node by node with PyTorch, in float64, and lets its automatic
differentiation go back. Nothing of the package's own reverse pass takes part.

Needs the extra ``tools``; no part of what users install.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from typing import Any

import numpy as np
import onnx
import torch
from numpy.typing import NDArray
from onnx import TensorProto, helper, numpy_helper
from onnx.reference import ReferenceEvaluator
from torch import Tensor
from torch.nn import functional as F

Attributes = dict[str, Any]
Rule = Callable[[list[Any], Attributes], Any]


def _pads(x: Tensor, kernel: Sequence[int], a: Attributes, value: float = 0.0) -> Tensor:
    """What the attributes put round the places of a tensor."""
    n = len(kernel)
    pads = list(a.get("pads", [0] * 2 * n))
    auto = a.get("auto_pad", "NOTSET")
    if auto in ("SAME_UPPER", "SAME_LOWER"):
        strides, dilations = a.get("strides", [1] * n), a.get("dilations", [1] * n)
        for i in range(n):
            size = x.shape[2 + i]
            whole = max(0, (-(-size // strides[i]) - 1) * strides[i] + (kernel[i] - 1) * dilations[i] + 1 - size)
            first = whole // 2 if auto == "SAME_UPPER" else whole - whole // 2
            pads[i], pads[n + i] = first, whole - first
    flat = [v for i in reversed(range(n)) for v in (pads[i], pads[n + i])]
    return F.pad(x, flat, value=value) if any(flat) else x


def _conv(v: list[Any], a: Attributes) -> Tensor:
    x, w = v[0], v[1]
    n = w.dim() - 2
    run = (F.conv1d, F.conv2d, F.conv3d)[n - 1]
    return run(
        _pads(x, w.shape[2:], a),
        w,
        v[2] if len(v) > 2 else None,
        stride=tuple(a.get("strides", [1] * n)),
        dilation=tuple(a.get("dilations", [1] * n)),
        groups=a.get("group", 1),
    )


def _max_pool(v: list[Any], a: Attributes) -> Tensor:
    kernel = a["kernel_shape"]
    x = _pads(v[0], kernel, a, -torch.inf)
    return F.max_pool2d(
        x, kernel, a.get("strides", [1] * 2), 0, a.get("dilations", [1] * 2), bool(a.get("ceil_mode", 0))
    )


def _average_pool(v: list[Any], a: Attributes) -> Tensor:
    kernel = a["kernel_shape"]
    weights = torch.ones(1, 1, *kernel, dtype=v[0].dtype)
    stride = a.get("strides", [1] * 2)
    x = _pads(v[0], kernel, a)
    ones = torch.ones_like(v[0][:1, :1])
    counted = torch.ones_like(x[:1, :1]) if a.get("count_include_pad") else _pads(ones, kernel, a)
    if a.get("ceil_mode"):
        more = [(-(x.shape[2 + i] - kernel[i])) % stride[i] for i in range(2)]
        x, counted = (F.pad(one, (0, more[1], 0, more[0])) for one in (x, counted))
    sums = F.conv2d(x, weights.expand(x.shape[1], 1, *kernel), stride=stride, groups=x.shape[1])
    return sums / F.conv2d(counted, weights, stride=stride)


def _resize(v: list[Any], a: Attributes) -> Tensor:
    x = v[0]
    sizes = (
        [int(n) for n in v[3]]
        if len(v) > 3 and v[3] is not None
        else [int(s * f) for s, f in zip(x.shape, v[2].tolist(), strict=True)]
    )
    mode, where = a.get("mode", "nearest"), a.get("coordinate_transformation_mode", "half_pixel")
    if mode == "nearest":
        assert sizes[2] % x.shape[2] == 0, "only whole factors"
        return x.repeat_interleave(sizes[2] // x.shape[2], 2).repeat_interleave(sizes[3] // x.shape[3], 3)
    return F.interpolate(
        x, sizes[2:], mode={"linear": "bilinear", "cubic": "bicubic"}[mode], align_corners=where == "align_corners"
    )


def _axes(v: list[Any], a: Attributes, x: Tensor) -> list[int]:
    given = a.get("axes") if len(v) < 2 or v[1] is None else v[1].tolist()
    return list(range(x.dim())) if not given else [int(one) for one in np.atleast_1d(given)]


def _reduce(how: Callable[..., Tensor]) -> Rule:
    return lambda v, a: how(v[0], _axes(v, a, v[0]), bool(a.get("keepdims", 1)))


def _slice(v: list[Any], a: Attributes) -> Tensor:
    x = v[0]
    starts, ends = (
        [int(n) for n in (v[i].tolist() if len(v) > i else a[key])] for i, key in ((1, "starts"), (2, "ends"))
    )
    axes = (
        [int(n) for n in v[3].tolist()] if len(v) > 3 and v[3] is not None else a.get("axes", list(range(len(starts))))
    )
    steps = [int(n) for n in v[4].tolist()] if len(v) > 4 else [1] * len(starts)
    for axis, first, last, step in zip(axes, starts, ends, steps, strict=True):
        chosen = (
            range(x.shape[axis])[first:last:step]
            if step > 0 or last > -(1 << 60)
            else range(x.shape[axis])[first::step]
        )
        x = x.index_select(axis, torch.tensor(list(chosen)))
    return x


def _split(v: list[Any], a: Attributes) -> list[Tensor]:
    axis = a.get("axis", 0)
    given = v[1].tolist() if len(v) > 1 and v[1] is not None else a.get("split")
    if given is None:
        given = -(-v[0].shape[axis] // a["num_outputs"])
    return list(torch.split(v[0], given, axis))


def _pad(v: list[Any], a: Attributes) -> Tensor:
    pads = [int(n) for n in (v[1].tolist() if len(v) > 1 else a["pads"])]
    n = v[0].dim()
    flat = [p for i in reversed(range(n)) for p in (pads[i], pads[n + i])]
    mode = a.get("mode", "constant")
    if mode != "constant":
        return F.pad(v[0], flat[: 2 * (n - 2)], mode={"reflect": "reflect", "edge": "replicate"}[mode])
    value = float(v[2]) if len(v) > 2 and v[2] is not None else a.get("value", 0.0)
    return F.pad(v[0], flat, value=value)


def _gather(v: list[Any], a: Attributes) -> Tensor:
    x, at, axis = v[0], v[1].long(), a.get("axis", 0)
    at = torch.where(at < 0, at + x.shape[axis], at)
    return x.index_select(axis, at.reshape(-1)).reshape(*x.shape[:axis], *at.shape, *x.shape[axis % x.dim() + 1 :])


def _reshape(v: list[Any], a: Attributes) -> Tensor:
    sizes = [int(n) for n in v[1].tolist()]
    return v[0].reshape([v[0].shape[i] if n == 0 and not a.get("allowzero") else n for i, n in enumerate(sizes)])


def _layer_norm(v: list[Any], a: Attributes) -> Tensor:
    axis = a.get("axis", -1) % v[0].dim()
    return F.layer_norm(v[0], v[0].shape[axis:], v[1], v[2] if len(v) > 2 else None, a.get("epsilon", 1e-5))


def _recurrent(kind: str) -> Rule:
    """LSTM and GRU, step by step, as the standard writes them down; one or both directions."""

    def run(v: list[Any], a: Attributes) -> list[Tensor]:
        x, w, r = v[0], v[1], v[2]
        size, gates = a["hidden_size"], 4 if kind == "LSTM" else 3
        bias = v[3] if len(v) > 3 and v[3] is not None else torch.zeros(len(w), 2 * gates * size, dtype=x.dtype)
        outs, lasts, cells = [], [], []
        for d in range(len(w)):
            h = v[5][d] if len(v) > 5 and v[5] is not None else torch.zeros(x.shape[1], size, dtype=x.dtype)
            c = v[6][d] if len(v) > 6 and v[6] is not None else torch.zeros_like(h)
            of_x, of_h = bias[d].split(gates * size)
            backward = a.get("direction", "forward") == "reverse" or d == 1
            steps: list[Tensor] = []
            for t in reversed(range(len(x))) if backward else range(len(x)):
                if kind == "LSTM":
                    i, o, f, g = (x[t] @ w[d].T + h @ r[d].T + of_x + of_h).split(size, 1)
                    c = f.sigmoid() * c + i.sigmoid() * g.tanh()
                    h = o.sigmoid() * c.tanh()
                else:
                    xz, xr, xh = (x[t] @ w[d].T + of_x).split(size, 1)
                    hz, hr, hh = (h @ r[d].T + of_h).split(size, 1)
                    z, reset = (xz + hz).sigmoid(), (xr + hr).sigmoid()
                    if a.get("linear_before_reset"):
                        new = (xh + reset * hh).tanh()
                    else:
                        part = r[d][2 * size :]
                        new = (xh + (reset * h) @ part.T + of_h[2 * size :]).tanh()
                    h = (1 - z) * new + z * h
                steps.append(h)
            outs.append(torch.stack(steps[::-1] if backward else steps))
            lasts.append(h)
            cells.append(c)
        found = [torch.stack(outs, 1), torch.stack(lasts)]
        return [*found, torch.stack(cells)] if kind == "LSTM" else found

    return run


_RANGES = {torch.uint8: (0, 255), torch.int8: (-128, 127), torch.int16: (-32768, 32767), torch.uint16: (0, 65535)}


def _along(x: Tensor, given: Tensor, axis: int) -> Tensor:
    """A scale or a zero point of each channel, in the shape that goes with a tensor."""
    if given.dim() == 0 or given.numel() == 1:
        return given.reshape(())
    return given.reshape([-1 if i == axis % x.dim() else 1 for i in range(x.dim())])


def _rounded(v: list[Any], a: Attributes, steps: Tensor | None = None) -> Tensor:
    """QuantizeLinear, in the numbers that it stands for: the rounding is there, and derivatives pass straight through it, beyond the
    ends of the scale too. Where the lowest level is zero itself it has taken in a rectifier, and with a highest one of 6 a clipped
    one: there nothing gets through. ``steps`` are the whole numbers that the engine came to: half a last bit decides between two."""
    x, axis = v[0], a.get("axis", 1)
    scale = _along(x, v[1], axis).to(x.dtype)
    zero = v[2] if len(v) > 2 and v[2] is not None else torch.zeros((), dtype=torch.uint8)
    least, most = _RANGES[zero.dtype]
    at = _along(x, zero, axis).to(x.dtype)
    rectified = at == least
    highest = (most - at) * scale
    clipped = rectified & ((highest - 6).abs() <= 0.5 * scale)
    gets_through = (~rectified | (x > 0)) & (~clipped | (x < highest))
    inside = torch.where(gets_through, x, x.detach())
    with torch.no_grad():
        steps = (torch.round(x / scale) + at).clamp(least, most) if steps is None else steps.to(x.dtype)
        told = (steps - at) * scale
    return inside + (told - inside).detach()


def _rounded_as_it_comes(v: list[Any], a: Attributes, steps: Tensor | None = None) -> list[Tensor]:
    """DynamicQuantizeLinear, in whole steps: the scale is that of the values at hand, and no derivative goes by way of it."""
    x = v[0].detach()
    low, high = torch.clamp(x.min(), max=0), torch.clamp(x.max(), min=0)
    scale = (high - low) / 255
    zero = torch.clamp(torch.round(-low / scale), 0, 255)
    told = torch.clamp(torch.round(x / scale) + zero, 0, 255) if steps is None else steps.to(x.dtype)
    y = v[0] / scale + zero
    return [y + (told - y).detach(), scale, zero]


def _whole(given: list[Any], i: int, like: Tensor) -> Tensor | float:
    return given[i].to(like.dtype) if len(given) > i and given[i] is not None else 0.0


def _whole_matmul(v: list[Any], a: Attributes) -> Tensor:
    x, w = v[0], v[1].to(v[0].dtype)
    zero = _whole(v, 3, x)
    return (x - _whole(v, 2, x)) @ (w - zero)


def _whole_conv(v: list[Any], a: Attributes) -> Tensor:
    x, w = v[0] - _whole(v, 2, v[0]), v[1].to(v[0].dtype)
    zero = _whole(v, 3, v[0])
    if isinstance(zero, Tensor) and zero.dim():
        zero = zero.reshape(-1, *[1] * (w.dim() - 1))
    return _conv([x, w - zero], a)


def _stands_for(v: list[Any], a: Attributes) -> Tensor:
    """DequantizeLinear: of what a derivative passes the numbers that it stands for are there already."""
    if v[0].is_floating_point():
        return v[0] * 1
    axis = a.get("axis", 1)
    zero = _along(v[0], v[2], axis).to(v[1].dtype) if len(v) > 2 and v[2] is not None else 0
    return (v[0].to(v[1].dtype) - zero) * _along(v[0], v[1], axis)


def _gelu(v: list[Any], a: Attributes) -> Tensor:
    return F.gelu(v[0], approximate=a.get("approximate", "none"))


def _relu(x: Tensor) -> Tensor:
    """Zero at zero, and at what is zero but for the last bits of a sum of whole steps."""
    return x * (x > 1e-12 * x.detach().abs().max())


def _binary(how: Callable[[Tensor, Tensor], Tensor]) -> Rule:
    return lambda v, a: how(v[0], v[1])


def _unary(how: Callable[[Tensor], Tensor]) -> Rule:
    return lambda v, a: how(v[0])


def _fold(how: Callable[[Tensor, Tensor], Tensor]) -> Rule:
    def run(v: list[Any], a: Attributes) -> Tensor:
        out = v[0]
        for one in v[1:]:
            out = how(out, one)
        return out

    return run


def _conv_transpose(v: list[Any], a: Attributes) -> Tensor:
    pads, n = a.get("pads", [0] * 4), len(v[1].shape) - 2
    if list(pads[:n]) != list(pads[n:]):
        raise KeyError("ConvTranspose padded unevenly")
    bias = v[2] if len(v) > 2 else None
    extra, kept = a.get("output_padding", [0] * n), (a.get("strides", [1] * n), tuple(pads[:n]))
    return F.conv_transpose2d(v[0], v[1], bias, *kept, extra, a.get("group", 1), a.get("dilations", [1] * n))


RULES: dict[str, Rule] = {
    "Conv": _conv,
    "MaxPool": _max_pool,
    "AveragePool": _average_pool,
    "Resize": _resize,
    "Slice": _slice,
    "Split": _split,
    "Pad": _pad,
    "Gather": _gather,
    "Reshape": _reshape,
    "LayerNormalization": _layer_norm,
    "Gelu": _gelu,
    "QuantizeLinear": _rounded,
    "DequantizeLinear": _stands_for,
    "MatMulInteger": _whole_matmul,
    "DynamicQuantizeLinear": _rounded_as_it_comes,
    "ConvInteger": _whole_conv,
    "LSTM": _recurrent("LSTM"),
    "GRU": _recurrent("GRU"),
    "GlobalAveragePool": lambda v, a: v[0].mean(tuple(range(2, v[0].dim())), keepdim=True),
    "GlobalMaxPool": lambda v, a: v[0].amax(tuple(range(2, v[0].dim())), keepdim=True),
    "BatchNormalization": lambda v, a: F.batch_norm(v[0], v[3], v[4], v[1], v[2], False, 0.0, a.get("epsilon", 1e-5)),
    "InstanceNormalization": lambda v, a: F.instance_norm(
        v[0], None, None, v[1], v[2], True, 0.0, a.get("epsilon", 1e-5)
    ),
    "GroupNormalization": lambda v, a: F.group_norm(v[0], a["num_groups"], v[1], v[2], a.get("epsilon", 1e-5)),
    "Gemm": lambda v, a: (
        a.get("alpha", 1.0) * ((v[0].T if a.get("transA") else v[0]) @ (v[1].T if a.get("transB") else v[1]))
        + (a.get("beta", 1.0) * v[2] if len(v) > 2 else 0.0)
    ),
    "MatMul": _binary(torch.matmul),
    "Add": _fold(torch.add),
    "Sub": _binary(torch.sub),
    "Mul": _fold(torch.mul),
    "Div": _binary(lambda x, y: x / y),
    "Pow": _binary(torch.pow),
    "Sum": _fold(torch.add),
    "Min": _fold(torch.minimum),
    "Max": _fold(torch.maximum),
    "Relu": _unary(_relu),
    "Sigmoid": _unary(torch.sigmoid),
    "Tanh": _unary(torch.tanh),
    "Erf": _unary(torch.erf),
    "Exp": _unary(torch.exp),
    "Log": _unary(torch.log),
    "Sqrt": _unary(torch.sqrt),
    "Abs": _unary(torch.abs),
    "Neg": _unary(torch.neg),
    "Reciprocal": _unary(torch.reciprocal),
    "Softplus": _unary(F.softplus),
    "Mish": _unary(F.mish),
    "HardSwish": _unary(F.hardswish),
    "Identity": _unary(lambda x: x * 1),
    "Sin": _unary(torch.sin),
    "Cos": _unary(torch.cos),
    "HardSigmoid": lambda v, a: (a.get("alpha", 0.2) * v[0] + a.get("beta", 0.5)).clamp(0, 1),
    "Swish": lambda v, a: v[0] * torch.sigmoid(a.get("alpha", 1.0) * v[0]),
    "LeakyRelu": lambda v, a: F.leaky_relu(v[0], a.get("alpha", 0.01)),
    "Elu": lambda v, a: F.elu(v[0], a.get("alpha", 1.0)),
    "Selu": _unary(F.selu),
    "PRelu": lambda v, a: torch.where(v[0] >= 0, v[0], v[1] * v[0]),
    "Clip": lambda v, a: v[0].clamp(
        *(a.get(key) if len(v) <= i or v[i] is None else v[i].item() for i, key in ((1, "min"), (2, "max")))
    ),
    "Softmax": lambda v, a: F.softmax(v[0], a.get("axis", -1)),
    "LogSoftmax": lambda v, a: F.log_softmax(v[0], a.get("axis", -1)),
    "ReduceMean": _reduce(lambda x, axes, keep: x.mean(axes, keepdim=keep)),
    "ReduceSum": _reduce(lambda x, axes, keep: x.sum(axes, keepdim=keep)),
    "ReduceMax": _reduce(lambda x, axes, keep: x.amax(axes, keepdim=keep)),
    "ReduceL2": _reduce(lambda x, axes, keep: x.square().sum(axes, keepdim=keep).sqrt()),
    "ReduceSumSquare": _reduce(lambda x, axes, keep: x.square().sum(axes, keepdim=keep)),
    "ReduceLogSumExp": _reduce(lambda x, axes, keep: torch.logsumexp(x, axes, keepdim=keep)),
    "Greater": lambda v, a: v[0] > v[1],
    "Equal": lambda v, a: v[0] == v[1],
    "And": lambda v, a: v[0] & v[1],
    "Sign": _unary(torch.sign),
    "Floor": _unary(torch.floor),
    "CumSum": lambda v, a: torch.cumsum(v[0], int(v[1])),
    "TopK": lambda v, a: list(torch.topk(v[0], int(v[1]), a.get("axis", -1), bool(a.get("largest", 1)))),
    "ConvTranspose": lambda v, a: _conv_transpose(v, a),
    "Transpose": lambda v, a: v[0].permute(a.get("perm", list(range(v[0].dim()))[::-1])),
    "Concat": lambda v, a: torch.cat(
        [one if isinstance(one, Tensor) else torch.as_tensor(one) for one in v], a["axis"]
    ),
    "Flatten": lambda v, a: v[0].reshape(int(np.prod(v[0].shape[: a.get("axis", 1)])), -1),
    "Squeeze": lambda v, a: v[0].squeeze(tuple(_axes(v, a, v[0]))),
    "Unsqueeze": lambda v, a: _unsqueezed(v[0], _axes(v, a, v[0])),
    "Expand": lambda v, a: v[0].expand(torch.broadcast_shapes(v[0].shape, tuple(int(n) for n in v[1].tolist()))),
    "Tile": lambda v, a: v[0].repeat([int(n) for n in v[1].tolist()]),
    "Where": lambda v, a: torch.where(v[0].bool(), v[1], v[2]),
    "Einsum": lambda v, a: torch.einsum(a["equation"], *v),
    "DepthToSpace": lambda v, a: F.pixel_shuffle(v[0], a["blocksize"]),
    "GatherElements": lambda v, a: torch.gather(v[0], a.get("axis", 0), v[1].long()),
    "GatherND": lambda v, a: v[0][tuple(v[1].long().unbind(-1))],
    "Cast": lambda v, a: (
        v[0] * 1 if a["to"] in (TensorProto.FLOAT, TensorProto.FLOAT16, TensorProto.DOUBLE) else v[0].detach()
    ),
}


def _unsqueezed(x: Tensor, axes: list[int]) -> Tensor:
    for axis in sorted(one % (x.dim() + len(axes)) for one in axes):
        x = x.unsqueeze(axis)
    return x


def _as_tensor(array: NDArray[Any]) -> Tensor:
    found = torch.from_numpy(np.array(array))
    return found.double() if found.is_floating_point() else found


def gradients(
    model: onnx.ModelProto,
    batch: NDArray[Any],
    output: str,
    classes: Sequence[int],
    dtype: torch.dtype = torch.float64,
    steps: Mapping[str, NDArray[Any]] | None = None,
) -> tuple[dict[str, NDArray[Any]], dict[str, NDArray[Any]]]:
    """Values of every float tensor of a graph, and the gradients of each image's class in ``output`` with respect to them; where it
    rounds to whole ``steps``, those the engine came to may be given."""
    names = {one.name for one in model.graph.input}
    values: dict[str, Any] = {"": None}
    for tensor in model.graph.initializer:
        made = _as_tensor(numpy_helper.to_array(tensor))
        values[tensor.name] = made.to(dtype) if made.is_floating_point() else made
    (image,) = [name for name in names if name not in values]
    values[image] = torch.from_numpy(np.asarray(batch)).to(dtype).requires_grad_()
    kept: dict[str, Tensor] = {}
    opset = model.opset_import
    for node in model.graph.node:
        given = [values[name] for name in node.input]
        attributes = {one.name: helper.get_attribute_value(one) for one in node.attribute}
        attributes = {k: v.decode() if isinstance(v, bytes) else v for k, v in attributes.items()}
        live = any(isinstance(one, Tensor) and one.requires_grad for one in given)
        if (live and node.op_type not in ("Shape", "Size")) or node.op_type in ("QuantizeLinear", "DequantizeLinear"):
            known = (steps or {}).get(node.output[0])
            if known is not None and node.op_type == "QuantizeLinear":
                made: Any = _rounded(given, attributes, torch.from_numpy(known.astype(np.float64)))
            elif known is not None and node.op_type == "DynamicQuantizeLinear":
                made = _rounded_as_it_comes(given, attributes, torch.from_numpy(known.astype(np.float64)))
            else:
                made = RULES[node.op_type](given, attributes)
        else:
            made = _worked_out(node, given, opset, dtype)
        for name, value in zip(node.output, made if isinstance(made, list) else [made], strict=False):
            values[name] = value
            if isinstance(value, Tensor) and value.requires_grad:
                value.retain_grad()
                kept[name] = value
    scores = values[output].reshape(len(batch), -1)
    sum(scores[i, k] for i, k in enumerate(classes)).backward()  # type: ignore[union-attr]
    found = {name: one.detach().numpy() for name, one in kept.items()}
    return found, {name: one.grad.numpy() for name, one in kept.items() if one.grad is not None}


def _worked_out(node: onnx.NodeProto, given: list[Any], opset: Any, dtype: torch.dtype) -> Any:
    """A node that no derivative passes, by ONNX's own reference evaluator."""
    feeds = {}
    for name, one in zip(node.input, given, strict=True):
        if name:
            feeds[name] = one.detach().numpy()
            if feeds[name].dtype == np.float64:
                feeds[name] = feeds[name].astype(np.float32)
    graph = helper.make_graph(
        [node],
        "one",
        [helper.make_tensor_value_info(n, helper.np_dtype_to_tensor_dtype(v.dtype), v.shape) for n, v in feeds.items()],
        [onnx.ValueInfoProto(name=name) for name in node.output if name],
    )
    found = ReferenceEvaluator(helper.make_model(graph, opset_imports=opset)).run(None, feeds)
    made = [_as_tensor(np.asarray(one)) for one in found]
    return [one.to(dtype) if one.is_floating_point() else one for one in made]
