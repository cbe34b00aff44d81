"""The pictures and the ranking of the close look, as painted widgets."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from PySide6.QtCore import QPointF, QRectF, QSize, Qt
from PySide6.QtGui import QColor, QFont, QLinearGradient, QPainter, QPaintEvent
from PySide6.QtWidgets import QSizePolicy, QWidget

from mivrat.core.base.numbers import percent
from mivrat.core.base.text import printable
from mivrat.core.heatmaps.overlay import heat_colours
from mivrat.ui import words
from mivrat.ui.parts.widgets import tip
from mivrat.ui.theme import font, theme


class ScaleBar(QWidget):
    """The legend of a heat scale, from no evidence to the peak."""

    def __init__(self) -> None:
        super().__init__()
        self.scale = "heat"
        self.setFixedSize(QSize(150, 16))
        tip(self, "A map is shown divided by its peak; the peak itself stands below each map.")

    def set_scale(self, scale: str) -> None:
        self.scale = scale
        self.update()

    def paintEvent(self, event: QPaintEvent) -> None:
        with QPainter(self) as painter:
            self._paint(painter)

    def _paint(self, painter: QPainter) -> None:
        bar = QRectF(16, 4, 100, 8)
        gradient = QLinearGradient(bar.topLeft(), bar.topRight())
        least = -1.0 if self.scale == "difference" else 0.0
        colours = heat_colours(np.linspace(least, 1, 9), self.scale)
        for at, colour in zip(np.linspace(0, 1, 9), colours, strict=True):
            gradient.setColorAt(float(at), QColor(*(int(c) for c in colour)))
        painter.fillRect(bar, gradient)
        painter.setFont(font(11))
        painter.setPen(theme.colour("soft"))
        painter.drawText(QPointF(4, 12), "−" if least else "0")
        painter.drawText(QPointF(120, 12), "+" if least else "peak")


@dataclass(frozen=True)
class RankedClass:
    """One line of the ranking."""

    rank: int
    name: str
    probability: float
    predicted: bool
    labelled: bool


class Ranking(QWidget):
    """Classes by score, the labelled one marked wherever it came."""

    LINE = 22

    def __init__(self) -> None:
        super().__init__()
        self.lines: list[RankedClass] = []
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)

    def show_lines(self, lines: list[RankedClass]) -> None:
        self.lines = lines
        self.setFixedHeight(self.LINE * len(lines))
        self.setAccessibleName("; ".join(f"{one.rank} {one.name} {percent(one.probability)}" for one in lines))
        self.update()

    def paintEvent(self, event: QPaintEvent) -> None:
        with QPainter(self) as painter:
            self._paint(painter)

    def _paint(self, painter: QPainter) -> None:
        name_width = min(190, max(110, self.width() // 3))
        cut = words.elided_by([one.name for one in self.lines])
        for i, one in enumerate(self.lines):
            y = i * self.LINE
            painter.setFont(font(12))
            painter.setPen(theme.colour("soft"))
            painter.drawText(QRectF(0, y, 26, self.LINE), Qt.AlignmentFlag.AlignVCenter, str(one.rank))
            painter.setFont(font(13, QFont.Weight.DemiBold if one.labelled else QFont.Weight.Normal))
            painter.setPen(theme.colour("ink"))
            mark = "  ◂ label" if one.labelled else ""
            room = name_width - painter.fontMetrics().horizontalAdvance(mark)
            text = painter.fontMetrics().elidedText(printable(one.name), cut, room) + mark
            painter.drawText(QRectF(28, y, name_width, self.LINE), Qt.AlignmentFlag.AlignVCenter, text)
            bar = QRectF(36 + name_width, y + 8, self.width() - name_width - 36 - 64, 6)
            painter.fillRect(bar, theme.colour("line"))
            wrong = one.predicted and not one.labelled and any(other.labelled for other in self.lines)
            painter.fillRect(
                QRectF(bar.left(), bar.top(), bar.width() * one.probability, 6),
                theme.colour("wrong" if wrong else "accent"),
            )
            painter.setFont(font(13))
            painter.setPen(theme.colour("ink"))
            painter.drawText(
                QRectF(self.width() - 60, y, 60, self.LINE),
                Qt.AlignmentFlag.AlignVCenter | Qt.AlignmentFlag.AlignRight,
                percent(one.probability),
            )
