"""A matrix of many classes as a picture, its cells too small for numbers: shades, the cross of the cell pointed at, frames."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
import pyqtgraph as pg
from numpy.typing import NDArray
from PySide6.QtCore import QRect, QRectF, Qt
from PySide6.QtGui import QColor
from PySide6.QtWidgets import QWidget

from mivrat.ui.parts.plot import Diagram, line, pen, rgb
from mivrat.ui.parts.plot_area import PlotArea

Cell = tuple[int, int]


@dataclass(frozen=True)
class Marks:
    """Places (line, column) that are marked: the one pointed at with a cross, those selected with frames, the one that keys came to."""

    pointed: Cell | None = None
    framed: tuple[Cell, ...] = ()
    cursor: Cell | None = None


class MatrixPicture(Diagram):
    """Lies over the place of the cells in a matrix, which answers mouse and keys itself."""

    ground, marks_above = "", True

    def __init__(self, parent: QWidget) -> None:
        super().__init__("cells of the confusion matrix")
        self.setParent(parent)
        self.setAttribute(Qt.WidgetAttribute.WA_TransparentForMouseEvents)
        self.setFocusPolicy(Qt.FocusPolicy.NoFocus)
        self.ci.layout.setContentsMargins(0, 0, 0, 0)
        self.plot = self.add(0, x=(0, 1), y=(0, 1))
        self.plot.invertY(True)
        for side in ("left", "bottom"):
            self.plot.hideAxis(side)
        self._cells: NDArray[np.uint8] = np.zeros((0, 0, 3), np.uint8)
        self._by = 1
        self._sight = QRectF()
        self._marked = Marks()
        self.hide()

    def show_cells(self, shades: NDArray[np.uint8], colours: Sequence[QColor], by: int) -> None:
        """Show these shades (lines x columns), each of ``by`` x ``by`` places, in these colours."""
        self._cells, self._by = rgb(colours)[shades], by
        self._soon.start()

    def lie_at(self, rect: QRect, sight: QRectF) -> None:
        """Lie there, and show so much of the matrix, told in places of its lines and columns."""
        self.setGeometry(rect)
        self.show()
        if sight != self._sight:
            self._sight = sight
            self.lay_out()

    def lay_out(self) -> None:
        sight = self._sight
        if sight.isValid():
            self.plot.setRange(
                xRange=(sight.left(), sight.right()), yRange=(sight.top(), sight.bottom()), padding=0, update=True
            )

    def mark(self, marked: Marks) -> None:
        """Mark these places, and no others."""
        if marked != self._marked:
            self._marked = marked
            self.remark()

    def draw(self) -> None:
        if self._cells.size:
            image = pg.ImageItem(self._cells, axisOrder="row-major", levels=(0, 255))
            lines, columns = self._cells.shape[:2]
            # Of what stands at the far edges less may lie beneath than elsewhere: it is drawn as large.
            image.setRect(QRectF(0, 0, columns * self._by, lines * self._by))
            self.plot.addItem(image)
        self.lay_out()

    def chosen(self) -> list[tuple[PlotArea, pg.GraphicsObject]]:
        found, marked = [], self._marked
        if marked.pointed is not None:
            i, j = marked.pointed
            x, y = [0, j, 0, j, j, j, j + 1, j + 1], [i, i, i + 1, i + 1, 0, i, 0, i]
            found.append((self.plot, line(x, y, pen("accent"), pairs=True)))
        for at, ink in [
            *((one, pen("ink", 2)) for one in marked.framed),
            (marked.cursor, pen("accent", 2, Qt.PenStyle.DotLine)),
        ]:
            if at is not None:
                i, j = at
                found.append((self.plot, line([j, j + 1, j + 1, j, j], [i, i, i + 1, i + 1, i], ink)))
        return found
