"""The confusion matrix: rows are labels, columns predictions; cells and headers select; wheel and drag zoom and pan."""

from __future__ import annotations

from dataclasses import dataclass
from math import ceil

import numpy as np
from numpy.typing import NDArray
from PySide6.QtCore import QEvent, QPoint, QPointF, QRect, QRectF, QSize, QSizeF, Qt, Signal
from PySide6.QtGui import (
    QColor,
    QFocusEvent,
    QFontMetrics,
    QHelpEvent,
    QKeyEvent,
    QMouseEvent,
    QPainter,
    QPaintEvent,
    QResizeEvent,
    QShowEvent,
    QWheelEvent,
)
from PySide6.QtWidgets import QApplication, QSizePolicy, QToolTip, QWidget

from mivrat.core.base.numbers import with_bounds
from mivrat.core.figures.blocks import farthest, pooled
from mivrat.core.selecting.selection import Labelled, MatrixCells, Predicted
from mivrat.ui import words
from mivrat.ui.measure.matrix_cells import CellsInView, Layout, paint_cells, paint_marks, paint_names
from mivrat.ui.measure.matrix_picture import Marks, MatrixPicture
from mivrat.ui.parts.widgets import plain
from mivrat.ui.theme import font, theme
from mivrat.workspace.workspace import Workspace

LARGEST_CELL = 96.0
LEAST_WITH_NAMES = 13
NAME_MARGIN = 12
# Zooming goes at least as far as this, so that every cell can be read.
READABLE_CELL = 40.0
# Smaller than this a cell cannot be seen: several are drawn as one then.
LEAST_SEEN = 4.0
MOST_FRAMED = 16
ZOOM_STEP = 1.5
# The shade that marks the diagonal of the matrix drawn as a picture; those below are magnitudes.
DIAGONAL = 255
Values = NDArray[np.float64]


@dataclass(frozen=True)
class _Fit:
    """Cell size at which the whole matrix fits, the room left of it and above, and how names are drawn."""

    side: float
    left: float
    top: float
    names: int
    upright: bool


