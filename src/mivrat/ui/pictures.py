"""Pictures for the screen: conversion to the toolkit's images, and thumbnails decoded off the main thread."""

from __future__ import annotations

from collections import OrderedDict
from pathlib import Path

import numpy as np
from numpy.typing import NDArray
from platformdirs import user_cache_path
from PySide6.QtCore import QObject, Signal
from PySide6.QtGui import QImage

from mivrat.core.errors import InputError
from mivrat.core.pictures.decode import UnreadablePicture
from mivrat.core.pictures.thumbnails import ThumbnailStore
from mivrat.ui.work import Work, Workers


def to_image(pixels: NDArray[np.uint8]) -> QImage:
    """A copy of height x width x 3 (RGB) or x 1 (grey) pixels as a QImage."""
    if pixels.shape[2] == 1:
        pixels = np.repeat(pixels, 3, axis=2)
    height, width = pixels.shape[:2]
    return QImage(np.ascontiguousarray(pixels).tobytes(), width, height, 3 * width, QImage.Format.Format_RGB888).copy()


class Thumbnails(QObject):
    """Decoded thumbnails, the least recently used forgotten first; ``ready`` tells that another has come."""

    ready = Signal()

    def __init__(self, most: int = 1500, side: int = 192) -> None:
        super().__init__()
        self._store = ThumbnailStore(user_cache_path("mivrat", appauthor=False) / "thumbnails")
        self._cache: OrderedDict[Path, QImage | None] = OrderedDict()
        self._pending: dict[Path, Work] = {}
        self._workers = Workers(2, self)
        self._most, self._side = most, side
        self._wanted: dict[int, set[Path]] = {}
        self._asked = 0

    def get(self, path: Path) -> tuple[QImage | None, bool]:
        """The thumbnail (None while it is decoded, or where the file cannot be read) and whether the answer is final."""
        if path in self._cache:
            self._cache.move_to_end(path)
            return self._cache[path], True
        if path not in self._pending:
            self._asked += 1
            side = self._side
            self._pending[path] = self._workers.start(
                lambda work: _thumbnail(self._store, path, side, work),
                done=lambda image: self._keep(path, image),
                failed=lambda _: self._keep(path, None),
                priority=self._asked,
            )
        return None, False

    def want(self, who: object, paths: set[Path]) -> None:
        """Say which files a view shows now (none: it shows nothing); what no view shows any more is given up."""
        self._wanted.pop(id(who), None)
        if paths:
            self._wanted[id(who)] = paths
        shown = set().union(*self._wanted.values())
        for path in [p for p in self._pending if p not in shown]:
            self._pending.pop(path).cancel()

    def _keep(self, path: Path, image: QImage | None) -> None:
        self._pending.pop(path, None)
        self._cache[path] = image
        while len(self._cache) > self._most:
            self._cache.popitem(last=False)
        self.ready.emit()

    @property
    def settled(self) -> bool:
        return not self._pending

    def stop(self) -> None:
        self._workers.stop_all()


def _thumbnail(store: ThumbnailStore, path: Path, side: int, work: Work) -> QImage | None:
    if work.stop.stopped:
        return None
    try:
        return to_image(store.get(path, side))
    except UnreadablePicture as error:
        raise InputError(str(error), where=path) from error
