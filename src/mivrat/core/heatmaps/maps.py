"""Heatmaps of a batch of prepared images: from activations and gradients of a layer, or from answers alone."""

from __future__ import annotations

import itertools
import logging
import weakref
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass
from functools import lru_cache, partial
from typing import Any, cast

import numpy as np
import onnx
from numpy.typing import NDArray

from mivrat.core.base.errors import InputError
from mivrat.core.base.job import Stopped, current_stop
from mivrat.core.base.log import log_path
from mivrat.core.gradients.graph import GraphView
from mivrat.core.gradients.layers import Layer, choose_layer, find_layer, list_layers, short_name
from mivrat.core.gradients.linear_head import linear_head
from mivrat.core.gradients.reverse import SEED, build_reverse
from mivrat.core.heatmaps.answers_only import class_activation, occlusion, random_masks, score_weighted
from mivrat.core.heatmaps.emitted import convolution_of, emit_map
from mivrat.core.heatmaps.methods import BY_GRADIENT, WITHOUT_LAYER, Method
from mivrat.core.models.engine import EngineFault, RecentSessions, new_session, run_session
from mivrat.core.models.model import Model
from mivrat.core.models.onnx_model import PIXELS_AT_ONCE, OnnxModel, in_pieces
from mivrat.core.models.scores import Kind, guess_kind, ranking_scores, to_probabilities

log = logging.getLogger(__name__)

Map = NDArray[np.float32]
# So many sessions are kept for all makers together: a set-up used again is there, and memory and threads stay within bounds.
_SESSIONS, _NUMBERS = RecentSessions(10), itertools.count()
# Makers are kept for so many other sizes of images.
MOST_SIZES = 8
# Probabilities below this count as this, so that ln p keeps a derivative.
SMALLEST = 1e-12


@dataclass(frozen=True)
class Target:
    """Whose evidence is asked for: one class, or ``of`` rather than ``against``."""

    of: int
    against: int | None = None


def _sizes(images: int, most: int) -> Iterator[int]:
    """The sizes of the pieces that so many images go in: powers of two, so that few sessions do for batches of any size."""
    most = 1 << (most.bit_length() - 1)
    while images > 0:
        size = min(most, 1 << (images - 1).bit_length())
        yield size
        images -= size


