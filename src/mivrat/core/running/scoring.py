"""Decodes, prepares and scores images batch by batch; decoding runs ahead of scoring, with bounded memory."""

from __future__ import annotations

import os
from collections import deque
from collections.abc import Iterator, Sequence
from concurrent.futures import Future, ThreadPoolExecutor
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from mivrat.core.errors import InputError
from mivrat.core.models.onnx_model import OnnxModel, short_reason
from mivrat.core.pictures.decode import UnreadablePicture
from mivrat.core.pictures.prepare import prepare_file
from mivrat.core.pictures.recipe import Recipe
from mivrat.core.running.job import StopSignal


@dataclass(frozen=True)
class ScoredBatch:
    """Answers for some images: their indices, raw score rows for the readable ones, and the unreadable ones' reasons."""

    scored: NDArray[np.int64]
    rows: NDArray[np.float32]
    unreadable: dict[int, str]


def _prepared(path: Path, recipe: Recipe) -> NDArray[Any] | str:
    try:
        return prepare_file(path, recipe)
    except UnreadablePicture as error:
        return str(error)


def score_images(
    files: Sequence[Path],
    todo: Sequence[int],
    model: OnnxModel,
    *,
    batch_size: int = 32,
    threads: int = 0,
    stop: StopSignal | None = None,
) -> Iterator[ScoredBatch]:
    """Score ``files[i]`` for each i in ``todo``, in that order, yielding after every batch; ends early when stopped.

    At most three batches of prepared images are held. Pictures whose prepared sizes differ are scored one by one.
    """
    threads = threads or os.cpu_count() or 1
    pending: deque[tuple[int, Future[NDArray[Any] | str]]] = deque()
    upcoming = iter(todo)
    pool = ThreadPoolExecutor(threads, thread_name_prefix="prepare")

    def refill() -> None:
        while len(pending) < 3 * batch_size:
            index = next(upcoming, None)
            if index is None:
                return
            pending.append((index, pool.submit(_prepared, files[index], model.recipe)))

    try:
        refill()
        while pending and not (stop and stop.stopped):
            indices: list[int] = []
            tensors: list[NDArray[Any]] = []
            unreadable: dict[int, str] = {}
            while pending and len(indices) + len(unreadable) < batch_size:
                index, future = pending.popleft()
                outcome = future.result()
                refill()
                if isinstance(outcome, str):
                    unreadable[index] = outcome
                else:
                    indices.append(index)
                    tensors.append(outcome)
            yield ScoredBatch(np.array(indices, np.int64), _scores(model, tensors), unreadable)
    finally:
        pool.shutdown(wait=False, cancel_futures=True)


def _scores(model: OnnxModel, tensors: list[NDArray[Any]]) -> NDArray[np.float32]:
    if not tensors:
        return np.zeros((0, model.columns), np.float32)
    try:
        if len({t.shape for t in tensors}) == 1:
            return model.scores(np.stack(tensors))
        return np.concatenate([model.scores(t[None]) for t in tensors])
    except Exception as error:
        raise InputError(
            f"the model stopped with an error ({short_reason(error)})",
            where=model.path,
            mend="check the recipe's size against the model's input",
        ) from error
