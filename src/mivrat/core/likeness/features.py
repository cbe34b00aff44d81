"""A model's last features of images: the tensor that its head, the last layer of weights, turns into scores."""

from __future__ import annotations

from typing import Any

import numpy as np
import onnx
from numpy.typing import NDArray

from mivrat.core.gradients.graph import GraphView
from mivrat.core.models.engine import new_session, run_session
from mivrat.core.models.onnx_model import PIXELS_AT_ONCE, OnnxModel, in_pieces
from mivrat.core.models.operators import Trait, has

Vectors = NDArray[np.float32]

_HEADS = {"Gemm", "MatMul", "Conv"}


def feature_tensor(view: GraphView) -> str:
    """The tensor before the head, found by walking back from the scores; the logits themselves where there is none."""
    name = view.logits
    while (node := view.producer.get(name)) is not None:
        data = [one for one in node.input if one in view.depends and view.is_float(one)]
        if node.op_type in _HEADS and len(data) == 1:
            return data[0]
        if not has(node.op_type, Trait.AFTER_HEAD) or len(data) != 1:
            break
        name = data[0]
    return view.logits


def unit(vectors: NDArray[np.floating]) -> Vectors:
    """Rows divided by their length, so that a product of two is their cosine; a row of zeros stays one."""
    lengths = np.linalg.norm(vectors, axis=1, keepdims=True)
    return (vectors / np.where(lengths > 0, lengths, 1.0)).astype(np.float32)


class FeatureModel:
    """A model that answers its last features, as unit vectors, instead of its scores; maps are averaged over places."""

    def __init__(self, model: OnnxModel) -> None:
        self.model, self.recipe, self.path = model, model.recipe, model.path
        view = GraphView(model)
        self.tensor = feature_tensor(view)
        self._channels = view.channel_axis.get(self.tensor)
        proto = onnx.ModelProto()
        proto.CopyFrom(view.proto)
        del proto.graph.output[:]
        proto.graph.output.append(onnx.helper.make_tensor_value_info(self.tensor, onnx.TensorProto.FLOAT, None))
        self._session, self._input = new_session(proto.SerializeToString(), model.threads, model.path), view.input
        dtype = "float32" if self.recipe.tensor.dtype == "float16" else self.recipe.tensor.dtype
        self._dtype = np.dtype(dtype)
        self.columns = self.scores(np.zeros(model.sample_shape(1), self._dtype)).shape[1]

    def misfit(self, shape: tuple[int, ...]) -> str:
        """As the model's own."""
        return self.model.misfit(shape)

    def scores(self, batch: NDArray[Any]) -> Vectors:
        """Features (images x features) of prepared images."""
        size = max(1, PIXELS_AT_ONCE // (batch[0].size // self.recipe.channels))
        pieces = in_pieces(batch.astype(self._dtype, copy=False), size, self.model.batch_limit)
        found = [
            self._flat(run_session(self._session, [self.tensor], {self._input: piece})[0][:kept])
            for piece, kept in pieces
        ]
        return unit(np.concatenate(found))

    def _flat(self, features: NDArray[np.float32]) -> NDArray[np.float32]:
        if features.ndim == 4:
            return features.mean(axis=(1, 2) if self._channels == 3 else (2, 3))
        return features.mean(axis=1) if features.ndim == 3 else features.reshape(len(features), -1)
