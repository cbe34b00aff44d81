"""The hottest pieces of many images, cut out and grouped by how alike the model's features are in them."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from contextlib import suppress
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray
from PIL import Image

from mivrat.core.answers.judged import EvaluatedRun
from mivrat.core.base.job import Meter, Progress, Stopped, current_stop
from mivrat.core.base.lazy_module import LazyModule
from mivrat.core.figures.intervals import Proportion
from mivrat.core.gradients.layers import Layer
from mivrat.core.heatmaps.hottest import Mask, hottest_part, laid_over
from mivrat.core.heatmaps.kept_maps import maps_of_setup
from mivrat.core.heatmaps.maps import HeatmapMaker, Map
from mivrat.core.heatmaps.setup import MapSetup
from mivrat.core.likeness.features import unit
from mivrat.core.likeness.grouping import group_by_likeness
from mivrat.core.pictures.decode import Pixels, UnreadablePicture
from mivrat.core.pictures.image_sets import ImageSet
from mivrat.core.pictures.prepare import to_tensor
from mivrat.core.region_masking.one_image import prepared
from mivrat.core.region_masking.regions import Shape

if TYPE_CHECKING:
    from scipy import ndimage
else:
    ndimage = LazyModule("scipy.ndimage")

# Of the hottest part's separate pieces so many are taken at most, and those that hold this share of its evidence.
PER_IMAGE, LEAST = 3, 0.2
# What is shown of an image around a piece is at least this share of its shorter side: a few pixels alone say nothing.
LEAST_SHOWN = 0.2
# A sheet is of so many images at most.
MOST_IMAGES = 500
Box = tuple[float, float, float, float]


@dataclass(frozen=True)
class Cutting:
    """A piece of one image: its ``box`` (left, top, right, bottom as shares of what the network receives), the share of the hottest part's
    ``evidence`` in it, what it looks like (``picture``, a square around it), and the layer's features in it, less their mean over the image."""

    image: int
    box: Box
    evidence: float
    picture: Pixels
    features: NDArray[np.float32]

    @property
    def shape(self) -> Shape:
        """The box, as a region."""
        return Shape("rectangle", (self.box[:2], self.box[2:]))


@dataclass(frozen=True)
class CuttingGroup:
    """Pieces that are alike to the model, as positions among all, the most typical first; of the labelled ``images`` they are from the
    share answered ``right``."""

    members: tuple[int, ...]
    images: tuple[int, ...]
    right: Proportion


@dataclass(frozen=True)
class EvidenceSheet:
    """All pieces of a sheet, in groups, the largest first; ``images`` were looked at, ``without`` of them have no piece."""

    pieces: tuple[Cutting, ...]
    groups: tuple[CuttingGroup, ...]
    images: int
    without: int

    def regions(self, group: int) -> dict[int, tuple[Shape, ...]]:
        """A group's pieces as regions, by image."""
        found: dict[int, tuple[Shape, ...]] = {}
        for at in self.groups[group].members:
            one = self.pieces[at]
            found[one.image] = (*found.get(one.image, ()), one.shape)
        return found


def hot_pieces(heat: Map, part: float, height: int, width: int) -> list[tuple[Mask, float]]:
    """The separate pieces of a map's hottest part (a share of the area), each with its share of that part's evidence, the strongest first;
    none without evidence. ``heat`` is h x w, laid over the whole image; masks are ``height`` x ``width``."""
    mask = hottest_part(heat, part, height, width)
    evidence = np.maximum(laid_over(heat, height, width), 0.0).astype(np.float64)
    whole = float(evidence[mask].sum())
    if whole <= 0:
        return []
    pieces, number = ndimage.label(mask, np.ones((3, 3)))
    shares = np.asarray(ndimage.sum_labels(evidence, pieces, np.arange(1, number + 1))) / whole
    order = np.argsort(-shares, kind="stable")[:PER_IMAGE]
    return [(pieces == k + 1, float(shares[k])) for k in order if shares[k] >= LEAST]


