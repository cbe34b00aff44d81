"""The first layer's filters as pictures: what the network looks for before anything else."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from mivrat.core.gradients.graph import GraphView
from mivrat.core.models.operators import Trait, has
from mivrat.core.pictures.decode import Pixels


def first_filters(view: GraphView) -> tuple[str, NDArray[np.float32]] | str:
    """The first convolution's output and its weights (filters x channels x height x width); or why there are none to see."""
    for node in view.nodes:
        data = [name for name in node.input if name in view.depends]
        if node.op_type == "Conv" and data:
            weights = view.values.get(node.input[1])
            if weights is None or weights.ndim != 4:
                return "the first convolution's weights are not fixed numbers over two axes"
            if weights.shape[1] not in (1, 3):
                return f"the first convolution looks at {weights.shape[1]} channels, which make no picture"
            if weights.shape[2] * weights.shape[3] == 1:
                return "the first convolution's filters are single points"
            return node.output[0], weights.astype(np.float32)
        if data and not has(node.op_type, Trait.PREPARES) and view.is_float(node.output[0]):
            return f"the network begins with {node.op_type}, not with a convolution"
    return "the network has no convolution"


def as_pictures(weights: NDArray[np.float32], mode: str = "RGB") -> list[Pixels]:
    """Each filter as height x width x 3 pixels: grey is 0, all on one scale, so that strong filters look strong."""
    most = float(np.abs(weights).max(initial=0.0)) or 1.0
    grey = np.round(127.5 + 127.5 * weights / most).astype(np.uint8).transpose(0, 2, 3, 1)
    if grey.shape[3] == 1:
        grey = np.repeat(grey, 3, axis=3)
    return list(grey[..., ::-1] if mode == "BGR" else grey)
