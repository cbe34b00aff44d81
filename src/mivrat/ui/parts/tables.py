"""Tables: how those of figures look, and one whose rows are chosen by click and key."""

from __future__ import annotations

from collections.abc import Sequence

from PySide6.QtCore import QModelIndex, Qt
from PySide6.QtGui import QKeyEvent, QMouseEvent, QResizeEvent
from PySide6.QtWidgets import QAbstractItemView, QHeaderView, QTableView, QTableWidget, QTableWidgetItem

from mivrat.ui.parts.columns import fit_columns
from mivrat.ui.parts.widgets import tip

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

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:  # noqa: N802
        super().mouseReleaseEvent(event)
        if event.button() == Qt.MouseButton.LeftButton:
            beside = bool(event.modifiers() & Qt.KeyboardModifier.ControlModifier)
            self.choose(self.indexAt(event.position().toPoint()), beside)

    def keyPressEvent(self, event: QKeyEvent) -> None:  # noqa: N802
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
        self.setRowCount(len(lines))
        for line, texts in enumerate(lines):
            for column, text in enumerate(texts):
                item = QTableWidgetItem(text)
                if column in self._numbers:
                    item.setTextAlignment(RIGHT)
                tip(item, tips[line] if tips else text)
                self.setItem(line, column, item)
        self.fit()

    def fit(self) -> None:
        """Give the columns the width that what stands in them takes."""
        fit_columns(self, self._widths, self._numbers)

    def resizeEvent(self, event: QResizeEvent) -> None:  # noqa: N802
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
