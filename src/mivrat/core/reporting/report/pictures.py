"""The pictures of a report: photos of its findings, and their heatmaps, small enough for one file and large enough to read."""

from __future__ import annotations

import base64
import io
from collections.abc import Iterator
from contextlib import ExitStack
from dataclasses import dataclass, replace
from pathlib import Path

import numpy as np
from PIL import Image

from mivrat.core.base.errors import InputError
from mivrat.core.base.files import sha256_of
from mivrat.core.base.job import Meter, Progress, current_stop
from mivrat.core.concluding.evaluation_context import EvaluationContext
from mivrat.core.heatmaps.maps import MapMaker, Target
from mivrat.core.heatmaps.overlay import overlay
from mivrat.core.pictures.decode import Pixels, UnreadablePicture
from mivrat.core.pictures.image_names import ImageName
from mivrat.core.pictures.prepare import to_tensor
from mivrat.core.pictures.preview import preview
from mivrat.core.reporting.report.content import Report
from mivrat.core.reporting.report.found import PictureLine

# The longer side of a picture in pixels: large where there are few, small where hundreds have to go into one file.
LARGE, SMALL, FEW, MANY = 360, 150, 40, 400


@dataclass(frozen=True)
class ReportPicture:
    """A picture as it stands in the page: the photo as a data address, and its heatmap, empty where there is none."""

    photo: str = ""
    heat: str = ""
    problem: str = ""
    # Whose evidence for which class the heatmap shows, at which layer.
    heat_told: str = ""


def side_for(number: int) -> int:
    """The side of so many pictures."""
    if number <= FEW:
        return LARGE
    share = min(1.0, (number - FEW) / (MANY - FEW))
    return round(LARGE + (SMALL - LARGE) * share)


def pictures_of(report: Report, ground: EvaluationContext) -> Iterator[Progress | dict[str, ReportPicture]]:
    """All pictures of a report's findings, by their keys, at last, after progress."""
    wanted = {one.key: one for line in report.findings for one in line.pictures}
    side, meter, found = side_for(sum(1 + one.heat for one in wanted.values())), Meter(len(wanted)), {}
    record = ground.snapshot.record
    with ExitStack() as held:
        maker: MapMaker | None = None
        if any(one.heat for one in wanted.values()) and record.kind.can.gradients:
            try:
                maker = held.enter_context(ground.maker())
            except InputError:
                maker = None
        for done, (key, one) in enumerate(wanted.items(), 1):
            if current_stop().stopped:
                return
            found[key] = _shown(ground, one, side, maker if one.heat else None)
            yield meter.at(done)
    yield found


def _file_of(ground: EvaluationContext, name: ImageName) -> tuple[Path, int | None]:
    """Where an image lies, and its position in the run's set (None: in another set of the study). InputError where it is gone, or
    another picture than the one chosen."""
    position = ground.names.position(name)
    if position is not None:
        return ground.snapshot.record.image_set.file(position), position
    elsewhere = ground.elsewhere(name)
    if elsewhere is None:
        raise InputError("no image set of the study has it any more", hint="add the set again")
    if sha256_of(elsewhere.file) != name.content:
        raise InputError(
            "there is another picture in its place now", where=elsewhere.file.name, hint="bring the file back"
        )
    return elsewhere.file, None


def _shown(ground: EvaluationContext, line: PictureLine, side: int, maker: MapMaker | None) -> ReportPicture:
    record = ground.snapshot.record
    try:
        file, position = _file_of(ground, line.image)
        seen = preview(file, record.recipe, side)
    except (UnreadablePicture, InputError) as error:
        return ReportPicture(problem=str(error))
    photo = as_address(seen.photo, side)
    if maker is None:  # not wanted, or this model gives none
        return ReportPicture(photo, problem="no heatmap: this model gives none" if line.heat else "")
    try:
        layer = maker.layer_for("gradient", None)
        pixels = seen.received[..., ::-1] if record.recipe.picture.mode == "BGR" else seen.received
        batch = to_tensor(pixels, record.recipe)[None]
        # The run knows what it answered; of an image that is not of its set the model is asked now.
        predicted = (
            int(ground.snapshot.judged.predicted[position])
            if position is not None
            else int(maker.probabilities(batch)[0].argmax())
        )
        if predicted < 0:
            return ReportPicture(photo, problem="no heatmap: the run has no answer to it")
        values = maker.laid_maps(batch, [Target(predicted)], [layer] if layer is not None else [], "gradient")[0][0]
    except InputError as error:
        return ReportPicture(photo, problem=f"no heatmap: {error.what}")
    told = f"{record.info.model}: evidence for {ground.classes[predicted]}"
    if not np.any(values):
        return ReportPicture(photo, problem=f"the heatmap is all zero: no evidence at this layer ({told})")
    drawn = overlay(seen.photo, values, replace(seen.place, picture=seen.photo.shape[:2]))
    return ReportPicture(photo, as_address(drawn, side), heat_told=told)


def as_address(pixels: Pixels, side: int) -> str:
    """Pixels as a JPEG in a data address, no larger than ``side``; small ones are enlarged so that they can be read."""
    shown = np.repeat(pixels, 3, axis=2) if pixels.shape[2] == 1 else pixels
    picture = Image.fromarray(np.ascontiguousarray(shown))
    scale = side / max(picture.size)
    size = max(1, round(picture.width * scale)), max(1, round(picture.height * scale))
    out = io.BytesIO()
    picture.resize(size, Image.Resampling.BICUBIC).save(out, "JPEG", quality=85 if side > 250 else 78)
    return f"data:image/jpeg;base64,{base64.b64encode(out.getvalue()).decode()}"
