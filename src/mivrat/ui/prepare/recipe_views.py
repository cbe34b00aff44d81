"""The two pictures of the recipe editor, painted: the original with what is cut from it, and the values by channel."""

from __future__ import annotations

from PySide6.QtCore import QPointF, QRectF, QSize, Qt
from PySide6.QtGui import QColor, QImage, QPainter, QPainterPath, QPaintEvent, QPen
from PySide6.QtWidgets import QSizePolicy, QWidget

from mivrat.core.base.text import minus
from mivrat.core.pictures.prepare import Geometry
from mivrat.core.pictures.preview import ChannelValues
from mivrat.ui.parts.widgets import tip
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

    def paintEvent(self, event: QPaintEvent) -> None:  # noqa: N802
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


class ValueBars(QWidget):
    """For each channel a line from what 0 to what 255 becomes, and on it the values of this picture with their mean."""

    LINE = 22

    def __init__(self) -> None:
        super().__init__()
        self.channels: list[ChannelValues] = []
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        tip(self, "Line: what 0 and 255 become. Bar: lowest to highest value of this picture. Mark: their mean.")

    def show_channels(self, channels: list[ChannelValues]) -> None:
        self.channels = channels
        self.setAccessibleName("; ".join(f"{one.name} {describe(one)}" for one in channels))
        self.updateGeometry()
        self.update()

    def sizeHint(self) -> QSize:  # noqa: N802
        return QSize(300, self.LINE * max(1, len(self.channels)))

    def paintEvent(self, event: QPaintEvent) -> None:  # noqa: N802
        with QPainter(self) as painter:
            self._paint(painter)

    def _paint(self, painter: QPainter) -> None:
        if not self.channels:
            return
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        least = min(min(one.bounds) for one in self.channels)
        most = max(max(one.bounds) for one in self.channels)
        left, right = 56.0, self.width() - 262.0

        def at(value: float) -> float:
            return left + (right - left) * (value - least) / max(most - least, 1e-12)

        painter.setFont(font(12))
        for i, one in enumerate(self.channels):
            top = i * self.LINE
            middle = top + self.LINE / 2
            painter.setPen(theme.colour("ink"))
            painter.drawText(QRectF(0, top, left - 8, self.LINE), Qt.AlignmentFlag.AlignVCenter, one.name)
            painter.setPen(QPen(theme.colour("faint"), 1))
            for end in one.bounds:
                painter.drawLine(QPointF(at(end), middle - 4), QPointF(at(end), middle + 4))
            painter.drawLine(QPointF(at(one.bounds[0]), middle), QPointF(at(one.bounds[1]), middle))
            bar = QRectF(at(one.lowest), middle - 4, max(2.0, at(one.highest) - at(one.lowest)), 8)
            painter.fillRect(bar, theme.colour("accent"))
            painter.fillRect(QRectF(at(one.mean) - 1, middle - 6, 2, 12), theme.colour("ink"))
            painter.setPen(theme.colour("soft"))
            painter.drawText(
                QRectF(right + 8, top, 254, self.LINE),
                Qt.AlignmentFlag.AlignVCenter | Qt.AlignmentFlag.AlignRight,
                describe(one),
            )


def describe(one: ChannelValues) -> str:
    """A channel's values in digits."""
    return minus(f"{one.lowest:.3g} to {one.highest:.3g}, mean {one.mean:.3g}, sd {one.deviation:.2g}")
