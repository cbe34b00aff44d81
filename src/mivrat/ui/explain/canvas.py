"""The canvas: a photo on which a region is drawn by mouse or moved by keys, in the place the network receives it."""

from __future__ import annotations

import numpy as np
from PySide6.QtCore import QPointF, QRectF, QSize, Qt, Signal
from PySide6.QtGui import (
    QColor,
    QImage,
    QKeyEvent,
    QMouseEvent,
    QPainter,
    QPainterPath,
    QPainterPathStroker,
    QPaintEvent,
    QPen,
)
from PySide6.QtWidgets import QSizePolicy, QWidget

from mivrat.core.heatmaps.hottest import Mask
from mivrat.core.pictures.prepare import Geometry
from mivrat.core.region_masking.regions import Kind, Shape
from mivrat.ui.parts.picture_panel import CAPTION
from mivrat.ui.theme import font, theme

# How far a key moves or widens the region; with Shift a fourth of it.
STEP, WIDER = 0.04, 1.15
BRUSH = 0.05
# A region put there by a key.
MIDDLE = Shape("rectangle", ((0.35, 0.35), (0.65, 0.65)))


class Canvas(QWidget):
    """``drawn`` tells of another region, as shapes in shares of what the network receives."""

    drawn = Signal(object)

    def __init__(self) -> None:
        super().__init__()
        self.photo: QImage | None = None
        self.place: Geometry | None = None
        self.shapes: tuple[Shape, ...] = ()
        self.kind: Kind | None = "rectangle"
        self.message = ""
        self._mask: QImage | None = None
        self._path: list[tuple[float, float]] = []
        self._beside = False
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setMinimumSize(QSize(120, 140))
        policy = QSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Preferred)
        policy.setHeightForWidth(True)
        self.setSizePolicy(policy)
        self.setAccessibleName(
            "the image with its region: Enter puts a rectangle, arrow keys move it, + and − resize it, Delete clears it"
        )
        theme.changed.connect(self.update)

    # --- what is shown ---

    def show_photo(self, photo: QImage | None, place: Geometry | None, message: str = "") -> None:
        self.photo, self.place, self.message = photo, place, message
        self._mask = None
        self.updateGeometry()
        self.update()

    def show_shapes(self, shapes: tuple[Shape, ...]) -> None:
        self.shapes, self._mask = shapes, None
        self.update()

    def show_mask(self, mask: Mask) -> None:
        """Show a region that is no drawn shape, given over what the network receives."""
        colour = theme.colour("accent")
        pixels = np.zeros((*mask.shape, 4), np.uint8)
        pixels[mask] = [colour.red(), colour.green(), colour.blue(), 130]
        height, width = mask.shape
        self._mask = QImage(pixels.tobytes(), width, height, 4 * width, QImage.Format.Format_RGBA8888).copy()
        self.update()

    def hasHeightForWidth(self) -> bool:
        return True

    def heightForWidth(self, width: int) -> int:
        ratio = self.photo.height() / self.photo.width() if self.photo is not None else 1.0
        return round(min(1.4, ratio) * width) + CAPTION

    def sizeHint(self) -> QSize:
        return QSize(190, self.heightForWidth(190))

    def picture_rect(self) -> QRectF:
        area = QRectF(0, 0, self.width(), self.height() - CAPTION)
        if self.photo is None:
            side = min(area.width(), area.height())
            return QRectF(0, 0, side, side)
        scale = min(area.width() / self.photo.width(), area.height() / self.photo.height())
        return QRectF(0, 0, self.photo.width() * scale, self.photo.height() * scale)

    # --- between the widget and what the network receives ---

    def _input_rect(self) -> QRectF:
        """Where what the network receives lies, in widget coordinates."""
        area, place = self.picture_rect(), self.place
        if place is None:
            return area
        sides = []
        for axis, length in ((1, area.width()), (0, area.height())):
            per_pixel = length / place.resized[axis]
            sides.append((-place.offset[axis] * per_pixel, place.output[axis] * per_pixel))
        (left, width), (top, height) = sides
        return QRectF(area.left() + left, area.top() + top, width, height)

    def _share(self, point: QPointF) -> tuple[float, float]:
        inner = self._input_rect()
        across, down = (point.x() - inner.left()) / inner.width(), (point.y() - inner.top()) / inner.height()
        return min(1.0, max(0.0, across)), min(1.0, max(0.0, down))

    def _outline(self, shape: Shape) -> QPainterPath:
        inner, path = self._input_rect(), QPainterPath()
        points = [QPointF(inner.left() + x * inner.width(), inner.top() + y * inner.height()) for x, y in shape.points]
        if shape.kind in ("rectangle", "ellipse"):
            box = QRectF(points[0], points[1]).normalized()
            if shape.kind == "rectangle":
                path.addRect(box)
            else:
                path.addEllipse(box)
        elif shape.kind == "lasso":
            path.moveTo(points[0])
            for point in points[1:]:
                path.lineTo(point)
            path.closeSubpath()
        else:
            line = QPainterPath(points[0])
            for point in points[1:] or [points[0] + QPointF(0.1, 0)]:
                line.lineTo(point)
            stroke = QPainterPathStroker()
            stroke.setWidth(2 * shape.radius * min(inner.width(), inner.height()))
            stroke.setCapStyle(Qt.PenCapStyle.RoundCap)
            stroke.setJoinStyle(Qt.PenJoinStyle.RoundJoin)
            path = stroke.createStroke(line).simplified()
        return path

    # --- mouse and keys ---

    def mousePressEvent(self, event: QMouseEvent) -> None:
        self.setFocus(Qt.FocusReason.MouseFocusReason)
        if event.button() == Qt.MouseButton.LeftButton and self.kind is not None and self.photo is not None:
            self._beside = bool(event.modifiers() & Qt.KeyboardModifier.ControlModifier)
            self._path = [self._share(event.position())]

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        if self._path:
            self._path.append(self._share(event.position()))
            self.update()

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        if not self._path:
            return
        self._path.append(self._share(event.position()))
        shape, self._path = self._drawing(), []
        if shape is not None:
            self.drawn.emit((*self.shapes, shape) if self._beside else (shape,))
        self.update()

    def _drawing(self) -> Shape | None:
        """The shape that is being drawn; None for a mere click, but of the brush."""
        path = self._path
        if self.kind == "brush":
            return Shape("brush", tuple(path), BRUSH)
        spread = max(max(p[a] for p in path) - min(p[a] for p in path) for a in (0, 1)) if path else 0.0
        if self.kind is None or spread < 0.01:
            return None
        if self.kind == "lasso":
            return Shape("lasso", tuple(path)) if len(path) > 2 else None
        return Shape(self.kind, (path[0], path[-1]))

    def keyPressEvent(self, event: QKeyEvent) -> None:
        fine = 0.25 if event.modifiers() & Qt.KeyboardModifier.ShiftModifier else 1.0
        steps = {
            Qt.Key.Key_Left: (-STEP, 0.0),
            Qt.Key.Key_Right: (STEP, 0.0),
            Qt.Key.Key_Up: (0.0, -STEP),
            Qt.Key.Key_Down: (0.0, STEP),
        }
        key = Qt.Key(event.key())
        if self.kind is None or event.modifiers() & Qt.KeyboardModifier.AltModifier:
            event.ignore()
        elif key in steps and self.shapes:
            across, down = steps[key]
            self.drawn.emit(tuple(one.moved(across * fine, down * fine) for one in self.shapes))
        elif key in (Qt.Key.Key_Plus, Qt.Key.Key_Equal) and self.shapes:
            self.drawn.emit(tuple(one.scaled(WIDER) for one in self.shapes))
        elif key == Qt.Key.Key_Minus and self.shapes:
            self.drawn.emit(tuple(one.scaled(1 / WIDER) for one in self.shapes))
        elif key in (Qt.Key.Key_Delete, Qt.Key.Key_Backspace) and self.shapes:
            self.drawn.emit(())
        elif key in (Qt.Key.Key_Return, Qt.Key.Key_Enter) and not self.shapes:
            self.drawn.emit((MIDDLE if self.kind == "rectangle" else Shape("ellipse", MIDDLE.points),))
        else:
            event.ignore()

    # --- painting ---

    def paintEvent(self, event: QPaintEvent) -> None:
        with QPainter(self) as painter:
            self._paint(painter)

    def _paint(self, painter: QPainter) -> None:
        painter.setRenderHint(QPainter.RenderHint.SmoothPixmapTransform)
        area = self.picture_rect()
        if self.photo is None:
            painter.fillRect(area, theme.colour("sheet"))
            painter.setPen(theme.colour("soft"))
            painter.setFont(font(12))
            painter.drawText(
                area.adjusted(8, 8, -8, -8), Qt.AlignmentFlag.AlignCenter | Qt.TextFlag.TextWordWrap, self.message
            )
        else:
            painter.drawImage(area, self.photo)
            painter.setClipRect(area)
            inner = self._input_rect()
            if self._mask is not None:
                painter.drawImage(inner, self._mask)
            if not inner.contains(area.adjusted(1, 1, -1, -1)):
                painter.setPen(QPen(theme.colour("sheet"), 1, Qt.PenStyle.DashLine))
                painter.drawRect(inner.adjusted(0, 0, -1, -1))
            painter.setRenderHint(QPainter.RenderHint.Antialiasing)
            drawing = self._drawing() if self._path else None
            kept = self.shapes if self._mask is None and (drawing is None or self._beside) else ()
            for shape in (*kept, *([drawing] if drawing is not None else [])):
                self._paint_outline(painter, self._outline(shape))
            painter.setClipping(False)
        if self.hasFocus():
            painter.setPen(QPen(theme.colour("accent"), 2))
            painter.drawRect(area.adjusted(1, 1, -1, -1))
        painter.setFont(font(12))
        painter.setPen(theme.colour("soft"))
        text = "as it is, with the region" if self.shapes or self._mask is not None else "draw a region here"
        text = text if self.photo is not None else ""
        painter.drawText(QRectF(0, area.bottom() + 4, self.width(), 16), Qt.AlignmentFlag.AlignLeft, text)

    @staticmethod
    def _paint_outline(painter: QPainter, path: QPainterPath) -> None:
        """Dark under light, so that it shows on any picture."""
        painter.setPen(QPen(QColor(20, 26, 34), 3))
        painter.drawPath(path)
        painter.setPen(QPen(QColor(255, 255, 255), 1.4, Qt.PenStyle.DashLine))
        painter.drawPath(path)