class MapMaker:
    """Takes maps from the answers of a model alone: it need not be known what is inside it.

    ``layers`` are those a map can be taken from: here none.
    """

    def __init__(self, model: Model, kind: Kind | None = None) -> None:
        """``kind`` is that of the scores where a run has told it."""
        self.model: Model = model
        self.layers: list[Layer] = []
        self._kind: Kind | None = kind
        # Told after each batch of such a method how many answers have come.
        self.answered: Callable[[int], object] = lambda number: None

    def layer(self, wanted: str | None) -> Layer:
        """The layer of that name, or the default; InputError where no heatmap can be taken from it."""
        raise InputError(
            self.model.kind.lacks("Layers and gradients need"),
            where=self.model.path,
            hint="occlusion and random masks need answers alone",
        )

    def layer_for(self, method: Method, wanted: str | None) -> Layer | None:
        """The layer a method takes its map from, None for one that needs none; InputError where there is no such layer."""
        return None if method in WITHOUT_LAYER else self.layer(wanted)

    def maps(
        self,
        batch: NDArray[Any],
        targets: Sequence[Target],
        layers: Sequence[Layer],
        method: Method = "occlusion",
        seed: int = 0,
    ) -> list[Map]:
        """For each layer, one map per image (n x h x w, float32, not normalised); one list for methods without a layer. Raises InputError
        where the method needs a layer and there is none, or the model fails."""
        if method not in WITHOUT_LAYER:
            self.layer(None)
        return [np.stack([self._hidden(one, target, method, seed) for one, target in zip(batch, targets, strict=True)])]

    def laid_maps(
        self,
        batch: NDArray[Any],
        targets: Sequence[Target],
        layers: Sequence[Layer],
        method: Method = "gradient",
        seed: int = 0,
    ) -> list[Map]:
        """As ``maps``, but each map is one of the whole image, upright, whatever part of it the layer looks at and in what order."""
        found = self.maps(batch, targets, layers, method, seed)
        if method in WITHOUT_LAYER or not layers:
            return found
        named = self.layers_for(batch, layers)
        return [layer.placement.laid(one) for layer, one in zip(named, found, strict=True)]

    def layers_for(self, batch: NDArray[Any], layers: Sequence[Layer]) -> Sequence[Layer]:
        """The layers as they are for images of this size."""
        return layers

    @property
    def kind(self) -> Kind | None:
        """The kind of scores, once it is known."""
        return self._kind

    @property
    def by_probability(self) -> bool:
        """Whether the target is ln p, since the scores come out of no softmax or sigmoid that could be left out."""
        return False

    @property
    def remark(self) -> str:
        """What is to be said of how gradients are taken; empty where there is nothing."""
        return ""

    @property
    def channels_last(self) -> bool:
        return self.model.recipe.tensor.order == "NHWC"

    def _hidden(self, picture: NDArray[Any], target: Target, method: Method, seed: int) -> Map:
        answer = partial(self.answers, target, of_logits=False)
        if method == "occlusion":
            return occlusion(picture, answer, self.channels_last)
        assert method == "masks", f"{method} takes more than answers"
        return random_masks(picture, answer, self.channels_last, seed)

    def answers(self, target: Target, batch: NDArray[Any], *, of_logits: bool = False) -> NDArray[np.float64]:
        """How much a target is answered for, image by image: as logit (from probabilities, ln p), or as probability."""
        if current_stop().stopped:
            raise Stopped
        rows, kind = self._scores(batch), self._score_kind(batch)
        self.answered(len(batch))
        values = to_probabilities(rows, kind)
        if of_logits:
            values = (
                rows.astype(np.float64)
                if kind == "logits" and rows.shape[1] > 1
                else np.log(np.maximum(values, SMALLEST))
            )
        out: NDArray[np.float64] = values[:, target.of]
        return out if target.against is None else out - values[:, target.against]

    def _scores(self, piece: NDArray[Any]) -> NDArray[np.float32]:
        return self.model.scores(piece.astype(self.model.recipe.tensor.dtype, copy=False))

    def probabilities(self, batch: NDArray[Any]) -> NDArray[np.float64]:
        """Probabilities (images x classes) for prepared images."""
        return to_probabilities(self._scores(batch), self._score_kind(batch))

    def ranked(self, batch: NDArray[Any]) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
        """Probabilities for prepared images, and the scores that classes are ranked by (both images x classes)."""
        rows, kind = self._scores(batch), self._score_kind(batch)
        return to_probabilities(rows, kind), ranking_scores(rows, kind)

    def called(self, rows: NDArray[np.float32]) -> NDArray[np.int64]:
        """The classes that rows of raw scores call."""
        kind = self._kind or (
            guess_kind(rows) if self.model.recipe.scores.kind == "auto" else self.model.recipe.scores.kind
        )
        found: NDArray[np.int64] = ranking_scores(rows, kind).argmax(axis=1)
        return found

    def _score_kind(self, piece: NDArray[Any]) -> Kind:
        """The kind of scores, from the recipe or guessed once."""
        if self._kind is None:
            said = self.model.recipe.scores.kind
            self._kind = guess_kind(self._scores(piece)) if said == "auto" else said
        return self._kind


