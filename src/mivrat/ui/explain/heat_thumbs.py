"""Thumbnails with their heat, drawn off the main thread for the images in sight whose map is known."""

from __future__ import annotations

import logging
from collections import OrderedDict
from dataclasses import replace
from pathlib import Path

from PySide6.QtCore import QObject, QRunnable, QThreadPool, Signal
from PySide6.QtGui import QImage

from mivrat.core.base.errors import InputError
from mivrat.core.heatmaps.maps import SIGNED, Map
from mivrat.core.heatmaps.overlay import overlay
from mivrat.core.pictures.preview import preview
from mivrat.core.pictures.recipe import Recipe
from mivrat.ui.explain.explainer import Explainer
from mivrat.ui.pictures import Thumbnails, to_image

log = logging.getLogger(__name__)
MOST = 600
OPACITY, SIDE = 0.7, 192


class HeatThumbs(QObject):
    """``get`` gives an image's thumbnail with heat, None where it has no map or is still being drawn."""

    _made = Signal(object, object)

    def __init__(self, explainer: Explainer, thumbnails: Thumbnails) -> None:
        super().__init__()
        self.on = False
        self._explainer, self._thumbnails = explainer, thumbnails
        self._cache: OrderedDict[tuple[object, ...], QImage] = OrderedDict()
        self._pending: set[tuple[object, ...]] = set()
        self._pool = QThreadPool(self)
        self._pool.setMaxThreadCount(1)
        self._made.connect(self._keep)

    def switch(self, on: bool) -> None:
        self.on = on
        self._thumbnails.ready.emit()

    def get(self, image: int) -> QImage | None:
        """An image's thumbnail with its heat; one that is not drawn yet is asked for."""
        heat, snapshot = self._explainer.maps.get(image), self._explainer.session.snapshot
        if not self.on or heat is None or snapshot is None:
            return None
        setup = self._explainer.setup
        key = snapshot.record.key, image, setup, hash(heat.tobytes())
        if key in self._cache:
            self._cache.move_to_end(key)
            return self._cache[key]
        if key not in self._pending:
            self._pending.add(key)
            file, scale = snapshot.record.image_set.file(image), "difference" if setup.method in SIGNED else "heat"
            self._pool.start(_Drawing(self, key, file, heat, snapshot.record.recipe, scale))
        return None

    def make(self, key: tuple[object, ...], file: Path, heat: Map, recipe: Recipe, scale: str) -> None:
        """Called in a worker: draw one."""
        image = None
        try:
            seen = preview(file, recipe, SIDE)
            place = replace(seen.place, picture=seen.photo.shape[:2])
            drawn = overlay(seen.photo, heat, place, opacity=OPACITY, scale=scale)
            image = to_image(drawn).convertToFormat(QImage.Format.Format_RGB32)
        except InputError:
            pass  # the file is gone since
        except Exception:
            log.exception("no heat for %s", file)
        self._made.emit(key, image)

    def _keep(self, key: tuple[object, ...], image: QImage | None) -> None:
        self._pending.discard(key)
        if image is not None:
            self._cache[key] = image
            while len(self._cache) > MOST:
                self._cache.popitem(last=False)
            self._thumbnails.ready.emit()

    @property
    def settled(self) -> bool:
        return not self._pending

    def stop(self) -> None:
        self._pool.clear()
        self._pool.waitForDone()


class _Drawing(QRunnable):
    """One thumbnail to be drawn."""

    def __init__(
        self, thumbs: HeatThumbs, key: tuple[object, ...], file: Path, heat: Map, recipe: Recipe, scale: str
    ) -> None:
        super().__init__()
        self._thumbs, self._wanted = thumbs, (key, file, heat, recipe, scale)

    def run(self) -> None:
        self._thumbs.make(*self._wanted)
