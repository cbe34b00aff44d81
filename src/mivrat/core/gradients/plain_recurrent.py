"""Writes recurrent layers out step by step."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
import onnx
from onnx import helper

from mivrat.core.gradients.plain_writer import Write, Writer, replace

# A recurrent layer is written out over no more steps than this.
MOST_STEPS = 512


def write_out_recurrent(graph: onnx.GraphProto, opset: int, shapes: dict[str, tuple[int, ...]]) -> bool:
    """Write every LSTM, GRU and RNN out step by step, where its shapes are known and it is of the usual kind; whether there was one."""

    def wanted(node: onnx.NodeProto) -> Write | None:
        return (lambda w: _recurrent(w, shapes)) if node.op_type in _CELLS and _usual(node, shapes) else None

    return opset >= 13 and replace(graph, opset, wanted)


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

    w: Writer
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


def _recurrent(w: Writer, shapes: dict[str, tuple[int, ...]]) -> None:
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
