"""Pictures for the screen: conversion to the toolkit's images, and thumbnails decoded off the main thread."""

from __future__ import annotations

from collections import OrderedDict
from pathlib import Path

import numpy as np
from numpy.typing import NDArray
from PySide6.QtCore import QObject, QTimer, Signal
from PySide6.QtGui import QImage

from mivrat.core.pictures.containers import stat_if_there
from mivrat.core.pictures.decode import UnreadablePicture
from mivrat.core.pictures.thumbnails import ThumbnailStore
from mivrat.workspace.executors import Executor


def to_image(pixels: NDArray[np.uint8]) -> QImage:
    """A copy of height x width x 3 (RGB) or x 1 (grey) pixels as a QImage."""
    if pixels.shape[2] == 1:
        pixels = np.repeat(pixels, 3, axis=2)
    height, width = pixels.shape[:2]
    return QImage(np.ascontiguousarray(pixels).tobytes(), width, height, 3 * width, QImage.Format.Format_RGB888).copy()


# Milliseconds between two looks at files that could not be read.
LOOKED_AGAIN = 3000


class Thumbnails(QObject):
    """Decoded thumbnails, the least recently used forgotten first; ``ready`` tells that another has come."""

    ready = Signal()

    def __init__(self, executor: Executor, most: int = 600, side: int = 192) -> None:
        super().__init__()
        self._store = ThumbnailStore()
        self._cache: OrderedDict[Path, QImage | None] = OrderedDict()
        self._pending: set[Path] = set()
        self._wanted: dict[int, set[Path]] = {}
        self._workers = executor.group(2)
        self._most, self._side = most, side
        self._asked = 0
        # What files that gave no thumbnail were like: those in sight are looked at again now and then, as a folder may come back.
        self._failed: dict[Path, tuple[int, int] | None] = {}
        self._again = QTimer(self, interval=LOOKED_AGAIN)
        self._again.timeout.connect(self._look_again)

    def get(self, path: Path) -> tuple[QImage | None, bool]:
        """The thumbnail (None while it is decoded, or where the file cannot be read) and whether the answer is final; one
        that is not known is made."""
        found = self.known(path)
        if not found[1] and path not in self._pending:
            self._asked += 1
            self._pending.add(path)
            # The one asked for last comes first: it is the one looked at.
            self._start(path, self._asked)
        return found

    def known(self, path: Path) -> tuple[QImage | None, bool]:
        """The thumbnail if it has been made, and whether it has, as ``get`` tells it; nothing is made."""
        if path not in self._cache:
            return None, False
        self._cache.move_to_end(path)
        return self._cache[path], True

    def want(self, who: object, paths: set[Path]) -> None:
        """Say which files a view shows now (none: it shows nothing); what no view shows any more is given up."""
        self._wanted.pop(id(who), None)
        if paths:
            self._wanted[id(who)] = paths
            if not self._again.isActive() and self._failed.keys() & paths:
                self._again.start()
        self._pending &= set().union(*self._wanted.values())

    def _start(self, path: Path, priority: int) -> None:
        self._workers.start(
            lambda task: self._make(path),
            done=lambda made: None if made is None else self._keep(path, *made),
            priority=priority,
        )

    def _make(self, path: Path) -> tuple[QImage | None, tuple[int, int] | None] | None:
        """Called in a worker: a thumbnail with what its file is like; None where nobody waits for it any more."""
        if path not in self._pending:
            return None
        like = stat_if_there(path)
        if path in self._failed and self._failed[path] == like:
            return None, like
        try:
            # In the screen's own format, so that painting does not convert it each time.
            return to_image(self._store.get(path, self._side)).convertToFormat(QImage.Format.Format_RGB32), like
        except UnreadablePicture:
            return None, like

    def _look_again(self) -> None:
        """Make those thumbnails again that are in sight and failed; of files that are as they were nothing is read."""
        failed = self._failed.keys() & set().union(*self._wanted.values())
        if not failed:
            self._again.stop()
        for path in failed - self._pending:
            self._pending.add(path)
            self._start(path, 0)

    def _keep(self, path: Path, image: QImage | None, like: tuple[int, int] | None) -> None:
        self._pending.discard(path)
        if image is None:
            self._again.start()
            if path in self._failed and self._failed[path] == like and path in self._cache:
                return
            self._failed[path] = like
        else:
            self._failed.pop(path, None)
        self._cache[path] = image
        while len(self._cache) > self._most:
            self._failed.pop(self._cache.popitem(last=False)[0], None)
        self.ready.emit()

    @property
    def settled(self) -> bool:
        return not self._pending

    def stop(self) -> None:
        self._again.stop()
        self._pending.clear()
        self._workers.stop_all()
        self._store.close()
