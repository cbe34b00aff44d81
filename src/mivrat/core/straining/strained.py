"""Photos decoded once, distorted in every way that is asked for, prepared and scored."""

from __future__ import annotations

import os
from collections import deque
from collections.abc import Iterator, Mapping, Sequence
from concurrent.futures import Future, ThreadPoolExecutor
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from mivrat.core.answers.scoring import MOST_HELD, Answering, score_tensors
from mivrat.core.base.job import Stopped, current_stop
from mivrat.core.models.model import Model
from mivrat.core.models.scores import Kind, ranking_scores, to_probabilities
from mivrat.core.pictures.decode import PictureFile, Pixels, UnreadablePicture, decode_picture, read_file
from mivrat.core.pictures.distorting.kinds import Distortion
from mivrat.core.pictures.prepare import fitted_pixels, geometry, to_tensor
from mivrat.core.pictures.recipe import Recipe

BATCH = 32
# So many images are one block: what goes to another machine at a time, and what batches are filled from.
IN_BLOCK = 16


@dataclass(frozen=True)
class StrainedImage:
    """What a model answers to one image under S distortions: predicted classes (-1: no answer) and confidences (NaN), in their order.
    ``content`` is the file's SHA-256, None where it could not be read; ``problem`` then tells why."""

    image: int
    content: bytes | None
    predicted: NDArray[np.int32]
    confidence: NDArray[np.float64]
    problem: str = ""


def distorted(pixels: Pixels, one: Distortion, recipe: Recipe, content: bytes, seed: int) -> Pixels:
    """A decoded photo (height x width x channels, in RGB or grey) distorted, with lengths in pixels of the image that the recipe makes of it."""
    place = geometry(pixels.shape[0], pixels.shape[1], recipe)
    scale = (place.picture[0] * place.picture[1] / (place.resized[0] * place.resized[1])) ** 0.5
    return one.apply(pixels, scale, content, seed)


def decoded_photo(file: PictureFile, recipe: Recipe) -> Pixels:
    """The photo that distortions are for: in RGB (for BGR as well) or grey. Raises UnreadablePicture."""
    return decode_picture(
        file, "L" if recipe.picture.mode == "L" else "RGB", recipe.picture.exif_rotate, recipe.picture.window
    )


def received(photo: Pixels, recipe: Recipe) -> NDArray[Any]:
    """What the network receives of a decoded photo, distorted or not. Raises UnreadablePicture."""
    fitted = fitted_pixels(photo[..., ::-1] if recipe.picture.mode == "BGR" else photo, recipe)[0]
    return to_tensor(fitted, recipe)


@dataclass(frozen=True)
class _Ready:
    content: bytes | None
    tensors: tuple[NDArray[Any], ...]
    problem: str = ""


def _prepare(path: Path, strains: Sequence[Distortion], recipe: Recipe, seed: int) -> _Ready:
    content = None
    try:
        file = read_file(path)
        content = file.stamp.content
        photo = decoded_photo(file, recipe)
        return _Ready(content, tuple(received(distorted(photo, one, recipe, content, seed), recipe) for one in strains))
    except UnreadablePicture as error:
        return _Ready(content, (), str(error))
    except MemoryError:
        return _Ready(content, (), "cannot be prepared (there is not enough memory)")


def strain_images(
    files: Mapping[int, Path],
    strains: Mapping[int, Sequence[Distortion]],
    model: Answering,
    kind: Kind,
    seed: int = 0,
    threads: int = 0,
) -> Iterator[StrainedImage]:
    """Score the images of a block under those distortions that are asked of each, in the order of ``files``; ends early when stopped.
    ``kind`` is that of the model's scores."""
    threads = threads or os.cpu_count() or 1
    pool = ThreadPoolExecutor(threads, thread_name_prefix="strain")
    upcoming, pending = iter(files), deque[tuple[int, Future[_Ready]]]()
    largest = 0

    def refill() -> None:
        while len(pending) <= threads and (not pending or len(pending) * largest < MOST_HELD):
            image = next(upcoming, None)
            if image is None:
                return
            pending.append((image, pool.submit(_prepare, files[image], strains[image], model.recipe, seed)))

    # Images whose answers are not all there yet, in order, and what waits to be scored: image, place among its distortions, tensor.
    ready = deque[StrainedImage]()
    waiting: list[tuple[StrainedImage, int, NDArray[Any]]] = []
    left: dict[int, int] = {}
    try:
        refill()
        while (pending or waiting) and not current_stop().stopped:
            while pending and len(waiting) < BATCH:
                image, future = pending.popleft()
                made = future.result()
                refill()
                number = len(strains[image])
                one = StrainedImage(
                    image, made.content, np.full(number, -1, np.int32), np.full(number, np.nan), made.problem
                )
                largest = max(largest, sum(t.nbytes for t in made.tensors))
                given = [(one, at, t) for at, t in enumerate(made.tensors) if not model.misfit(t.shape)]
                waiting += given
                left[image] = len(given)
                ready.append(one)
            some, waiting = waiting[:BATCH], waiting[BATCH:]
            try:
                rows = score_tensors(model, [t for _, _, t in some])
            except Stopped:
                return
            for (one, at, _), row in zip(some, rows, strict=True):
                left[one.image] -= 1
                if np.isfinite(row).all():
                    one.predicted[at] = ranking_scores(row[None], kind)[0].argmax()
                    one.confidence[at] = to_probabilities(row[None], kind)[0, one.predicted[at]]
            while ready and not left[ready[0].image]:
                yield ready.popleft()
    finally:
        pool.shutdown(wait=False, cancel_futures=True)


@dataclass(frozen=True)
class StrainWork:
    """Scores a block of images under the distortions asked of each, by position."""

    strains: Mapping[int, tuple[Distortion, ...]]
    kind: Kind
    seed: int

    def do(self, model: Model, files: Mapping[int, Path], threads: int) -> list[StrainedImage]:
        """What the model answers to each."""
        return list(strain_images(files, self.strains, model, self.kind, self.seed, threads))
