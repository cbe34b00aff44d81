"""Writes recurrent layers out step by step."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from functools import partial
from typing import Any

import onnx
from onnx import helper

from mivrat.core.gradients.plain_writer import Write, Writer, replace

# A recurrent layer is written out over no more steps than this.
MOST_STEPS = 512
Shapes = dict[str, tuple[int, ...]]
# A value through an activation.
Activation = Callable[[str], str]


def write_out_recurrent(graph: onnx.GraphProto, opset: int, shapes: Shapes) -> bool:
    """Write every LSTM, GRU and RNN out, where its shapes are known and its activations too; whether there was one."""

    def wanted(node: onnx.NodeProto) -> Write | None:
        return (lambda w: _recurrent(w, shapes)) if node.op_type in _CELLS and _known(node, shapes) else None

    return replace(graph, opset, "recurrent", wanted)


def _known(node: onnx.NodeProto, shapes: Shapes) -> bool:
    """Whether a recurrent layer has activations that are known here, and few enough steps."""
    about = {a.name: helper.get_attribute_value(a) for a in node.attribute}
    named = {one.decode().lower() for one in about.get("activations", [])}
    shape = shapes.get(node.input[0], ())
    steps = shape[1 if about.get("layout") else 0] if len(shape) == 3 else MOST_STEPS + 1
    return named <= set(_NUMBERS) and 0 < steps <= MOST_STEPS


# What layers use where nothing else is said.
_ACTIVATIONS = {"LSTM": ["sigmoid", "tanh", "tanh"], "GRU": ["sigmoid", "tanh"], "RNN": ["tanh"]}
# The numbers each activation takes, alpha and beta, where none are given.
_NUMBERS: dict[str, tuple[float, ...]] = {
    "sigmoid": (),
    "tanh": (),
    "relu": (),
    "softsign": (),
    "softplus": (),
    "leakyrelu": (0.01,),
    "thresholdedrelu": (1.0,),
    "elu": (1.0,),
    "hardsigmoid": (0.2, 0.5),
    "affine": (1.0, 0.0),
    "scaledtanh": (1.0, 1.0),
}
_OPERATORS = {
    "sigmoid": "Sigmoid",
    "tanh": "Tanh",
    "relu": "Relu",
    "softsign": "Softsign",
    "softplus": "Softplus",
    "leakyrelu": "LeakyRelu",
    "thresholdedrelu": "ThresholdedRelu",
    "elu": "Elu",
    "hardsigmoid": "HardSigmoid",
}


def _activations(w: Writer, directions: int) -> list[list[Activation]]:
    """The activations of each direction, with the numbers that the lists of all directions hold for them in turn."""
    own = _ACTIVATIONS[w.node.op_type]
    named = [one.decode().lower() for one in w.about.get("activations", [])] or own * directions
    left = [list(w.about.get(name, [])) for name in ("activation_alpha", "activation_beta")]
    found: list[Activation] = []
    for name in named:
        numbers = [left[k].pop(0) if left[k] else default for k, default in enumerate(_NUMBERS[name])]
        found.append(partial(_activated, w, name, numbers))
    return [found[d * len(own) : (d + 1) * len(own)] for d in range(directions)]


def _activated(w: Writer, name: str, numbers: Sequence[float], value: str) -> str:
    if name == "affine":
        return w.add("Add", w.add("Mul", value, w.number(numbers[0])), w.number(numbers[1]))
    if name == "scaledtanh":
        return w.add("Mul", w.add("Tanh", w.add("Mul", value, w.number(numbers[1]))), w.number(numbers[0]))
    given: dict[str, Any] = dict(zip(("alpha", "beta"), numbers, strict=False))
    return w.add(_OPERATORS[name], value, **given)


@dataclass(frozen=True)
class _Step:
    """What a step of one direction is worked out from: what the input gives (``given``, all gates), the state and the memory before
    (empty at a start from nothing), the weights of the state and its bias (empty: none), the weights by which gates look at the
    memory (empty: they do not), and the activations."""

    w: Writer
    hidden: int
    given: str
    h: str
    c: str
    weights: str
    bias: str
    looks: str
    through: Sequence[Activation]

    def gates(self, values: str, first: int, last: int) -> str:
        """The columns of some gates."""
        return self.w.slice(values, -1, first * self.hidden, last * self.hidden)

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

    def looking(self, value: str, gate: int, memory: str) -> str:
        """A gate's value with what it sees of the memory (Gers 2000)."""
        if not self.looks or not memory:
            return value
        return self.w.add("Add", value, self.w.add("Mul", memory, self.gates(self.looks, gate, gate + 1)))

    def activated(self, which: int, value: str) -> str:
        """A value, kept within bounds where the layer says so, through one of the activations."""
        bound = float(self.w.about.get("clip", 0.0))
        if bound > 0 and self.w.opset >= 11:
            value = self.w.add("Clip", value, self.w.number(-bound), self.w.number(bound))
        elif bound > 0:
            value = self.w.add("Clip", value, min=-bound, max=bound)
        return self.through[which](value)


