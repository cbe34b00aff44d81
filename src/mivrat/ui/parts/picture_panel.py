"""One picture with a caption, as a painted widget; several can share a zoom."""

from __future__ import annotations

from PySide6.QtCore import QObject, QPointF, QRectF, QSize, Qt, Signal
from PySide6.QtGui import QFont, QImage, QMouseEvent, QPainter, QPaintEvent, QPen, QWheelEvent
from PySide6.QtWidgets import QSizePolicy, QWidget

from mivrat.ui.parts.widgets import tip
from mivrat.ui.theme import font, theme

CAPTION = 36
MOST_ZOOM = 32.0


class Zoom(QObject):
    """Which part of a picture is shown, as shares of its sides; the panels that share it show the same part."""

    changed = Signal()

    def __init__(self) -> None:
        super().__init__()
        self.part = QRectF(0, 0, 1, 1)

    @property
    def factor(self) -> float:
        return 1 / self.part.width()

    def by(self, factor: float, at: QPointF | None = None) -> None:
        """Enlarge by a factor around a point of the part shown (shares of it; its middle without one)."""
        at = at or QPointF(0.5, 0.5)
        side = min(1.0, max(1 / MOST_ZOOM, self.part.width() / factor))
        kept = QPointF(self.part.left() + at.x() * self.part.width(), self.part.top() + at.y() * self.part.height())
        self._show(kept.x() - at.x() * side, kept.y() - at.y() * side, side)

    def move(self, across: float, down: float) -> None:
        """Move the part shown by shares of its own sides."""
        part = self.part
        self._show(part.left() + across * part.width(), part.top() + down * part.height(), part.width())

    def reset(self) -> None:
        self._show(0, 0, 1)

    def _show(self, left: float, top: float, side: float) -> None:
        part = QRectF(min(max(0.0, left), 1 - side), min(max(0.0, top), 1 - side), side, side)
        if part != self.part:
            self.part = part
            self.changed.emit()


class PicturePanel(QWidget):
    """One picture with a caption of up to two parts below; the second may be emphasised."""

    def __init__(self, caption: str = "") -> None:
        super().__init__()
        self.image: QImage | None = None
        self.caption, self.emphasis, self.note = caption, "", ""
        self.message = ""
        self.frame: tuple[float, float, float, float] | None = None
        self.crisp = False
        self.room = CAPTION  # below the picture, for its caption
        self.zoom: Zoom | None = None
        self._dragged: QPointF | None = None
        self.setMinimumSize(QSize(84, 106))
        policy = QSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Preferred)
        policy.setHeightForWidth(True)
        self.setSizePolicy(policy)

    def share(self, zoom: Zoom) -> None:
        """Show the part that a zoom says; Ctrl and the wheel, dragging and double clicks change it."""
        self.zoom = zoom
        zoom.changed.connect(self.update)

    def wheelEvent(self, event: QWheelEvent) -> None:
        if self.zoom is None or not event.modifiers() & Qt.KeyboardModifier.ControlModifier:
            event.ignore()  # the page around it scrolls
            return
        place, at = self.picture_rect(), event.position()
        inside = QPointF((at.x() - place.left()) / place.width(), (at.y() - place.top()) / place.height())
        self.zoom.by(1.25 ** (event.angleDelta().y() / 120), inside)
        event.accept()

    def mousePressEvent(self, event: QMouseEvent) -> None:
        self._dragged = event.position() if self.zoom is not None else None
        super().mousePressEvent(event)

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        if self.zoom is not None and self._dragged is not None:
            moved, place = event.position() - self._dragged, self.picture_rect()
            self._dragged = event.position()
            self.zoom.move(-moved.x() / place.width(), -moved.y() / place.height())

    def mouseDoubleClickEvent(self, event: QMouseEvent) -> None:
        if self.zoom is not None:
            self.zoom.reset()

    def show_image(self, image: QImage | None, message: str = "") -> None:
        if (image is None) != (self.image is None) or (image and self.image and image.size() != self.image.size()):
            self.updateGeometry()
        self.image, self.message = image, message
        self.update()

    def set_caption(self, caption: str, emphasis: str = "", note: str = "") -> None:
        self.caption, self.emphasis, self.note = caption, emphasis, note
        tip(self, f"{caption} {emphasis}\n{note}".strip())
        self.setAccessibleName(f"{caption} {emphasis}")
        self.update()

    def hasHeightForWidth(self) -> bool:
        return True

    def heightForWidth(self, width: int) -> int:
        """Room for the picture at this width (for a square one until it is known) and its caption."""
        ratio = self.image.height() / self.image.width() if self.image is not None else 1.0
        return round(min(1.4, ratio) * width) + self.room

    def sizeHint(self) -> QSize:
        return QSize(190, self.heightForWidth(190))

    def picture_rect(self) -> QRectF:
        area = QRectF(0, 0, self.width(), self.height() - self.room)
        if self.image is None:
            side = min(area.width(), area.height())
            return QRectF(0, 0, side, side)
        scale = min(area.width() / self.image.width(), area.height() / self.image.height())
        return QRectF(0, 0, self.image.width() * scale, self.image.height() * scale)

    def paintEvent(self, event: QPaintEvent) -> None:
        with QPainter(self) as painter:
            self._paint(painter)

    def _paint(self, painter: QPainter) -> None:
        painter.setRenderHint(QPainter.RenderHint.SmoothPixmapTransform, not self.crisp)
        place = self.picture_rect()
        if self.image is not None:
            part = self.zoom.part if self.zoom is not None else QRectF(0, 0, 1, 1)
            width, height = self.image.width(), self.image.height()
            painter.drawImage(
                place,
                self.image,
                QRectF(part.left() * width, part.top() * height, part.width() * width, part.height() * height),
            )
            if self.frame is not None and part.width() == 1:  # what the network sees of it
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
