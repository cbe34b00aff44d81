"""One forward node on the way back, as a rule of the derivative table sees it."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, field
from typing import Any

import onnx
from numpy.typing import NDArray

from mivrat.core.gradients.emit import Emitter, Value
from mivrat.core.gradients.graph import GraphView, attributes_of


class NoRule(Exception):
    """An operator, or this use of it, that the reverse pass cannot differentiate; the message says which."""


@dataclass
class NodeBack:
    """One forward node on the way back."""

    view: GraphView
    emit: Emitter
    node: onnx.NodeProto
    gradients: list[Value | None]
    needed: set[int]
    extra_outputs: dict[str, list[str]]
    attributes: dict[str, Any] = field(init=False)

    def __post_init__(self) -> None:
        self.attributes = attributes_of(self.node)

    @property
    def g(self) -> Value:
        """The gradient of the first output."""
        if self.gradients[0] is None:
            raise NoRule(f"{self.node.op_type}: only a further output is used")
        return self.gradients[0]

    @property
    def x(self) -> Value:
        return self.emit.value(self.node.input[0])

    @property
    def y(self) -> Value:
        return self.emit.value(self.node.output[0])

    def shape(self, position: int) -> tuple[int, ...]:
        return self.view.shapes[self.node.input[position]]

    @property
    def out_shape(self) -> tuple[int, ...]:
        return self.view.shapes[self.node.output[0]]

    def has(self, position: int) -> bool:
        return position < len(self.node.input) and bool(self.node.input[position])

    def constant(self, position: int) -> NDArray[Any] | None:
        """The value of an input that does not depend on the image, or None."""
        return self.view.values.get(self.node.input[position]) if self.has(position) else None

    def only_first(self) -> None:
        if self.needed - {0}:
            raise NoRule(f"{self.node.op_type} with an image-dependent {_NAMES.get(self.node.op_type, 'second input')}")

    def only_within_images(self, axes: Sequence[int]) -> None:
        """Raises NoRule where the images of a batch lie along one of some axes of the first input: each would change the others."""
        if self.view.image_axes(self.node.input[0]) & set(axes):
            raise NoRule(f"{self.node.op_type} over the images of a batch")

    def axes(self, rank: int) -> list[int]:
        """Reduction axes from the attribute or the second input; all where neither is given."""
        given = self.attributes.get("axes")
        if given is None and self.has(1):
            found = self.constant(1)
            if found is None:
                raise NoRule(f"{self.node.op_type} over axes that depend on the image")
            given = found.tolist()
        if not given:
            return [] if self.attributes.get("noop_with_empty_axes") else list(range(rank))
        return sorted(int(a) % rank for a in given)


_NAMES = {"Conv": "kernel", "BatchNormalization": "scale", "Clip": "bound"}
Gradients = Value | dict[int, Value]
Rule = Callable[[NodeBack], Gradients]


def distribution_axes(s: NodeBack) -> list[int]:
    """The axes over which a Softmax or LogSoftmax makes one distribution."""
    rank = len(s.out_shape)
    if s.view.opset >= 13:
        return [s.attributes.get("axis", -1) % rank]
    return list(range(s.attributes.get("axis", 1) % rank, rank))  # before version 13 everything from the axis on


def settled(s: NodeBack, name: str, position: int) -> list[int] | None:
    """Whole numbers given as an attribute or as an input, None where not given; NoRule where they depend on the image."""
    if name in s.attributes:
        return list(s.attributes[name])
    if not s.has(position):
        return None
    found = s.constant(position)
    if found is None:
        raise NoRule(f"{s.node.op_type} with {name} that depend on the image")
    return [int(v) for v in found.ravel()]
