"""The pictures of a report: photos of its findings, and their heatmaps, small enough for one file and large enough to read."""

from __future__ import annotations

import base64
import io
from collections.abc import Iterator
from contextlib import ExitStack
from dataclasses import dataclass, replace

import numpy as np
from PIL import Image

from mivrat.core.base.errors import InputError
from mivrat.core.base.job import Meter, Progress, StopSignal
from mivrat.core.concluding.ground import Ground
from mivrat.core.heatmaps.maps import MapMaker, Target
from mivrat.core.heatmaps.overlay import overlay
from mivrat.core.pictures.decode import Pixels, UnreadablePicture
from mivrat.core.pictures.prepare import to_tensor
from mivrat.core.pictures.preview import preview
from mivrat.core.reporting.report.content import Report

# The longer side of a picture in pixels: large where there are few, small where hundreds have to go into one file.
LARGE, SMALL, FEW, MANY = 360, 150, 40, 400


@dataclass(frozen=True)
class Shown:
    """A picture as it stands in the page: the photo as a data address, and its heatmap, empty where there is none."""

    photo: str = ""
    heat: str = ""
    problem: str = ""


def side_for(number: int) -> int:
    """The side of so many pictures."""
    if number <= FEW:
        return LARGE
    share = min(1.0, (number - FEW) / (MANY - FEW))
    return round(LARGE + (SMALL - LARGE) * share)


def pictures_of(
    report: Report, ground: Ground, stop: StopSignal | None = None
) -> Iterator[Progress | dict[tuple[int, bool], Shown]]:
    """All pictures of a report's findings, by position and whether with heat, at last, after progress."""
    wanted = list(dict.fromkeys((one.position, one.heat) for line in report.findings for one in line.pictures))
    side, meter, found = side_for(sum(1 + heat for _, heat in wanted)), Meter(len(wanted)), {}
    record = ground.snapshot.record
    with ExitStack() as held:
        maker: MapMaker | None = None
        if any(heat for _, heat in wanted) and record.kind.can.gradients:
            try:
                maker = held.enter_context(ground.maker())
            except InputError:
                maker = None
        for done, (position, heat) in enumerate(wanted, 1):
            if stop is not None and stop.stopped:
                return
            found[position, heat] = _shown(ground, position, side, maker if heat else None, heat)
            yield meter.at(done)
    yield found


def _shown(ground: Ground, position: int, side: int, maker: MapMaker | None, heat: bool) -> Shown:
    record = ground.snapshot.record
    try:
        seen = preview(record.image_set.file(position), record.recipe, side)
    except (UnreadablePicture, InputError) as error:
        return Shown(problem=str(error))
    photo = as_address(seen.photo, side)
    predicted = int(ground.snapshot.judged.predicted[position])
    if maker is None or predicted < 0:
        return Shown(photo, problem="no heatmap: this model gives none" if heat else "")
    try:
        layer = maker.layer_for("gradient", None)
        pixels = seen.received[..., ::-1] if record.recipe.picture.mode == "BGR" else seen.received
        batch = to_tensor(pixels, record.recipe)[None]
        values = maker.laid_maps(batch, [Target(predicted)], [layer] if layer is not None else [], "gradient")[0][0]
    except InputError as error:
        return Shown(photo, problem=f"no heatmap: {error.what}")
    if not np.any(values):
        return Shown(photo, problem="the heatmap is all zero: no evidence at this layer")
    return Shown(
        photo, as_address(overlay(seen.photo, values, replace(seen.place, picture=seen.photo.shape[:2])), side)
    )


def as_address(pixels: Pixels, side: int) -> str:
    """Pixels as a JPEG in a data address, no larger than ``side``; small ones are enlarged so that they can be read."""
    shown = np.repeat(pixels, 3, axis=2) if pixels.shape[2] == 1 else pixels
    picture = Image.fromarray(np.ascontiguousarray(shown))
    scale = side / max(picture.size)
    size = max(1, round(picture.width * scale)), max(1, round(picture.height * scale))
    out = io.BytesIO()
    picture.resize(size, Image.Resampling.BICUBIC).save(out, "JPEG", quality=85 if side > 250 else 78)
    return f"data:image/jpeg;base64,{base64.b64encode(out.getvalue()).decode()}"
