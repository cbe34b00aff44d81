"""What the close look needs of one image, made in a worker: the picture, the prepared input, its heatmaps."""

from __future__ import annotations

from dataclasses import dataclass, field, replace
from datetime import datetime
from pathlib import Path

import numpy as np
from numpy.typing import NDArray
from PySide6.QtGui import QImage

from mivrat.core.base.errors import InputError
from mivrat.core.base.files import sha256_of
from mivrat.core.gradients.layers import Layer
from mivrat.core.heatmaps.maps import BY_GRADIENT, HeatmapMaker, Method, Target
from mivrat.core.heatmaps.overlay import overlay
from mivrat.core.models.onnx_model import OnnxModel
from mivrat.core.pictures.decode import Pixels
from mivrat.core.pictures.prepare import Geometry, to_tensor
from mivrat.core.pictures.preview import preview
from mivrat.core.pictures.recipe import Recipe, recipe_to_toml
from mivrat.core.study.records import RunRecord
from mivrat.ui.pictures import to_image

MOST_MAKERS = 2
# Photos are shown, and covered with heat, at no more than this many pixels a side.
SHOWN_SIDE = 800


@dataclass
class MakerCache:
    """Heatmap makers by the content of their models and recipes, made when first asked for; the ones used last are kept. Used by
    one worker thread only."""

    _makers: dict[tuple[str, str, int, str], HeatmapMaker] = field(default_factory=dict)

    def get(self, record: RunRecord) -> HeatmapMaker:
        """The maker for a run's model. InputError where the file is another one than the run was scored with."""
        kind = record.answers.kind
        key = record.model_sha256, recipe_to_toml(record.recipe), len(record.classes), kind or ""
        made = self._makers.pop(key, None)
        if made is None:
            if record.model_sha256 and sha256_of(record.model_path) != record.model_sha256:
                raise InputError(
                    "is another file than the one this run was scored with",
                    where=record.model_path,
                    mend="put that file back, or add this one under Prepare as a model of its own",
                )
            made = HeatmapMaker(OnnxModel(record.model_path, record.recipe, len(record.classes)), kind)
            while len(self._makers) >= MOST_MAKERS:
                self._makers.pop(next(iter(self._makers)))
        self._makers[key] = made
        return made


@dataclass(frozen=True)
class Look:
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
class Evidence:
    """Heatmaps of one image for some classes by one method, at one layer where it takes one; ``layers`` are all that can be
    chosen. ``rather``: for each of two classes rather than the other."""

    image: int
    method: Method
    layer: Layer | None
    layers: list[Layer]
    classes: tuple[int, ...]
    maps: list[NDArray[np.float32]]
    rather: bool = False


def look_at(record: RunRecord, image: int, side: int = SHOWN_SIDE) -> Look:
    """Decode and prepare one image, shown at most ``side`` pixels large. Raises InputError where the file cannot be read."""
    path = record.image_set.file(image)
    shown = preview(path, record.recipe, side)
    # The geometry is one of proportions, so a smaller photo keeps its place.
    return Look(
        image,
        shown.photo,
        shown.received,
        replace(shown.place, picture=shown.photo.shape[:2]),
        _about_file(path, shown.place.picture),
    )


def _about_file(path: Path, size: tuple[int, int]) -> str:
    try:
        about = path.stat()
    except OSError:
        return ""
    amount = f"{about.st_size / 1e6:.1f} MB" if about.st_size >= 1e6 else f"{about.st_size / 1e3:.0f} kB"
    changed = datetime.fromtimestamp(about.st_mtime).strftime("%Y-%m-%d")
    kind = path.suffix.lstrip(".").upper() or "file"
    return f"{kind}, {size[1]} × {size[0]} px, {amount}, changed {changed}".replace(" ", "\u00a0").replace(
        ",\u00a0", ", "
    )


def find_evidence(
    record: RunRecord,
    look: Look,
    makers: MakerCache,
    layer_name: str | None,
    classes: tuple[int, ...],
    method: Method = "gradient",
    rather: bool = False,
) -> Evidence:
    """Heatmaps for some classes, or for each of two rather than the other; the layer falls back to the default where the one asked for is none of this model's."""
    maker = makers.get(record)
    known = layer_name if layer_name in {one.tensor for one in maker.layers if one.heatmap} else None
    layer = maker.layer_for(method, known if method in BY_GRADIENT else None)
    batch = np.stack([to_tensor(look.prepared(record.recipe), record.recipe)] * len(classes))
    rather = rather and len(classes) == 2
    targets = [Target(k, classes[1 - i] if rather else None) for i, k in enumerate(classes)]
    maps = maker.maps(batch, targets, [layer] if layer is not None else [], method)[0]
    usable = [one for one in maker.layers if one.heatmap]
    return Evidence(look.image, method, layer, usable, classes, list(maps), rather)


def draw_overlay(
    look: Look, heat: NDArray[np.float32], opacity: float, scale: str, peak: float | None = None
) -> QImage:
    """The overlay on the photo; ``peak`` is the common maximum to divide by, None for the map's own."""
    return to_image(overlay(look.photo, heat, look.place, opacity=opacity, scale=scale, peak=peak))
