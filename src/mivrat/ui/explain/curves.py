"""Deletion and insertion curves, painted: the maps' own against the spread of random orders."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray
from PySide6.QtCore import QPointF, QRectF, QSize, Qt
from PySide6.QtGui import QFont, QPainter, QPaintEvent, QPen, QPolygonF
from PySide6.QtWidgets import QSizePolicy, QWidget

from mivrat.core.heatmaps.faithfulness import Faithfulness
from mivrat.ui.theme import font, theme

LEFT, BOTTOM, TOP, RIGHT = 34, 34, 24, 10


class CurveDiagram(QWidget):
    """One of the two curves: the mean over the images, and the range of the random orders' means."""

    def __init__(self, which: str) -> None:
        super().__init__()
        self.which = which
        self.own: NDArray[np.float64] | None = None
        self.low: NDArray[np.float64] | None = None
        self.high: NDArray[np.float64] | None = None
        self.shares: NDArray[np.float64] = np.zeros(0)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self.setFixedHeight(188)
        theme.changed.connect(self.update)

    def show_curves(self, faithful: Sequence[Faithfulness]) -> None:
        self.own = None
        if faithful:
            self.shares = faithful[0].shares
            self.own = np.mean([getattr(one, self.which) for one in faithful], axis=0)
            random = np.mean([getattr(one, f"random_{self.which}") for one in faithful], axis=0)
            self.low, self.high = random.min(axis=0), random.max(axis=0)
            self.setAccessibleName(
                f"{self.which} curve: from {self.own[0]:.2f} over {self.own[len(self.own) // 2]:.2f} at half to {self.own[-1]:.2f}"
            )
        self.update()

    def sizeHint(self) -> QSize:  # noqa: N802
        return QSize(240, 188)

    def paintEvent(self, event: QPaintEvent) -> None:  # noqa: N802
        with QPainter(self) as painter:
            self._paint(painter)

    def _paint(self, painter: QPainter) -> None:
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        area = QRectF(LEFT, TOP, self.width() - LEFT - RIGHT, self.height() - TOP - BOTTOM)
        painter.setFont(font(12, QFont.Weight.DemiBold))
        painter.setPen(theme.colour("ink"))
        title = {"deletion": "deletion: hottest taken away first", "insertion": "insertion: hottest put back first"}
        painter.drawText(QRectF(LEFT, 0, area.width(), 18), Qt.AlignmentFlag.AlignLeft, title[self.which])
        painter.setFont(font(11))
        for value in (0.0, 0.5, 1.0):
            y = area.bottom() - value * area.height()
            painter.setPen(QPen(theme.colour("line"), 1))
            painter.drawLine(QPointF(area.left(), y), QPointF(area.right(), y))
            painter.setPen(theme.colour("soft"))
            painter.drawText(
                QRectF(0, y - 8, LEFT - 6, 16),
                Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter,
                f"{value:g}",
            )
        for share, side in ((0.0, Qt.AlignmentFlag.AlignLeft), (1.0, Qt.AlignmentFlag.AlignRight)):
            painter.drawText(QRectF(area.left(), area.bottom() + 2, area.width(), 15), side, f"{100 * share:g} %")
        painter.drawText(
            QRectF(area.left(), area.bottom() + 16, area.width(), 16),
            Qt.AlignmentFlag.AlignHCenter,
            "share of the area; mean p(target)",
        )
        if self.own is None or self.low is None or self.high is None:
            return

        def points(values: NDArray[np.float64]) -> list[QPointF]:
            return [
                QPointF(area.left() + x * area.width(), area.bottom() - min(1.0, max(0.0, y)) * area.height())
                for x, y in zip(self.shares.tolist(), values.tolist(), strict=True)
            ]

        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(theme.colour("faint"))
        painter.drawPolygon(QPolygonF([*points(self.high), *reversed(points(self.low))]))
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.setPen(QPen(theme.colour("accent"), 2.2))
        painter.drawPolyline(QPolygonF(points(self.own)))