class ConfusionMatrix(QWidget):
    """The matrix at whatever size fits, or enlarged; where cells are small as a picture, names under the pointer.

    ``pointed`` tells of the cell under the pointer or the keyboard's marker, as (label, prediction), or None;
    ``zoomed`` that it has been enlarged or is whole again.
    """

    pointed = Signal(object)
    zoomed = Signal()
    # What the names of the lines take at least.
    least_left = 96
    # Cells as large as this show numbers; above the columns' names there is so much room.
    least_with_numbers, above_names = 17, 24.0
    # The shade of a cell that says nothing.
    neutral = 0

    def __init__(self, workspace: Workspace) -> None:
        super().__init__()
        self.workspace = workspace
        self.mode = 0
        self.cursor_cell: tuple[int, int] | None = None
        self.pointed_cell: tuple[int, int] | None = None
        # Where cells are small they are a picture; so many across stand in one of its (0: it is to be made).
        self._picture, self._picture_by = MatrixPicture(self), 0
        self._shaded: NDArray[np.uint8] | None = None
        self._values: tuple[Values, float] | None = None
        self._order: NDArray[np.int64] | None = None
        # Of which classes the widest name was looked for, and its width.
        self._widest: tuple[list[str] | None, int] = None, 0
        self._zoom, self._offset = 1.0, QPointF()
        self._pressed: QPointF | None = None
        self._dragged_from: QPointF | None = None
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setMouseTracking(True)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Expanding)
        self.setMinimumSize(QSize(260, 150))
        self.setAccessibleName(
            "confusion matrix: rows are labels, columns predictions; arrow keys move, Enter selects, plus and minus zoom"
        )
        workspace.topics.measured.connect(self._renew)
        workspace.topics.selection.connect(self.refresh)
        theme.changed.connect(self._follow_theme)

    def set_mode(self, mode: int) -> None:
        self.mode = mode
        self._renew()

    def set_order(self, order: NDArray[np.int64] | None) -> None:
        """Show the classes in another order, or only some of them: the class that stands at each place; None for the list's."""
        self._order = order
        if self.cursor_cell is not None and not self._shows(*self.cursor_cell):
            self.cursor_cell = None
        self._renew()
        if self.workspace.is_open:
            self._settle()

    @property
    def order(self) -> NDArray[np.int64]:
        """The class that stands at each place."""
        count, order = len(self._matrix), self._order
        return order if order is not None and len(order) and int(order.max()) < count else np.arange(count)

    def _shows(self, *classes: int) -> bool:
        """Whether all of these classes have a place."""
        return self._order is None or bool(np.isin(classes, self._order).all())

    def place_of(self, k: int) -> int:
        """The place at which a class stands."""
        return k if self._order is None else int(np.flatnonzero(self.order == k)[0])

    def _follow_theme(self) -> None:
        if self.workspace.is_open:
            self._renew()

    def _renew(self) -> None:
        self._values = self._shaded = None
        self._picture_by = 0
        self.refresh()

    def refresh(self) -> None:
        """Show what is selected and pointed at, and the cells as large as they are now."""
        found = self._layout() if self.workspace.is_open and len(self._matrix) else None
        if found is not None and found.side < LEAST_WITH_NAMES and self.isVisible():
            self._show_picture(found)
        else:
            self._picture.hide()
        self.update()

    def showEvent(self, event: QShowEvent) -> None:
        super().showEvent(event)
        self.refresh()

    def focusInEvent(self, event: QFocusEvent) -> None:
        super().focusInEvent(event)
        self.refresh()

    def focusOutEvent(self, event: QFocusEvent) -> None:
        super().focusOutEvent(event)
        self.refresh()

    @property
    def _matrix(self) -> np.ndarray[tuple[int, ...], np.dtype[np.int64]]:
        return self.workspace.shown.results.measured.figures.matrix

    def values(self) -> tuple[Values, float]:
        """What the cells show, and the largest value off the diagonal (at least 1).

        Counts, or shares of their row or column in percent (NaN where that has no images).
        """
        if self._values is None:
            matrix = self._matrix.astype(float)
            if self.mode:
                with np.errstate(invalid="ignore", divide="ignore"):
                    matrix = 100 * matrix / matrix.sum(axis=2 - self.mode, keepdims=True)
            off = np.nan_to_num(matrix) if self.mode else matrix.copy()
            np.fill_diagonal(off, 0.0)
            if len(self.order) < len(off):  # of some classes, the largest among them
                off = off[np.ix_(self.order, self.order)]
            self._values = matrix, max(1.0, float(off.max(initial=0.0)))
        return self._values

    # --- what another matrix shows otherwise ---

    def shade(self, part: float) -> QColor:
        """The colour of a cell off the diagonal whose value is this part of the largest."""
        return theme.magnitude(0.14 + 0.86 * part)

    def number(self, value: float) -> str:
        """What a cell says."""
        return "–" if np.isnan(value) else f"{value:.0f}"

    def shades(self, values: Values, most: float) -> NDArray[np.uint8]:
        """The place of each cell's colour among ``colours``; small values are lifted, so that they show."""
        # In one array throughout: of a thousand classes every further one costs the paint event some milliseconds.
        part = np.divide(values, most, dtype=np.float32, casting="same_kind")
        if self.mode:
            np.nan_to_num(part, copy=False)
        np.minimum(part, 1.0, out=part)
        np.sqrt(part, out=part)
        part *= DIAGONAL - 1
        return part.astype(np.uint8)

    def colours(self) -> list[QColor]:
        """The DIAGONAL colours of the matrix drawn as a picture."""
        return [theme.magnitude(i / (DIAGONAL - 1)) for i in range(DIAGONAL)]

    def point_at(self, cell: tuple[int, int] | None) -> None:
        """Show the cross of a cell that is pointed at elsewhere."""
        if cell != self.pointed_cell:
            self.pointed_cell = cell
            self.refresh()

    def _fitting(self) -> _Fit:
        """How the whole matrix fits: with names beside it where cells are large enough for them."""
        count, widest = max(1, len(self.order)), self._widest_name()
        for names in (widest, 0):
            for upright in (True, False):
                left, top = self._room(names, upright)
                side = min((self.width() - left - 8) / count, (self.height() - top - 8) / count, LARGEST_CELL)
                if not names or (side >= LEAST_WITH_NAMES and (not upright or names <= side + NAME_MARGIN)):
                    return _Fit(side, left, top, names, upright)
        raise AssertionError

    def _widest_name(self) -> int:
        classes = self.workspace.shown.classes
        if self._widest[0] is not classes:
            metrics = QFontMetrics(font(13))
            names = (metrics.horizontalAdvance(words.clipped(n, 22)) for n in classes[:200])
            self._widest = classes, min(150, max(names, default=40)) + NAME_MARGIN
        return self._widest[1]

    def _room(self, names: int, upright: bool) -> tuple[float, float]:
        """The room left of the matrix and above it, with names so wide or none."""
        if not names:
            return 24.0, 24.0
        return float(max(names, self.least_left)), 44.0 if upright else min(names, 110) + self.above_names

    @property
    def most_zoom(self) -> float:
        """How many times larger than what fits the cells can be made."""
        return max(1.0, READABLE_CELL / max(0.01, self._fitting().side))

    @property
    def zoom(self) -> float:
        """How many times larger the cells are than what fits."""
        return min(self._zoom, self.most_zoom)

    def _layout(self) -> Layout:
        count = max(1, len(self.order))
        fit = self._fitting()
        side, names, upright = fit.side * self.zoom, fit.names, fit.upright
        if side >= LEAST_WITH_NAMES and (names or self.zoom > 1):
            names = names or self._widest_name()
            upright = names <= side + NAME_MARGIN
        left, top = self._room(names, upright)
        whole = side * count
        view = QRectF(left, top, min(whole, self.width() - left - 8), min(whole, self.height() - top - 8))
        across = min(max(0.0, self._offset.x()), whole - view.width())
        down = min(max(0.0, self._offset.y()), whole - view.height())
        return Layout(side, view, QRectF(left - across, top - down, whole, whole), int(names and left), upright)

    def zoom_by(self, factor: float, at: QPointF | None = None) -> None:
        """Enlarge (or, below 1, shrink back) around a point of the widget, or around the middle of what is shown."""
        before = self._layout()
        at = at or (self.cell_rect(*self.cursor_cell).center() if self.cursor_cell else before.view.center())
        share = QPointF(
            (at.x() - before.place.left()) / before.place.width(), (at.y() - before.place.top()) / before.place.height()
        )
        self._zoom = min(max(1.0, self.zoom * factor), self.most_zoom)
        after = self._layout()
        self._offset = QPointF(
            share.x() * after.place.width() - (at.x() - after.view.left()),
            share.y() * after.place.height() - (at.y() - after.view.top()),
        )
        self._settle()

    def pan_to(self, offset: QPointF) -> None:
        """Bring the point so far right of and below the matrix's corner to the corner of what is shown."""
        self._offset = offset
        self._settle()

    def _settle(self) -> None:
        found = self._layout()
        self._offset = found.view.topLeft() - found.place.topLeft()
        self.zoomed.emit()
        self.refresh()

    def _reveal(self, cell: QRectF) -> None:
        """Pan just so far that a cell is in sight."""
        view, offset = self._layout().view, QPointF(self._offset)
        offset.setX(offset.x() + min(0.0, cell.left() - view.left()) + max(0.0, cell.right() - view.right()))
        offset.setY(offset.y() + min(0.0, cell.top() - view.top()) + max(0.0, cell.bottom() - view.bottom()))
        self.pan_to(offset)

    def resizeEvent(self, event: QResizeEvent) -> None:
        super().resizeEvent(event)
        if self.workspace.is_open:
            self._settle()

    def cell_rect(self, label_index: int, predicted: int) -> QRectF:
        return self._layout().cell(self.place_of(label_index), self.place_of(predicted))

    def _at(self, point: QPointF) -> tuple[int, int] | None:
        """(label, predicted) under a point; -1 for a header, None outside."""
        found = self._layout()
        side, place, view, count = found.side, found.place, found.view, len(self.order)
        if not count or point.x() > view.right() or point.y() > view.bottom():
            return None
        column, line = int((point.x() - place.left()) // side), int((point.y() - place.top()) // side)
        across, down, order = point.x() >= view.left(), point.y() >= view.top(), self.order
        if across and down and column < count and line < count:
            if (by := self._by(side)) > 1:  # several stand in one: the largest of them
                line, column = farthest(self._shades_in_order(), by, line // by, column // by, self.neutral)
            return int(order[line]), int(order[column])
        if down and not across and line < count:
            return int(order[line]), -1
        if across and not down and column < count:
            return -1, int(order[column])
        return None

    def paintEvent(self, event: QPaintEvent) -> None:
        with QPainter(self) as painter:
            self._paint(painter)

    def _paint(self, painter: QPainter) -> None:
        if not self.workspace.is_open or not len(self._matrix):
            return
        found = self._layout()
        order = self.order.tolist()
        if found.names:
            paint_names(painter, found, self.workspace.shown.classes, order)
        painter.setFont(font(11))
        painter.setPen(theme.colour("soft"))
        if found.names:
            painter.drawText(
                QRectF(0, 0, found.names - 10, 36),
                Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignTop,
                "labelled ↓\npredicted →",
            )
        else:
            painter.drawText(
                QRectF(found.view.left(), 0, found.view.width(), 20),
                Qt.AlignmentFlag.AlignVCenter,
                "predicted →   labelled ↓"
                + ("   (names under the pointer, or zoom in)" if found.view.width() > 360 else ""),
            )
        if found.side < LEAST_WITH_NAMES:  # the picture is there
            painter.setPen(theme.colour("line"))
            painter.drawRect(found.view.adjusted(-1, -1, 1, 1))
            return
        painter.setClipRect(found.view.adjusted(-1, -1, 1, 1))
        shown = CellsInView(self._matrix, *self.values(), order, self.shade, self.number, self.least_with_numbers)
        paint_cells(painter, found, shown)
        paint_marks(painter, found, self._marks())

    @staticmethod
    def _by(side: float) -> int:
        """So many cells across are drawn as one, so that each can be seen."""
        return max(1, ceil(LEAST_SEEN / max(0.01, side)))

    def _shades_in_order(self) -> NDArray[np.uint8]:
        """The shades off the diagonal in the order shown; on it stands what is neither more nor less."""
        if self._shaded is None:
            self._shaded = self.shades(*self.values())[self.order][:, self.order]
            np.fill_diagonal(self._shaded, self.neutral)
        return self._shaded

    def _show_picture(self, found: Layout) -> None:
        """Have the picture lie where the cells are, with what it shows."""
        by = self._by(found.side)
        if self._picture_by != by:
            self._picture_by, shade = by, pooled(self._shades_in_order(), by, self.neutral)
            # The diagonal as it is, but where a mistake stands beside it in the same cell.
            at = np.arange(len(shade))
            shade = shade.copy()
            shade[at, at] = np.where(shade[at, at] != self.neutral, shade[at, at], DIAGONAL)
            self._picture.show_cells(shade, (*self.colours(), theme.colour("line")), by)
        rect = found.view.toAlignedRect()
        corner = (QPointF(rect.topLeft()) - found.place.topLeft()) / found.side
        self._picture.lie_at(rect, QRectF(corner, QSizeF(rect.size()) / found.side))
        self._picture.mark(self._marks())

    def _marks(self) -> Marks:
        """The places that are marked: none is framed where so many are selected that frames would hide what is seen."""
        selected = self._selected_cells()
        framed = (
            [place for cell in selected if (place := self._place_seen(cell))] if len(selected) <= MOST_FRAMED else []
        )
        cursor = self._place_seen(self.cursor_cell) if self.hasFocus() else None
        return Marks(self._place_seen(self.pointed_cell), tuple(framed), cursor)

    def _place_seen(self, cell: tuple[int, int] | None) -> tuple[int, int] | None:
        """The places of a cell, None where it has none."""
        if cell is None or max(cell) >= len(self._matrix) or not self._shows(*cell):
            return None
        return self.place_of(cell[0]), self.place_of(cell[1])

    def _selected_cells(self) -> list[tuple[int, int]]:
        labelled: set[int] = set()
        predicted: set[int] = set()
        for condition in self.workspace.shown.conditions:
            if isinstance(condition, MatrixCells):
                return sorted(condition.cells)
            if isinstance(condition, Labelled):
                labelled = set(condition.classes)
            elif isinstance(condition, Predicted):
                predicted = set(condition.classes)
        return [(i, j) for i in labelled for j in predicted][:64]

    def select(self, label_index: int, predicted: int, beside: bool, *, enter: bool = False) -> None:
        """Select a cell, or a whole row (predicted -1) or column (label -1)."""
        choose = self.workspace.shown.enter if enter else self.workspace.shown.choose
        if label_index < 0:
            choose(Predicted(frozenset({predicted})), beside=beside)
        elif predicted < 0:
            choose(Labelled(frozenset({label_index})), beside=beside)
        elif beside:
            cells = frozenset(self._selected_cells()) ^ {(label_index, predicted)}
            rest = tuple(c for c in self.workspace.shown.conditions if c.kind not in ("labelled", "predicted", "cells"))
            self.workspace.shown.replace(*rest, *((MatrixCells(cells),) if cells else ()))
        else:
            choose(Labelled(frozenset({label_index})), Predicted(frozenset({predicted})))

    def mousePressEvent(self, event: QMouseEvent) -> None:
        if event.button() == Qt.MouseButton.LeftButton:
            self._pressed, self._dragged_from = event.position(), None

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        if self._pressed is None or not event.buttons() & Qt.MouseButton.LeftButton:
            self._point_at(self._at(event.position()))
            return
        moved = event.position() - self._pressed
        if self._dragged_from is None and moved.manhattanLength() >= QApplication.startDragDistance():
            self._dragged_from = QPointF(self._offset)
        if self._dragged_from is not None and self.zoom > 1:
            self.pan_to(self._dragged_from - moved)

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        pressed, dragged = self._pressed, self._dragged_from is not None
        self._pressed = self._dragged_from = None
        if event.button() != Qt.MouseButton.LeftButton or pressed is None or (dragged and self.zoom > 1):
            return
        found = self._at(event.position())
        if found is not None and found == self._at(pressed):
            if min(found) >= 0:
                self.cursor_cell = found
            self.select(*found, bool(event.modifiers() & Qt.KeyboardModifier.ControlModifier))

    def wheelEvent(self, event: QWheelEvent) -> None:
        self.zoom_by(ZOOM_STEP ** (event.angleDelta().y() / 120), event.position())
        event.accept()

    def leaveEvent(self, event: QEvent) -> None:
        self._point_at(None)

    def _point_at(self, cell: tuple[int, int] | None) -> None:
        cell = cell if cell is not None and min(cell) >= 0 else None
        if cell != self.pointed_cell:
            self.pointed_cell = cell
            self.pointed.emit(cell)
            self.refresh()

    def keyPressEvent(self, event: QKeyEvent) -> None:
        moves = {Qt.Key.Key_Left: (0, -1), Qt.Key.Key_Right: (0, 1), Qt.Key.Key_Up: (-1, 0), Qt.Key.Key_Down: (1, 0)}
        count = len(self.order)
        if event.key() in moves and count and not event.modifiers() & Qt.KeyboardModifier.AltModifier:
            by = moves[Qt.Key(event.key())]
            at = (0, -1 if by == (0, 1) else 0)
            if self.cursor_cell is not None:
                at = self.place_of(self.cursor_cell[0]), self.place_of(self.cursor_cell[1])
            line, column = (min(count - 1, max(0, at[axis] + by[axis])) for axis in (0, 1))
            self.cursor_cell = int(self.order[line]), int(self.order[column])
            self._reveal(self.cell_rect(*self.cursor_cell))
            self._point_at(self.cursor_cell)
            corner = self.cell_rect(*self.cursor_cell).bottomRight().toPoint()
            QToolTip.showText(self.mapToGlobal(corner), plain(self.describe(*self.cursor_cell)), self)
            self.refresh()
        elif event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter, Qt.Key.Key_Space) and self.cursor_cell:
            beside = bool(event.modifiers() & Qt.KeyboardModifier.ControlModifier)
            self.select(*self.cursor_cell, beside, enter=event.key() != Qt.Key.Key_Space)
        elif event.key() in (Qt.Key.Key_Plus, Qt.Key.Key_Equal):
            self.zoom_by(ZOOM_STEP)
        elif event.key() == Qt.Key.Key_Minus:
            self.zoom_by(1 / ZOOM_STEP)
        else:
            super().keyPressEvent(event)

    def describe(self, label_index: int, predicted: int) -> str:
        """A cell, a row or a column in words."""
        matrix, classes = self._matrix, self.workspace.shown.classes
        if label_index < 0:
            return f"predicted {classes[predicted]}: {int(matrix[:, predicted].sum())} images"
        if predicted < 0:
            return f"labelled {classes[label_index]}: {int(matrix[label_index].sum())} images"
        amount, total = int(matrix[label_index, predicted]), int(matrix[label_index].sum())
        snapshot, measured = self.workspace.shown.snapshot, self.workspace.shown.results.measured
        judged, among = snapshot.judged, measured.among
        use = judged.evaluated_among(among)
        found = judged.share(judged.predicted == predicted, use & (judged.labels == label_index))
        share = f"{with_bounds(found)} of the {total} labelled so" if total else "no image has this label"
        return f"{classes[label_index]} labelled, {classes[predicted]} predicted: {words.images(amount)}\n{share}"

    def event(self, event: QEvent) -> bool:
        if event.type() == QEvent.Type.ToolTip and isinstance(event, QHelpEvent):
            found = self._at(QPointF(event.pos()))
            if found:
                QToolTip.showText(
                    event.globalPos() + QPoint(8, 8),
                    plain(self.describe(*found)),
                    self,
                    QRect(event.pos(), QSize(1, 1)),
                )
            else:
                QToolTip.hideText()
            return True
        return super().event(event)
