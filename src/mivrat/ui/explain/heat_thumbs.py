"""Thumbnails with their heat, drawn off the main thread for the images in sight whose map is known."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path

from PySide6.QtGui import QImage

from mivrat.core.base.errors import InputError
from mivrat.core.heatmaps.maps import Map
from mivrat.core.heatmaps.methods import SIGNED
from mivrat.core.heatmaps.overlay import overlay
from mivrat.core.pictures.preview import preview
from mivrat.core.pictures.recipe import Recipe
from mivrat.ui.parts.drawn_thumbs import DrawnThumbs
from mivrat.ui.parts.pictures import Thumbnails, to_image
from mivrat.workspace.explaining import Explainer

OPACITY, SIDE = 0.7, 192


class HeatThumbs(DrawnThumbs):
    """``get`` gives an image's thumbnail with heat, None where it has no map or is still being drawn."""

    def __init__(self, explainer: Explainer, thumbnails: Thumbnails) -> None:
        super().__init__(explainer.workspace, thumbnails)
        self.on = False
        self._explainer = explainer

    def switch(self, on: bool) -> None:
        self.on = on
        self._thumbnails.ready.emit()

    def get(self, image: int) -> QImage | None:
        """An image's thumbnail with its heat; one that is not drawn yet is asked for."""
        heat, record = self._explainer.maps.get(image), self.workspace.shown.record
        if not self.on or heat is None:
            return None
        setup = self._explainer.setup
        scale = "difference" if setup.method in SIGNED else "heat"
        file, recipe = record.image_set.file(image), record.recipe
        key = record.key, image, setup, hash(heat.tobytes())
        return self.drawn(key, lambda: _drawn(file, heat, recipe, scale))


def _drawn(file: Path, heat: Map, recipe: Recipe, scale: str) -> QImage | None:
    """One thumbnail with its heat; None where the file is gone since."""
    try:
        seen = preview(file, recipe, SIDE)
    except InputError:
        return None
    place = replace(seen.place, picture=seen.photo.shape[:2])
    drawn = overlay(seen.photo, heat, place, opacity=OPACITY, scale=scale)
    return to_image(drawn).convertToFormat(QImage.Format.Format_RGB32)
