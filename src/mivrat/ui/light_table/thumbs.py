"""The grid of thumbnails, in bands if wanted: only what is in sight is drawn and decoded; keys and mouse travel and mark."""

from __future__ import annotations

from bisect import bisect_right

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
from PySide6.QtWidgets import QAbstractScrollArea, QFrame, QToolTip

from mivrat.core.running.answers import FAILED, PENDING, UNREADABLE
from mivrat.core.selecting.ordering import (
    Band,
)
from mivrat.ui import words
from mivrat.ui.pictures import Thumbnails
from mivrat.ui.session import Session
from mivrat.ui.theme import font, mix, theme

SIZES = {"small": 84, "medium": 118, "large": 176}
_CAPTION = 38
_GAP = 10
_HEAD = 30


_TRAVEL = {
    Qt.Key.Key_Left,
    Qt.Key.Key_Right,
    Qt.Key.Key_Up,
    Qt.Key.Key_Down,
    Qt.Key.Key_PageUp,
    Qt.Key.Key_PageDown,
    Qt.Key.Key_Home,
    Qt.Key.Key_End,
}


class Thumbs(QAbstractScrollArea):
    """The scrolling grid. Arrow keys travel, Enter or a double click opens the close look.

    Shift and Ctrl mark several images, with the mouse and with keys, as lists of files do.
    """

    opened = Signal()

    def __init__(self, session: Session, thumbnails: Thumbnails) -> None:
        super().__init__()
        self.session, self._thumbnails = session, thumbnails
        self._least_side = SIZES["medium"]
        self._starts, self._tops = [0], [4]
        self.setFrameShape(QFrame.Shape.NoFrame)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.setAccessibleName("light table: arrow keys travel, Enter opens the close look")
        self.viewport().setAutoFillBackground(False)
        session.selection_changed.connect(self._relist)
        session.current_changed.connect(self._reveal)
        session.reviews_changed.connect(self.viewport().update)
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
        b = self._band_of(position)
        line, column = divmod(position - self._starts[b], self.columns)
        return QRect(
            4 + column * (self._side + _GAP),
            self._tops[b] + line * self._row_height - self.verticalScrollBar().value(),
            self._side,
            self._side + _CAPTION,
        )

    def _band_of(self, position: int) -> int:
        return max(0, bisect_right(self._starts, position) - 1)

    def _relist(self) -> None:
        self._relayout()
        self.viewport().update()

    def _relayout(self) -> None:
        """Work out where each band begins: its first position, and how far down its first row of images stands."""
        shown, bands = len(self.session.shown), self.session.bands
        self._starts = [band.start for band in bands] or [0]
        self._tops, y = [], 4
        for start, stop in zip(self._starts, [*self._starts[1:], shown], strict=True):
            y += _HEAD if bands else 0
            self._tops.append(y)
            y += -((start - stop) // self.columns) * self._row_height
        bar = self.verticalScrollBar()
        bar.setRange(0, max(0, y + 4 - self.viewport().height()))
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

    def _in_sight(self) -> list[int]:
        """The positions of which anything shows."""
        above = self.verticalScrollBar().value()
        below = above + self.viewport().height()
        found: list[int] = []
        for b in range(max(0, bisect_right(self._tops, above) - 1), len(self._tops)):
            top, start = self._tops[b], self._starts[b]
            if top - _HEAD > below:
                break
            stop = self._starts[b + 1] if b + 1 < len(self._starts) else len(self.session.shown)
            first = start + max(0, (above - top) // self._row_height) * self.columns
            last = start + (max(0, below - top) // self._row_height + 1) * self.columns
            found += range(first, min(stop, last))
        return found

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
        self._thumbnails.want(self, set(files.values()))
        for b, band in enumerate(self.session.bands):
            head = self._tops[b] - _HEAD - self.verticalScrollBar().value()
            if -_HEAD <= head <= self.viewport().height():
                self._paint_head(painter, band, head)
        for position in sight:
            self._paint_one(painter, position, int(self.session.shown[position]))

    def _paint_head(self, painter: QPainter, band: Band, top: int) -> None:
        """A band's name, its number of images and its accuracy."""
        line = QRect(4, top + 4, self.viewport().width() - 16, _HEAD - 10)
        share, images = band.accuracy, words.images(band.stop - band.start)
        text = f"{images}  ·  right {words.percent(share.value)} ({words.bounds(share)})" if share.total else images
        painter.setFont(font(12))
        width = painter.fontMetrics().horizontalAdvance(text)
        painter.setPen(theme.colour("soft"))
        painter.drawText(line, Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter, text)
        painter.setFont(font(13, QFont.Weight.DemiBold))
        painter.setPen(theme.colour("ink"))
        name = painter.fontMetrics().elidedText(band.name, Qt.TextElideMode.ElideMiddle, line.width() - width - 16)
        painter.drawText(line, Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter, name)
        painter.setPen(theme.colour("line"))
        painter.drawLine(line.left(), line.bottom() + 3, line.right(), line.bottom() + 3)

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
        if image in self.session.marked and len(self.session.marked) > 1:
            wash = theme.colour("accent")
            wash.setAlphaF(0.28)
            painter.fillRect(place, wash)
        self._paint_seen(painter, place, image)
        if image == self.session.current:
            painter.setPen(QPen(theme.colour("accent"), 3 if self.hasFocus() else 2))
            painter.drawRect(square.adjusted(-2, -2, 2, 2))
        self._paint_caption(painter, cell, image)

    def _paint_seen(self, painter: QPainter, place: QRectF, image: int) -> None:
        """A tick where the image has been reviewed, on a small sheet so that it shows on any picture."""
        if not self.session.reviews[image].reviewed:
            return
        sheet = QRectF(place.left(), place.bottom() - 16, 16, 16)
        painter.fillRect(sheet, theme.colour("sheet"))
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setPen(QPen(theme.colour("ink"), 1.6))
        x, y = sheet.left(), sheet.top()
        painter.drawPolyline(QPolygonF([QPointF(x + 4, y + 8), QPointF(x + 7, y + 11), QPointF(x + 12, y + 5)]))
        painter.setRenderHint(QPainter.RenderHint.Antialiasing, False)

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
        if position < 0 or event.button() != Qt.MouseButton.LeftButton:
            return
        image, marked = int(self.session.shown[position]), self.session.marked
        if event.modifiers() & Qt.KeyboardModifier.ShiftModifier:
            self.session.mark_up_to(position)
        elif event.modifiers() & Qt.KeyboardModifier.ControlModifier:
            self.session.look_at(image, marked ^ {image})
        else:
            self.session.look_at(image)

    def mouseDoubleClickEvent(self, event: QMouseEvent) -> None:  # noqa: N802
        if self.position_at(event.position()) >= 0 and event.button() == Qt.MouseButton.LeftButton:
            self.opened.emit()

    def keyPressEvent(self, event: QKeyEvent) -> None:  # noqa: N802
        key, modifiers = Qt.Key(event.key()), event.modifiers()
        control, shift = (bool(modifiers & getattr(Qt.KeyboardModifier, f"{m}Modifier")) for m in ("Control", "Shift"))
        if modifiers & Qt.KeyboardModifier.AltModifier:
            event.ignore()
        elif (target := self._target(key)) is not None and not control:
            if shift:
                self.session.mark_up_to(target)
            else:
                self.session.look_at(int(self.session.shown[target]))
        elif key == Qt.Key.Key_A and control and len(self.session.shown):
            current = self.session.current
            self.session.look_at(
                int(self.session.shown[0]) if current is None else current, frozenset(self.session.shown.tolist())
            )
        elif key == Qt.Key.Key_Space and self.session.current is not None:
            self.session.look_at(self.session.current, self.session.marked ^ {self.session.current})
        elif key == Qt.Key.Key_Escape and len(self.session.marked) > 1:
            self.session.look_at(self.session.current)
        elif event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter):
            if self.session.current is None:
                self.session.step(0)
            if self.session.current is not None:
                self.opened.emit()
        else:
            event.ignore()

    def _target(self, key: Qt.Key) -> int | None:
        """The position that a key goes to from the current one; None for a key that does not travel."""
        last, at = len(self.session.shown) - 1, self.session.position
        if key not in _TRAVEL or last < 0:
            return None
        if key in (Qt.Key.Key_Home, Qt.Key.Key_End) or at < 0:
            return last if key == Qt.Key.Key_End else 0
        if key in (Qt.Key.Key_Left, Qt.Key.Key_Right):
            return min(last, max(0, at + (1 if key == Qt.Key.Key_Right else -1)))
        lines = 1 if key in (Qt.Key.Key_Up, Qt.Key.Key_Down) else max(1, self.viewport().height() // self._row_height)
        down = key in (Qt.Key.Key_Down, Qt.Key.Key_PageDown)
        for _ in range(lines):
            at = self._next_line(at, down)
        return at

    def _next_line(self, at: int, down: bool) -> int:
        """The position below or above one, in the same column as far as the band has it."""
        b, columns = self._band_of(at), self.columns
        start = self._starts[b]
        stop = self._starts[b + 1] if b + 1 < len(self._starts) else len(self.session.shown)
        line, column = divmod(at - start, columns)
        if down and start + (line + 1) * columns < stop:
            return min(at + columns, stop - 1)
        if down:
            following = self._starts[b + 2] if b + 2 < len(self._starts) else len(self.session.shown)
            return min(stop + column, following - 1) if stop < len(self.session.shown) else at
        if line:
            return at - columns
        if not b:
            return at
        before = self._starts[b - 1]
        return min(before + (start - before - 1) // columns * columns + column, start - 1)

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
        review = self.session.reviews[image]
        if review.causes:
            lines.append(f"cause: {', '.join(self.session.reviews.names(image))}")
        if review.label is not None:
            lines.append(f"proposed label: {record.classes[review.label]}")
        if review.note:
            lines.append(f"note: {review.note}")
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
