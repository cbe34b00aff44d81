"""What a worker of a cluster does: it works on a block of images with a model that it has loaded once."""

from __future__ import annotations

import hashlib
import logging
import os
import tempfile
import threading
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, replace
from functools import lru_cache
from pathlib import Path
from typing import Generic, TypeVar, cast

import numpy as np

from mivrat.core.answers.scoring import ScoredBatch, score_images
from mivrat.core.answers.where import BlockWork
from mivrat.core.base.errors import InputError
from mivrat.core.base.files import sha256_of
from mivrat.core.models.model import Model
from mivrat.core.models.onnx_model import OnnxModel
from mivrat.core.pictures.containers import stat_if_there
from mivrat.core.pictures.recipe import Recipe

log = logging.getLogger(__name__)
Result = TypeVar("Result")


@dataclass(frozen=True)
class ModelRef:
    """A model by content: its file and those of its weights with their SHA-256, the recipe as JSON, and the number of classes."""

    path: str
    files: tuple[tuple[str, str], ...]
    recipe: str
    classes: int

    @property
    def key(self) -> tuple[object, ...]:
        """What it is, wherever its files lie."""
        return tuple(sha for _, sha in self.files), self.recipe, self.classes


@dataclass(frozen=True)
class Block:
    """Some images of a run. ``number`` counts blocks from 1; ``places`` are the images' positions in the run, ``paths`` their files and
    ``sizes`` these in bytes with the time of their last change in nanoseconds, as the client sees them (None: not there)."""

    number: int
    places: tuple[int, ...]
    paths: tuple[str, ...]
    sizes: tuple[tuple[int, int] | None, ...]

    @property
    def name(self) -> str:
        return f"block {self.number} (images {self.places[0] + 1} to {self.places[-1] + 1})"


@dataclass(frozen=True)
class Lacking:
    """A worker does not see the same files: the ``model``'s, or the images'. It is to be sent them."""

    model: bool
    images: bool


@dataclass(frozen=True)
class Done(Generic[Result]):
    """What came of a block."""

    result: Result


@dataclass(frozen=True)
class Refused:
    """A worker cannot work on a block, for a reason that is not the cluster's."""

    what: str
    where: str
    hint: str

    @property
    def error(self) -> InputError:
        return InputError(self.what, where=self.where, hint=self.hint)


def model_ref(model: OnnxModel) -> ModelRef:
    """A loaded model by content."""
    files = (model.path, *model.weights)
    told = tuple((str(one.resolve()), sha256_of(one)) for one in files)
    return ModelRef(str(model.path.resolve()), told, model.recipe.model_dump_json(), model.class_count)


def blocks_of(files: Sequence[Path], todo: Sequence[int], in_block: int) -> Iterator[Block]:
    """The images of ``todo`` in blocks of so many, in their order; files are looked at as their block is asked for."""
    for number, first in enumerate(range(0, len(todo), in_block), 1):
        places = tuple(todo[first : first + in_block])
        paths = [files[i] for i in places]
        yield Block(number, places, tuple(str(one.absolute()) for one in paths), tuple(map(stat_if_there, paths)))


# What was sent is kept as long as the worker lives; a model is loaded by one task, and used by one at a time.
_sent = tempfile.TemporaryDirectory(prefix="mivrat-worker-")
_lock = threading.Lock()


@lru_cache(maxsize=2)
def _loaded(key: tuple[object, ...], path: str, recipe: str, classes: int, threads: int) -> OnnxModel:
    return OnnxModel(Path(path), Recipe.model_validate_json(recipe), classes, threads)


@lru_cache(maxsize=64)
def _is_same(path: str, sha: str, size: tuple[int, int] | None) -> bool:
    return size is not None and sha256_of(Path(path)) == sha


def _model(ref: ModelRef, sent: Mapping[str, bytes] | None, threads: int) -> OnnxModel | None:
    """The model, from its own place or from what was sent; None where neither is there. InputError where what was sent is another."""
    folder = Path(_sent.name) / ref.files[0][1]
    kept = folder / Path(ref.path).name
    if all(_is_same(path, sha, stat_if_there(path)) for path, sha in ref.files):
        return _loaded(ref.key, ref.path, ref.recipe, ref.classes, threads)
    if sent is not None and not kept.exists():
        root, wanted = Path(ref.path).parent, dict(ref.files)
        for path, data in sent.items():
            if hashlib.sha256(data).hexdigest() != wanted.get(path):
                raise InputError("has changed since it was loaded", where=path, hint="begin the run again")
            place = folder / os.path.relpath(path, root)
            place.parent.mkdir(parents=True, exist_ok=True)
            place.write_bytes(data)
    return _loaded(ref.key, str(kept), ref.recipe, ref.classes, threads) if kept.exists() else None


@dataclass(frozen=True)
class Scoring:
    """Scores the images of a block as one machine would: the same batches, and copies inside the block told as such."""

    batch_size: int

    def do(self, model: Model, files: Mapping[int, Path], threads: int) -> list[ScoredBatch]:
        places = list(files)
        found = score_images(
            list(files.values()),
            range(len(places)),
            cast("OnnxModel", model),
            batch_size=self.batch_size,
            threads=threads,
        )
        return [_at(batch, places) for batch in found]


def work_on_block(
    ref: ModelRef,
    block: Block,
    work: BlockWork[Result],
    threads: int,
    sent_model: Mapping[str, bytes] | None = None,
    sent_images: Mapping[int, bytes] | None = None,
) -> Done[Result] | Lacking | Refused:
    """Do a piece of work on the images of a block.

    ``sent_model`` and ``sent_images`` are the contents of files that a worker has said it lacks, by path and by position.
    """
    with _lock:
        try:
            model = _model(ref, sent_model, threads)
            same = sent_images is not None or tuple(map(stat_if_there, block.paths)) == block.sizes
            if model is None or not same:
                return Lacking(model is None, not same)
            log.info("at work on %s", block.name)
            with tempfile.TemporaryDirectory(dir=_sent.name) as folder:
                files = {i: Path(path) for i, path in zip(block.places, block.paths, strict=True)}
                if sent_images is not None:
                    files |= _written(block, sent_images, Path(folder))
                return Done(work.do(model, files, threads))
        except InputError as error:
            return Refused(error.what, error.where, error.hint)


def _written(block: Block, sent: Mapping[int, bytes], folder: Path) -> dict[int, Path]:
    """The images that were sent, as files of the same age; what the client could not read stays away here, too."""
    made = {}
    for i, path, about in zip(block.places, block.paths, block.sizes, strict=True):
        made[i] = folder / str(i) / Path(path).name
        if i in sent and about is not None:
            made[i].parent.mkdir()
            made[i].write_bytes(sent[i])
            os.utime(made[i], ns=(about[1], about[1]))
    return made


def _at(batch: ScoredBatch, places: Sequence[int]) -> ScoredBatch:
    """A batch of a block with its images' positions in the run."""
    return replace(
        batch,
        scored=np.array([places[i] for i in batch.scored.tolist()], np.int64),
        unreadable={places[i]: one for i, one in batch.unreadable.items()},
        stamps={places[i]: one for i, one in batch.stamps.items()},
        copies={places[i]: one for i, one in batch.copies.items()},
        unfit={places[i]: one for i, one in batch.unfit.items()},
        properties={places[i]: one for i, one in batch.properties.items()},
    )