def features_in(maker: HeatmapMaker, tensor: NDArray[Any], layer: Layer, masks: Sequence[Mask]) -> NDArray[np.float32]:
    """A layer's features of one prepared image, averaged over each of P masks, less their mean over the image; P x channels."""
    (named,) = maker.layers_for(tensor[None], [layer])
    found = maker.activations(tensor[None], named)[0].astype(np.float32)
    if not named.placement.even:
        found = named.placement.laid(found)
    rows, columns = found.shape[1:]
    usual = found.mean(axis=(1, 2))
    vectors = []
    for mask in masks:
        small = Image.fromarray(mask.astype(np.float32)).resize((columns, rows), Image.Resampling.BOX)
        weight = np.asarray(small, np.float32)
        vectors.append((found * weight).sum(axis=(1, 2)) / weight.sum() - usual)
    return np.stack(vectors)


def _box(mask: Mask) -> Box:
    rows, columns = (np.flatnonzero(mask.any(axis=axis)) for axis in (1, 0))
    height, width = mask.shape
    return (
        float(columns[0]) / width,
        float(rows[0]) / height,
        (float(columns[-1]) + 1) / width,
        (float(rows[-1]) + 1) / height,
    )


def cut_out(pixels: Pixels, box: Box) -> Pixels:
    """A square of an image (height x width x channels) around a box, as much of it as there is."""
    height, width = pixels.shape[:2]
    across, down = (box[0] + box[2]) / 2 * width, (box[1] + box[3]) / 2 * height
    side = max((box[2] - box[0]) * width, (box[3] - box[1]) * height, LEAST_SHOWN * min(height, width))
    side = min(round(side), height, width)
    left, top = (min(max(0, round(middle - side / 2)), n - side) for middle, n in ((across, width), (down, height)))
    return np.ascontiguousarray(pixels[top : top + side, left : left + side])


def cut_pieces(
    maker: HeatmapMaker, image_set: ImageSet, judged: EvaluatedRun, images: Sequence[int], setup: MapSetup, part: float
) -> Iterator[Progress | tuple[Cutting, ...]]:
    """The pieces of some images one by one, yielding progress and in the end all pieces; of a stopped sheet those there are."""
    recipe = maker.model.recipe
    layer = maker.layer(setup.layers[0] if setup.layers else None)
    found, meter = list[Cutting](), Meter(len(images))
    yield meter.at(0)
    with suppress(Stopped):
        for done, image in enumerate(images, 1):
            target = setup.target(judged, image)
            with suppress(UnreadablePicture):
                pixels = prepared(image_set.file(image), recipe)
                tensor = to_tensor(pixels, recipe)
                if target is not None and not maker.model.misfit(tensor.shape):
                    heat = maps_of_setup(maker, tensor[None], [target], setup)[0]
                    hot = hot_pieces(heat, part, *pixels.shape[:2])
                    vectors = features_in(maker, tensor, layer, [mask for mask, _ in hot]) if hot else ()
                    for (mask, evidence), vector in zip(hot, vectors, strict=True):
                        box = _box(mask)
                        found.append(Cutting(image, box, evidence, cut_out(pixels, box), vector))
            yield meter.at(done)
            if current_stop().stopped:
                break
    yield tuple(found)


def group_pieces(
    pieces: Sequence[Cutting], images: int, judged: EvaluatedRun, number: int | None = None, seed: int = 0
) -> EvidenceSheet:
    """Pieces of so many ``images`` in groups by likeness (``group_by_likeness``); the same for the same seed."""
    vectors = unit(np.stack([one.features for one in pieces])) if pieces else np.zeros((0, 0), np.float32)
    groups = []
    for one in group_by_likeness(vectors, number, seed):
        members = tuple(one.members.tolist())
        own = tuple(dict.fromkeys(pieces[at].image for at in members))
        labelled = np.array([i for i in own if judged.labels[i] >= 0], np.int64)
        groups.append(CuttingGroup(members, own, judged.share(judged.right, labelled)))
    return EvidenceSheet(tuple(pieces), tuple(groups), images, images - len({one.image for one in pieces}))
