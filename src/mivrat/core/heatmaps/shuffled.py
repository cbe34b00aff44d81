"""The weight-shuffle check (Adebayo 2018): a map that stays as it is when the model's weights are shuffled shows the image, not
the model; and how far maps agree."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
import onnx
from numpy.typing import NDArray
from onnx import numpy_helper

from mivrat.core.gradients.graph import GraphView
from mivrat.core.heatmaps.hottest import hottest_part, laid_over
from mivrat.core.heatmaps.maps import HeatmapMaker, Map, Target
from mivrat.core.models.operators import Trait, has

# How many of the layers of weights are shuffled, from the scores on.
DEPTHS = ("the last layer", "the last half", "every layer")
DRAWS = 3
# Maps whose rank correlation stays above this are taken for the same map.
ALIKE = 0.5

MapsOf = Callable[[HeatmapMaker, NDArray[Any], Sequence[Target]], Sequence[Map]]


def weight_layers(view: GraphView) -> list[list[str]]:
    """The weights (tensors of two axes and more) of each operator between image and scores that has some, the last first."""

    def is_weight(values: NDArray[Any]) -> bool:
        return values.ndim > 1 and (values.dtype.kind == "f" or values.dtype in (np.int8, np.uint8))

    weights = {t.name for t in view.proto.graph.initializer if is_weight(view.values[t.name])}
    constants = {n.output[0] for n in view.nodes if n.op_type == "Constant" and is_weight(view.values[n.output[0]])}
    sources: dict[str, set[str]] = {name: {name} for name in weights | constants}
    found, seen = [], set[str]()
    for node in view.nodes:
        behind = set().union(*(sources.get(name, set()) for name in node.input)) if node.input else set()
        if node.op_type == "Constant":
            continue
        if node.output[0] not in view.depends:
            sources[node.output[0]] = behind
        elif node.output[0] in view.leading and has(node.op_type, Trait.WEIGHS) and behind - seen:
            found.append(sorted(behind - seen))
            seen |= behind
    return found[::-1]


def with_shuffled_weights(view: GraphView, names: Sequence[str], seed: int) -> onnx.ModelProto:
    """The graph with the values of some weights in another order, each tensor's among themselves."""
    proto, wanted = onnx.ModelProto(), set(names)
    proto.CopyFrom(view.proto)
    rng = np.random.default_rng(seed)

    def turned(tensor: onnx.TensorProto, name: str) -> None:
        values = numpy_helper.to_array(tensor)
        tensor.CopyFrom(numpy_helper.from_array(rng.permutation(values.ravel()).reshape(values.shape), name))

    for tensor in proto.graph.initializer:
        if tensor.name in wanted:
            turned(tensor, tensor.name)
    for node in proto.graph.node:
        if node.op_type == "Constant" and node.output[0] in wanted:
            turned(node.attribute[0].t, node.attribute[0].t.name)
    return proto


@dataclass(frozen=True)
class Shuffle:
    """How like its former self each image's map is after one draw: rank correlations, NaN where the map was all the same."""

    depth: str
    draw: int
    alike: NDArray[np.float64]


def shuffle_check(
    maker: HeatmapMaker,
    batch: NDArray[Any],
    targets: Sequence[Target],
    maps_of: MapsOf,
    seed: int = 0,
) -> Iterator[Shuffle]:
    """Shuffle the last, half, and all layers of weights, DRAWS times each, and compare ``maps_of`` some prepared images.

    ``maps_of`` takes the maps from the maker it is given, in whatever way is to be checked. Nothing is yielded for a model
    without weights that could be shuffled. ``batch`` is N × C × H × W, or N × H × W × C.
    """
    layers = weight_layers(maker.view)
    if not layers:
        return
    before = maps_of(maker, batch, targets)
    if maker.model.recipe.tensor.dtype == "float16":
        batch = batch.astype(np.float32)
    for depth, share in zip(DEPTHS, (0.0, 0.5, 1.0), strict=True):
        names = [name for some in layers[: max(1, round(share * len(layers)))] for name in some]
        for draw in range(DRAWS):
            number = int(np.random.SeedSequence([seed, draw]).generate_state(1)[0])
            proto = with_shuffled_weights(maker.view, names, number)
            after = maps_of(HeatmapMaker(maker.model.altered(proto)), batch, targets)
            alike = [rank_correlation(one, other) for one, other in zip(before, after, strict=True)]
            yield Shuffle(depth, draw, np.array(alike))


def rank_correlation(one: NDArray[np.floating], other: NDArray[np.floating]) -> float:
    """Spearman's correlation of two maps over their places, laid over each other where their grids differ.

    NaN where the first is the same everywhere; 0 where only the second is. Both are h × w; returns from -1 to 1.
    """
    if one.shape != other.shape:
        size = max(one.shape[0], other.shape[0]), max(one.shape[1], other.shape[1])
        one, other = laid_over(one, *size), laid_over(other, *size)
    from scipy.stats import rankdata

    ranks = [rankdata(values.ravel()) for values in (one, other)]
    centred = [r - r.mean() for r in ranks]
    lengths = [float(np.sqrt((c * c).sum())) for c in centred]
    if not lengths[0]:
        return float("nan")
    return float((centred[0] * centred[1]).sum() / (lengths[0] * lengths[1])) if lengths[1] else 0.0


def overlap_of_hottest(
    one: NDArray[np.floating], other: NDArray[np.floating], share: float = 0.1, side: int = 64
) -> float:
    """How far the hottest parts of two maps are the same places: what both have, as a share of what either has.

    Both are h × w, ``share`` from 0 to 1; returns from 0 to 1 (intersection over union).
    """
    masks = [hottest_part(values, share, side, side) for values in (one, other)]
    either = int((masks[0] | masks[1]).sum())
    return int((masks[0] & masks[1]).sum()) / either if either else float("nan")
