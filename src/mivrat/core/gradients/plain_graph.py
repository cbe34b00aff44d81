"""Writes operators that hold several steps in one out as these steps, so that the reverse pass needs no rules of their own:
quantised operators, and recurrent layers step by step."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

import numpy as np
import onnx
from onnx import TensorProto, helper, numpy_helper

Nodes = list[onnx.NodeProto]
# A recurrent layer is written out over no more steps than this.
MOST_STEPS = 512
# What the tensors between such steps are called.
WRITTEN_OUT = "mivrat/"


class _Writer:
    """Collects the nodes that take the place of one."""

    def __init__(self, node: onnx.NodeProto, at: int, opset: int) -> None:
        self.node, self.nodes, self.constants = node, Nodes(), list[onnx.TensorProto]()
        self.opset = opset
        self._prefix, self._count = f"{WRITTEN_OUT}{at}/", 0
        self.about = {a.name: helper.get_attribute_value(a) for a in node.attribute}

    def fresh(self) -> str:
        self._count += 1
        return f"{self._prefix}{self._count}"

    def add(self, op: str, *inputs: str, to: str = "", **attributes: Any) -> str:
        name = to or self.fresh()
        made = helper.make_node(op, list(inputs), [name], **attributes)
        self.nodes.append(made)
        return name

    def constant(self, value: Any, dtype: Any) -> str:
        name = self.fresh()
        self.constants.append(numpy_helper.from_array(np.asarray(value, dtype), name))
        return name

    def has(self, position: int) -> bool:
        return position < len(self.node.input) and bool(self.node.input[position])

    def real(self, first: int, axis: int | None = None) -> str:
        """What a quantised operand with its scale and zero point behind it stands for."""
        names = [self.node.input[i] for i in range(first, first + 3) if self.has(i)]
        kept: dict[str, Any] = {} if axis is None else {"axis": axis}
        return self.add("DequantizeLinear", *names, **kept)

    def rounded(self, value: str, first: int) -> None:
        """A value as the operator's quantised output; its scale and zero point stand from ``first`` on."""
        names = [self.node.input[i] for i in range(first, first + 2) if self.has(i)]
        self.add("QuantizeLinear", value, *names, to=self.node.output[0])

    def keep(self, *names: str) -> dict[str, Any]:
        """Some of the operator's own attributes."""
        return {name: self.about[name] for name in names if name in self.about}


def _conv(w: _Writer) -> None:
    """QLinearConv: x, its scale and zero point, w with its own, those of y, and a bias in units of both scales."""
    kept = w.keep("auto_pad", "dilations", "group", "kernel_shape", "pads", "strides")
    inputs = [w.real(0), w.real(3, axis=0)]
    if w.has(8):
        unit = w.add("Mul", w.node.input[1], w.node.input[4])
        inputs.append(w.add("Mul", _float(w, 8), unit))
    w.rounded(w.add("Conv", *inputs, **kept), 6)


def _float(w: _Writer, position: int) -> str:
    name = w.fresh()
    w.nodes.append(helper.make_node("Cast", [w.node.input[position]], [name], to=TensorProto.FLOAT))
    return name


def _qgemm(w: _Writer) -> None:
    """com.microsoft QGemm: A and B with scales and zero points, C in units of both, and, if the result is rounded, y's."""
    kept = w.keep("alpha", "transA", "transB")
    inputs = [w.real(0), w.real(3, axis=0 if w.about.get("transB") else 1)]
    if w.has(6):
        unit = w.add("Mul", w.node.input[1], w.node.input[4])
        inputs.append(w.add("Mul", _float(w, 6), unit))
    if w.has(7):
        w.rounded(w.add("Gemm", *inputs, **kept), 7)
    else:
        w.add("Gemm", *inputs, to=w.node.output[0], **kept)


def _binary(op: str) -> Callable[[_Writer], None]:
    return lambda w: w.rounded(w.add(op, w.real(0), w.real(3)), 6)


def _unary(op: str, *kept: str) -> Callable[[_Writer], None]:
    return lambda w: w.rounded(w.add(op, w.real(0), **w.keep(*kept)), 3)


