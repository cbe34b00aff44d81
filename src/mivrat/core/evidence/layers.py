"""Lists the tensors a heatmap can be taken from, and says why the others cannot."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

from mivrat.core.errors import InputError
from mivrat.core.evidence.graph import GraphView
from mivrat.core.evidence.reverse import blocked_layers


@dataclass(frozen=True)
class Layer:
    """One tensor on the way from the image to the scores.

    ``shape`` leaves out the first axis (the images); ``reason`` says why no heatmap can be taken from it.
    """

    tensor: str
    op: str
    shape: tuple[int, ...]
    heatmap: bool
    reason: str | None
    default: bool
    channel_axis: int

    @property
    def grid(self) -> tuple[int, int]:
        """Height and width of its heatmap."""
        return (self.shape[0], self.shape[1]) if self.channel_axis == 3 else (self.shape[1], self.shape[2])

    def as_json(self) -> dict[str, object]:
        return {
            "tensor": self.tensor,
            "op": self.op,
            "shape": ["n", *self.shape],
            "heatmap": self.heatmap,
            "reason": self.reason,
            "default": self.default,
        }


def _spatial_problem(view: GraphView, name: str) -> str | None:
    shape, axis = view.shapes[name], view.channel_axis.get(name)
    if not shape or shape[0] != view.batch:
        return "its first axis does not count the images"
    if len(shape) != 4:
        return "it has no height and width"
    if axis is None:
        return "which of its axes are height and width cannot be told"
    height, width = (shape[1], shape[2]) if axis == 3 else (shape[2], shape[3])
    return "it has a single place only" if height * width == 1 else None


def has_places(view: GraphView, name: str) -> bool:
    """Whether a tensor has height and width, so that a map can be laid over the image."""
    return _spatial_problem(view, name) is None


def list_layers(view: GraphView) -> list[Layer]:
    """All float tensors that lead from the image to the logits, in graph order.

    The default is the last one with spatial extent that a heatmap can be taken from (where none can: the last with extent).
    """
    tensors = [
        (node.op_type, name)
        for node in view.nodes
        for name in node.output
        if name in view.depends and name in view.leading and view.is_float(name)
    ]
    problems = {name: _spatial_problem(view, name) for _, name in tensors}
    spatial = [name for _, name in tensors if problems[name] is None]
    for name, operators in blocked_layers(view, spatial).items():
        problems[name] = f"the reverse pass has no rule for {', '.join(operators[:3])}, behind it"
    found = [
        Layer(
            name,
            op,
            view.shapes[name][1:],
            problems[name] is None,
            problems[name],
            False,
            view.channel_axis.get(name) or 1,
        )
        for op, name in tensors
    ]
    usable = [i for i, layer in enumerate(found) if layer.heatmap] or [
        i for i, layer in enumerate(found) if layer.tensor in spatial
    ]
    if usable:
        found[usable[-1]] = replace(found[usable[-1]], default=True)
    return found


def choose_layer(layers: Sequence[Layer], wanted: str | None, where: object) -> Layer:
    """The layer asked for by tensor name, or the default; InputError where it gives no heatmap."""
    if wanted is None:
        layer = next((one for one in layers if one.default), None)
        if layer is None:
            raise InputError(
                "has no layer with height and width to take a heatmap from",
                where=where,
                mend="use a method that needs only answers",
            )
    else:
        layer = next((one for one in layers if one.tensor == wanted), None)
        if layer is None:
            raise InputError(
                f"has no layer '{wanted}' between image and scores", where=where, mend="'mivrat layers' lists them"
            )
    if not layer.heatmap:
        raise InputError(
            f"no heatmap can be taken from '{layer.tensor}': {layer.reason}",
            where=where,
            mend="'mivrat layers' lists the layers that can be used",
        )
    return layer
