"""Heatmaps of many images of a run, worked out in the background and kept in the user's cache, found again by content."""

from __future__ import annotations

import time
from collections.abc import Iterator, Mapping, Sequence
from concurrent.futures import ThreadPoolExecutor
from typing import Any

import numpy as np
from numpy.typing import NDArray

from mivrat.core.answers.judged import EvaluatedRun
from mivrat.core.answers.remote_scoring import remote_of
from mivrat.core.base.blob_cache import BlobCache, KeptArrays, user_cache
from mivrat.core.base.job import Meter, Progress, Stopped, current_stop
from mivrat.core.heatmaps.combining import combined
from mivrat.core.heatmaps.maps import Map, MapMaker, Target
from mivrat.core.heatmaps.methods import BY_GRADIENT
from mivrat.core.heatmaps.setup import MapSetup
from mivrat.core.pictures.decode import UnreadablePicture
from mivrat.core.pictures.prepare import prepare_file
from mivrat.core.pictures.recipe import canonical
from mivrat.core.study.records import RunRecord

BATCH = 32
# What has been worked out is written down after so many seconds, not only in the end.
KEPT_EVERY = 20.0
# To be changed whenever maps come to be made otherwise, so that older ones are not taken for them.
MADE_AS = "maps 3"


class KeptMaps:
    """The maps of a run's images under one setup: ``maps`` holds those known by position."""

    def __init__(
        self,
        record: RunRecord,
        judged: EvaluatedRun,
        setup: MapSetup,
        contents: Mapping[int, bytes],
        cache: BlobCache | None = None,
    ) -> None:
        """``contents`` tells the pictures' hashes by position, as far as they have been read; those without have no map."""
        self._record, self._judged, self.setup = record, judged, setup
        self._contents = contents
        key = "\n".join((MADE_AS, record.model_sha256, canonical(record.recipe), setup.method, *setup.layers))
        self._cache = KeptArrays(cache or user_cache("maps"), key, 2)
        self.maps: dict[int, Map] = {}
        for image in contents:
            target = setup.target(judged, image)
            if target is not None and (found := self._cache.known.get(self._key(image, target))) is not None:
                self.maps[image] = found

    def _key(self, image: int, target: Target) -> bytes:
        classes = np.array([target.of, -1 if target.against is None else target.against], "<i4")
        return self._contents[image] + classes.tobytes()

    def pending(self, images: Sequence[int]) -> list[int]:
        """Those images that can have a map and have none yet."""
        return [
            i
            for i in images
            if i in self._contents and i not in self.maps and self.setup.target(self._judged, i) is not None
        ]

    def run(self, maker: MapMaker, images: Sequence[int]) -> Iterator[Progress]:
        """Work out the maps that are missing of some images, yielding progress; ends early when stopped, and what is done is
        kept. A file that cannot be read has no map."""
        todo = self.pending(images)
        meter, done, kept_at = Meter(len(images), len(images) - len(todo)), len(images) - len(todo), time.monotonic()
        remote = remote_of(maker.model)
        before = remote.tally.sent if remote is not None else 0
        yield meter.at(done)
        size = BATCH if self.setup.method in BY_GRADIENT else 1
        try:
            with ThreadPoolExecutor(2) as pool:
                chunks = [todo[i : i + size] for i in range(0, len(todo), size)]
                coming = pool.map(self._prepare, chunks[0]) if chunks else iter(())
                for at, chunk in enumerate(chunks):
                    if current_stop().stopped:
                        return
                    tensors = list(coming)
                    if at + 1 < len(chunks):
                        coming = pool.map(self._prepare, chunks[at + 1])
                    self._take(maker, chunk, tensors)
                    done += len(chunk)
                    if time.monotonic() - kept_at > KEPT_EVERY:
                        self._cache.keep()
                        kept_at = time.monotonic()
                    yield meter.at(done, f"{remote.tally.sent - before} requests" if remote is not None else "")
        except Stopped:
            return
        finally:
            if done > meter.total - len(todo):
                self._cache.keep()

    def _prepare(self, image: int) -> NDArray[Any] | None:
        try:
            return prepare_file(self._record.image_set.file(image), self._record.recipe)
        except UnreadablePicture:
            return None

    def _take(self, maker: MapMaker, chunk: Sequence[int], tensors: Sequence[NDArray[Any] | None]) -> None:
        read = [(i, t) for i, t in zip(chunk, tensors, strict=True) if t is not None]
        for shape in dict.fromkeys(t.shape for _, t in read):  # without a fixed size pictures differ
            some = [(i, t) for i, t in read if t.shape == shape]
            targets = [self.setup.target(self._judged, i) for i, _ in some]
            found = maps_of_setup(
                maker, np.stack([t for _, t in some]), [t for t in targets if t is not None], self.setup
            )
            for (image, _), target, heat in zip(some, targets, found, strict=True):
                assert target is not None
                self.maps[image] = self._cache.known[self._key(image, target)] = heat


def maps_of_setup(
    maker: MapMaker, batch: NDArray[Any], targets: Sequence[Target], setup: MapSetup, seed: int = 0
) -> list[Map]:
    """The maps that a setup asks for, one for each prepared image; several layers put together.

    ``batch`` is N × C × H × W, or N × H × W × C; returns N maps, h × w each.
    """
    layers = [maker.layer_for(setup.method, name) for name in setup.layers or (None,)]
    found = maker.laid_maps(batch, targets, [one for one in layers if one is not None], setup.method, seed)
    if len(found) == 1:
        return list(found[0])
    return [combined([of_layer[i] for of_layer in found]) for i in range(len(batch))]
