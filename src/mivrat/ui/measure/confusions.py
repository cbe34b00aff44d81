"""The confusion matrix: rows are labels, columns predictions; cells and headers select."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray
from PySide6.QtCore import QEvent, QPoint, QPointF, QRect, QRectF, QSize, Qt, Signal
from PySide6.QtGui import QHelpEvent, QImage, QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen
from PySide6.QtWidgets import QSizePolicy, QToolTip, QVBoxLayout, QWidget

from mivrat.core.checks.result import in_words
from mivrat.core.figures.confusion import order_by_likeness, order_by_support
from mivrat.core.figures.intervals import proportion
from mivrat.core.figures.significance import even_split
from mivrat.core.study.selection import Cells, Labelled, Predicted
from mivrat.ui import words
from mivrat.ui.session import Session
from mivrat.ui.theme import font, mix, theme
from mivrat.ui.widgets import Choice, label, row
from mivrat.ui.work import Work, Workers

MODES = ("counts", "share of label, %", "share of prediction, %")
SORTED_BY = {
    "order of the list": None,
    "most images first": order_by_support,
    "confused ones together": order_by_likeness,
}
ORDERS = tuple(SORTED_BY)
LARGEST_CELL = 96.0
LEAST_WITH_NUMBERS = 26
LEAST_WITH_NAMES = 13
# The shade that marks the diagonal of the matrix drawn as a picture; those below are magnitudes.
DIAGONAL = 255
Values = NDArray[np.float64]


class ConfusionMatrix(QWidget):
    """Paints the matrix at whatever size fits; with many classes as a picture, names under the pointer.

    ``pointed`` tells of the cell under the pointer or the keyboard's marker, as (label, prediction), or None.
    """

    pointed = Signal(object)

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        self.mode = 0
        self.cursor_cell: tuple[int, int] | None = None
        self.pointed_cell: tuple[int, int] | None = None
        self._picture: QImage | None = None
        self._values: tuple[Values, float] | None = None
        self._order: NDArray[np.int64] | None = None
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setMouseTracking(True)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Expanding)
        self.setMinimumSize(QSize(260, 240))
        self.setAccessibleName("confusion matrix: rows are labels, columns predictions; arrow keys move, Enter selects")
        session.measured_changed.connect(self._renew)
        session.selection_changed.connect(self.update)
        theme.changed.connect(self._renew)

    def set_mode(self, mode: int) -> None:
        self.mode = mode
        self._renew()

    def set_order(self, order: NDArray[np.int64] | None) -> None:
        """Show the classes in another order: the class that stands at each place, or None for the list's."""
        self._order = order
        self._renew()

    @property
    def order(self) -> NDArray[np.int64]:
        """The class that stands at each place."""
        count = len(self._matrix)
        return self._order if self._order is not None and len(self._order) == count else np.arange(count)

    def place_of(self, k: int) -> int:
        """The place at which a class stands."""
        return k if self._order is None else int(np.flatnonzero(self.order == k)[0])

    def _renew(self) -> None:
        self._picture = self._values = None
        self.update()

    @property
    def _matrix(self) -> np.ndarray[tuple[int, ...], np.dtype[np.int64]]:
        return self.session.measured.figures.matrix if self.session.measured else np.zeros((0, 0), np.int64)

    def values(self) -> tuple[Values, float]:
        """What the cells show, and the largest value off the diagonal (at least 1).

        Counts, or shares of their row or column in percent (NaN where that has no images).
        """
        if self._values is None:
            matrix = self._matrix.astype(float)
            if self.mode:
                with np.errstate(invalid="ignore", divide="ignore"):
                    matrix = 100 * matrix / matrix.sum(axis=2 - self.mode, keepdims=True)
            off = np.nan_to_num(matrix)
            np.fill_diagonal(off, 0.0)
            self._values = matrix, max(1.0, float(off.max(initial=0.0)))
        return self._values

    def _layout(self) -> tuple[float, QRectF, int]:
        """Cell size, the matrix's place, and the width given to names (0: none are drawn)."""
        count = max(1, len(self._matrix))
        metrics = self.fontMetrics()
        names = (
            min(
                150,
                max([metrics.horizontalAdvance(words.clipped(n, 22)) for n in self.session.classes[:200]], default=40),
            )
            + 12
        )
        for width in (names, 0):
            left, top = (max(width, 96), 44) if width else (24.0, 24.0)
            upright = self._upright(names)
            if width and not upright:
                top = min(names, 110) + 24
            side = min((self.width() - left - 8) / count, (self.height() - top - 8) / count, LARGEST_CELL)
            if side >= LEAST_WITH_NAMES or not width:
                return side, QRectF(left, top, side * count, side * count), int(width and left)
        raise AssertionError

    def _upright(self, names: int) -> bool:
        """Whether the column names fit without turning them."""
        count = max(1, len(self._matrix))
        return names - 8 <= min((self.width() - max(names, 96) - 8) / count, LARGEST_CELL) + 6

    def cell_rect(self, label_index: int, predicted: int) -> QRectF:
        side, place, _ = self._layout()
        column, line = self.place_of(predicted), self.place_of(label_index)
        return QRectF(place.left() + column * side, place.top() + line * side, side, side)

    def _at(self, point: QPointF) -> tuple[int, int] | None:
        """(label, predicted) under a point; -1 for a header, None outside."""
        side, place, _ = self._layout()
        count = len(self._matrix)
        if not count:
            return None
        column, line = int((point.x() - place.left()) // side), int((point.y() - place.top()) // side)
        inside, order = (0 <= line < count, 0 <= column < count), self.order
        if all(inside):
            return int(order[line]), int(order[column])
        if inside[0] and point.x() < place.left():
            return int(order[line]), -1
        if inside[1] and point.y() < place.top():
            return -1, int(order[column])
        return None

    def paintEvent(self, event: QPaintEvent) -> None:  # noqa: N802
        with QPainter(self) as painter:
            self._paint(painter)

    def _paint(self, painter: QPainter) -> None:
        count = len(self._matrix)
        if not count:
            return
        side, place, names = self._layout()
        values, most = self.values()
        if names:
            self._paint_names(painter, side, place, names)
        painter.setFont(font(11))
        painter.setPen(theme.colour("soft"))
        if names:
            painter.drawText(
                QRectF(0, 0, names - 10, 36),
                Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignTop,
                "labelled ↓\npredicted →",
            )
        else:
            painter.drawText(
                QRectF(place.left(), 0, place.width(), 20),
                Qt.AlignmentFlag.AlignVCenter,
                "predicted →   labelled ↓   (names under the pointer)",
            )
        if side >= LEAST_WITH_NAMES:
            self._paint_cells(painter, side, values, most)
        else:
            self._paint_picture(painter, place, values, most)
        self._paint_marks(painter)

    def _paint_names(self, painter: QPainter, side: float, place: QRectF, names: int) -> None:
        painter.setFont(font(13 if side >= 24 else 10))
        painter.setPen(theme.colour("ink"))
        upright = self._upright(
            max(painter.fontMetrics().horizontalAdvance(words.clipped(n, 22)) for n in self.session.classes) + 12
        )
        for i, k in enumerate(self.order.tolist()):
            name = self.session.classes[k]
            shown = painter.fontMetrics().elidedText(name, Qt.TextElideMode.ElideMiddle, names - 14)
            painter.drawText(
                QRectF(0, place.top() + i * side, names - 10, side),
                Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter,
                shown,
            )
            if upright:
                painter.drawText(
                    QRectF(place.left() + i * side - 8, place.top() - 24, side + 16, 20),
                    Qt.AlignmentFlag.AlignCenter,
                    shown,
                )
            else:
                painter.save()
                painter.translate(place.left() + (i + 0.5) * side, place.top() - 6)
                painter.rotate(-90)
                painter.drawText(
                    QRectF(0, -side / 2, place.top() - 30, side),
                    Qt.AlignmentFlag.AlignVCenter,
                    painter.fontMetrics().elidedText(name, Qt.TextElideMode.ElideMiddle, int(place.top() - 32)),
                )
                painter.restore()

    def _paint_cells(self, painter: QPainter, side: float, values: Values, most: float) -> None:
        matrix, numbers = self._matrix, side >= LEAST_WITH_NUMBERS
        _, place, _ = self._layout()
        spots = {int(k): at for at, k in enumerate(self.order)}
        size = 13 if side >= 34 else 10
        hatch = QPen(mix(theme.colour("sheet"), theme.colour("line"), 0.9))
        for i in range(len(matrix)):
            for j in range(len(matrix)):
                left, top = place.left() + spots[j] * side, place.top() + spots[i] * side
                cell = QRectF(left, top, side, side).adjusted(1, 1, -1, -1)
                amount = int(matrix[i, j])
                if i == j:
                    painter.fillRect(cell, theme.colour("sheet"))
                    painter.save()
                    painter.setClipRect(cell)
                    painter.setPen(hatch)
                    for offset in range(-int(side), int(side), 6):
                        painter.drawLine(
                            QPointF(cell.left() + offset, cell.bottom()),
                            QPointF(cell.left() + offset + side, cell.bottom() - side),
                        )
                    painter.restore()
                elif amount:
                    painter.fillRect(cell, theme.magnitude(0.14 + 0.86 * values[i, j] / most))
                if not numbers or (i != j and not amount):
                    if numbers:
                        painter.setPen(theme.colour("faint"))
                        painter.drawText(cell, Qt.AlignmentFlag.AlignCenter, "·")
                    continue
                strong = i != j and values[i, j] / most > 0.55
                painter.setFont(font(size))
                painter.setPen(theme.colour("on_accent" if strong else "soft" if i == j else "ink"))
                painter.drawText(
                    cell, Qt.AlignmentFlag.AlignCenter, "–" if np.isnan(values[i, j]) else f"{values[i, j]:.0f}"
                )

    def _paint_picture(self, painter: QPainter, place: QRectF, values: Values, most: float) -> None:
        if self._picture is None:
            count = len(values)
            ordered = np.nan_to_num(values)[np.ix_(self.order, self.order)]
            shade = (np.sqrt(np.clip(ordered / most, 0, 1)) * (DIAGONAL - 1)).astype(np.uint8)
            np.fill_diagonal(shade, DIAGONAL)
            self._picture = QImage(shade.tobytes(), count, count, count, QImage.Format.Format_Indexed8).copy()
            shades = [theme.magnitude(i / (DIAGONAL - 1)) for i in range(DIAGONAL)]
            self._picture.setColorTable([colour.rgb() for colour in (*shades, theme.colour("line"))])
        painter.drawImage(place, self._picture)
        painter.setPen(theme.colour("line"))
        painter.drawRect(place)

    def _paint_marks(self, painter: QPainter) -> None:
        if self.pointed_cell is not None and max(self.pointed_cell) < len(self._matrix):
            _, place, _ = self._layout()
            cell = self.cell_rect(*self.pointed_cell)
            painter.setPen(QPen(theme.colour("accent"), 1))
            for y in (cell.top(), cell.bottom()):
                painter.drawLine(QPointF(place.left(), y), QPointF(cell.left(), y))
            for x in (cell.left(), cell.right()):
                painter.drawLine(QPointF(x, place.top()), QPointF(x, cell.top()))
        marked = self._selected_cells()
        painter.setPen(QPen(theme.colour("ink"), 2))
        for i, j in marked:
            painter.drawRect(self.cell_rect(i, j).adjusted(1, 1, -1, -1))
        if self.cursor_cell and self.hasFocus():
            painter.setPen(QPen(theme.colour("accent"), 2, Qt.PenStyle.DotLine))
            painter.drawRect(self.cell_rect(*self.cursor_cell).adjusted(-1, -1, 1, 1))

    def _selected_cells(self) -> list[tuple[int, int]]:
        labelled: set[int] = set()
        predicted: set[int] = set()
        for condition in self.session.conditions:
            if isinstance(condition, Cells):
                return sorted(condition.cells)
            if isinstance(condition, Labelled):
                labelled = set(condition.classes)
            elif isinstance(condition, Predicted):
                predicted = set(condition.classes)
        return [(i, j) for i in labelled for j in predicted][:64]

    def select(self, label_index: int, predicted: int, beside: bool) -> None:
        """Select a cell, or a whole row (predicted -1) or column (label -1)."""
        if label_index < 0:
            self.session.choose(Predicted(frozenset({predicted})), beside=beside)
        elif predicted < 0:
            self.session.choose(Labelled(frozenset({label_index})), beside=beside)
        elif beside:
            cells = frozenset(self._selected_cells()) ^ {(label_index, predicted)}
            rest = tuple(c for c in self.session.conditions if c.kind not in ("labelled", "predicted", "cells"))
            self.session.replace(*rest, *((Cells(cells),) if cells else ()))
        else:
            self.session.choose(Labelled(frozenset({label_index})), Predicted(frozenset({predicted})))

    def mousePressEvent(self, event: QMouseEvent) -> None:  # noqa: N802
        found = self._at(event.position())
        if found and event.button() == Qt.MouseButton.LeftButton:
            if min(found) >= 0:
                self.cursor_cell = found
            self.select(*found, bool(event.modifiers() & Qt.KeyboardModifier.ControlModifier))

    def mouseMoveEvent(self, event: QMouseEvent) -> None:  # noqa: N802
        self._point_at(self._at(event.position()))

    def leaveEvent(self, event: QEvent) -> None:  # noqa: N802
        self._point_at(None)

    def _point_at(self, cell: tuple[int, int] | None) -> None:
        cell = cell if cell is not None and min(cell) >= 0 else None
        if cell != self.pointed_cell:
            self.pointed_cell = cell
            self.pointed.emit(cell)
            self.update()

    def keyPressEvent(self, event: QKeyEvent) -> None:  # noqa: N802
        moves = {Qt.Key.Key_Left: (0, -1), Qt.Key.Key_Right: (0, 1), Qt.Key.Key_Up: (-1, 0), Qt.Key.Key_Down: (1, 0)}
        count = len(self._matrix)
        if event.key() in moves and count and not event.modifiers() & Qt.KeyboardModifier.AltModifier:
            by = moves[Qt.Key(event.key())]
            at = (0, -1 if by == (0, 1) else 0)
            if self.cursor_cell is not None:
                at = self.place_of(self.cursor_cell[0]), self.place_of(self.cursor_cell[1])
            line, column = (min(count - 1, max(0, at[axis] + by[axis])) for axis in (0, 1))
            self.cursor_cell = int(self.order[line]), int(self.order[column])
            self._point_at(self.cursor_cell)
            corner = self.cell_rect(*self.cursor_cell).bottomRight().toPoint()
            QToolTip.showText(self.mapToGlobal(corner), self.describe(*self.cursor_cell), self)
            self.update()
        elif event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter, Qt.Key.Key_Space) and self.cursor_cell:
            self.select(*self.cursor_cell, bool(event.modifiers() & Qt.KeyboardModifier.ControlModifier))
        else:
            super().keyPressEvent(event)

    def describe(self, label_index: int, predicted: int) -> str:
        """A cell, a row or a column in words."""
        matrix, classes = self._matrix, self.session.classes
        if label_index < 0:
            return f"predicted {classes[predicted]}: {int(matrix[:, predicted].sum())} images"
        if predicted < 0:
            return f"labelled {classes[label_index]}: {int(matrix[label_index].sum())} images"
        amount, total = int(matrix[label_index, predicted]), int(matrix[label_index].sum())
        found = proportion(amount, total)
        share = (
            f"{words.percent(found.value)} ({words.bounds(found)}) of the {total} labelled so"
            if total
            else "no image has this label"
        )
        return f"{classes[label_index]} labelled, {classes[predicted]} predicted: {words.images(amount)}\n{share}"

    def event(self, event: QEvent) -> bool:
        if event.type() == QEvent.Type.ToolTip and isinstance(event, QHelpEvent):
            found = self._at(QPointF(event.pos()))
            if found:
                QToolTip.showText(
                    event.globalPos() + QPoint(8, 8), self.describe(*found), self, QRect(event.pos(), QSize(1, 1))
                )
            else:
                QToolTip.hideText()
            return True
        return super().event(event)