def _lstm(s: _Step) -> tuple[str, str]:
    """i, o, f, c = gates(x W^T + h R^T + b); C = f C + i tanh(c); H = o tanh(C) (Hochreiter 1997)."""
    gates = s.summed(0, 4)
    i = s.activated(0, s.looking(s.gates(gates, 0, 1), 0, s.c))
    fresh = c = s.w.add("Mul", i, s.activated(1, s.gates(gates, 3, 4)))
    if s.c:
        if s.w.about.get("input_forget"):
            f = s.w.add("Sub", s.w.number(1.0), i)
        else:
            f = s.activated(0, s.looking(s.gates(gates, 2, 3), 2, s.c))
        c = s.w.add("Add", s.w.add("Mul", f, s.c), fresh)
    o = s.activated(0, s.looking(s.gates(gates, 1, 2), 1, c))
    return s.w.add("Mul", o, s.through[2](c)), c


def _gru(s: _Step) -> tuple[str, str]:
    """z, r = gates(x W^T + h R^T + b); n = tanh(x W^T + (r h) R^T + b), or with r (h R^T + b) where the reset comes after;
    H = (1 - z) n + z h (Cho 2014)."""
    both = s.activated(0, s.summed(0, 2))
    z, r = s.gates(both, 0, 1), s.gates(both, 1, 2)
    if s.w.about.get("linear_before_reset"):
        further = s.of_state(2, 3)
        further = s.w.add("Mul", r, further) if further else ""
    else:
        further = s.of_state(2, 3, s.w.add("Mul", r, s.h) if s.h else "")
    given = s.gates(s.given, 2, 3)
    fresh = s.activated(1, s.w.add("Add", given, further) if further else given)
    h = s.w.add("Sub", fresh, s.w.add("Mul", z, fresh))
    return (s.w.add("Add", h, s.w.add("Mul", z, s.h)) if s.h else h), ""


def _rnn(s: _Step) -> tuple[str, str]:
    """H = tanh(x W^T + h R^T + b) (Elman 1990)."""
    return s.activated(0, s.summed(0, 1)), ""


_CELLS: dict[str, tuple[int, Callable[[_Step], tuple[str, str]]]] = {
    "LSTM": (4, _lstm),
    "GRU": (3, _gru),
    "RNN": (1, _rnn),
}


def _recurrent(w: Writer, shapes: Shapes) -> None:
    """A recurrent layer, step after step, forwards, backwards or both."""
    node, last = w.node, bool(w.about.get("layout"))
    gates, cell = _CELLS[node.op_type]
    time_axis = side = 1 if last else 0
    steps = shapes[node.input[0]][time_axis]
    direction = w.about.get("direction", b"forward").decode()
    backwards = {"forward": [False], "reverse": [True], "bidirectional": [False, True]}[direction]
    through = _activations(w, len(backwards))
    hidden = int(w.about["hidden_size"])
    zero = w.number(0.0)

    def part(name: str, d: int, where: int = 0) -> str:
        """One direction's share of an operand."""
        return w.squeeze(w.slice(name, where, d, d + 1), [where])

    each = [w.squeeze(w.slice(node.input[0], time_axis, t, t + 1), [time_axis]) for t in range(steps)]
    # Whether each image's sequence goes on so far; beyond its end the state stays as it is.
    goes_on = []
    if w.has(4):
        lengths = w.unsqueeze(w.cast_float(node.input[4]), [1])
        goes_on = [w.add("Greater", lengths, w.number(float(t))) for t in range(steps)]
    whole: list[list[str]] = []
    ends_h, ends_c = [], []
    for d, turned in enumerate(backwards):
        weight = w.add("Transpose", part(node.input[1], d), perm=[1, 0])
        recurrent = w.add("Transpose", part(node.input[2], d), perm=[1, 0])
        of_input = of_state = ""
        if w.has(3):
            both = part(node.input[3], d)
            of_input, of_state = (w.slice(both, 0, k * gates * hidden, (k + 1) * gates * hidden) for k in range(2))
        h = part(node.input[5], d, side) if w.has(5) else ""
        c = part(node.input[6], d, side) if node.op_type == "LSTM" and w.has(6) else ""
        looks = part(node.input[7], d) if node.op_type == "LSTM" and w.has(7) else ""
        outputs = [""] * steps
        for t in reversed(range(steps)) if turned else range(steps):
            given = w.add("MatMul", each[t], weight)
            given = w.add("Add", given, of_input) if of_input else given
            new_h, new_c = cell(_Step(w, hidden, given, h, c, recurrent, of_state, looks, through[d]))
            outputs[t] = new_h
            if goes_on:
                outputs[t] = w.add("Where", goes_on[t], new_h, zero)
                new_h = w.add("Where", goes_on[t], new_h, h or zero)
                new_c = w.add("Where", goes_on[t], new_c, c or zero) if new_c else ""
            h, c = new_h, new_c
        whole.append(outputs)
        ends_h.append(h)
        ends_c.append(c)
    if node.output and node.output[0]:
        moments = []
        for t in range(steps):
            sides = [w.unsqueeze(outputs[t], [side]) for outputs in whole]
            joined = w.add("Concat", *sides, axis=side) if len(sides) > 1 else sides[0]
            moments.append(w.unsqueeze(joined, [time_axis]))
        w.add("Concat", *moments, to=node.output[0], axis=time_axis)
    for position, ends in ((1, ends_h), (2, ends_c)):
        if w.asks_for(position):
            w.add("Concat", *(w.unsqueeze(one, [side]) for one in ends), to=node.output[position], axis=side)
