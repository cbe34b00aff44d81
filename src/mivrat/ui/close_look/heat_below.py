"""Another answer to the image looked at with its evidence, below that of the run shown."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from PySide6.QtGui import QImage
from PySide6.QtWidgets import QVBoxLayout, QWidget

from mivrat.core.base.errors import InputError
from mivrat.core.gradients.layers import short_name
from mivrat.core.heatmaps.overlay import overlay
from mivrat.ui.parts.picture_panel import PicturePanel, Zoom
from mivrat.ui.parts.pictures import to_image
from mivrat.ui.parts.widgets import label, row
from mivrat.workspace.executors import LatestOnly
from mivrat.workspace.image_view import HeatmapSet, ImageView
from mivrat.workspace.workspace import Workspace


@dataclass(frozen=True)
class Drawing:
    """How heat is laid over the photo: its opacity, its colours, and whether all maps are divided by the highest peak."""

    opacity: float
    scale: str
    common: bool


class HeatBelow(QWidget):
    """Another answer to the image looked at, in words, with its maps for two classes side by side."""

    def __init__(self, workspace: Workspace, zoom: Zoom) -> None:
        super().__init__()
        self.workspace = workspace
        self._workers, self._drawers = workspace.group(1), workspace.group(1)
        self._finding, self._drawing = LatestOnly(self._workers), LatestOnly(self._drawers)
        self._found: tuple[ImageView, HeatmapSet] | None = None
        self.name, self.says, self.layer = label(wrap=True), label(wrap=True), label(soft=True, wrap=True)
        self.panels = [PicturePanel("evidence for"), PicturePanel("evidence for")]
        for panel in self.panels:
            panel.share(zoom)
        said = QWidget()
        beside = QVBoxLayout(said)
        beside.setContentsMargins(0, 0, 0, 0)
        for one in (self.name, self.says, self.layer):
            beside.addWidget(one)
        beside.addStretch(1)
        whole = row(said, *self.panels, spacing=12)
        for i in range(3):
            whole.setStretch(i, 1)
        self.setLayout(whole)
        self.hide()

    def _none(self, error: InputError) -> None:
        for panel in self.panels:
            panel.show_image(None, f"{error.what}. {error.hint}")

    def _take(self, found: tuple[ImageView, HeatmapSet], drawing: Drawing) -> None:
        self._found = found
        layer = found[1].layer
        self.layer.setText(
            f"layer {short_name(layer.tensor)}, {layer.grid[0]} × {layer.grid[1]}" if layer is not None else ""
        )
        self.redraw(drawing)

    def redraw(self, drawing: Drawing) -> None:
        """Draw the maps, once they are known."""
        if self._found is None:
            return
        look, evidence = self._found
        common = max(float(np.abs(m).max()) for m in evidence.maps) if drawing.common else None
        self._drawing.start(
            lambda task: [
                to_image(
                    overlay(look.photo, heat, look.place, opacity=drawing.opacity, scale=drawing.scale, peak=common)
                )
                for heat in evidence.maps
            ],
            done=self._drawn,
        )

    def _drawn(self, images: list[QImage]) -> None:
        if self._found is None:
            return
        evidence, names = self._found[1], self.workspace.shown.classes
        for panel, image, k, heat in zip(self.panels, images, evidence.classes, evidence.maps, strict=False):
            panel.show_image(image)
            peak = float(np.abs(heat).max())
            panel.set_caption("evidence for", names[k], f"peak {peak:.3g}" if peak > 0 else "peak 0, all zero")

    @property
    def settled(self) -> bool:
        return not self._workers.busy and not self._drawers.busy

    def stop(self) -> None:
        self._workers.stop_all()
        self._drawers.stop_all()

    def _forget(self) -> None:
        """Nothing is known of the image shown now."""
        self._finding.cancel()
        self._drawing.cancel()
        self._found = None

    def _wait(self, text: str) -> None:
        for panel in self.panels:
            panel.frame = None
            panel.show_image(None, text)
            panel.set_caption("evidence")