def _global_pool(w: _Writer) -> None:
    axes = [1, 2] if w.about.get("channels_last") else [2, 3]
    if w.opset >= 18:
        pooled = w.add("ReduceMean", w.real(0), w.constant(axes, np.int64))
    else:
        pooled = w.add("ReduceMean", w.real(0), axes=axes)
    w.rounded(pooled, 3)


def _concat(w: _Writer) -> None:
    """com.microsoft QLinearConcat: y's scale and zero point first, then each operand with its own."""
    parts = [w.real(i) for i in range(2, len(w.node.input), 3)]
    w.add("QuantizeLinear", w.add("Concat", *parts, **w.keep("axis")), *w.node.input[:2], to=w.node.output[0])


def _less_zero(w: _Writer, position: int, zero: int) -> str:
    value = _float(w, position)
    return w.add("Sub", value, _float(w, zero)) if w.has(zero) else value


def _conv_integer(w: _Writer) -> None:
    kept = w.keep("auto_pad", "dilations", "group", "kernel_shape", "pads", "strides")
    w.add("Conv", _less_zero(w, 0, 2), _less_zero(w, 1, 3), to=w.node.output[0], **kept)


def _matmul_integer(w: _Writer) -> None:
    w.add("MatMul", _less_zero(w, 0, 2), _less_zero(w, 1, 3), to=w.node.output[0])


