"""Heatmaps from activations and gradients of a layer, for a batch of prepared images."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any, Literal

import numpy as np
from numpy.typing import NDArray

from mivrat.core.errors import InputError
from mivrat.core.evidence.graph import GraphView
from mivrat.core.evidence.layers import Layer, choose_layer, list_layers
from mivrat.core.evidence.reverse import SEED, build_reverse
from mivrat.core.models.onnx_model import OnnxModel, new_session
from mivrat.core.models.scores import guess_kind, to_probabilities

Method = Literal["gradient", "elementwise", "signed"]
METHODS: tuple[Method, ...] = ("gradient", "elementwise", "signed")
Map = NDArray[np.float32]


@dataclass(frozen=True)
class Target:
    """Whose evidence is asked for: one class, or ``of`` rather than ``against``."""

    of: int
    against: int | None = None


def combine(activations: NDArray[Any], gradients: NDArray[Any], method: Method) -> Map:
    """One map per image (n x h x w) from activations and gradients (both n x C x h x w).

    ``gradient``: max(0, sum_c w_c A_c) with w_c the mean of G_c over places (Selvaraju 2017); ``elementwise``:
    max(0, sum_c max(0, G_c) A_c) (Jiang 2021); ``signed``: sum_c G_c A_c (Draelos 2020). Not normalised.
    """
    a, g = activations.astype(np.float64), gradients.astype(np.float64)
    if method == "gradient":
        out = np.einsum("nc,nchw->nhw", g.mean(axis=(2, 3)), a)
    elif method == "elementwise":
        out = np.einsum("nchw,nchw->nhw", np.maximum(g, 0.0), a)
    else:
        out = np.einsum("nchw,nchw->nhw", g, a)
    return (out if method == "signed" else np.maximum(out, 0.0)).astype(np.float32)


class HeatmapMaker:
    """Takes heatmaps from one model; reverse passes are built once per choice of layers and kept."""

    def __init__(self, model: OnnxModel) -> None:
        self.model = model
        self.view = GraphView(model)
        self.layers: list[Layer] = list_layers(self.view)
        self._sessions: dict[tuple[str, ...], tuple[Any, list[str]]] = {}

    def layer(self, wanted: str | None) -> Layer:
        return choose_layer(self.layers, wanted, self.model.path)

    def _session(self, layers: tuple[str, ...]) -> tuple[Any, list[str]]:
        if layers not in self._sessions:
            proto, gradients = build_reverse(self.view, layers)
            self._sessions[layers] = (
                new_session(proto.SerializeToString(), self.model.threads, self.model.path),
                gradients,
            )
        return self._sessions[layers]

    def activations_and_gradients(
        self,
        batch: NDArray[Any],
        targets: Sequence[Target],
        layers: Sequence[Layer],
    ) -> list[tuple[NDArray[np.float32], NDArray[np.float32]]]:
        """For each layer, activations A and gradients of each image's target with respect to A, both n x C x h x w.

        The target is the logit (before softmax or sigmoid); where the model gives probabilities in no such way, ln p.
        """
        session, names = self._session(tuple(layer.tensor for layer in layers))
        if self.model.recipe.tensor.dtype == "float16":
            batch = batch.astype(np.float32)
        size = self.model.batch_limit or len(batch)
        found: list[list[Any]] = [[] for _ in range(2 * len(layers))]
        for first in range(0, len(batch), size):
            piece = batch[first : first + size]
            kept = len(piece)
            if self.model.batch_limit and kept < size:
                piece = np.concatenate([piece, np.repeat(piece[-1:], size - kept, axis=0)])
            seed = self._seed(piece, targets[first : first + kept])
            wanted = [name for layer, gradient in zip(layers, names, strict=True) for name in (layer.tensor, gradient)]
            for values, one in zip(found, session.run(wanted, {self.view.input: piece, SEED: seed}), strict=True):
                values.append(one[:kept])
        arrays = [np.concatenate(values) for values in found]
        arrays = [a.transpose(0, 3, 1, 2) if layers[i // 2].channel_axis == 3 else a for i, a in enumerate(arrays)]
        return list(zip(arrays[0::2], arrays[1::2], strict=True))

    def maps(
        self, batch: NDArray[Any], targets: Sequence[Target], layers: Sequence[Layer], method: Method = "gradient"
    ) -> list[Map]:
        """For each layer, one map per image (n x h x w, float32, not normalised)."""
        return [combine(a, g, method) for a, g in self.activations_and_gradients(batch, targets, layers)]

    def _seed(self, piece: NDArray[Any], targets: Sequence[Target]) -> NDArray[np.float32]:
        """The target's derivative at the logits, image by image (n x columns); zero rows for padding."""
        columns = self.model.columns
        weights = np.zeros((len(piece), self.model.class_count))
        for row, target in enumerate(targets):
            weights[row, target.of] += 1.0
            if target.against is not None:
                weights[row, target.against] -= 1.0
        kind = self.model.recipe.scores.kind
        before_softmax = self.view.logits != self.model.output.name
        if not before_softmax and kind != "logits":
            rows = self.model.scores(piece if self.model.recipe.tensor.dtype != "float16" else piece.astype(np.float16))
            kind = guess_kind(rows) if kind == "auto" else kind
            if kind != "logits":  # y = ln p, so dy/dp = 1/p
                weights = weights / np.maximum(to_probabilities(rows, kind), 1e-12)
        if columns == 1:  # the second class goes with the column, the first against it
            return (weights[:, 1:] - weights[:, :1]).astype(np.float32)
        return weights.astype(np.float32)


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
