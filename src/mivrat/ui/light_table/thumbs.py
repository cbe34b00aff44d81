"""The grid of thumbnails, in bands if wanted: only what is in sight is drawn and decoded; keys and mouse travel and mark."""

from __future__ import annotations

from bisect import bisect_right
from collections.abc import Callable

from PySide6.QtCore import QEvent, QPointF, QRect, QRectF, Qt, Signal
from PySide6.QtGui import (
    QFont,
    QHelpEvent,
    QImage,
    QKeyEvent,
    QMouseEvent,
    QPainter,
    QPaintEvent,
    QPen,
    QResizeEvent,
)
from PySide6.QtWidgets import QAbstractScrollArea, QFrame, QToolTip

from mivrat.core.base.numbers import with_bounds
from mivrat.core.selecting.measures import property_lines
from mivrat.core.selecting.ordering import (
    Band,
)
from mivrat.ui import words
from mivrat.ui.light_table.cells import PictureCache
from mivrat.ui.parts.pictures import Thumbnails
from mivrat.ui.parts.widgets import plain
from mivrat.ui.theme import font, theme
from mivrat.workspace.workspace import Workspace

SIZES = {"small": 84, "medium": 118, "large": 176}
_GAP = 10
_HEAD = 30
MILLISECONDS = 40


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

    def __init__(self, workspace: Workspace, thumbnails: Thumbnails) -> None:
        super().__init__()
        self.workspace, self._thumbnails = workspace, thumbnails
        self._least_side = SIZES["medium"]
        self._starts, self._tops = [0], [4]
        # What was asked to be listed, when it was last shown from its beginning.
        self._listed: object = None
        self.columns, self._side = 1, self._least_side
        self._cells = PictureCache(workspace, thumbnails)
        # Thumbnails come in one by one; painting for each would be most of the work.
        self._asking = self.workspace.soon(MILLISECONDS // 2, self._ask)
        self._soon = self.workspace.soon(MILLISECONDS, self.viewport().update)
        self.setFrameShape(QFrame.Shape.NoFrame)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.setAccessibleName("light table: arrow keys travel, Enter opens the close look")
        self.viewport().setAutoFillBackground(False)
        workspace.topics.selection.connect(self._relist)
        workspace.topics.current.connect(self._reveal)
        workspace.topics.reviews.connect(self.viewport().update)
        workspace.topics.held.connect(self._relist)
        workspace.topics.blind.connect(self._relist)
        thumbnails.ready.connect(self._repaint_soon)
        theme.changed.connect(self.viewport().update)

    def _repaint_soon(self) -> None:
        if not self._soon.waiting:
            self._soon.start()

    def show_heat(self, heat_of: Callable[[int], QImage | None]) -> None:
        """Show what this gives for an image in place of its thumbnail."""
        self._cells.heat_of = heat_of
        self.viewport().update()

    def set_size(self, name: str) -> None:
        self._least_side = SIZES[name]
        self._relayout()
        self._reveal()

    @property
    def _row_height(self) -> int:
        return self._side + self._cells.caption + _GAP

    def cell_rect(self, position: int) -> QRect:
        """Where the image at a position stands, in viewport coordinates."""
        b = self._band_of(position)
        line, column = divmod(position - self._starts[b], self.columns)
        return QRect(
            4 + column * (self._side + _GAP),
            self._tops[b] + line * self._row_height - self.verticalScrollBar().value(),
            self._side,
            self._side + self._cells.caption,
        )

    def _band_of(self, position: int) -> int:
        return max(0, bisect_right(self._starts, position) - 1)

    def _relist(self) -> None:
        self._relayout()
        shown = self.workspace.shown
        listed = shown.record.key, shown.conditions, shown.order.by, shown.order.band_by, shown.order.about
        if listed != self._listed:  # while a run goes on, the same list grows: that is no reason to begin again
            self._listed = listed
            self.verticalScrollBar().setValue(0)  # another list is looked at from its beginning
            self._reveal()
        self.viewport().update()

    def _relayout(self) -> None:
        """Work out how large thumbnails are and where each band begins: its first position, and how far down its first row of
        images stands."""
        if not self.workspace.is_open:
            return
        width = self.viewport().width() - 8 + _GAP
        self.columns = max(1, width // (self._least_side + _GAP))
        # At least the size chosen, and so much more that the columns fill the width.
        self._side = max(self._least_side, width // self.columns - _GAP)
        shown, bands = len(self.workspace.shown.images), self.workspace.shown.bands
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

    def resizeEvent(self, event: QResizeEvent) -> None:
        self._relayout()

    def _reveal(self) -> None:
        position = self.workspace.shown.focus.position
        if position >= 0:
            cell, bar = self.cell_rect(position), self.verticalScrollBar()
            if self.workspace.shown.bands and position - self._starts[self._band_of(position)] < self.columns:
                cell.setTop(cell.top() - _HEAD)  # with the first line of a band its head
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
            stop = self._starts[b + 1] if b + 1 < len(self._starts) else len(self.workspace.shown.images)
            first = start + max(0, (above - top) // self._row_height) * self.columns
            last = start + (max(0, below - top) // self._row_height + 1) * self.columns
            found += range(first, min(stop, last))
        return found

    def paintEvent(self, event: QPaintEvent) -> None:
        with QPainter(self.viewport()) as painter:
            self._paint(painter)

    def _paint(self, painter: QPainter) -> None:
        if not self.workspace.is_open:
            return
        painter.setRenderHint(QPainter.RenderHint.SmoothPixmapTransform)
        snapshot = self.workspace.shown.snapshot
        if not len(self.workspace.shown.images):
            painter.setPen(theme.colour("soft"))
            painter.setFont(font(13))
            info = snapshot.record.info
            text = (
                f"None of the {words.images(snapshot.counts.listed)} of {words.clipped(info.image_set, 40)} meets these conditions "
                f"under {words.clipped(info.model, 40)}.\nBackspace removes the last condition."
            )
            painter.drawText(
                self.viewport().rect().adjusted(24, 24, -24, -24),
                Qt.AlignmentFlag.AlignHCenter | Qt.AlignmentFlag.AlignTop | Qt.TextFlag.TextWordWrap,
                text,
            )
            return
        sight = self._in_sight()
        if not self._asking.waiting:
            self._asking.start()
        for b, band in enumerate(self.workspace.shown.bands):
            head = self._tops[b] - _HEAD - self.verticalScrollBar().value()
            if -_HEAD <= head <= self.viewport().height():
                self._paint_head(painter, band, head)
        for position in sight:
            self._paint_one(painter, position, int(self.workspace.shown.images[position]))

    def _ask(self) -> None:
        """Ask for the thumbnails in sight; what has gone by meanwhile is not asked for at all."""
        snapshot = self.workspace.shown.snapshot
        if not self.isVisible():
            return
        files = [snapshot.record.image_set.file(int(self.workspace.shown.images[p])) for p in self._in_sight()]
        self._thumbnails.want(self, set(files))
        for file in reversed(files):
            self._thumbnails.get(file)

    @property
    def settled(self) -> bool:
        """Whether everything in sight has been asked for."""
        return not self._asking.waiting

    def _paint_head(self, painter: QPainter, band: Band, top: int) -> None:
        """A band's name, its number of images and its accuracy."""
        line = QRect(4, top + 4, self.viewport().width() - 16, _HEAD - 10)
        share, images = band.accuracy, words.images(band.stop - band.start)
        text = f"{images}  ·  correct {with_bounds(share)}" if share.total else images
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
        cell = self.cell_rect(position)
        painter.drawPixmap(cell.topLeft(), self._cells.get(image, self._side, self.devicePixelRatioF()))
        square = QRectF(cell.left(), cell.top(), self._side, self._side)
        if image in self.workspace.shown.focus.marked and len(self.workspace.shown.focus.marked) > 1:
            wash = theme.colour("accent")
            wash.setAlphaF(0.28)
            painter.fillRect(square, wash)
        if image == self.workspace.shown.focus.current:
            painter.setPen(QPen(theme.colour("accent"), 3 if self.hasFocus() else 2))
            painter.drawRect(square.adjusted(-2, -2, 2, 2))

    def position_at(self, point: QPointF) -> int:
        """The position of the image under a viewport point, or -1."""
        for position in self._in_sight():
            if QRectF(self.cell_rect(position)).contains(point):
                return position
        return -1

    def mousePressEvent(self, event: QMouseEvent) -> None:
        position = self.position_at(event.position())
        if position < 0:
            return
        image, marked = int(self.workspace.shown.images[position]), self.workspace.shown.focus.marked
        if event.button() == Qt.MouseButton.RightButton and image not in marked:
            self.workspace.shown.focus.look_at(image)  # what the menu will be about
        if event.button() != Qt.MouseButton.LeftButton:
            return
        if event.modifiers() & Qt.KeyboardModifier.ShiftModifier:
            self.workspace.shown.focus.mark_up_to(position)
        elif event.modifiers() & Qt.KeyboardModifier.ControlModifier:
            self.workspace.shown.focus.look_at(image, marked ^ {image})
        else:
            self.workspace.shown.focus.look_at(image)

    def mouseDoubleClickEvent(self, event: QMouseEvent) -> None:
        if self.position_at(event.position()) >= 0 and event.button() == Qt.MouseButton.LeftButton:
            self.opened.emit()

    def keyPressEvent(self, event: QKeyEvent) -> None:
        key, modifiers = Qt.Key(event.key()), event.modifiers()
        control, shift = (bool(modifiers & getattr(Qt.KeyboardModifier, f"{m}Modifier")) for m in ("Control", "Shift"))
        if modifiers & Qt.KeyboardModifier.AltModifier:
            event.ignore()
        elif (target := self._target(key)) is not None and not control:
            if shift:
                self.workspace.shown.focus.mark_up_to(target)
            else:
                self.workspace.shown.focus.look_at(int(self.workspace.shown.images[target]))
        elif key == Qt.Key.Key_A and control and len(self.workspace.shown.images):
            current = self.workspace.shown.focus.current
            self.workspace.shown.focus.look_at(
                int(self.workspace.shown.images[0]) if current is None else current,
                frozenset(self.workspace.shown.images.tolist()),
            )
        elif key == Qt.Key.Key_Space and self.workspace.shown.focus.current is not None:
            self.workspace.shown.focus.look_at(
                self.workspace.shown.focus.current,
                self.workspace.shown.focus.marked ^ {self.workspace.shown.focus.current},
            )
        elif key == Qt.Key.Key_Escape and len(self.workspace.shown.focus.marked) > 1:
            self.workspace.shown.focus.look_at(self.workspace.shown.focus.current)
        elif event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter):
            if self.workspace.shown.focus.current is None:
                self.workspace.shown.focus.step(0)
            if self.workspace.shown.focus.current is not None:
                self.opened.emit()
        else:
            event.ignore()

    def _target(self, key: Qt.Key) -> int | None:
        """The position that a key goes to from the current one; None for a key that does not travel."""
        last, at = len(self.workspace.shown.images) - 1, self.workspace.shown.focus.position
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
        stop = self._starts[b + 1] if b + 1 < len(self._starts) else len(self.workspace.shown.images)
        line, column = divmod(at - start, columns)
        if down and start + (line + 1) * columns < stop:
            return min(at + columns, stop - 1)
        if down:
            following = self._starts[b + 2] if b + 2 < len(self._starts) else len(self.workspace.shown.images)
            return min(stop + column, following - 1) if stop < len(self.workspace.shown.images) else at
        if line:
            return at - columns
        if not b:
            return at
        before = self._starts[b - 1]
        return min(before + (start - before - 1) // columns * columns + column, start - 1)

    def focusInEvent(self, event: object) -> None:
        self.viewport().update()

    def focusOutEvent(self, event: object) -> None:
        self.viewport().update()

    def describe(self, image: int) -> str:
        """An image in words, for its tooltip."""
        judged, record = self.workspace.shown.snapshot.judged, self.workspace.shown.snapshot.record
        lines = [record.image_set.items[image].path]
        if judged.labels[image] >= 0:
            lines.append(f"labelled {record.classes[judged.labels[image]]}")
        blind = self.workspace.shown.blind
        if judged.predicted[image] >= 0 and not blind:
            lines.append(
                f"predicted {record.classes[judged.predicted[image]]}, confidence {judged.confidence[image]:.3f}"
            )
        if judged.rank[image] > 1 and not blind:
            lines.append(f"the labelled class ranked {judged.rank[image]}")
        if image in record.answers.reasons:
            lines.append(record.answers.reasons[image])
        review = self.workspace.shown.reviews[image]
        if review.causes:
            lines.append(f"cause: {', '.join(self.workspace.shown.reviews.names(image))}")
        if review.label is not None:
            lines.append(f"proposed label: {record.classes[review.label]}")
        if review.note:
            lines.append(f"note: {review.note}")
        lines += [f"{key}: {value}" for key, value in record.image_set.items[image].columns.items() if value]
        lines += property_lines(self.workspace.shown.measures, image)
        return "\n".join(lines)

    def viewportEvent(self, event: QEvent) -> bool:
        if event.type() == QEvent.Type.ToolTip and isinstance(event, QHelpEvent):
            position = self.position_at(QPointF(event.pos()))
            if position >= 0:
                QToolTip.showText(
                    event.globalPos(), plain(self.describe(int(self.workspace.shown.images[position]))), self
                )
            else:
                QToolTip.hideText()
            return True
        return super().viewportEvent(event)
