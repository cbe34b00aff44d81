"""Paints a matrix whose cells are large enough for names and numbers: those cells and names in sight, and what is marked."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QColor, QPainter, QPen

from mivrat.core.base.text import printable
from mivrat.ui import words
from mivrat.ui.measure.matrix_picture import Marks
from mivrat.ui.theme import font, mix, theme


@dataclass(frozen=True)
class Layout:
    """Cell size; the part of the widget that shows cells; the whole matrix's place, which may reach beyond it; the width
    given to names (0: none are drawn); whether the columns' names stand upright."""

    side: float
    view: QRectF
    place: QRectF
    names: int
    upright: bool

    def cell(self, line: int, column: int) -> QRectF:
        """Where a cell lies, told by its places."""
        return QRectF(self.place.left() + column * self.side, self.place.top() + line * self.side, self.side, self.side)


@dataclass(frozen=True)
class CellsInView:
    """What cells say: counts and values by class, the largest value, the class at each place, how a part of the largest is shaded and
    a value written, and the least side of a cell with a number."""

    counts: NDArray[np.int64]
    values: NDArray[np.float64]
    most: float
    order: Sequence[int]
    shade: Callable[[float], QColor]
    number: Callable[[float], str]
    least_with_numbers: int


def _in_sight(found: Layout, count: int) -> tuple[range, range]:
    """The lines and columns that show at all."""
    spans = []
    for start, length in (
        (found.view.top() - found.place.top(), found.view.height()),
        (found.view.left() - found.place.left(), found.view.width()),
    ):
        spans.append(range(int(start // found.side), min(count, int((start + length) // found.side) + 1)))
    return spans[0], spans[1]


def paint_names(painter: QPainter, found: Layout, classes: Sequence[str], order: Sequence[int]) -> None:
    """The names of the lines and the columns in sight."""
    side, place, view = found.side, found.place, found.view
    painter.setFont(font(13 if side >= 24 else 10))
    painter.setPen(theme.colour("ink"))
    upright = found.upright
    lines, columns = _in_sight(found, len(order))
    cut = words.elided_by(classes)

    def shown(at: int, width: float) -> str:
        return painter.fontMetrics().elidedText(printable(classes[order[at]]), cut, int(width))

    painter.save()
    painter.setClipRect(QRectF(0, view.top(), view.left(), view.height()))
    for i in lines:
        painter.drawText(
            QRectF(0, place.top() + i * side, found.names - 10, side),
            Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter,
            shown(i, found.names - 14),
        )
    painter.setClipRect(QRectF(view.left(), 0, view.width(), view.top()))
    for j in columns:
        if upright:
            painter.drawText(
                QRectF(place.left() + j * side - 8, view.top() - 24, side + 16, 20),
                Qt.AlignmentFlag.AlignCenter,
                shown(j, found.names - 14),
            )
        else:
            painter.save()
            painter.translate(place.left() + (j + 0.5) * side, view.top() - 6)
            painter.rotate(-90)
            painter.drawText(
                QRectF(0, -side / 2, view.top() - 30, side),
                Qt.AlignmentFlag.AlignVCenter,
                shown(j, view.top() - 32),
            )
            painter.restore()
    painter.restore()


def paint_cells(painter: QPainter, found: Layout, shown: CellsInView) -> None:
    """The cells in sight, with numbers where there is room; those on the diagonal are hatched."""
    side, place, order = found.side, found.place, shown.order
    numbers, size = side >= shown.least_with_numbers, 13 if side >= 34 else 10 if side >= 20 else 9
    hatch = QPen(mix(theme.colour("sheet"), theme.colour("line"), 0.9))
    lines, columns = _in_sight(found, len(order))
    for line in lines:
        for column in columns:
            i, j = order[line], order[column]
            left, top = place.left() + column * side, place.top() + line * side
            cell = QRectF(left, top, side, side).adjusted(1, 1, -1, -1)
            amount = int(shown.counts[i, j])
            if i == j:
                painter.fillRect(cell, theme.colour("sheet"))
                painter.save()
                painter.setClipRect(cell, Qt.ClipOperation.IntersectClip)
                painter.setPen(hatch)
                for offset in range(-int(side), int(side), 6):
                    painter.drawLine(
                        QPointF(cell.left() + offset, cell.bottom()),
                        QPointF(cell.left() + offset + side, cell.bottom() - side),
                    )
                painter.restore()
            elif amount:
                painter.fillRect(cell, shown.shade(shown.values[i, j] / shown.most))
            if not numbers or (i != j and not amount):
                if numbers:
                    painter.setPen(theme.colour("faint"))
                    painter.drawText(cell, Qt.AlignmentFlag.AlignCenter, "·")
                continue
            strong = i != j and abs(shown.values[i, j]) / shown.most > 0.55
            painter.setFont(font(size))
            painter.setPen(theme.colour("on_accent" if strong else "soft" if i == j else "ink"))
            painter.drawText(cell, Qt.AlignmentFlag.AlignCenter, shown.number(shown.values[i, j]))


def paint_marks(painter: QPainter, found: Layout, marks: Marks) -> None:
    """The cross of the cell pointed at, and frames."""
    if marks.pointed is not None:
        place, cell = found.place, found.cell(*marks.pointed)
        painter.setPen(QPen(theme.colour("accent"), 1))
        for y in (cell.top(), cell.bottom()):
            painter.drawLine(QPointF(place.left(), y), QPointF(cell.left(), y))
        for x in (cell.left(), cell.right()):
            painter.drawLine(QPointF(x, place.top()), QPointF(x, cell.top()))
    painter.setPen(QPen(theme.colour("ink"), 2))
    for at in marks.framed:
        painter.drawRect(found.cell(*at).adjusted(1, 1, -1, -1))
    if marks.cursor is not None:
        painter.setPen(QPen(theme.colour("accent"), 2, Qt.PenStyle.DotLine))
        painter.drawRect(found.cell(*marks.cursor).adjusted(-1, -1, 1, 1))