_QUANTISED: dict[str, Callable[[_Writer], None]] = {
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
    """Write every quantised operator out as what it stands for: its operands as real numbers, the operator on these, and the
    rounding of the result. Whether there was one; nothing is done before operator-set version 13, which has no scales by
    channel."""
    return opset >= 13 and _replace(graph, opset, lambda node: _QUANTISED.get(node.op_type))


def write_out_recurrent(graph: onnx.GraphProto, opset: int, shapes: dict[str, tuple[int, ...]]) -> bool:
    """Write every LSTM, GRU and RNN out step by step, where its shapes are known and it is of the usual kind; whether there was one."""

    def wanted(node: onnx.NodeProto) -> Callable[[_Writer], None] | None:
        return (lambda w: _recurrent(w, shapes)) if node.op_type in _CELLS and _usual(node, shapes) else None

    return opset >= 13 and _replace(graph, opset, wanted)


def write_out_rounded_up_pools(graph: onnx.GraphProto, opset: int, shapes: dict[str, tuple[int, ...]]) -> bool:
    """Write every pooling whose number of windows is rounded up with the padding that gives just these windows; whether there was
    one. The engine's own account of their number is wrong where the last window would begin in the padding."""

    def wanted(node: onnx.NodeProto) -> Callable[[_Writer], None] | None:
        if node.op_type not in ("MaxPool", "AveragePool"):
            return None
        about = {a.name: helper.get_attribute_value(a) for a in node.attribute}
        known = len(shapes.get(node.input[0], ())) == len(shapes.get(node.output[0], ())) > 2
        plain = about.get("auto_pad", b"NOTSET") == b"NOTSET" and not (about.get("count_include_pad") and opset < 11)
        return (lambda w: _pool(w, shapes)) if about.get("ceil_mode") and known and plain else None

    return _replace(graph, opset, wanted)


def _pool(w: _Writer, shapes: dict[str, tuple[int, ...]]) -> None:
    node, about = (
        w.node,
        {key: value for key, value in w.about.items() if key not in ("ceil_mode", "count_include_pad")},
    )
    kernel = about["kernel_shape"]
    axes = len(kernel)
    strides, dilations = (about.get(name, [1] * axes) for name in ("strides", "dilations"))
    pads = list(about.get("pads", [0] * 2 * axes))
    source, size, out = node.input[0], shapes[node.input[0]][2:], shapes[node.output[0]][2:]
    if w.about.get("count_include_pad") and any(pads):
        # Its own padding counts in the mean, what rounding up adds does not: so the former is made part of the picture.
        given = [0, 0, *pads[:axes], 0, 0, *pads[axes:]]
        source = w.add("Pad", source, w.constant(given, np.int64))
        size = tuple(n + a + b for n, a, b in zip(size, pads[:axes], pads[axes:], strict=True))
        pads = [0] * 2 * axes
    reach = [(k - 1) * d + 1 for k, d in zip(kernel, dilations, strict=True)]
    after = [
        max(0, (o - 1) * s + r - n - b) for o, s, r, n, b in zip(out, strides, reach, size, pads[:axes], strict=True)
    ]
    about["pads"] = [*pads[:axes], *after]
    made = helper.make_node(node.op_type, [source], list(node.output), **about)
    w.nodes.append(made)


def _replace(
    graph: onnx.GraphProto, opset: int, wanted: Callable[[onnx.NodeProto], Callable[[_Writer], None] | None]
) -> bool:
    nodes, found = Nodes(), False
    for at, node in enumerate(graph.node):
        write = wanted(node)
        if write is None:
            nodes.append(node)
            continue
        writer = _Writer(node, at, opset)
        write(writer)
        nodes += writer.nodes
        graph.initializer.extend(writer.constants)
        found = True
    if found:
        kept = [onnx.NodeProto() for _ in nodes]
        for copy, node in zip(kept, nodes, strict=True):
            copy.CopyFrom(node)
        del graph.node[:]
        graph.node.extend(kept)
        wrong = {name for node in kept for name in node.output}
        described = [one for one in graph.value_info if one.name not in wrong]
        del graph.value_info[:]
        graph.value_info.extend(described)
    return found


def _usual(node: onnx.NodeProto, shapes: dict[str, tuple[int, ...]]) -> bool:
    """Whether a recurrent layer has the usual activations, no sequence lengths, no peepholes, no clipping, and few enough steps."""
    about = {a.name: helper.get_attribute_value(a) for a in node.attribute}
    named = [one.decode().lower() for one in about.get("activations", [])]
    own = _ACTIVATIONS[node.op_type]
    usual = not named or named == own * (len(named) // len(own))
    further = any(len(node.input) > i and node.input[i] for i in (4, 7))
    shape = shapes.get(node.input[0], ())
    steps = shape[1 if about.get("layout") else 0] if len(shape) == 3 else MOST_STEPS + 1
    return usual and not further and "clip" not in about and not about.get("input_forget") and 0 < steps <= MOST_STEPS


# What layers use where nothing else is said.
_ACTIVATIONS = {"LSTM": ["sigmoid", "tanh", "tanh"], "GRU": ["sigmoid", "tanh"], "RNN": ["tanh"]}


@dataclass(frozen=True)
class _Step:
    """What a step of one direction is worked out from: what the input gives (``given``, all gates), the state and the memory before
    (empty at a start from nothing), the weights of the state and its bias (empty: none)."""

    w: _Writer
    hidden: int
    given: str
    h: str
    c: str
    weights: str
    bias: str

    def gates(self, values: str, first: int, last: int) -> str:
        """The columns of some gates."""
        ends = (self.w.constant([k * self.hidden], np.int64) for k in (first, last))
        return self.w.add("Slice", values, *ends, self.w.constant([-1], np.int64))

    def of_state(self, first: int, last: int, state: str = "") -> str:
        """What the state (or what stands for it) gives to some gates, with its bias; empty: nothing."""
        state = state or self.h
        found = self.w.add("MatMul", state, self.gates(self.weights, first, last)) if state else ""
        if not self.bias:
            return found
        bias = self.gates(self.bias, first, last)
        return self.w.add("Add", found, bias) if found else bias

    def summed(self, first: int, last: int) -> str:
        """What the input and the state give to some gates."""
        given, further = self.gates(self.given, first, last), self.of_state(first, last)
        return self.w.add("Add", given, further) if further else given


def _lstm(s: _Step) -> tuple[str, str]:
    """i, o, f, c = gates(x W^T + h R^T + b); C = f C + i tanh(c); H = o tanh(C) (Hochreiter 1997)."""
    gates = s.summed(0, 4)
    i, o, f = (s.w.add("Sigmoid", s.gates(gates, k, k + 1)) for k in range(3))
    fresh = s.w.add("Mul", i, s.w.add("Tanh", s.gates(gates, 3, 4)))
    c = s.w.add("Add", s.w.add("Mul", f, s.c), fresh) if s.c else fresh
    return s.w.add("Mul", o, s.w.add("Tanh", c)), c


def _gru(s: _Step) -> tuple[str, str]:
    """z, r = gates(x W^T + h R^T + b); n = tanh(x W^T + (r h) R^T + b), or with r (h R^T + b) where the reset comes after;
    H = (1 - z) n + z h (Cho 2014)."""
    both = s.w.add("Sigmoid", s.summed(0, 2))
    z, r = s.gates(both, 0, 1), s.gates(both, 1, 2)
    if s.w.about.get("linear_before_reset"):
        further = s.of_state(2, 3)
        further = s.w.add("Mul", r, further) if further else ""
    else:
        further = s.of_state(2, 3, s.w.add("Mul", r, s.h) if s.h else "")
    given = s.gates(s.given, 2, 3)
    fresh = s.w.add("Tanh", s.w.add("Add", given, further) if further else given)
    h = s.w.add("Sub", fresh, s.w.add("Mul", z, fresh))
    return (s.w.add("Add", h, s.w.add("Mul", z, s.h)) if s.h else h), ""


def _rnn(s: _Step) -> tuple[str, str]:
    """H = tanh(x W^T + h R^T + b) (Elman 1990)."""
    return s.w.add("Tanh", s.summed(0, 1)), ""


_CELLS: dict[str, tuple[int, Callable[[_Step], tuple[str, str]]]] = {
    "LSTM": (4, _lstm),
    "GRU": (3, _gru),
    "RNN": (1, _rnn),
}


def _recurrent(w: _Writer, shapes: dict[str, tuple[int, ...]]) -> None:
    """A recurrent layer, step after step, forwards, backwards or both."""
    node, last = w.node, bool(w.about.get("layout"))
    gates, cell = _CELLS[node.op_type]
    time_axis = 1 if last else 0
    steps = shapes[node.input[0]][time_axis]
    direction = w.about.get("direction", b"forward").decode()
    backwards = {"forward": [False], "reverse": [True], "bidirectional": [False, True]}[direction]
    hidden = int(w.about["hidden_size"])

    def part(name: str, d: int, where: int = 0) -> str:
        """One direction's share of an operand."""
        at = w.constant([d], np.int64), w.constant([d + 1], np.int64), w.constant([where], np.int64)
        return w.add("Squeeze", w.add("Slice", name, *at), at[2])

    each = []
    for t in range(steps):
        at = w.constant([t], np.int64), w.constant([t + 1], np.int64), w.constant([time_axis], np.int64)
        each.append(w.add("Squeeze", w.add("Slice", node.input[0], *at), at[2]))
    whole: list[list[str]] = []
    ends_h, ends_c = [], []
    for d, turned in enumerate(backwards):
        weight = w.add("Transpose", part(node.input[1], d), perm=[1, 0])
        recurrent = w.add("Transpose", part(node.input[2], d), perm=[1, 0])
        of_input = of_state = ""
        if w.has(3):
            both = part(node.input[3], d)
            split = [w.constant([n * gates * hidden], np.int64) for n in range(3)]
            of_input, of_state = (w.add("Slice", both, split[k], split[k + 1]) for k in range(2))
        h = part(node.input[5], d, 1 if last else 0) if w.has(5) else ""
        c = part(node.input[6], d, 1 if last else 0) if node.op_type == "LSTM" and w.has(6) else ""
        outputs = [""] * steps
        for t in reversed(range(steps)) if turned else range(steps):
            given = w.add("MatMul", each[t], weight)
            given = w.add("Add", given, of_input) if of_input else given
            h, c = cell(_Step(w, hidden, given, h, c, recurrent, of_state))
            outputs[t] = h
        whole.append(outputs)
        ends_h.append(h)
        ends_c.append(c)
    time = w.constant([time_axis], np.int64)
    if node.output and node.output[0]:
        moments = []
        for t in range(steps):
            sides = [w.add("Unsqueeze", outputs[t], w.constant([1 if last else 0], np.int64)) for outputs in whole]
            joined = w.add("Concat", *sides, axis=1 if last else 0) if len(sides) > 1 else sides[0]
            moments.append(w.add("Unsqueeze", joined, time))
        w.add("Concat", *moments, to=node.output[0], axis=time_axis)
    for position, ends in ((1, ends_h), (2, ends_c)):
        if len(node.output) > position and node.output[position]:
            side = 1 if last else 0
            parts = [w.add("Unsqueeze", one, w.constant([side], np.int64)) for one in ends]
            w.add("Concat", *parts, to=node.output[position], axis=side)
