"""The linear head: pooling over all places followed by one linear layer, where a model ends so (Zhou 2016)."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
import onnx
from numpy.typing import NDArray

from mivrat.core.gradients.graph import GraphView, attributes_of
from mivrat.core.models.operators import Trait, has


@dataclass(frozen=True)
class LinearHead:
    """The four-axis tensor that is pooled, and the weights (its channels x score columns) of the layer behind."""

    tensor: str
    weights: NDArray[np.float64]


def linear_head(view: GraphView) -> LinearHead | None:
    """The model's linear head, or None where it ends in another way."""
    name = _behind(view, view.logits, adds=True)
    node = view.producer.get(name)
    weights = _weights(view, node) if node is not None else None
    if node is None or weights is None:
        return None
    pooled = _behind(view, node.input[0])
    pool = view.producer.get(pooled)
    if pool is None or not _pools_all(view, pool):
        return None
    layer = pool.input[0]
    channels = view.shapes[layer][view.channel_axis.get(layer) or 1]
    return LinearHead(layer, weights) if channels == len(weights) else None


def _behind(view: GraphView, name: str, *, adds: bool = False) -> str:
    """Walk back over operators that leave every value as it is; ``adds``: or add a constant."""
    while (node := view.producer.get(name)) is not None:
        if not (has(node.op_type, Trait.KEEPS_VALUES) or (adds and node.op_type == "Add")):
            break
        data = [one for one in node.input if one in view.depends and view.is_float(one)]
        if len(data) != 1:
            break
        name = data[0]
    return name


def _weights(view: GraphView, node: onnx.NodeProto) -> NDArray[np.float64] | None:
    if node.op_type not in ("Gemm", "MatMul", "Conv") or node.input[0] not in view.depends:
        return None
    found, about = view.values.get(node.input[1]), attributes_of(node)
    if found is None:
        return None
    values: NDArray[np.float64] = np.asarray(found, np.float64)
    if node.op_type == "Gemm":
        if about.get("transA"):
            return None
        values = (values.T if about.get("transB") else values) * float(about.get("alpha", 1.0))
    elif node.op_type == "Conv":
        if values.shape[2:] != (1, 1) or about.get("group", 1) != 1:
            return None
        values = values[:, :, 0, 0].T
    return values if values.ndim == 2 else None


def _pools_all(view: GraphView, node: onnx.NodeProto) -> bool:
    """Whether a node is the mean over all places of a four-axis tensor."""
    shape = view.shapes.get(node.input[0], ())
    if len(shape) != 4:
        return False
    places = {1, 2} if view.channel_axis.get(node.input[0]) == 3 else {2, 3}
    about: dict[str, Any] = attributes_of(node)
    if node.op_type == "GlobalAveragePool":
        return True
    if node.op_type == "AveragePool":
        return tuple(about["kernel_shape"]) == tuple(shape[2:]) and not any(about.get("pads", []))
    if node.op_type != "ReduceMean":
        return False
    axes = about.get("axes")
    if axes is None and len(node.input) > 1 and node.input[1] in view.values:
        axes = view.values[node.input[1]].tolist()
    return axes is not None and {int(a) % 4 for a in axes} == places
