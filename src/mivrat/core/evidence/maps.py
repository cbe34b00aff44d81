"""Heatmaps from activations and gradients of a layer, for a batch of prepared images."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from functools import partial
from typing import Any, Literal

import numpy as np
from numpy.typing import NDArray

from mivrat.core.errors import InputError
from mivrat.core.evidence.emit import Value
from mivrat.core.evidence.graph import GraphView
from mivrat.core.evidence.layers import Layer, choose_layer, list_layers
from mivrat.core.evidence.reverse import SEED, build_reverse
from mivrat.core.models.onnx_model import OnnxModel, new_session
from mivrat.core.models.scores import Kind, guess_kind, to_probabilities

Method = Literal["gradient", "elementwise", "signed"]
METHODS: tuple[Method, ...] = ("gradient", "elementwise", "signed")
Map = NDArray[np.float32]
# Probabilities below this count as this, so that ln p keeps a derivative.
SMALLEST = 1e-12


@dataclass(frozen=True)
class Target:
    """Whose evidence is asked for: one class, or ``of`` rather than ``against``."""

    of: int
    against: int | None = None


def combined(activations: Value, gradients: Value, method: Method, channel_axis: int) -> Value:
    """Emit one map per image (n x h x w) from activations and gradients of a layer, its channels on axis 1 or 3.

    ``gradient``: max(0, sum_c w_c A_c) with w_c the mean of G_c over places (Selvaraju 2017); ``elementwise``:
    max(0, sum_c max(0, G_c) A_c) (Jiang 2021); ``signed``: sum_c G_c A_c (Draelos 2020). Not normalised.
    """
    emit = activations.emitter
    if method == "gradient":
        weights = emit.reduce_mean(gradients, [2, 3] if channel_axis == 1 else [1, 2])
    else:
        weights = emit.node("Relu", gradients) if method == "elementwise" else gradients
    out = emit.reduce_sum(weights * activations, [channel_axis], keepdims=False)
    return out if method == "signed" else emit.node("Relu", out)


class HeatmapMaker:
    """Takes heatmaps from one model; reverse passes are built once per choice of layers and kept."""

    def __init__(self, model: OnnxModel) -> None:
        self.model = model
        self.view = GraphView(model)
        self.layers: list[Layer] = list_layers(self.view)
        self._sessions: dict[tuple[Any, ...], tuple[Any, list[str]]] = {}
        self._kind: Kind | None = None

    def layer(self, wanted: str | None) -> Layer:
        """The layer of that name, or the default; InputError where no heatmap can be taken from it."""
        return choose_layer(self.layers, wanted, self.model.path)

    def maps(
        self, batch: NDArray[Any], targets: Sequence[Target], layers: Sequence[Layer], method: Method = "gradient"
    ) -> list[Map]:
        """For each layer, one map per image (n x h x w, float32, not normalised).

        The target is the logit (before softmax or sigmoid); where the model gives probabilities in no such way, ln p.
        """
        return self._run(batch, targets, layers, method)

    def activations_and_gradients(
        self, batch: NDArray[Any], targets: Sequence[Target], layers: Sequence[Layer]
    ) -> list[tuple[NDArray[np.float32], NDArray[np.float32]]]:
        """For each layer, activations A and gradients of each image's target with respect to A, both n x C x h x w."""
        arrays = self._run(batch, targets, layers, None)
        turned = [a.transpose(0, 3, 1, 2) if layers[i // 2].channel_axis == 3 else a for i, a in enumerate(arrays)]
        return list(zip(turned[0::2], turned[1::2], strict=True))

    def _session(self, layers: Sequence[Layer], method: Method | None) -> tuple[Any, list[str]]:
        key = (method, *(layer.tensor for layer in layers))
        if key not in self._sessions:
            combine = None
            if method is not None:
                combine = [partial(combined, method=method, channel_axis=layer.channel_axis) for layer in layers]
            proto, names = build_reverse(self.view, [layer.tensor for layer in layers], combine)
            self._sessions[key] = (new_session(proto.SerializeToString(), self.model.threads, self.model.path), names)
        return self._sessions[key]

    def _run(
        self, batch: NDArray[Any], targets: Sequence[Target], layers: Sequence[Layer], method: Method | None
    ) -> list[NDArray[np.float32]]:
        session, names = self._session(layers, method)
        if self.model.recipe.tensor.dtype == "float16":
            batch = batch.astype(np.float32)
        size = self.model.batch_limit or max(1, len(batch))
        found: list[list[NDArray[np.float32]]] = [[] for _ in names]
        for first in range(0, len(batch), size):
            piece = batch[first : first + size]
            kept = len(piece)
            if self.model.batch_limit and kept < size:
                piece = np.concatenate([piece, np.repeat(piece[-1:], size - kept, axis=0)])
            seed = self._seed(piece, targets[first : first + kept])
            for values, one in zip(found, session.run(names, {self.view.input: piece, SEED: seed}), strict=True):
                values.append(one[:kept])
        return [np.concatenate(values) for values in found]

    def _seed(self, piece: NDArray[Any], targets: Sequence[Target]) -> NDArray[np.float32]:
        """The target's derivative at the logits, image by image (n x columns); zero rows for padding."""
        weights = np.zeros((len(piece), self.model.class_count))
        for row, target in enumerate(targets):
            weights[row, target.of] += 1.0
            if target.against is not None:
                weights[row, target.against] -= 1.0
        if self.view.logits == self.model.output.name and self._score_kind(piece) != "logits":
            p = to_probabilities(self._scores(piece), self._score_kind(piece))
            weights = weights / np.maximum(p, SMALLEST)  # y = ln p, so dy/dp = 1/p
        if self.model.columns == 1:  # the second class goes with the column, the first against it
            weights = weights[:, 1:] - weights[:, :1]
        return weights.astype(np.float32)

    def _scores(self, piece: NDArray[Any]) -> NDArray[np.float32]:
        return self.model.scores(piece.astype(self.model.recipe.tensor.dtype))

    def _score_kind(self, piece: NDArray[Any]) -> Kind:
        """The kind of scores, from the recipe or guessed once."""
        if self._kind is None:
            said = self.model.recipe.scores.kind
            self._kind = guess_kind(self._scores(piece)) if said == "auto" else said
        return self._kind


def target_from_text(text: str, class_index: Any) -> Target | None:
    """A target from its spelling: ``predicted`` (None), a class, or ``A:B`` for A rather than B."""
    if text == "predicted":
        return None
    try:
        return Target(class_index(text))
    except InputError:
        of, colon, against = text.partition(":")
        if not colon:
            raise
        return Target(class_index(of), class_index(against))
