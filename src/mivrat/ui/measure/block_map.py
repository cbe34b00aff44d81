"""Mistakes from block to block of classes: an overview of many classes, whose cells open."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
import pyqtgraph as pg
from PySide6.QtCore import QPointF, QRectF, QSize, Qt, Signal
from PySide6.QtGui import QFontMetrics, QKeyEvent
from PySide6.QtWidgets import QSizePolicy

from mivrat.core.figures.blocks import Block, Matrix, farthest, pooled
from mivrat.ui import words
from mivrat.ui.parts.plot import Diagram, bars, rgb, text
from mivrat.ui.parts.plot_area import PlotArea
from mivrat.ui.theme import font, theme
from mivrat.workspace.workspace import Workspace

# No cell is drawn smaller than this, with a name beside it, and with its number in it.
LEAST, LEAST_WITH_NAMES, LEAST_WITH_NUMBERS = 7, 14, 26
NAMES, TOP = 150, 22


class BlockMap(Diagram):
    """Its marks are the cells, line by line; where blocks are too many, the largest of several neighbours stands for them.
    ``opened`` tells which block of labels and which of predictions is wanted."""

    marks_above = True
    opened = Signal(int, int)

    def __init__(self, workspace: Workspace) -> None:
        super().__init__(
            "mistakes between blocks of classes: lines are labels, columns predictions; arrow keys move, Enter opens"
        )
        self.workspace = workspace
        self.blocks: Sequence[Block] = ()
        self.counts: Matrix = np.zeros((0, 0), np.int64)
        self.setMinimumSize(QSize(240, 150))
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Expanding)
        self.ci.layout.setContentsMargins(0, 0, 0, 0)
        self.plot = self.add(0, x=(0, 1), y=(0, 1))
        self.plot.invertY(True)
        self.plot.hideAxis("bottom")
        self.plot.showAxis("top")
        self.plot.getAxis("top").setStyle(tickFont=font(11), tickLength=0)
        self.plot.getAxis("top").setHeight(TOP)

    def show_blocks(self, blocks: Sequence[Block], counts: Matrix) -> None:
        """Show blocks in their order, and the mistakes between them."""
        self.blocks, self.counts, self.cursor = blocks, counts, -1
        self.lay_out()
        self.redraw()

    # --- how it fits ---

    @property
    def by(self) -> int:
        """So many blocks across stand in one cell."""
        room = max(40, min(self.width() - 40, self.height() - TOP - 8))
        return max(1, -(-LEAST * len(self.blocks) // room))

    @property
    def cells(self) -> int:
        """Cells across."""
        return -(-len(self.blocks) // self.by)

    def _side(self, left: int) -> float:
        room = min(self.width() - left - 8.0, self.height() - TOP - 10.0)
        return max(2.0, min(80.0, room / max(1, self.cells)))

    def _names(self) -> int:
        """The room for names on the left; little where there are none."""
        if not self.blocks or self.by > 1 or self._side(NAMES) < LEAST_WITH_NAMES:
            return 8
        letters = QFontMetrics(font(11))
        return min(NAMES, 14 + max(letters.horizontalAdvance(one.name) for one in self.blocks))

    def lay_out(self) -> None:
        if self.blocks:
            left = self._names()
            whole = self._side(left) * self.cells
            self.plot.getAxis("left").setWidth(left)
            self.ci.layout.setColumnFixedWidth(0, left + whole + 2)
            self.ci.layout.setRowFixedHeight(0, TOP + whole + 2)

    # --- its marks ---

    def marks(self) -> int:
        return self.cells**2 if self.blocks else 0

    def cell(self, mark: int) -> tuple[int, int]:
        """The blocks of labels and of predictions that a mark stands for: where it is several, those with the most mistakes."""
        line, column = divmod(mark, self.cells)
        return farthest(self.counts, self.by, line, column)

    def mark_at(self, point: QPointF) -> int:
        at = self.numbers(self.plot, point)
        line, column = int(np.floor(at.y())), int(np.floor(at.x()))
        return line * self.cells + column if 0 <= line < self.cells and 0 <= column < self.cells else -1

    def mark_rect(self, mark: int) -> QRectF:
        line, column = divmod(mark, self.cells)
        return QRectF(self.place(self.plot, column, line), self.place(self.plot, column + 1, line + 1))

    def describe(self, mark: int) -> str:
        a, b = self.cell(mark)
        first, second, n = self.blocks[a], self.blocks[b], int(self.counts[a, b])
        number = f"{words.count(n)} mistake{'s' if n != 1 else ''}"
        if a == b:
            told = f"{first.name}: {number} among {words.count(len(first.classes))} classes"
        else:
            told = f"labelled one of {first.name}, called one of {second.name}: {number}"
        return told + (f"\nthe most of {self.by} × {self.by} cells that stand here as one" if self.by > 1 else "")

    def select(self, mark: int, beside: bool, *, enter: bool = False) -> None:
        if 0 <= mark < self.marks():
            a, b = self.cell(mark)
            if self.counts[a, b]:
                self.opened.emit(a, b)

    def chosen(self) -> list[tuple[PlotArea, pg.GraphicsObject]]:
        if self.cursor < 0 or not self.hasFocus():
            return []
        line, column = divmod(self.cursor, self.cells)
        frame = pg.PlotCurveItem(
            np.array([0, 1, 1, 0, 0]) + column,
            np.array([0, 0, 1, 1, 0]) + line,
            pen=pg.mkPen(theme.colour("ink"), width=2),
        )
        return [(self.plot, frame)]

    def keyPressEvent(self, event: QKeyEvent) -> None:
        by = {Qt.Key.Key_Up: -1, Qt.Key.Key_Down: 1}.get(Qt.Key(event.key()), 0)
        if by and self.marks():
            line = max(0, self.cursor) // self.cells
            # Along the line it goes as everywhere; from line to line here.
            if 0 <= line + by < self.cells:
                self.cursor = max(0, self.cursor) + by * self.cells
            self.show_cursor()
        else:
            super().keyPressEvent(event)

    # --- drawing ---

    def draw(self) -> None:
        if not self.blocks:
            return
        number, by = self.cells, self.by
        values = pooled(self.counts, by).astype(float)
        self.plot.setRange(xRange=(0, number), yRange=(0, number), padding=0)
        most = max(1.0, float(values.max(initial=0.0)))
        # Small numbers are lifted, so that they show.
        shades = np.sqrt(values / most)
        colours = rgb([theme.magnitude(0.12 + 0.88 * i / 255) for i in range(256)])
        drawn = colours[np.round(shades * 255).astype(int)]
        drawn[values == 0] = rgb([theme.colour("sheet")])[0]
        image = pg.ImageItem(np.ascontiguousarray(drawn.transpose(1, 0, 2)), levels=(0, 255))
        self.plot.addItem(image)
        side = self.mark_rect(0).width()
        at = np.arange(float(number))
        # Those on the diagonal are mistakes inside a block: a corner marks them.
        notch = min(0.35, 6 / max(1.0, side))
        self.plot.addItem(bars(at, at + notch, at, at + notch, theme.colour("soft")))
        if side >= LEAST_WITH_NUMBERS:
            for line, column in np.argwhere(values > 0).tolist():
                strong = shades[line, column] > 0.6
                told = text(
                    words.count(int(values[line, column])),
                    column + 0.5,
                    line + 0.5,
                    "on_accent" if strong else "ink",
                    (0.5, 0.5),
                )
                self.plot.addItem(told, ignoreBounds=True)
        names = self._names()
        letters = QFontMetrics(font(11))
        shown = [letters.elidedText(one.name, Qt.TextElideMode.ElideRight, names - 12) for one in self.blocks]
        self.tick(self.plot, "left", [(k + 0.5, name) for k, name in enumerate(shown)] if names > 8 else [])
        legend = "mistakes: labelled ↓ predicted →   ◾ inside a block"
        self.tick(self.plot, "top", [(number / 2, legend)])
