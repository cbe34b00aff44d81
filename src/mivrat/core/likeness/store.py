"""Works out a run's features, image by image, and keeps them in the user's cache, found again by the pictures' content."""

from __future__ import annotations

from collections.abc import Iterator, Mapping

import numpy as np
from numpy.typing import NDArray

from mivrat.core.answers.scoring import score_images
from mivrat.core.base.blob_cache import BlobCache, KeptArrays, user_cache
from mivrat.core.base.errors import InputError
from mivrat.core.base.job import Meter, Progress
from mivrat.core.likeness.features import FeatureModel, Vectors
from mivrat.core.models.onnx_model import OnnxModel
from mivrat.core.pictures.recipe import canonical
from mivrat.core.study.records import RunRecord

# What has been worked out is kept after so many images, not only in the end.
KEPT_EVERY = 10_000


class Features:
    """The features of a run's images: ``vectors`` holds a unit row for each listed image, NaN where it is not known (yet)."""

    def __init__(self, record: RunRecord, contents: Mapping[int, bytes], cache: BlobCache | None = None) -> None:
        """``contents`` tells the pictures' hashes by position, as far as they have been read."""
        self._record, self._contents = record, dict(contents)
        key = f"{record.model_sha256}\n{canonical(record.recipe)}"
        self._cache = KeptArrays(cache or user_cache("features"), key, 1, alike=True)
        self._known = self._cache.known
        self.vectors: Vectors = np.full((len(record.image_set.items), 0), np.nan, np.float32)
        if self._known:
            self._spread(len(next(iter(self._known.values()))))

    def _spread(self, width: int) -> None:
        """Give every image whose content is known its vector."""
        if self.vectors.shape[1] != width:
            self.vectors = np.full((len(self.vectors), width), np.nan, np.float32)
        for position, content in self._contents.items():
            if content in self._known:
                self.vectors[position] = self._known[content]

    @property
    def pending(self) -> NDArray[np.int64]:
        """The readable images that have no vector yet."""
        if not self.vectors.shape[1]:
            missing = np.ones(len(self.vectors), bool)
        else:
            missing = np.isnan(self.vectors[:, 0])
        missing[[i for i in self._record.answers.reasons if i < len(missing)]] = False
        return np.flatnonzero(missing)

    def run(self) -> Iterator[Progress]:
        """Work out what is pending, yielding progress; ends early when stopped. InputError where the model is no ONNX file."""
        record, todo = self._record, self.pending
        meter = Meter(len(self.vectors), len(self.vectors) - len(todo))
        done = meter.total - len(todo)
        yield meter.at(done)
        if not len(todo):
            return
        if not record.kind.can.features:
            raise InputError(
                f"{record.kind.called} has no features",
                where=record.model_path,
                hint="likeness needs the model itself, as an ONNX file",
            )
        model = FeatureModel(OnnxModel(record.model_path, record.recipe, len(record.classes)))
        self._spread(model.columns)
        files = record.image_set.files()
        unkept = 0
        for batch in score_images(files, todo.tolist(), model, known=self._known.__contains__):
            self._contents.update({i: stamp.content for i, stamp in batch.stamps.items()})
            for i, vector in zip(batch.scored.tolist(), batch.rows, strict=True):
                self._known[self._contents[i]] = self.vectors[i] = vector
            for i, content in batch.copies.items():
                self.vectors[i] = self._known[content]
            done, unkept = done + batch.images, unkept + len(batch.scored)
            if unkept >= KEPT_EVERY:
                self._cache.keep()
                unkept = 0
            yield meter.at(done)
        self._cache.keep()
