"""Writes graphs of old versions of the operator set as ones of version 9, the first that has all a reverse pass is written with."""

from __future__ import annotations

import numpy as np
import onnx
from onnx import numpy_helper

FIRST = 9
# What means something else in version 9 and is not known here in the older sense.
_OTHERWISE = {"Scan"}


def lift(model: onnx.ModelProto) -> bool:
    """Write a model of version 7 or 8 as one of version 9, in place; whether it was one that can be. Between these only Upsample and
    BatchNormalization changed how they are written."""
    ours = [one for one in model.opset_import if one.domain in ("", "ai.onnx")]
    nodes = model.graph.node
    if not ours or not 7 <= ours[0].version < FIRST or any(node.op_type in _OTHERWISE for node in nodes):
        return False
    for i, node in enumerate(nodes):
        kept = list(node.attribute)
        if node.op_type == "Upsample":
            (scales,) = (one for one in kept if one.name == "scales")
            name = f"mivrat/scales/{i}"
            model.graph.initializer.append(numpy_helper.from_array(np.array(scales.floats, np.float32), name))
            node.input.append(name)
            kept.remove(scales)
        elif node.op_type == "BatchNormalization":
            kept = [one for one in kept if one.name != "spatial"]
        if len(kept) < len(node.attribute):
            del node.attribute[:]
            node.attribute.extend(kept)
    ours[0].version = FIRST
    return True