class Confusions(QWidget):
    """The matrix with its choices of what the cells show and in which order the classes stand."""

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        self.matrix = ConfusionMatrix(session)
        self.mode, self.order = Choice(MODES, "what the cells show"), Choice(ORDERS, "order of the classes")
        self.mode.currentIndexChanged.connect(self.matrix.set_mode)
        self.order.currentIndexChanged.connect(lambda _: self._sort())
        self._workers = Workers(1, self)
        self._sorting: Work | None = None
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 4, 0, 8)
        self.mode.setToolTip(
            "What the cells show. Rows are labels, columns predictions; hatched cells are right answers."
        )
        layout.addLayout(row(self.order, None, label("hatched: right", soft=True), self.mode))
        layout.addWidget(self.matrix, 1)
        self.told = label(wrap=True)
        self.told.setMinimumHeight(34)
        self.told.setAlignment(Qt.AlignmentFlag.AlignTop)
        layout.addWidget(self.told)
        self.matrix.pointed.connect(self._tell)
        session.selection_changed.connect(lambda: self._tell(None))
        session.measured_changed.connect(self._sort)

    def _tell(self, cell: tuple[int, int] | None) -> None:
        """Both directions of the pair pointed at, or else selected, and whether one outweighs the other beyond chance."""
        measured = self.session.measured
        if cell is None:
            chosen = self.matrix._selected_cells()
            cell = chosen[0] if len(chosen) == 1 else None
        if measured is None or cell is None or max(cell) >= len(measured.figures.matrix):
            self.told.setText("")
            return
        counts, (a, b) = measured.figures.matrix, cell
        first, second = (words.clipped(self.session.classes[k], 32) for k in (a, b))
        if a == b:
            self.told.setText(f"{first}: {int(counts[a, a])} of {int(counts[a].sum())} right.")
            return
        there, back = int(counts[a, b]), int(counts[b, a])
        p = even_split(there, back)
        how = "one way beyond chance" if p < 0.05 else "no direction beyond chance"
        self.told.setText(
            f"{first} → {second}: {there} of {int(counts[a].sum())}.  {second} → {first}: {back} of {int(counts[b].sum())}.  "
            f"{how[0].upper()}{how[1:]} (exact test of this pair alone, p {in_words(p)})."
        )

    def _sort(self) -> None:
        measured, by = self.session.measured, SORTED_BY[ORDERS[self.order.currentIndex()]]
        if self._sorting is not None:
            self._sorting.cancel()
        if by is None or measured is None:
            self.matrix.set_order(None)
            return
        counts = measured.figures.matrix
        self._sorting = self._workers.start(lambda work: by(counts), done=self.matrix.set_order)

    def as_table(self) -> list[list[str]]:
        """The counts in the order shown, for the clipboard."""
        if self.session.measured is None:
            return []
        classes, order = self.session.classes, self.matrix.order.tolist()
        counts = self.session.measured.figures.matrix
        lines = [[classes[i], *(str(int(counts[i, j])) for j in order)] for i in order]
        return [["labelled / predicted", *(classes[j] for j in order)], *lines]

    @property
    def settled(self) -> bool:
        return not self._workers.busy

    def stop(self) -> None:
        self._workers.stop_all()
