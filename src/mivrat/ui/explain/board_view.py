"""The board itself, painted: layers down, targets across; one cell is in focus and can be shown large."""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np
from numpy.typing import NDArray
from PySide6.QtCore import QPointF, QRectF, QSize, Qt, Signal
from PySide6.QtGui import QFont, QImage, QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen
from PySide6.QtWidgets import QSizePolicy, QWidget

from mivrat.ui.theme import font, theme

NAMES, HEAD, GAP, NOTE = 112, 40, 10, 17
LEAST, MOST = 84, 190


@dataclass
class BoardCell:
    """One cell: its map once it is known, its picture once it is drawn, and words below it."""

    heat: NDArray[np.float32] | None = None
    picture: QImage | None = None
    note: str = "…"
    of_other: bool = False


@dataclass
class Board:
    """What is painted: names of rows and columns (two lines each), and the cells row by row."""

    rows: list[str] = field(default_factory=list)
    columns: list[str] = field(default_factory=list)
    cells: list[list[BoardCell]] = field(default_factory=list)


class BoardView(QWidget):
    """Arrow keys move the focus, Enter shows its cell large and Escape all of them again."""

    pointed = Signal(int, int, float, float)  # row, column, shares across and down of the cell's picture
    left = Signal()
    focused = Signal()

    def __init__(self) -> None:
        super().__init__()
        self.board = Board()
        self.at = (0, 0)
        self.large = False
        # What room there is to see the board in; it is made to fit, as far as cells stay large enough. Its own size follows from
        # this and from what it shows, never from a size it was given: that would go round in circles.
        self.wide, self.room = 480, 0
        self.setMouseTracking(True)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        theme.changed.connect(self.update)

    def show_board(self, board: Board) -> None:
        rows, columns = len(board.rows), len(board.columns)
        self.board = board
        self.at = (min(self.at[0], max(0, rows - 1)), min(self.at[1], max(0, columns - 1)))
        self._fit()
        self.announce()
        self.update()

    def announce(self) -> None:
        """Say for those who cannot see it what is in focus."""
        if self.board.cells:
            r, c = self.at
            name = " ".join((self.board.columns[c], self.board.rows[r], self.board.cells[r][c].note)).replace("\n", " ")
            self.setAccessibleName(f"board of heatmaps, {name}")

    # --- where things are ---

    @property
    def side(self) -> int:
        """The side of a cell."""
        rows, columns = max(1, len(self.board.rows)), max(1, len(self.board.columns))
        side = min(MOST, (self.wide - NAMES - GAP * columns) // columns)
        if self.room:
            side = min(side, max(LEAST + 20, (self.room - HEAD - 8) // rows - GAP - NOTE))
        return max(LEAST, side)

    def set_room(self, width: int, height: int) -> None:
        """Fit the board into so much room, as far as can be."""
        if (width, height) != (self.wide, self.room):
            self.wide, self.room = width, height
            self._fit()
            self.update()

    def cell_rect(self, row: int, column: int) -> QRectF:
        """The square a cell's picture stands in."""
        if self.large:
            return QRectF(NAMES, HEAD, self._large_side, self._large_side)
        step = self.side + GAP
        return QRectF(NAMES + column * step, HEAD + row * (step + NOTE), self.side, self.side)

    @property
    def _large_side(self) -> int:
        room = self.room - HEAD - NOTE - 12 if self.room else 460
        return max(LEAST, min(self.wide - NAMES - GAP, max(240, room)))

    def picture_rect(self, row: int, column: int) -> QRectF:
        """Where the picture lies within its square."""
        square, picture = self.cell_rect(row, column), self.board.cells[row][column].picture
        if picture is None:
            return square
        scale = min(square.width() / picture.width(), square.height() / picture.height())
        place = QRectF(0, 0, picture.width() * scale, picture.height() * scale)
        place.moveCenter(square.center())
        return place

    @property
    def _height(self) -> int:
        if self.large:
            return HEAD + self._large_side + NOTE + GAP
        return HEAD + max(1, len(self.board.rows)) * (self.side + GAP + NOTE)

    def sizeHint(self) -> QSize:
        return QSize(max(self.minimumSizeHint().width(), min(480, self.wide)), self._height)

    def minimumSizeHint(self) -> QSize:
        columns = max(1, len(self.board.columns))
        return QSize(NAMES + columns * (LEAST + GAP), self._height)

    def _fit(self) -> None:
        self.updateGeometry()

    # --- keys and mouse ---

    def move(self, down: int, across: int) -> None:  # type: ignore[override]
        """Move the focus, round the edges."""
        rows, columns = len(self.board.rows), len(self.board.columns)
        if rows and columns:
            self.at = (self.at[0] + down) % rows, (self.at[1] + across) % columns
            self.announce()
            self.focused.emit()
            self.update()

    def enlarge(self, large: bool) -> None:
        """Show the cell in focus large, or all of them."""
        self.large = large and bool(self.board.cells)
        self._fit()
        self.update()

    def keyPressEvent(self, event: QKeyEvent) -> None:
        steps = {
            Qt.Key.Key_Left: (0, -1),
            Qt.Key.Key_Right: (0, 1),
            Qt.Key.Key_Up: (-1, 0),
            Qt.Key.Key_Down: (1, 0),
        }
        key = Qt.Key(event.key())
        if event.modifiers() & ~Qt.KeyboardModifier.KeypadModifier:
            event.ignore()
        elif key in steps:
            self.move(*steps[key])
        elif key in (Qt.Key.Key_Return, Qt.Key.Key_Enter):
            self.enlarge(not self.large)
        elif key == Qt.Key.Key_Escape and self.large:
            self.enlarge(False)
        else:
            event.ignore()

    def _at(self, point: QPointF) -> tuple[int, int] | None:
        if self.large:
            return self.at if self.board.cells and self.cell_rect(*self.at).contains(point) else None
        for r in range(len(self.board.rows)):
            for c in range(len(self.board.columns)):
                if self.cell_rect(r, c).contains(point):
                    return r, c
        return None

    def mousePressEvent(self, event: QMouseEvent) -> None:
        self.setFocus(Qt.FocusReason.MouseFocusReason)
        found = self._at(event.position())
        if found is not None and event.button() in (Qt.MouseButton.LeftButton, Qt.MouseButton.RightButton):
            self.at = found
            self.announce()
            self.focused.emit()
            self.update()

    def mouseDoubleClickEvent(self, event: QMouseEvent) -> None:
        if self._at(event.position()) is not None:
            self.enlarge(not self.large)

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        found = self._at(event.position())
        if found is None or not (place := self.picture_rect(*found)).contains(event.position()):
            self.left.emit()
            return
        inside = event.position() - place.topLeft()
        self.pointed.emit(*found, inside.x() / place.width(), inside.y() / place.height())

    def leaveEvent(self, event: object) -> None:
        self.left.emit()

    def focusInEvent(self, event: object) -> None:
        self.update()

    def focusOutEvent(self, event: object) -> None:
        self.update()

    # --- painting ---

    def paintEvent(self, event: QPaintEvent) -> None:
        with QPainter(self) as painter:
            self._paint(painter)

    def _paint(self, painter: QPainter) -> None:
        painter.setRenderHint(QPainter.RenderHint.SmoothPixmapTransform)
        rows, columns = range(len(self.board.rows)), range(len(self.board.columns))
        if self.large:
            rows, columns = range(self.at[0], self.at[0] + 1), range(self.at[1], self.at[1] + 1)
        for c in columns:
            square = self.cell_rect(0, c)
            self._paint_name(painter, QRectF(square.left(), 0, square.width(), HEAD - 6), self.board.columns[c])
        for r in rows:
            square = self.cell_rect(r, 0)
            ink = "second" if self.board.cells[r] and self.board.cells[r][0].of_other else "ink"
            place = QRectF(0, square.top(), NAMES - 12, square.height())
            self._paint_name(painter, place, self.board.rows[r], up=True, ink=ink)
            for c in columns:
                self._paint_cell(painter, r, c)

    @staticmethod
    def _paint_name(painter: QPainter, place: QRectF, text: str, *, up: bool = False, ink: str = "ink") -> None:
        """A name on up to two lines: the first in ink, the second softer; to the right for rows."""
        first, _, second = text.partition("\n")
        lines = [(first, font(12, QFont.Weight.DemiBold), ink), (second, font(11), "soft")]
        top = place.top() + 2 if up else place.bottom() - 17 * (2 if second else 1)
        for n, (line, shape, token) in enumerate(lines):
            painter.setFont(shape)
            painter.setPen(theme.colour(token))
            mode = Qt.TextElideMode.ElideLeft if up and not n else Qt.TextElideMode.ElideMiddle
            shown = painter.fontMetrics().elidedText(line, mode, int(place.width()))
            painter.drawText(QRectF(place.left(), top + 17 * n, place.width(), 17), Qt.AlignmentFlag.AlignLeft, shown)

    def _paint_cell(self, painter: QPainter, r: int, c: int) -> None:
        cell, square = self.board.cells[r][c], self.cell_rect(r, c)
        if cell.picture is not None:
            painter.drawImage(self.picture_rect(r, c), cell.picture)
        else:
            painter.fillRect(square, theme.colour("sheet"))
            painter.setPen(theme.colour("line"))
            painter.drawRect(square.adjusted(0, 0, -1, -1))
        painter.setFont(font(11))
        painter.setPen(theme.colour("soft"))
        if cell.picture is None:
            inner = square.adjusted(6, 6, -6, -6)
            painter.drawText(inner, Qt.AlignmentFlag.AlignCenter | Qt.TextFlag.TextWordWrap, cell.note)
        else:
            line = QRectF(square.left(), square.bottom() + 2, square.width(), NOTE)
            shown = painter.fontMetrics().elidedText(cell.note, Qt.TextElideMode.ElideRight, int(square.width()))
            painter.drawText(line, Qt.AlignmentFlag.AlignLeft, shown)
        if (r, c) == self.at and (self.hasFocus() or self.large):
            painter.setPen(QPen(theme.colour("accent"), 2))
            painter.drawRect(square.adjusted(-2, -2, 2, 2))
