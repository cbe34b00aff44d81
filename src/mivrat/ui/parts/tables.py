"""Tables: how those of figures look, and one whose rows are chosen by click and key."""

from __future__ import annotations

from collections.abc import Sequence

from PySide6.QtCore import QModelIndex, QPointF, QRect, QRectF, Qt
from PySide6.QtGui import QKeyEvent, QMouseEvent, QPainter, QPolygonF, QResizeEvent
from PySide6.QtWidgets import QAbstractItemView, QHeaderView, QTableView, QTableWidget, QTableWidgetItem

from mivrat.core.base.text import printable
from mivrat.core.figures.intervals import Proportion
from mivrat.ui import words
from mivrat.ui.parts.columns import fit_columns
from mivrat.ui.parts.widgets import tip
from mivrat.ui.theme import theme

RIGHT = Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter


class ChoosingTable(QTableView):
    """A table whose rows are chosen: by a click, by Space, and by Enter (which looks at what is chosen already); Ctrl adds beside."""

    def __init__(self) -> None:
        super().__init__()
        self.setSelectionBehavior(QAbstractItemView.SelectionBehavior.SelectRows)
        self.setSelectionMode(QAbstractItemView.SelectionMode.SingleSelection)
        self.setTabKeyNavigation(False)
        self.setShowGrid(False)
        self.setWordWrap(False)
        self.setTextElideMode(Qt.TextElideMode.ElideMiddle)
        self.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.verticalHeader().hide()
        head = self.horizontalHeader()
        head.setHighlightSections(False)
        head.setSectionResizeMode(QHeaderView.ResizeMode.Interactive)

    def choose(self, index: QModelIndex, beside: bool, *, enter: bool = False) -> None:
        """Choose the row of an index, which may be none."""
        raise NotImplementedError

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        super().mouseReleaseEvent(event)
        if event.button() == Qt.MouseButton.LeftButton:
            beside = bool(event.modifiers() & Qt.KeyboardModifier.ControlModifier)
            self.choose(self.indexAt(event.position().toPoint()), beside)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        if event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter, Qt.Key.Key_Space):
            beside = bool(event.modifiers() & Qt.KeyboardModifier.ControlModifier)
            self.choose(self.currentIndex(), beside, enter=event.key() != Qt.Key.Key_Space)
        elif event.key() == Qt.Key.Key_Backspace:
            event.ignore()
        else:
            super().keyPressEvent(event)


class FigureTable(QTableWidget):
    """A plain table: its first column takes the room, rows are chosen by click or Enter; ``numbers`` are right-aligned."""

    def __init__(self, columns: Sequence[str], widths: Sequence[int], name: str, numbers: Sequence[int] = ()) -> None:
        super().__init__(0, len(columns))
        self._numbers = set(numbers)
        self.setHorizontalHeaderLabels(list(columns))
        self.setEditTriggers(QAbstractItemView.EditTrigger.NoEditTriggers)
        self.setSelectionBehavior(QAbstractItemView.SelectionBehavior.SelectRows)
        self.setSelectionMode(QAbstractItemView.SelectionMode.SingleSelection)
        self.setTabKeyNavigation(False)
        self.setShowGrid(False)
        self.setWordWrap(False)
        self.setAccessibleName(name)
        self.verticalHeader().hide()
        self.verticalHeader().setDefaultSectionSize(30)
        head = self.horizontalHeader()
        head.setHighlightSections(False)
        head.setDefaultAlignment(Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter)
        head.setSectionResizeMode(0, QHeaderView.ResizeMode.Stretch)
        self.setTextElideMode(Qt.TextElideMode.ElideMiddle)
        self._widths = dict(enumerate(widths, 1))
        for column, width in self._widths.items():
            self.setColumnWidth(column, width)
        for column in self._numbers:
            if (item := self.horizontalHeaderItem(column)) is not None:
                item.setTextAlignment(RIGHT)

    def show_lines(self, lines: Sequence[Sequence[str]], tips: Sequence[str] = ()) -> None:
        """Fill the table; a row's tip is told over all of its cells."""
        self.setTextElideMode(words.elided_by([line[0] for line in lines if line]))
        self.setRowCount(len(lines))
        for line, texts in enumerate(lines):
            for column, text in enumerate(texts):
                item = QTableWidgetItem(printable(text))
                if column in self._numbers:
                    item.setTextAlignment(RIGHT)
                tip(item, tips[line] if tips else text)
                self.setItem(line, column, item)
        self.fit()

    def fit_height(self) -> None:
        """Stand as high as all lines take: the page scrolls, not the table."""
        self.setFixedHeight(30 * self.rowCount() + self.horizontalHeader().sizeHint().height() + 6)

    def fit(self) -> None:
        """Give the columns the width that what stands in them takes."""
        fit_columns(self, self._widths, self._numbers)

    def resizeEvent(self, event: QResizeEvent) -> None:
        super().resizeEvent(event)
        self.fit()

    def as_lines(self) -> list[list[str]]:
        """What is shown, with the headings, for the clipboard."""
        columns = range(self.columnCount())
        heads = [item.text() if (item := self.horizontalHeaderItem(c)) is not None else "" for c in columns]
        return [
            heads,
            *(
                [item.text() if (item := self.item(line, c)) is not None else "" for c in columns]
                for line in range(self.rowCount())
            ),
        ]


def paint_share(painter: QPainter, area: QRect, share: Proportion, other: Proportion | None, warned: bool) -> None:
    """Draw a share in a cell: a point on its interval, on a line from 0 to 100 %; ``warned`` as a diamond in the colour of what is
    wrong, and the same share of the run held as a square a little lower."""
    painter.setRenderHint(QPainter.RenderHint.Antialiasing)
    left, width, y = area.left() + 4.0, area.width() - 8.0, area.center().y() + 0.5
    painter.setPen(Qt.PenStyle.NoPen)
    painter.fillRect(QRectF(left, y - 0.5, width, 1), theme.colour("line"))
    for one, at, ink, fill, size in (
        (other, y + 4, "second", "second", 5.0),
        (share, y, "ink", "wrong" if warned else "accent", 7.0),
    ):
        if one is None or one.value is None:
            continue
        if one.low is not None and one.high is not None:
            length = max(2.0, width * (one.high - one.low))
            painter.fillRect(QRectF(left + width * one.low, at - 1, length, 2), theme.colour(ink))
        painter.setBrush(theme.colour(fill))
        x = left + width * one.value
        if one is other:
            painter.drawRect(QRectF(x - size / 2, at - size / 2, size, size))
        elif warned:
            corners = [
                QPointF(x + a * size * 0.72, at + b * size * 0.72) for a, b in ((1, 0), (0, 1), (-1, 0), (0, -1))
            ]
            painter.drawPolygon(QPolygonF(corners))
        else:
            painter.drawEllipse(QPointF(x, at), size / 2, size / 2)
