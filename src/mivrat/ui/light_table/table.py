"""The light table: the selected images as thumbnails; only what is in sight is drawn and decoded."""

from __future__ import annotations

import math

from PySide6.QtCore import QEvent, QPointF, QRect, QRectF, QSize, Qt, Signal
from PySide6.QtGui import (
    QFont,
    QHelpEvent,
    QKeyEvent,
    QMouseEvent,
    QPainter,
    QPaintEvent,
    QPen,
    QPolygonF,
    QResizeEvent,
)
from PySide6.QtWidgets import QAbstractScrollArea, QFrame, QToolTip, QVBoxLayout, QWidget

from mivrat.core.running.answers import FAILED, PENDING, UNREADABLE
from mivrat.core.study.ordering import ORDERS
from mivrat.ui import words
from mivrat.ui.pictures import Thumbnails
from mivrat.ui.session import Session
from mivrat.ui.theme import font, mix, theme
from mivrat.ui.widgets import Choice, label, row

SIZES = {"small": 84, "medium": 118, "large": 176}
_CAPTION = 38
_GAP = 10


class Thumbs(QAbstractScrollArea):
    """The scrolling grid. Arrow keys travel, Enter or a double click opens the close look."""

    opened = Signal()

    def __init__(self, session: Session, thumbnails: Thumbnails) -> None:
        super().__init__()
        self.session, self._thumbnails = session, thumbnails
        self._least_side = SIZES["medium"]
        self.setFrameShape(QFrame.Shape.NoFrame)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.setAccessibleName("light table: arrow keys travel, Enter opens the close look")
        self.viewport().setAutoFillBackground(False)
        session.selection_changed.connect(self._relist)
        session.current_changed.connect(self._reveal)
        thumbnails.ready.connect(self.viewport().update)
        theme.changed.connect(self.viewport().update)

    def set_size(self, name: str) -> None:
        self._least_side = SIZES[name]
        self._relayout()
        self._reveal()

    @property
    def columns(self) -> int:
        return max(1, (self.viewport().width() - 8 + _GAP) // (self._least_side + _GAP))

    @property
    def _side(self) -> int:
        """The thumbnails' side: at least the size chosen, and so much more that the columns fill the width."""
        return max(self._least_side, (self.viewport().width() - 8 + _GAP) // self.columns - _GAP)

    @property
    def _row_height(self) -> int:
        return self._side + _CAPTION + _GAP

    def cell_rect(self, position: int) -> QRect:
        """Where the image at a position stands, in viewport coordinates."""
        line, column = divmod(position, self.columns)
        return QRect(
            4 + column * (self._side + _GAP),
            4 + line * self._row_height - self.verticalScrollBar().value(),
            self._side,
            self._side + _CAPTION,
        )

    def _relist(self) -> None:
        self._relayout()
        self.viewport().update()

    def _relayout(self) -> None:
        lines = math.ceil(len(self.session.shown) / self.columns)
        bar = self.verticalScrollBar()
        bar.setRange(0, max(0, lines * self._row_height + 8 - self.viewport().height()))
        bar.setPageStep(self.viewport().height())
        bar.setSingleStep(self._row_height // 3)
        self.viewport().update()

    def resizeEvent(self, event: QResizeEvent) -> None:  # noqa: N802
        self._relayout()

    def _reveal(self) -> None:
        position = self.session.position
        if position >= 0:
            cell, bar = self.cell_rect(position), self.verticalScrollBar()
            if cell.top() < 0:
                bar.setValue(bar.value() + cell.top() - 4)
            elif cell.bottom() > self.viewport().height():
                bar.setValue(bar.value() + cell.bottom() - self.viewport().height() + 8)
        self.viewport().update()

    def _in_sight(self) -> range:
        first = max(0, self.verticalScrollBar().value() // self._row_height) * self.columns
        lines = self.viewport().height() // self._row_height + 2
        return range(first, min(len(self.session.shown), first + lines * self.columns))

    def paintEvent(self, event: QPaintEvent) -> None:  # noqa: N802
        with QPainter(self.viewport()) as painter:
            self._paint(painter)

    def _paint(self, painter: QPainter) -> None:
        painter.setRenderHint(QPainter.RenderHint.SmoothPixmapTransform)
        snapshot = self.session.snapshot
        if snapshot is None or not len(self.session.shown):
            painter.setPen(theme.colour("soft"))
            painter.setFont(font(13))
            text = "No image meets these conditions.\nBackspace takes the last one away." if snapshot else ""
            painter.drawText(
                self.viewport().rect().adjusted(24, 24, -24, -24),
                Qt.AlignmentFlag.AlignHCenter | Qt.AlignmentFlag.AlignTop,
                text,
            )
            return
        sight = self._in_sight()
        files = {p: snapshot.record.image_set.file(int(self.session.shown[p])) for p in sight}
        self._thumbnails.want_only(set(files.values()))
        for position in sight:
            self._paint_one(painter, position, int(self.session.shown[position]))

    def _paint_one(self, painter: QPainter, position: int, image: int) -> None:
        assert self.session.snapshot is not None
        judged, record = self.session.snapshot.judged, self.session.snapshot.record
        cell = self.cell_rect(position)
        square = QRectF(cell.left(), cell.top(), self._side, self._side)
        picture, final = self._thumbnails.get(record.image_set.file(image))
        if picture is not None:
            scale = min(square.width() / picture.width(), square.height() / picture.height())
            size = QSize(max(1, round(picture.width() * scale)), max(1, round(picture.height() * scale)))
            place = QRectF(
                square.center().x() - size.width() / 2,
                square.center().y() - size.height() / 2,
                size.width(),
                size.height(),
            )
            painter.drawImage(place, picture)
        else:
            place = square
            painter.fillRect(square, theme.colour("paper"))
            painter.setPen(theme.colour("wrong" if final else "soft"))
            painter.setFont(font(11))
            painter.drawText(square, Qt.AlignmentFlag.AlignCenter, "unreadable" if final else "…")
        if judged.wrong[image]:  # a notch cut from the corner
            notch = self._side * 0.14
            corner = place.topRight()
            painter.setRenderHint(QPainter.RenderHint.Antialiasing)
            painter.setPen(QPen(theme.colour("sheet"), 1.5))
            painter.setBrush(theme.colour("wrong"))
            painter.drawPolygon(
                QPolygonF([corner, QPointF(corner.x() - notch, corner.y()), QPointF(corner.x(), corner.y() + notch)])
            )
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.setRenderHint(QPainter.RenderHint.Antialiasing, False)
        if image == self.session.current:
            painter.setPen(QPen(theme.colour("accent"), 3 if self.hasFocus() else 2))
            painter.drawRect(square.adjusted(-2, -2, 2, 2))
        self._paint_caption(painter, cell, image)

    def _paint_caption(self, painter: QPainter, cell: QRect, image: int) -> None:
        assert self.session.snapshot is not None
        judged, classes = self.session.snapshot.judged, self.session.classes
        line = QRect(cell.left(), cell.top() + self._side + 4, self._side, 16)
        label_index, predicted = int(judged.labels[image]), int(judged.predicted[image])
        if predicted < 0:
            words_for = {PENDING: "not scored yet", UNREADABLE: "no answer", FAILED: "scores failed"}
            painter.setFont(font(12))
            painter.setPen(theme.colour("soft"))
            painter.drawText(line, Qt.AlignmentFlag.AlignLeft, words_for.get(int(judged.state[image]), ""))
        else:
            painter.setFont(font(12, QFont.Weight.Medium))
            number = f"{judged.confidence[image]:.2f}"
            width = painter.fontMetrics().horizontalAdvance(number) + 4
            painter.setPen(theme.colour("ink"))
            shown = painter.fontMetrics().elidedText(
                classes[predicted], Qt.TextElideMode.ElideMiddle, line.width() - width
            )
            painter.drawText(line, Qt.AlignmentFlag.AlignLeft, shown)
            painter.setPen(theme.colour("soft"))
            painter.drawText(line, Qt.AlignmentFlag.AlignRight, number)
        painter.setFont(font(11))
        second = line.translated(0, 16)
        if label_index >= 0 and label_index != predicted:
            painter.setPen(theme.colour("wrong") if predicted >= 0 else theme.colour("soft"))
            text = f"labelled {classes[label_index]}"
        else:
            painter.setPen(theme.colour("soft"))
            text = "no label" if label_index < 0 else ""
        painter.drawText(
            second,
            Qt.AlignmentFlag.AlignLeft,
            painter.fontMetrics().elidedText(text, Qt.TextElideMode.ElideMiddle, second.width()),
        )
        if not text and predicted >= 0:
            bar = QRectF(second.left(), second.top() + 4, second.width(), 2)
            painter.fillRect(bar, theme.colour("line"))
            painter.fillRect(
                QRectF(bar.left(), bar.top(), bar.width() * float(judged.confidence[image]), 2),
                mix(theme.colour("line"), theme.colour("ink"), 0.55),
            )

    def position_at(self, point: QPointF) -> int:
        """The position of the image under a viewport point, or -1."""
        for position in self._in_sight():
            if QRectF(self.cell_rect(position)).contains(point):
                return position
        return -1

    def mousePressEvent(self, event: QMouseEvent) -> None:  # noqa: N802
        position = self.position_at(event.position())
        if position >= 0 and event.button() == Qt.MouseButton.LeftButton:
            self.session.look_at(int(self.session.shown[position]))

    def mouseDoubleClickEvent(self, event: QMouseEvent) -> None:  # noqa: N802
        if self.position_at(event.position()) >= 0 and event.button() == Qt.MouseButton.LeftButton:
            self.opened.emit()

    def keyPressEvent(self, event: QKeyEvent) -> None:  # noqa: N802
        page = max(1, self.viewport().height() // self._row_height) * self.columns
        steps = {
            Qt.Key.Key_Left: -1,
            Qt.Key.Key_Right: 1,
            Qt.Key.Key_Up: -self.columns,
            Qt.Key.Key_Down: self.columns,
            Qt.Key.Key_PageUp: -page,
            Qt.Key.Key_PageDown: page,
            Qt.Key.Key_Home: -len(self.session.shown),
            Qt.Key.Key_End: len(self.session.shown),
        }
        if event.key() in steps and not event.modifiers() & (
            Qt.KeyboardModifier.AltModifier | Qt.KeyboardModifier.ControlModifier
        ):
            self.session.step(steps[Qt.Key(event.key())])
        elif event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter):
            if self.session.current is None:
                self.session.step(0)
            if self.session.current is not None:
                self.opened.emit()
        else:
            event.ignore()

    def focusInEvent(self, event: object) -> None:  # noqa: N802
        self.viewport().update()

    def focusOutEvent(self, event: object) -> None:  # noqa: N802
        self.viewport().update()

    def describe(self, image: int) -> str:
        """An image in words, for its tooltip."""
        assert self.session.snapshot is not None
        judged, record = self.session.snapshot.judged, self.session.snapshot.record
        lines = [record.image_set.items[image].path]
        if judged.labels[image] >= 0:
            lines.append(f"labelled {record.classes[judged.labels[image]]}")
        if judged.predicted[image] >= 0:
            lines.append(
                f"predicted {record.classes[judged.predicted[image]]}, confidence {judged.confidence[image]:.3f}"
            )
        if judged.rank[image] > 1:
            lines.append(f"the labelled class came in place {judged.rank[image]}")
        if image in record.answers.reasons:
            lines.append(record.answers.reasons[image])
        lines += [f"{key}: {value}" for key, value in record.image_set.items[image].columns.items() if value]
        return "\n".join(lines)

    def viewportEvent(self, event: QEvent) -> bool:  # noqa: N802
        if event.type() == QEvent.Type.ToolTip and isinstance(event, QHelpEvent):
            position = self.position_at(QPointF(event.pos()))
            if position >= 0:
                QToolTip.showText(event.globalPos(), self.describe(int(self.session.shown[position])), self)
            else:
                QToolTip.hideText()
            return True
        return super().viewportEvent(event)


class LightTable(QWidget):
    """The grid under its choices of order and size."""

    def __init__(self, session: Session, thumbnails: Thumbnails) -> None:
        super().__init__()
        self.setObjectName("lightTable")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self.session = session
        self.thumbs = Thumbs(session, thumbnails)
        self.order, self.size_box = Choice(ORDERS, "order of the images"), Choice(list(SIZES), "size of the thumbnails")
        self.size_box.setCurrentText("medium")
        self.order.currentIndexChanged.connect(lambda i: session.set_order(ORDERS[i]))
        self.size_box.currentTextChanged.connect(self.thumbs.set_size)
        self.count = label(soft=True)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(12, 10, 8, 0)
        layout.addLayout(row(self.order, self.size_box, None, self.count, 8))
        layout.addWidget(self.thumbs, 1)
        session.selection_changed.connect(self._tell)
        session.current_changed.connect(self._tell)

    def _tell(self) -> None:
        if self.order.currentText() != self.session.order:
            self.order.setCurrentText(self.session.order)
        at, of = self.session.position, len(self.session.shown)
        self.count.setText(f"{at + 1} of {of}" if at >= 0 else words.images(of))
