"""Builds the reverse pass: one ONNX graph that gives scores, chosen layers and the gradient of a target at them."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, field

import onnx

from mivrat.core.base.errors import InputError
from mivrat.core.gradients.emit import Emitter, Value
from mivrat.core.gradients.graph import GraphView, outer_names
from mivrat.core.gradients.node import NodeBack, NoRule
from mivrat.core.gradients.rules import rule_for

SEED = "mivrat:seed"


@dataclass
class _Trace:
    """What walking back from the logits gave: emitted nodes, gradients by tensor, and the nodes that stopped it."""

    emit: Emitter
    gradients: dict[str, Value]
    extra_outputs: dict[str, list[str]] = field(default_factory=dict)
    stopped_at: list[tuple[onnx.NodeProto, str]] = field(default_factory=list)


def _trace_back(view: GraphView, layers: Sequence[str]) -> _Trace:
    emit = Emitter(view.opset)
    through = view.between(layers)
    trace = _Trace(emit, {})
    parts: dict[str, list[Value]] = {view.logits: [emit.reshape_like(emit.value(SEED), view.logits)]}

    def gathered(name: str) -> Value | None:
        found = parts.get(name)
        if not found:
            return None
        if len(found) > 1:
            found[:] = [emit.node("Sum", *found)]
        return found[0]

    for node in reversed(view.nodes):
        needed = {i for i, name in enumerate(node.input) if name in through}
        gradients = [gathered(name) if name else None for name in node.output]
        if any(gradients) and outer_names(node) & through:
            trace.stopped_at.append((node, f"{node.op_type} whose branches depend on the image"))
            continue
        if not needed or not any(gradients):
            continue
        try:
            found = rule_for(node)(NodeBack(view, emit, node, gradients, needed, trace.extra_outputs))
        except NoRule as missing:
            trace.stopped_at.append((node, str(missing)))
            continue
        for i, value in (found if isinstance(found, dict) else {0: found}).items():
            if i in needed:
                parts.setdefault(node.input[i], []).append(value)
    for layer in layers:
        if (gradient := gathered(layer)) is not None:
            trace.gradients[layer] = gradient
    return trace


def blocked_layers(view: GraphView, layers: Sequence[str]) -> dict[str, list[str]]:
    """For each layer that no full gradient reaches, what stands in the way: operators and where they are."""
    stopped_at = _trace_back(view, layers).stopped_at
    blocked: dict[str, list[str]] = {}
    for layer in layers:
        through = view.between([layer]) if stopped_at else set()
        # Walking back, the nodes in front of a stopping one were never tried: what is named is what was met first.
        found = [
            f"{what} ({node.name or node.output[0]})"
            for node, what in stopped_at
            if any(name in through and name != layer for name in node.output)
        ]
        if found:
            blocked[layer] = found
    return blocked


Combine = Callable[[Value, Value], Value]


def build_reverse(
    view: GraphView, layers: Sequence[str], combine: Sequence[Combine] | None = None, images: int | None = None
) -> tuple[onnx.ModelProto, list[str]]:
    """The model extended by its reverse pass from the logits to ``layers``.

    It takes the image batch and SEED (the gradient of the target at the logits, images x columns). Its outputs, named
    in the list returned with it, are for each layer its activations and their gradient; with ``combine`` (one for each
    layer, taking those two) what that makes of them, so that large tensors need not leave the runtime. It is for batches of
    ``images``, else of as many as the view was made with: all shapes are settled so. Gradients of different images do not mix,
    since a classifier's images do not. Raises InputError naming the operators in the way.
    """
    view = view.for_images(images or view.batch)
    trace = _trace_back(view, layers)
    if trace.stopped_at:
        node, what = trace.stopped_at[0]
        behind = [layer for layer in layers if set(node.output) & (view.between([layer]) - {layer})]
        raise InputError(
            f"the reverse pass has no rule for {what} at node '{node.name or node.output[0]}'; it blocks {', '.join(behind[:6])}",
            where=view.where,
            hint="choose a layer behind it ('mivrat layers' lists which can be used)",
        )
    for layer in layers:
        if layer not in trace.gradients:
            raise InputError(
                f"the scores do not depend on '{layer}'",
                where=view.where,
                hint="choose a layer that 'mivrat layers' lists",
            )
    names: list[str] = []
    for i, layer in enumerate(layers):
        gradient = trace.gradients[layer]
        if combine is None:
            names += [layer, gradient.name]
        else:
            names.append(combine[i](trace.emit.value(layer), gradient).name)
    proto = onnx.ModelProto()
    proto.CopyFrom(view.proto)
    for node in proto.graph.node:
        asked = trace.extra_outputs.get(node.output[0]) if node.output else None
        if asked and asked[0] not in node.output:
            del node.output[1:]
            node.output.append(asked[0])
    proto.graph.node.extend(trace.emit.nodes)
    proto.graph.initializer.extend(trace.emit.constants)
    seed = onnx.helper.make_tensor_value_info(SEED, onnx.TensorProto.FLOAT, ["mivrat_images", "mivrat_scores"])
    proto.graph.input.append(seed)
    for given in proto.graph.input:
        if given.name in (SEED, view.input) and given.type.tensor_type.shape.dim:
            given.type.tensor_type.shape.dim[0].dim_value = view.batch
    del proto.graph.output[:]
    proto.graph.output.extend(onnx.ValueInfoProto(name=name) for name in dict.fromkeys(names))
    return proto, names