class HeatmapMaker(MapMaker):
    """Takes heatmaps from the graph of one model too; reverse passes are built once per choice of layers and kept."""

    def __init__(self, model: OnnxModel, kind: Kind | None = None, sides: tuple[int, int] | None = None) -> None:
        """``kind`` is that of the scores where a run has told it; ``sides`` are height and width of the images where the
        model leaves them free and the recipe does too: derivatives are worked out for one size."""
        super().__init__(model, kind)
        self.model: OnnxModel = model
        self.view = GraphView(model, sides)
        self.layers = list_layers(self.view)
        self._number = next(_NUMBERS)
        weakref.finalize(self, _SESSIONS.forget, self._number)
        self._head = linear_head(self.view)
        # Makers for images of other sizes, the one used last at the end.
        self._others: dict[tuple[int, ...], HeatmapMaker] = {}

    @property
    def remark(self) -> str:
        """What is to be said of how gradients are taken; empty where there is nothing."""
        return "quantised: gradients are passed straight through the rounding" if self.view.quantised else ""

    def _for(self, batch: NDArray[Any]) -> HeatmapMaker:
        """The maker for images of this size."""
        shape = batch.shape[1:]
        if not len(batch) or shape == self.view.shapes[self.view.input][1:]:
            return self
        made = self._others.pop(shape, None)
        if made is None:
            height, width = shape[self.model.sides]
            made = HeatmapMaker(self.model, self._kind, (height, width))
            while len(self._others) >= MOST_SIZES:
                self._others.pop(next(iter(self._others)))
        self._others[shape] = made
        return made

    def layers_for(self, batch: NDArray[Any], layers: Sequence[Layer]) -> Sequence[Layer]:
        """The layers as they are for images of this size."""
        maker = self._for(batch)
        if maker is self:
            return layers
        by_name = {one.tensor: one for one in maker.layers}
        return [by_name.get(one.tensor, one) for one in layers]

    def layer(self, wanted: str | None) -> Layer:
        """The layer of that name, or the default; InputError where no heatmap can be taken from it."""
        return choose_layer(self.layers, wanted, self.model.path)

    def layer_for(self, method: Method, wanted: str | None) -> Layer | None:
        """The layer a method takes its map from, None for one that needs none; InputError where there is no such layer."""
        if method in WITHOUT_LAYER:
            return None
        if method in BY_GRADIENT:
            return self.layer(wanted)
        if method == "score":  # no gradient has to reach it
            if wanted is None:
                spatial = [one for one in self.layers if one.has_places]
                named = next((one for one in spatial if one.default), spatial[-1] if spatial else None)
            else:
                named = find_layer(self.layers, wanted, self.model.path)
            return named if named is not None and named.has_places else self.layer(wanted)
        if self._head is None:
            raise InputError(
                "does not end in a mean over all places and one linear layer, which an activation map needs",
                where=self.model.path,
                hint="use another method",
            )
        if wanted is not None and short_name(wanted) != short_name(self._head.tensor):
            raise InputError(
                f"an activation map is of the layer before pooling, '{self._head.tensor}'",
                where=wanted,
                hint="leave the layer out, or use another method",
            )
        return next(one for one in self.layers if one.tensor == self._head.tensor)

    def maps(
        self,
        batch: NDArray[Any],
        targets: Sequence[Target],
        layers: Sequence[Layer],
        method: Method = "gradient",
        seed: int = 0,
    ) -> list[Map]:
        """For each layer, one map per image (n x h x w, float32, not normalised); one list for methods without a layer.

        The target is the logit (before softmax or sigmoid); where the model gives probabilities in no such way, ln p.
        Occlusion and random masks (``seed``) go by the target's probability. InputError where the engine fails.
        """
        maker = self._for(batch)
        if maker is not self:
            named = [one for one in (maker.layer_for(method, layer.tensor) for layer in layers) if one is not None]
            return maker.maps(batch, targets, named, method, seed)
        if method in BY_GRADIENT:
            return self._run(batch, targets, layers, method)
        if method in WITHOUT_LAYER:
            return super().maps(batch, targets, layers, method, seed)
        found = []
        for layer in layers:
            activations = self.activations(batch, layer)
            if method == "score":
                each = [
                    score_weighted(one, maps, partial(self.answers, target, of_logits=True), self.channels_last)
                    for one, maps, target in zip(batch, activations, targets, strict=True)
                ]
                found.append(np.stack(each))
            else:
                assert self._head is not None
                weights = self._seed(batch, targets).astype(np.float64) @ self._head.weights.T
                found.append(class_activation(activations, weights))
        return found

    @property
    def by_probability(self) -> bool:
        """Whether the target is ln p, since the scores come out of no softmax or sigmoid that could be left out."""
        return self.view.logits == self.model.output.name and self._kind not in (None, "logits")

    def activations(self, batch: NDArray[Any], layer: Layer) -> NDArray[np.float32]:
        """A layer's activations, images x channels x h x w."""
        maker = self._for(batch)
        if maker is not self:
            return maker.activations(batch, maker.layer(layer.tensor))

        def make() -> tuple[Any, list[str]]:
            proto = onnx.ModelProto()
            proto.CopyFrom(self.view.proto)
            del proto.graph.output[:]
            proto.graph.output.append(onnx.ValueInfoProto(name=layer.tensor))
            return new_session(proto.SerializeToString(), self.model.threads, self.model.path), [layer.tensor]

        session, names = _SESSIONS.get((self._number, "activations", layer.tensor), make)
        if self.model.recipe.tensor.dtype == "float16":
            batch = batch.astype(np.float32)
        return np.concatenate(
            [
                layer.channels_first(self._asked(session, names, {self.view.input: piece})[0])[:kept]
                for piece, kept in in_pieces(batch, max(1, len(batch)), self.model.batch_limit)
            ]
        )

    def activations_and_gradients(
        self, batch: NDArray[Any], targets: Sequence[Target], layers: Sequence[Layer]
    ) -> list[tuple[NDArray[np.float32], NDArray[np.float32]]]:
        """For each layer, activations A and gradients of each image's target with respect to A, both n x C x h x w."""
        maker = self._for(batch)
        if maker is not self:
            return maker.activations_and_gradients(batch, targets, [maker.layer(layer.tensor) for layer in layers])
        laid = [layer.channels_first for layer in layers for _ in range(2)]
        arrays = self._run(batch, targets, layers, None, laid)
        return list(zip(arrays[0::2], arrays[1::2], strict=True))

    def _session(self, layers: Sequence[Layer], method: Method | None, images: int) -> tuple[Any, list[str]]:
        """The reverse pass for pieces of so many images, and the names of its outputs."""

        def make() -> tuple[Any, list[str]]:
            combine = None
            if method is not None:
                combine = [
                    partial(emit_map, method=method, layer=layer, made_from=convolution_of(self.view, layer))
                    for layer in layers
                ]
            proto, names = build_reverse(self.view, [layer.tensor for layer in layers], combine, images)
            return new_session(proto.SerializeToString(), self.model.threads, self.model.path), names

        return _SESSIONS.get((self._number, method, images, *(layer.tensor for layer in layers)), make)

    def _run(
        self,
        batch: NDArray[Any],
        targets: Sequence[Target],
        layers: Sequence[Layer],
        method: Method | None,
        laid: Sequence[Callable[[NDArray[Any]], NDArray[Any]]] | None = None,
    ) -> list[NDArray[np.float32]]:
        """What the reverse pass gives for a batch, piece by piece; ``laid`` brings each output's images to the first axis."""
        if self.model.recipe.tensor.dtype == "float16":
            batch = batch.astype(np.float32)
        # As with scores: what lies between the layers stays near the processor, and memory is bounded.
        at_once = max(1, PIXELS_AT_ONCE // (batch[0].size // self.model.recipe.channels)) if len(batch) else 1
        found: list[list[NDArray[np.float32]]] = []
        first = 0
        limit = self.model.batch_limit
        for size in itertools.repeat(limit, -(-len(batch) // limit)) if limit else _sizes(len(batch), at_once):
            session, names = self._session(layers, method, size)
            piece, kept = next(in_pieces(batch[first:], size, size))
            seed = self._seed(piece, targets[first : first + kept])
            given = self._asked(session, names, {self.view.input: piece, SEED: seed})
            turned = [turn(one) for turn, one in zip(laid, given, strict=True)] if laid is not None else given
            found.append([one[:kept] for one in turned])
            first += kept
        return [np.concatenate(values) for values in zip(*found, strict=True)]

    def _asked(self, session: Any, names: list[str], given: dict[str, NDArray[Any]]) -> list[NDArray[np.float32]]:
        """Run the engine; InputError, in one sentence, where it fails."""
        try:
            return run_session(session, names, given)
        except EngineFault as error:
            log.exception("the engine failed at a map")
            raise InputError(
                "the engine cannot compute this map for this model",
                where=self.model.path,
                hint=f"occlusion and random masks need its answers alone; the engine's reason is in the log, {log_path()}",
            ) from error

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


# Above this probability hiding little of an image changes next to nothing.
SATURATED = 0.9999


def shortcomings(heat: Map, method: Method, p: float, by_probability: bool = False) -> list[str]:
    """What has to be said beside a map for a target of probability p, in sentences; nothing where all is well. ``heat`` is h ×
    w."""
    found = []
    if not np.abs(heat).max(initial=0.0) > 0:
        found.append("The map is all zero: no evidence for the target at this layer.")
    if p > SATURATED and (method in WITHOUT_LAYER or (method in BY_GRADIENT and by_probability)):
        found.append(
            f"The answer is saturated (p = {p:.5f}): small changes hardly move it, so differences in this map mean little."
        )
    return found


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


def maker_of(model: Model, kind: Kind | None = None) -> MapMaker:
    """What takes maps from a model, as far as it can tell of itself. Raises InputError for one that answers for no new image."""
    if model.kind.can.gradients:
        return HeatmapMaker(cast("OnnxModel", model), kind)
    if not model.kind.can.scores:
        raise InputError(model.kind.lacks("Heatmaps need"), where=model.path)
    return MapMaker(model, kind)


def kept_maker_of(model: Model, kind: Kind | None) -> MapMaker:
    """As ``maker_of``; those made last for models that are still loaded are kept."""
    return cast("MapMaker", _kept(model, kind))


_kept: Callable[..., object] = lru_cache(maxsize=2)(maker_of)
