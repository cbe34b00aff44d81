"""The pictures and the ranking of the close look, as painted widgets."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from PySide6.QtCore import QPointF, QRectF, QSize, Qt
from PySide6.QtGui import QColor, QFont, QImage, QLinearGradient, QPainter, QPaintEvent, QPen
from PySide6.QtWidgets import QSizePolicy, QWidget

from mivrat.core.evidence.overlay import heat_colours
from mivrat.ui.theme import font, theme

CAPTION = 36


class PicturePanel(QWidget):
    """One picture with a caption of up to two parts below; the second may be emphasised."""

    def __init__(self, caption: str = "") -> None:
        super().__init__()
        self.image: QImage | None = None
        self.caption, self.emphasis, self.note = caption, "", ""
        self.message = ""
        self.frame: tuple[float, float, float, float] | None = None
        self.crisp = False
        self.setMinimumSize(QSize(84, 106))
        policy = QSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Preferred)
        policy.setHeightForWidth(True)
        self.setSizePolicy(policy)

    def show_image(self, image: QImage | None, message: str = "") -> None:
        if (image is None) != (self.image is None) or (image and self.image and image.size() != self.image.size()):
            self.updateGeometry()
        self.image, self.message = image, message
        self.update()

    def set_caption(self, caption: str, emphasis: str = "", note: str = "") -> None:
        self.caption, self.emphasis, self.note = caption, emphasis, note
        self.setToolTip(f"{caption} {emphasis}\n{note}".strip())
        self.setAccessibleName(f"{caption} {emphasis}")
        self.update()

    def hasHeightForWidth(self) -> bool:  # noqa: N802
        return True

    def heightForWidth(self, width: int) -> int:  # noqa: N802
        """Room for the picture at this width (for a square one until it is known) and its caption."""
        ratio = self.image.height() / self.image.width() if self.image is not None else 1.0
        return round(min(1.4, ratio) * width) + CAPTION

    def sizeHint(self) -> QSize:  # noqa: N802
        return QSize(190, self.heightForWidth(190))

    def picture_rect(self) -> QRectF:
        area = QRectF(0, 0, self.width(), self.height() - CAPTION)
        if self.image is None:
            side = min(area.width(), area.height())
            return QRectF(0, 0, side, side)
        scale = min(area.width() / self.image.width(), area.height() / self.image.height())
        return QRectF(0, 0, self.image.width() * scale, self.image.height() * scale)

    def paintEvent(self, event: QPaintEvent) -> None:  # noqa: N802
        with QPainter(self) as painter:
            self._paint(painter)

    def _paint(self, painter: QPainter) -> None:
        painter.setRenderHint(QPainter.RenderHint.SmoothPixmapTransform, not self.crisp)
        place = self.picture_rect()
        if self.image is not None:
            painter.drawImage(place, self.image)
            if self.frame is not None:  # what the network sees of it
                top, left, bottom, right = self.frame
                painter.setPen(QPen(theme.colour("sheet"), 1, Qt.PenStyle.DashLine))
                inner = QRectF(
                    place.left() + left * place.width(),
                    place.top() + top * place.height(),
                    (right - left) * place.width(),
                    (bottom - top) * place.height(),
                )
                painter.drawRect(inner.adjusted(0, 0, -1, -1))
        else:
            painter.fillRect(place, theme.colour("paper"))
            painter.setPen(theme.colour("soft"))
            painter.setFont(font(12))
            painter.drawText(
                place.adjusted(10, 10, -10, -10), Qt.AlignmentFlag.AlignCenter | Qt.TextFlag.TextWordWrap, self.message
            )
        line = QRectF(0, place.bottom() + 4, self.width(), 16)
        painter.setFont(font(12))
        painter.setPen(theme.colour("soft"))
        painter.drawText(line, Qt.AlignmentFlag.AlignLeft, self.caption)
        if self.emphasis:
            start = painter.fontMetrics().horizontalAdvance(self.caption + " ")
            painter.setFont(font(12, QFont.Weight.DemiBold))
            painter.setPen(theme.colour("ink"))
            text = painter.fontMetrics().elidedText(
                self.emphasis, Qt.TextElideMode.ElideMiddle, int(line.width() - start)
            )
            painter.drawText(line.adjusted(start, 0, 0, 0), Qt.AlignmentFlag.AlignLeft, text)
        painter.setFont(font(11))
        painter.setPen(theme.colour("soft"))
        painter.drawText(
            line.translated(0, 15),
            Qt.AlignmentFlag.AlignLeft,
            painter.fontMetrics().elidedText(self.note, Qt.TextElideMode.ElideRight, self.width()),
        )


class ScaleBar(QWidget):
    """The legend of a heat scale, from no evidence to the peak."""

    def __init__(self) -> None:
        super().__init__()
        self.scale = "heat"
        self.setFixedSize(QSize(150, 16))
        self.setToolTip("A map is shown divided by its peak; the peak itself stands below each map.")

    def set_scale(self, scale: str) -> None:
        self.scale = scale
        self.update()

    def paintEvent(self, event: QPaintEvent) -> None:  # noqa: N802
        with QPainter(self) as painter:
            self._paint(painter)

    def _paint(self, painter: QPainter) -> None:
        bar = QRectF(16, 4, 100, 8)
        gradient = QLinearGradient(bar.topLeft(), bar.topRight())
        for at, colour in zip(np.linspace(0, 1, 9), heat_colours(np.linspace(0, 1, 9), self.scale), strict=True):
            gradient.setColorAt(float(at), QColor(*(int(c) for c in colour)))
        painter.fillRect(bar, gradient)
        painter.setFont(font(11))
        painter.setPen(theme.colour("soft"))
        painter.drawText(QPointF(4, 12), "0")
        painter.drawText(QPointF(120, 12), "peak")


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
        self.setAccessibleName("; ".join(f"{one.rank} {one.name} {one.probability:.1%}" for one in lines))
        self.update()

    def paintEvent(self, event: QPaintEvent) -> None:  # noqa: N802
        with QPainter(self) as painter:
            self._paint(painter)

    def _paint(self, painter: QPainter) -> None:
        name_width = min(190, max(110, self.width() // 3))
        for i, one in enumerate(self.lines):
            y = i * self.LINE
            painter.setFont(font(12))
            painter.setPen(theme.colour("soft"))
            painter.drawText(QRectF(0, y, 26, self.LINE), Qt.AlignmentFlag.AlignVCenter, str(one.rank))
            painter.setFont(font(13, QFont.Weight.DemiBold if one.labelled else QFont.Weight.Normal))
            painter.setPen(theme.colour("ink"))
            mark = "  ◂ label" if one.labelled else ""
            room = name_width - painter.fontMetrics().horizontalAdvance(mark)
            text = painter.fontMetrics().elidedText(one.name, Qt.TextElideMode.ElideMiddle, room) + mark
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
                f"{100 * one.probability:.1f} %",
            )
