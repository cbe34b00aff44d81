"""The two pictures of the recipe editor: the original with what is cut from it, and the values by channel."""

from __future__ import annotations

import numpy as np
from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QColor, QImage, QPainter, QPainterPath, QPaintEvent, QPen
from PySide6.QtWidgets import QSizePolicy, QWidget

from mivrat.core.base.text import minus
from mivrat.core.pictures.prepare import Geometry
from mivrat.core.pictures.preview import ChannelValues
from mivrat.ui.parts.plot import Diagram, bars, line, pen
from mivrat.ui.theme import font, theme

HEIGHT = 190


class OriginalView(QWidget):
    """The picture as photographed; what the network does not see of it is shaded, what is added to it is filled."""

    def __init__(self) -> None:
        super().__init__()
        self.image: QImage | None = None
        self.place: Geometry | None = None
        self.padding = QColor()
        self.message = ""
        self.setFixedHeight(HEIGHT)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self.setAccessibleName("the original picture with what the network sees of it")

    def show_picture(self, image: QImage | None, place: Geometry | None, padding: QColor, message: str = "") -> None:
        self.image, self.place, self.padding, self.message = image, place, padding, message
        self.update()

    def rects(self) -> tuple[QRectF, QRectF]:
        """Where the picture, and where the part that the network receives, stand in the widget."""
        assert self.place is not None
        (height, width), resized = self.place.picture, self.place.resized
        ratio = height / resized[0], width / resized[1]
        picture = QRectF(0, 0, width, height)
        canvas = QRectF(
            -self.place.offset[1] * ratio[1],
            -self.place.offset[0] * ratio[0],
            self.place.output[1] * ratio[1],
            self.place.output[0] * ratio[0],
        )
        whole = picture.united(canvas)
        scale = min((self.width() - 4) / whole.width(), (self.height() - 4) / whole.height())

        def placed(rect: QRectF) -> QRectF:
            return QRectF(
                2 + (rect.left() - whole.left()) * scale,
                2 + (rect.top() - whole.top()) * scale,
                rect.width() * scale,
                rect.height() * scale,
            )

        return placed(picture), placed(canvas)

    def paintEvent(self, event: QPaintEvent) -> None:
        with QPainter(self) as painter:
            self._paint(painter)

    def _paint(self, painter: QPainter) -> None:
        if self.image is None or self.place is None:
            painter.setPen(theme.colour("soft"))
            painter.setFont(font(12))
            flags = Qt.AlignmentFlag.AlignCenter | Qt.TextFlag.TextWordWrap
            painter.drawText(QRectF(self.rect()).adjusted(10, 10, -10, -10), flags, self.message)
            return
        painter.setRenderHint(QPainter.RenderHint.SmoothPixmapTransform)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        picture, canvas = self.rects()
        painter.fillRect(canvas, self.padding)
        painter.drawImage(picture, self.image)
        lost, kept = QPainterPath(), QPainterPath()
        lost.addRect(picture)
        kept.addRect(canvas)
        lost = lost.subtracted(kept)
        shade = theme.colour("paper")
        shade.setAlpha(170)
        painter.fillPath(lost, shade)
        hatch = theme.colour("soft")
        hatch.setAlpha(110)
        painter.setPen(QPen(hatch, 1))
        painter.setClipPath(lost)
        for x in range(int(picture.left() - picture.height()), int(picture.right()), 9):
            painter.drawLine(QPointF(x, picture.bottom()), QPointF(x + picture.height(), picture.top()))
        painter.setClipping(False)
        painter.setPen(QPen(theme.colour("sheet"), 4))
        painter.drawRect(canvas)
        painter.setPen(QPen(theme.colour("accent"), 2))
        painter.drawRect(canvas)


class ValueBars(Diagram):
    """For each channel a line from what 0 to what 255 becomes, and on it the values of this picture with their mean."""

    LINE = 22
    ground = ""

    def __init__(self) -> None:
        super().__init__("values of the channels")
        self.channels: list[ChannelValues] = []
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self.ci.layout.setContentsMargins(0, 0, 0, 0)
        self.plot = self.add(0, x=(0, 1), y=(0, 1))
        self.plot.layout.setContentsMargins(0, 0, 0, 0)
        self.plot.invertY(True)
        self.plot.hideAxis("bottom")
        self.plot.showAxis("right")
        for side, width in (("left", 56), ("right", 254)):
            self.plot.getAxis(side).setWidth(width)
            self.plot.getAxis(side).setStyle(tickFont=font(12), tickLength=0, hideOverlappingLabels=False)

    def show_channels(self, channels: list[ChannelValues]) -> None:
        self.channels = channels
        self.setAccessibleName("; ".join(f"{one.name} {describe(one)}" for one in channels) or "values of the channels")
        self.setFixedHeight(self.LINE * max(1, len(channels)))
        self.redraw()

    def marks(self) -> int:
        return len(self.channels)

    def mark_at(self, point: QPointF) -> int:
        found = int(point.y() // self.LINE)
        return found if found < len(self.channels) else -1

    def mark_rect(self, mark: int) -> QRectF:
        return QRectF(0, self.LINE * mark, self.width(), self.LINE)

    def describe(self, mark: int) -> str:
        return "Line: what 0 and 255 become. Bar: lowest to highest value of this picture. Mark: their mean."

    def draw(self) -> None:
        some = self.channels
        if not some:
            return
        least, most = min(min(one.bounds) for one in some), max(max(one.bounds) for one in some)
        self.plot.setRange(xRange=(least, max(most, least + 1e-9)), yRange=(0, len(some)), padding=0)
        rows = np.arange(len(some)) + 0.5
        ends = np.array([sorted(one.bounds) for one in some])
        self.plot.addItem(line(ends.ravel(), np.repeat(rows, 2), pen("faint"), pairs=True))
        self.plot.addItem(
            line(
                np.repeat(ends.ravel(), 2),
                (np.repeat(rows, 2)[:, None] + [-0.18, 0.18]).ravel(),
                pen("faint"),
                pairs=True,
            )
        )
        thin = (most - least) / max(60.0, self.width() - 310.0)
        low = np.array([one.lowest for one in some])
        high = np.maximum([one.highest for one in some], low + 2 * thin)
        self.plot.addItem(bars(low, high, rows - 0.18, rows + 0.18, theme.colour("accent")))
        means = np.array([one.mean for one in some])
        self.plot.addItem(bars(means - thin, means + thin, rows - 0.28, rows + 0.28, theme.colour("ink")))
        self.tick(self.plot, "left", [(y, one.name) for y, one in zip(rows.tolist(), some, strict=True)])
        self.tick(self.plot, "right", [(y, describe(one)) for y, one in zip(rows.tolist(), some, strict=True)])


def describe(one: ChannelValues) -> str:
    """A channel's values in digits."""
    return minus(f"{one.lowest:.3g} to {one.highest:.3g}, mean {one.mean:.3g}, sd {one.deviation:.2g}")
