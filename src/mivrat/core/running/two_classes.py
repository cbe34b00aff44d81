"""Images with more than one plausible class: the top two are near, and stay the top two when the image is shifted and cropped.

Each image is looked at whole and through six windows: 96 % of its sides in the middle, 92 % in the middle and in each corner.
A second class counts as plausible where, over these views, its mean probability is at least half of the first one's, and the
same two classes lead in at least six of the seven.
"""

from __future__ import annotations

import json
from collections import Counter
from collections.abc import Iterator, Sequence
from dataclasses import astuple, dataclass
from pathlib import Path

import numpy as np
from numpy.typing import NDArray
from pydantic import NonNegativeInt, TypeAdapter

from mivrat.core.answers.answers import SCORED
from mivrat.core.answers.judged import EvaluatedRun
from mivrat.core.base.job import Meter, Progress, current_stop
from mivrat.core.models.model import Model
from mivrat.core.models.scores import guess_kind, to_probabilities
from mivrat.core.pictures.decode import Pixels, UnreadablePicture, read_picture
from mivrat.core.pictures.image_names import ImageName
from mivrat.core.pictures.prepare import fitted_pixels, to_tensor
from mivrat.core.study.file import Study
from mivrat.core.study.records import RunRecord
from mivrat.core.study.settings import load_setting, save_setting
from mivrat.core.study.soundness import reading

# (share of the sides, place across, place down), places from 0 to 1.
WINDOWS = ((0.96, 0.5, 0.5), (0.92, 0.5, 0.5), (0.92, 0, 0), (0.92, 1, 0), (0.92, 0, 1), (0.92, 1, 1))
VIEWS = 1 + len(WINDOWS)
LEAST_VIEWS = 6
LEAST_RATIO = 0.5
# Only images whose second class, as scored, reaches this share of the first one's probability are looked at.
WORTH_A_LOOK = 0.3

_KEPT = "two plausible classes in run {}"


@dataclass(frozen=True)
class TwoClasses:
    """An image with two plausible classes: their mean probabilities over the views, and how many views they led in."""

    image: int
    first: int
    second: int
    p_first: float
    p_second: float
    views: int


_KEPT_FORM = TypeAdapter(list[tuple[tuple[str, str], NonNegativeInt, NonNegativeInt, float, float, int]])


def candidates(judged: EvaluatedRun) -> NDArray[np.int64]:
    """The scored images whose two highest probabilities are near enough to be worth a look."""
    with np.errstate(invalid="ignore"):
        second = judged.confidence - judged.margins
        return np.flatnonzero((judged.state == SCORED) & (second >= WORTH_A_LOOK * judged.confidence))


def windows_of(pixels: Pixels) -> list[Pixels]:
    """The picture (height x width x channels) whole and through each window."""
    height, width = pixels.shape[:2]
    found = [pixels]
    for share, across, down in WINDOWS:
        h, w = max(1, round(height * share)), max(1, round(width * share))
        top, left = round((height - h) * down), round((width - w) * across)
        found.append(pixels[top : top + h, left : left + w])
    return found


def led_by_two(p: NDArray[np.float64]) -> tuple[int, int, int] | None:
    """The two plausible classes over some views' probabilities (views x classes), the likelier first, and the number of
    views in which they lead; None where there is no second one."""
    pairs = Counter(frozenset(np.argsort(-line, kind="stable")[:2].tolist()) for line in p)
    pair, views = pairs.most_common(1)[0]
    mean = p.mean(axis=0)
    first, second = sorted(pair, key=lambda k: (-mean[k], k))
    if views * VIEWS < LEAST_VIEWS * len(p) or mean[second] < LEAST_RATIO * mean[first]:
        return None
    return first, second, views


@reading
def load_two_classes(study: Study, record: RunRecord) -> tuple[TwoClasses, ...] | None:
    """What was found in a run before; None where nobody has looked."""
    text = load_setting(study, _KEPT.format(record.info.id))
    if text is None:
        return None
    kept, classes = _KEPT_FORM.validate_json(text), len(record.classes)
    found = []
    for name, first, second, p_first, p_second, views in kept:
        at = record.names.position(ImageName(*name))
        if at is None or max(first, second) >= classes:
            return None
        found.append(TwoClasses(at, first, second, p_first, p_second, views))
    return tuple(found)


def save_two_classes(study: Study, record: RunRecord, found: Sequence[TwoClasses]) -> None:
    """Keep what was found in a run."""
    rows = [[record.names[one.image], *astuple(one)[1:]] for one in found]
    save_setting(study, _KEPT.format(record.info.id), json.dumps(rows))


def find_two_classes(model: Model, files: Sequence[Path], judged: EvaluatedRun) -> Iterator[Progress | TwoClasses]:
    """Look at every candidate, yielding progress and what is found; ends early when stopped."""
    todo = candidates(judged).tolist()
    meter = Meter(len(todo))
    yield meter.at(0)
    kind = judged.kind if judged.kind != "prediction" else None
    for done, image in enumerate(todo, 1):
        if current_stop().stopped:
            return
        try:
            pixels = read_picture(
                files[image], model.recipe.picture.mode, model.recipe.picture.exif_rotate, model.recipe.picture.window
            )
        except UnreadablePicture:
            continue
        tensors = [to_tensor(fitted_pixels(view, model.recipe)[0], model.recipe) for view in windows_of(pixels)]
        rows = np.concatenate([model.scores(tensor[None]) for tensor in tensors])
        p = to_probabilities(rows, kind or guess_kind(rows))
        if (found := led_by_two(p)) is not None:
            first, second, views = found
            mean = p.mean(axis=0)
            yield TwoClasses(image, first, second, float(mean[first]), float(mean[second]), views)
        yield meter.at(done)
