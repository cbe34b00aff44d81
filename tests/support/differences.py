"""Finite differences through ONNX's own reference evaluator in float64: an independent way to a gradient."""

from __future__ import annotations

from typing import Any

import numpy as np
import onnx
from numpy.typing import NDArray
from onnx import AttributeProto, TensorProto, numpy_helper
from onnx.reference import ReferenceEvaluator


def as_double(model: onnx.ModelProto) -> onnx.ModelProto:
    """A copy of a float32 model that computes in float64."""
    out = onnx.ModelProto()
    out.CopyFrom(model)

    def turned(tensor: onnx.TensorProto) -> None:
        if tensor.data_type == TensorProto.FLOAT:
            tensor.CopyFrom(numpy_helper.from_array(numpy_helper.to_array(tensor).astype(np.float64), tensor.name))

    for tensor in out.graph.initializer:
        turned(tensor)
    for node in out.graph.node:
        for attribute in node.attribute:
            if attribute.type == AttributeProto.TENSOR:
                turned(attribute.t)
            elif node.op_type == "Cast" and attribute.name == "to" and attribute.i == TensorProto.FLOAT:
                attribute.i = TensorProto.DOUBLE
        if node.op_type == "ConstantOfShape" and not node.attribute:
            node.attribute.append(onnx.helper.make_attribute("value", numpy_helper.from_array(np.zeros(1))))
    for value in [*out.graph.input, *out.graph.output]:
        if value.type.tensor_type.elem_type == TensorProto.FLOAT:
            value.type.tensor_type.elem_type = TensorProto.DOUBLE
    del out.graph.value_info[:]
    return out


class Probe:
    """Evaluates one tensor of a model as a function of another, in float64."""

    def __init__(self, model: onnx.ModelProto, layer: str, output: str) -> None:
        self.layer, self.output = layer, output
        double = as_double(model)
        del double.graph.output[:]
        double.graph.output.extend([onnx.ValueInfoProto(name=output), onnx.ValueInfoProto(name=layer)])
        self._whole = ReferenceEvaluator(double)
        cut = onnx.ModelProto()
        cut.CopyFrom(double)
        del cut.graph.output[1:]
        for node in cut.graph.node:
            node.output[:] = ["cut away" if name == layer else name for name in node.output]
        cut.graph.input.append(onnx.helper.make_tensor_value_info(layer, TensorProto.DOUBLE, None))
        self._cut = ReferenceEvaluator(cut)

    def at(self, feeds: dict[str, NDArray[Any]]) -> NDArray[np.float64]:
        """The layer's value for some inputs."""
        return np.asarray(self._whole.run([self.layer], feeds)[0], np.float64)

    def __call__(self, feeds: dict[str, NDArray[Any]], layer: NDArray[np.float64]) -> NDArray[np.float64]:
        return np.asarray(self._cut.run([self.output], {**feeds, self.layer: layer})[0], np.float64)

    def worst_error(
        self,
        feeds: dict[str, NDArray[Any]],
        weights: NDArray[np.float64],
        gradient: NDArray[Any],
        *,
        directions: int = 6,
        step: float = 1e-6,
        seed: int = 0,
        only: NDArray[np.bool_] | None = None,
    ) -> float:
        """The largest error of ``gradient`` along random directions, relative to the directional derivatives' size.

        ``gradient`` is claimed to be that of sum(weights * output) with respect to the layer. ``only``: where to go at all.
        """
        rng, here = np.random.default_rng(seed), self.at(feeds)
        errors, sizes = [], []
        for _ in range(directions):
            along = rng.standard_normal(here.shape) * (rng.random(here.shape) < 0.3)
            along = along if only is None else along * only
            ahead, behind = self(feeds, here + step * along), self(feeds, here - step * along)
            true = float(((ahead - behind) * weights).sum() / (2 * step))
            errors.append(abs(true - float((gradient.astype(np.float64) * along).sum())))
            sizes.append(abs(true))
        return max(errors) / max(max(sizes), 1e-9)
