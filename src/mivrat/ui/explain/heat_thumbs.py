"""Thumbnails with their heat, drawn off the main thread for the images in sight whose map is known."""

from __future__ import annotations

from collections import OrderedDict
from dataclasses import replace
from pathlib import Path

from PySide6.QtGui import QImage

from mivrat.core.base.errors import InputError
from mivrat.core.heatmaps.maps import Map
from mivrat.core.heatmaps.methods import SIGNED
from mivrat.core.heatmaps.overlay import overlay
from mivrat.core.pictures.preview import preview
from mivrat.core.pictures.recipe import Recipe
from mivrat.ui.parts.pictures import Thumbnails, to_image
from mivrat.workspace.explaining import Explainer

MOST = 600
OPACITY, SIDE = 0.7, 192


class HeatThumbs:
    """``get`` gives an image's thumbnail with heat, None where it has no map or is still being drawn."""

    def __init__(self, explainer: Explainer, thumbnails: Thumbnails) -> None:
        self.on = False
        self._explainer, self._thumbnails = explainer, thumbnails
        self._cache: OrderedDict[tuple[object, ...], QImage] = OrderedDict()
        self._pending: set[tuple[object, ...]] = set()
        self._workers = explainer.workspace.group(1)
        explainer.workspace.topics.left.connect(self._pending.clear)

    def switch(self, on: bool) -> None:
        self.on = on
        self._thumbnails.ready.emit()

    def get(self, image: int) -> QImage | None:
        """An image's thumbnail with its heat; one that is not drawn yet is asked for."""
        heat, snapshot = self._explainer.maps.get(image), self._explainer.workspace.shown.snapshot
        if not self.on or heat is None:
            return None
        setup = self._explainer.setup
        key = snapshot.record.key, image, setup, hash(heat.tobytes())
        if key in self._cache:
            self._cache.move_to_end(key)
            return self._cache[key]
        if key not in self._pending:
            self._pending.add(key)
            file, scale = snapshot.record.image_set.file(image), "difference" if setup.method in SIGNED else "heat"
            recipe = snapshot.record.recipe
            self._workers.start(
                lambda task: _drawn(file, heat, recipe, scale), done=lambda image: self._keep(key, image)
            )
        return None

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
        self._workers.stop_all()
        self._pending.clear()


def _drawn(file: Path, heat: Map, recipe: Recipe, scale: str) -> QImage | None:
    """One thumbnail with its heat; None where the file is gone since."""
    try:
        seen = preview(file, recipe, SIDE)
    except InputError:
        return None
    place = replace(seen.place, picture=seen.photo.shape[:2])
    drawn = overlay(seen.photo, heat, place, opacity=OPACITY, scale=scale)
    return to_image(drawn).convertToFormat(QImage.Format.Format_RGB32)
