"""What a close look at one image takes, worked out in a worker: the picture, the prepared input, its heatmaps."""

from __future__ import annotations

from dataclasses import dataclass, replace
from datetime import datetime
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from mivrat.core.base.errors import InputError
from mivrat.core.gradients.layers import Layer
from mivrat.core.heatmaps.maps import Target
from mivrat.core.heatmaps.methods import BY_GRADIENT, Method
from mivrat.core.heatmaps.pool import MakerPool
from mivrat.core.pictures.containers import picture_stat
from mivrat.core.pictures.decode import Pixels, UnreadablePicture, read_file
from mivrat.core.pictures.distorting.kinds import Distortion
from mivrat.core.pictures.prepare import Geometry, to_tensor
from mivrat.core.pictures.preview import preview, preview_of
from mivrat.core.pictures.recipe import Recipe
from mivrat.core.straining.strained import decoded_photo, distorted
from mivrat.core.study.records import RunRecord

# Photos are shown, and covered with heat, at no more than this many pixels a side.
SHOWN_SIDE = 800


@dataclass(frozen=True)
class ImageView:
    """One image's pictures: as photographed (at most SHOWN_SIDE), and as the network receives it (RGB, before value scaling);
    ``file`` says in words what the file is."""

    image: int
    photo: Pixels
    received: Pixels
    place: Geometry
    file: str = ""

    def prepared(self, recipe: Recipe) -> Pixels:
        """What the network receives, with the channels in the recipe's order."""
        return self.received[..., ::-1] if recipe.picture.mode == "BGR" else self.received


@dataclass(frozen=True)
class HeatmapSet:
    """Heatmaps of one image for some classes by one method, at one layer where it takes one; ``layers`` are all that can be
    chosen. ``rather``: for each of two classes rather than the other."""

    image: int
    method: Method
    layer: Layer | None
    layers: list[Layer]
    classes: tuple[int, ...]
    maps: list[NDArray[np.float32]]
    rather: bool = False


def look_at(record: RunRecord, image: int, side: int = SHOWN_SIDE) -> ImageView:
    """Decode and prepare one image, shown at most ``side`` pixels large. Raises InputError where the file cannot be read."""
    path = record.image_set.file(image)
    shown = preview(path, record.recipe, side)
    # The geometry is one of proportions, so a smaller photo keeps its place.
    return ImageView(
        image,
        shown.photo,
        shown.received,
        replace(shown.place, picture=shown.photo.shape[:2]),
        _about_file(path, shown.place.picture),
    )


def look_at_strained(record: RunRecord, image: int, strain: Distortion, side: int = SHOWN_SIDE) -> ImageView:
    """The same of an image that is distorted first, as the strain test does it. Raises InputError where the file cannot be read."""
    path, recipe = record.image_set.file(image), record.recipe
    try:
        file = read_file(path)
        photo = distorted(decoded_photo(file, recipe), strain, recipe, file.stamp.content, 0)
        shown = preview_of(photo[..., ::-1] if recipe.picture.mode == "BGR" else photo, recipe, side)
    except UnreadablePicture as error:
        raise InputError(str(error), where=path.name) from error
    return ImageView(image, shown.photo, shown.received, replace(shown.place, picture=shown.photo.shape[:2]))


def _about_file(path: Path, size: tuple[int, int]) -> str:
    try:
        bytes_, changed_ns = picture_stat(path)
    except OSError:
        return ""
    amount = f"{bytes_ / 1e6:.1f} MB" if bytes_ >= 1e6 else f"{bytes_ / 1e3:.0f} kB"
    changed = datetime.fromtimestamp(changed_ns / 1e9).strftime("%Y-%m-%d")
    kind = path.suffix.lstrip(".").upper() or "file"
    return f"{kind}, {size[1]} × {size[0]} px, {amount}, changed {changed}".replace(" ", "\u00a0").replace(
        ",\u00a0", ", "
    )


def find_evidence(
    record: RunRecord,
    look: ImageView,
    makers: MakerPool,
    layer_name: str | None,
    classes: tuple[int, ...],
    method: Method = "gradient",
    rather: bool = False,
) -> HeatmapSet:
    """Heatmaps for some classes, or for each of two rather than the other; the layer falls back to the default where the one asked for is none of this model's."""
    with makers.acquire(record) as maker:
        known = layer_name if layer_name in {one.tensor for one in maker.layers if one.heatmap} else None
        layer = maker.layer_for(method, known if method in BY_GRADIENT else None)
        batch = np.stack([to_tensor(look.prepared(record.recipe), record.recipe)] * len(classes))
        rather = rather and len(classes) == 2
        targets = [Target(k, classes[1 - i] if rather else None) for i, k in enumerate(classes)]
        maps = maker.laid_maps(batch, targets, [layer] if layer is not None else [], method)[0]
        usable = [one for one in maker.layers if one.heatmap]
        return HeatmapSet(look.image, method, layer, usable, classes, list(maps), rather)
