"""Decodes, prepares and scores images batch by batch; decoding runs ahead of scoring, with bounded memory."""

from __future__ import annotations

import os
from collections import deque
from collections.abc import Callable, Iterator, Sequence
from concurrent.futures import Future, ThreadPoolExecutor
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any, Protocol

import numpy as np
from numpy.typing import NDArray

from mivrat.core.base.errors import InputError
from mivrat.core.base.job import Stopped, current_stop
from mivrat.core.models.engine import EngineFault, short_reason
from mivrat.core.pictures.decode import Stamp, UnreadablePicture, read_file, whole_picture
from mivrat.core.pictures.prepare import prepare_whole
from mivrat.core.pictures.properties import Values, measured
from mivrat.core.pictures.recipe import Recipe

# Prepared images are held up to so many bytes.
MOST_HELD = 400_000_000


class Answering(Protocol):
    """What scoring takes of a model, or of what stands on one: a row of numbers for each prepared image."""

    path: Path
    recipe: Recipe
    columns: int

    def misfit(self, shape: tuple[int, ...]) -> str: ...

    def scores(self, batch: NDArray[Any]) -> NDArray[np.float32]: ...


@dataclass(frozen=True)
class ScoredBatch:
    """Answers for some images: their indices, raw score rows for the readable ones, and the unreadable ones' reasons.

    ``stamps`` tells what each file was when it was read; ``copies`` are images whose content was scored before;
    ``unfit`` are those that could be read, but not given to the model, or were refused by it, with the reason; ``unanswered``
    those that got no answer, and may get one another time. ``besides`` is what there is to say of the way there. ``properties`` are
    those of the photos that were decoded, as ``core.pictures.properties`` orders them.
    """

    scored: NDArray[np.int64]
    rows: NDArray[np.float32]
    unreadable: dict[int, str]
    stamps: dict[int, Stamp] = field(default_factory=dict)
    copies: dict[int, bytes] = field(default_factory=dict)
    unfit: dict[int, str] = field(default_factory=dict)
    unanswered: dict[int, str] = field(default_factory=dict)
    besides: str = ""
    properties: dict[int, Values] = field(default_factory=dict)

    @property
    def images(self) -> int:
        return len(self.scored) + len(self.unreadable) + len(self.copies) + len(self.unfit)


@dataclass(frozen=True)
class _Prepared:
    """One image ready to be scored; ``tensor`` is None where its content is known already, or ``problem`` tells why."""

    stamp: Stamp | None
    tensor: NDArray[Any] | None = None
    problem: str = ""
    properties: Values | None = None


def _prepare(
    path: Path, recipe: Recipe, known: Callable[[bytes], bool], measuring: Callable[[bytes], bool]
) -> _Prepared:
    stamp = properties = None
    try:
        file = read_file(path)
        stamp = file.stamp
        if known(stamp.content):
            return _Prepared(stamp)
        picture = whole_picture(file, recipe.picture.exif_rotate, recipe.picture.window)
        properties = measured(file, picture) if measuring(stamp.content) else None
        return _Prepared(stamp, prepare_whole(picture, recipe), properties=properties)
    except UnreadablePicture as error:
        return _Prepared(stamp, None, str(error), properties)
    except MemoryError:
        return _Prepared(stamp, None, "cannot be prepared (there is not enough memory)", properties)


def score_images(
    files: Sequence[Path],
    todo: Sequence[int],
    model: Answering,
    *,
    batch_size: int = 32,
    threads: int = 0,
    known: Callable[[bytes], bool] = lambda content: False,
    copies: bool = True,
    measuring: Callable[[bytes], bool] = lambda content: True,
) -> Iterator[ScoredBatch]:
    """Score ``files[i]`` for each i in ``todo``, in that order, yielding after every batch; ends early when stopped.

    Without ``copies`` the same content is scored again each time, ``measuring`` tells of which contents the properties of the photo are measured. What ``known`` says of a content hash is asked again when a
    batch is put together, after the batch before has been taken in: which images share a batch then depends on the files alone, not on timing, and so do the scores' last bits.
    At most three batches of prepared images are held, of large ones fewer. Pictures whose prepared sizes differ are scored
    one by one.
    """
    threads = threads or os.cpu_count() or 1
    pending: deque[tuple[int, Future[_Prepared]]] = deque()
    upcoming = iter(todo)
    pool = ThreadPoolExecutor(threads, thread_name_prefix="prepare")

    # As large as the largest image so far, so that next to nothing is spent on counting small ones.
    largest = 0

    def refill() -> None:
        while len(pending) < 3 * batch_size and (len(pending) < threads or len(pending) * largest < MOST_HELD):
            index = next(upcoming, None)
            if index is None:
                return
            pending.append((index, pool.submit(_prepare, files[index], model.recipe, known, measuring)))

    try:
        refill()
        while pending and not current_stop().stopped:
            indices: list[int] = []
            tensors: list[NDArray[Any]] = []
            unreadable: dict[int, str] = {}
            stamps: dict[int, Stamp] = {}
            copied: dict[int, bytes] = {}
            inside: set[bytes] = set()
            unfit: dict[int, str] = {}
            properties: dict[int, Values] = {}
            taken = 0
            # Copies cost next to nothing, so that a batch of them ends only to let progress be told.
            while (
                pending
                and len(indices) + len(unreadable) + len(unfit) < batch_size
                and len(copied) < 8 * batch_size
                and taken < MOST_HELD
            ):
                index, future = pending.popleft()
                made = future.result()
                refill()
                if made.stamp is not None:
                    stamps[index] = made.stamp
                    if (copies and made.stamp.content in inside) or known(made.stamp.content):
                        copied[index] = made.stamp.content
                        continue
                    inside.add(made.stamp.content)
                if made.properties is not None:
                    properties[index] = made.properties
                if made.tensor is None:
                    unreadable[index] = made.problem
                elif problem := model.misfit(made.tensor.shape):
                    unfit[index] = problem
                else:
                    taken += made.tensor.nbytes
                    largest = max(largest, made.tensor.nbytes)
                    indices.append(index)
                    tensors.append(made.tensor)
            try:
                rows = score_tensors(model, tensors)
            except Stopped:
                return  # ended in the middle: these images stay unscored
            yield ScoredBatch(
                np.array(indices, np.int64), rows, unreadable, stamps, copied, unfit, properties=properties
            )
    finally:
        pool.shutdown(wait=False, cancel_futures=True)


def score_tensors(model: Answering, tensors: Sequence[NDArray[Any]]) -> NDArray[np.float32]:
    """Raw rows of scores for prepared images, one by one where their sizes differ. InputError where the model stops with an error."""
    if not tensors:
        return np.zeros((0, model.columns), np.float32)
    try:
        if len({t.shape for t in tensors}) == 1:
            return model.scores(np.stack(tensors))
        return np.concatenate([model.scores(t[None]) for t in tensors])
    except EngineFault as error:
        raise InputError(
            f"the model stopped with an error ({short_reason(error)})",
            where=model.path,
            hint="check the recipe's size against the model's input",
        ) from error
