"""The pairs of classes most often confused, each with both directions; a row or one of its counts selects."""

from __future__ import annotations

from collections.abc import Sequence

from PySide6.QtCore import Qt
from PySide6.QtGui import QFontMetrics
from PySide6.QtWidgets import QAbstractItemView, QHeaderView, QTableWidget, QTableWidgetItem

from mivrat.core.base.text import printable
from mivrat.core.checks.result import in_words
from mivrat.core.figures.confusion import ConfusedPair
from mivrat.core.selecting.selection import MatrixCells
from mivrat.ui import words
from mivrat.ui.parts.widgets import elided_pair, tip
from mivrat.ui.theme import font
from mivrat.workspace.workspace import Workspace

COLUMNS = ("confused classes", "→", "←", "direction")
LINE, HEAD = 26, 33


class PairList(QTableWidget):
    """A row names two classes: → counts images of the first called the second, ← the other way round."""

    def __init__(self, workspace: Workspace) -> None:
        super().__init__(0, len(COLUMNS))
        self.workspace = workspace
        self.pairs: Sequence[ConfusedPair] = ()
        self.setHorizontalHeaderLabels(list(COLUMNS))
        self.setEditTriggers(QAbstractItemView.EditTrigger.NoEditTriggers)
        self.setSelectionMode(QAbstractItemView.SelectionMode.SingleSelection)
        self.setTabKeyNavigation(False)
        self.setShowGrid(False)
        self.setWordWrap(False)
        self.setAccessibleName("pairs most often confused; Enter selects the images of a count, or of both")
        self.verticalHeader().hide()
        self.verticalHeader().setDefaultSectionSize(LINE)
        head = self.horizontalHeader()
        head.setHighlightSections(False)
        head.setFixedHeight(HEAD)
        head.setDefaultAlignment(Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter)
        head.setSectionResizeMode(0, QHeaderView.ResizeMode.Stretch)
        self.setTextElideMode(Qt.TextElideMode.ElideMiddle)
        for column, width in ((1, 44), (2, 44), (3, 136)):
            self.setColumnWidth(column, width)
        head.sectionResized.connect(lambda column, *_: self._fit_names() if column == 0 else None)
        self.cellClicked.connect(self._choose)
        self.cellActivated.connect(lambda line, column: self._choose(line, column, enter=True))

    def show_pairs(self, pairs: Sequence[ConfusedPair]) -> None:
        self.pairs = pairs
        units = self.workspace.shown.judged.units
        test = (
            "Exact test of an even split"
            if units is None
            else f"Test of an even split over whole units of '{units.column}'"
        )
        self.setRowCount(len(pairs))
        for line, one in enumerate(pairs):
            first, second = self._names(one)
            uneven = one.p < 0.05
            texts = (
                "",
                words.count(one.there),
                words.count(one.back),
                "one way" if uneven else "not significant",
            )
            about = (
                f"{first} called {second}: {words.images(one.there)}. {second} called {first}: {words.images(one.back)}.\n"
                f"{test}, corrected for the {len(pairs)} pairs listed (Holm): p {in_words(one.p)}."
            )
            for column, text in enumerate(texts):
                item = QTableWidgetItem(text)
                tip(item, about)
                if column in (1, 2):
                    item.setTextAlignment(Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter)
                self.setItem(line, column, item)
        self._fit_names()

    def _names(self, pair: ConfusedPair) -> tuple[str, str]:
        classes = self.workspace.shown.classes
        return printable(classes[pair.first]), printable(classes[pair.second])

    def _fit_names(self) -> None:
        """Write the names of each pair so that both can be told apart in the room there is."""
        width = self.columnWidth(0) - 16
        for line, one in enumerate(self.pairs):
            if (item := self.item(line, 0)) is not None:
                item.setText(elided_pair(*self._names(one), QFontMetrics(font(13)), width))

    def _choose(self, line: int, column: int, *, enter: bool = False) -> None:
        one = self.pairs[line]
        there, back = (one.first, one.second), (one.second, one.first)
        choose = self.workspace.shown.enter if enter else self.workspace.shown.choose
        choose(MatrixCells(frozenset({1: {there}, 2: {back}}.get(column, {there, back}))))
