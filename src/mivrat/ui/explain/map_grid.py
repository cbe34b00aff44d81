"""Mean maps side by side, each with its name and number of images; a click or Enter selects those images."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from PySide6.QtCore import QEvent, QRectF, QSize, Qt, Signal
from PySide6.QtGui import QFont, QHelpEvent, QImage, QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen, QResizeEvent
from PySide6.QtWidgets import QSizePolicy, QToolTip, QWidget

from mivrat.core.heatmaps.combining import MeanMap
from mivrat.core.heatmaps.hottest import laid_over
from mivrat.core.heatmaps.overlay import heat_colours, normalised
from mivrat.ui.parts.pictures import to_image
from mivrat.ui.parts.widgets import plain
from mivrat.ui.theme import font, theme

SIDE, GAP, WORDS = 104, 12, 50


@dataclass(frozen=True)
class NamedMap:
    """One mean map ready to be painted; ``images`` are those it is of."""

    name: str
    mean: MeanMap
    picture: QImage
    images: tuple[int, ...]


def picture_of(heat: np.ndarray, signed: bool, side: int = SIDE) -> QImage:
    """A map by itself on its colour scale, divided by its peak."""
    height, width = heat.shape
    scale = side / max(height, width)
    large = laid_over(normalised(heat).astype(np.float32), max(1, round(height * scale)), max(1, round(width * scale)))
    return to_image(np.round(heat_colours(large, "difference" if signed else "heat")).astype(np.uint8))


class MapGrid(QWidget):
    """As many in a line as fit."""

    chosen = Signal(int)

    def __init__(self) -> None:
        super().__init__()
        self.maps: list[NamedMap] = []
        self.at = 0
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        policy = QSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        policy.setHeightForWidth(True)
        self.setSizePolicy(policy)
        theme.changed.connect(self.update)

    def show_maps(self, maps: Sequence[NamedMap]) -> None:
        self.maps, self.at = list(maps), 0
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus if maps else Qt.FocusPolicy.NoFocus)
        self._fit()
        self._notify()
        self.update()

    def _notify(self) -> None:
        if self.maps:
            self.setAccessibleName(f"mean maps, {self._words(self.maps[self.at])}")

    @staticmethod
    def _words(one: NamedMap) -> str:
        zero = f", {one.mean.zero} all zero" if one.mean.zero else ""
        return f"{one.name}: N = {one.mean.total}{zero}"

    @property
    def _columns(self) -> int:
        return max(1, (self.width() + GAP) // (SIDE + GAP))

    def heightForWidth(self, width: int) -> int:
        columns = max(1, (width + GAP) // (SIDE + GAP))
        return -(-len(self.maps) // columns) * (SIDE + WORDS + GAP)

    def hasHeightForWidth(self) -> bool:
        return True

    def sizeHint(self) -> QSize:
        return QSize(2 * SIDE, self.heightForWidth(max(self.width(), 2 * SIDE)))

    def _fit(self) -> None:
        self.setFixedHeight(self.heightForWidth(max(self.width(), SIDE)))

    def resizeEvent(self, event: QResizeEvent) -> None:
        self._fit()

    def rect_of(self, i: int) -> QRectF:
        line, column = divmod(i, self._columns)
        return QRectF(column * (SIDE + GAP), line * (SIDE + WORDS + GAP), SIDE, SIDE)

    def _found(self, x: float, y: float) -> int:
        return next((i for i in range(len(self.maps)) if self.rect_of(i).adjusted(0, 0, 0, WORDS).contains(x, y)), -1)

    def mousePressEvent(self, event: QMouseEvent) -> None:
        at = self._found(event.position().x(), event.position().y())
        if at >= 0 and event.button() == Qt.MouseButton.LeftButton:
            self.at = at
            self._notify()
            self.update()
            self.chosen.emit(at)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        columns = self._columns
        steps = {
            Qt.Key.Key_Left: -1,
            Qt.Key.Key_Right: 1,
            Qt.Key.Key_Up: -columns,
            Qt.Key.Key_Down: columns,
        }
        key = Qt.Key(event.key())
        if key in steps and 0 <= self.at + steps[key] < len(self.maps):
            self.at += steps[key]
            self._notify()
            self.update()
        elif key in (Qt.Key.Key_Return, Qt.Key.Key_Enter) and self.maps:
            self.chosen.emit(self.at)
        else:
            event.ignore()

    def focusInEvent(self, event: object) -> None:
        self.update()

    def focusOutEvent(self, event: object) -> None:
        self.update()

    def paintEvent(self, event: QPaintEvent) -> None:
        with QPainter(self) as painter:
            self._paint(painter)

    def _paint(self, painter: QPainter) -> None:
        for i, one in enumerate(self.maps):
            square = self.rect_of(i)
            place = QRectF(0, 0, one.picture.width(), one.picture.height())
            place.moveCenter(square.center())
            painter.drawImage(place, one.picture)
            painter.setPen(theme.colour("line"))
            painter.drawRect(place.adjusted(0, 0, -1, -1))
            if i == self.at and self.hasFocus():
                painter.setPen(QPen(theme.colour("accent"), 2))
                painter.drawRect(square.adjusted(0, 0, -1, -1))
            line = QRectF(square.left(), square.bottom() + 2, SIDE, 16)
            zero = f", {one.mean.zero} all zero" if one.mean.zero else ""
            first, arrow, second = one.name.partition(" → ")
            lines = [
                (first, "ink"),
                *([(f"→ {second}", "ink")] if arrow else []),
                (f"N = {one.mean.total}{zero}", "soft"),
            ]
            for n, (text, ink) in enumerate(lines):
                painter.setFont(font(12, QFont.Weight.Medium) if ink == "ink" else font(11))
                painter.setPen(theme.colour(ink))
                shown = painter.fontMetrics().elidedText(text, Qt.TextElideMode.ElideMiddle, SIDE)
                painter.drawText(line.translated(0, 16 * n), Qt.AlignmentFlag.AlignLeft, shown)

    def event(self, event: QEvent) -> bool:
        if event.type() == QEvent.Type.ToolTip and isinstance(event, QHelpEvent):
            at = self._found(event.pos().x(), event.pos().y())
            if at >= 0:
                QToolTip.showText(
                    event.globalPos(), plain(f"{self._words(self.maps[at])}\nClick to see these images."), self
                )
            else:
                QToolTip.hideText()
            return True
        return super().event(event)
