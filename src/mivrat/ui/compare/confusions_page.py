"""Confusions: both matrices side by side in one order with one cross, how they differ, and the pairs that changed most."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray
from PySide6.QtWidgets import QGridLayout, QVBoxLayout, QWidget

from mivrat.core.base.numbers import percent
from mivrat.core.comparing.holding import Compared
from mivrat.core.figures.confusion import order_by_likeness, order_by_support
from mivrat.core.selecting.selection import Condition, Labelled, OtherAnswers, OtherPredicted, Predicted
from mivrat.ui import words
from mivrat.ui.compare.compared_page import ComparedPage
from mivrat.ui.compare.lines import LinesTable, TableCell, TableColumn, TableLine
from mivrat.ui.compare.matrices import EMPTY, BothMatrices, ChangeMatrix, SideMatrix, both_matrices
from mivrat.ui.compare.verdict import Verdict
from mivrat.ui.parts.late import Late
from mivrat.ui.parts.widgets import Choice, Elided, Scrolled, label, restyle, row, tip
from mivrat.ui.theme import theme
from mivrat.workspace.comparing import Comparer
from mivrat.workspace.executors import LatestOnly
from mivrat.workspace.workspace import Workspace

MODES = ("counts", "share of label, %")
SORTED_BY = {
    "order of the list": None,
    "most images first": order_by_support,
    "confused ones together": order_by_likeness,
}
PAIRS = (TableColumn("labelled → predicted"), TableColumn("a → b", 66, True), TableColumn("of all", 60, True))
MOST_PAIRS, LEAST_HEIGHT = 200, 500


def pair_lines(compared: Compared, held_other: OtherAnswers) -> list[TableLine]:
    """The pairs that changed most, and how much of the whole change each explains."""
    found, lines = compared.found, []
    if found.paired is not None:
        whole = found.paired.four.broken - found.paired.four.fixed
        told = [
            (one.label, one.predicted, one.a, one.b, (one.b - one.a) / whole if whole else None)
            for one in found.paired.pairs
        ]
    else:
        assert found.sets is not None
        total = found.sets.drop.total
        told = [
            (one.label, one.predicted, one.a, one.b, one.part / total if total else None)
            for one in found.sets.drop.pairs
        ]
    for first, second, a, b, part in told[:MOST_PAIRS]:
        names = found.classes[first], found.classes[second]
        share = percent(part, 0)
        about = f"{names[0]} labelled, {names[1]} predicted: {words.images(a)} under a, {words.images(b)} under b."
        if found.sets is not None:
            about += " Of all: what images of this label being called so more or less often adds to the difference in accuracy."
        else:
            about += " Of all: its part of the change in the number of wrong answers."
        conditions: tuple[Condition, ...] = (Labelled(frozenset({first})), Predicted(frozenset({second})))
        if found.paired is not None and b > a:
            conditions = (Labelled(frozenset({first})), OtherPredicted(frozenset({second}), held_other))
        ink = "wrong" if b > a else "accent"
        cells = (
            TableCell(f"{names[0]} → {names[1]}"),
            TableCell(f"{words.count(a)} → {words.count(b)}", ink=ink),
            TableCell(share, ink="soft"),
        )
        lines.append(TableLine(cells, conditions, about))
    return lines


class ConfusionsPage(ComparedPage, QWidget):
    """Two matrices, their difference, and the list of pairs."""

    title, place_id = "Confusions", "confusions"
    help = "Both confusion matrices side by side, and the pairs that changed most."

    def __init__(self, workspace: Workspace, comparer: Comparer) -> None:
        super().__init__()
        self.workspace = workspace
        self.verdict = Verdict(workspace, comparer, "pairs")
        self.a, self.b, self.change = SideMatrix(workspace, "a"), SideMatrix(workspace, "b"), ChangeMatrix(workspace)
        self.matrices = (self.a, self.b, self.change)
        self.mode, self.order = Choice(MODES, "what the cells show"), Choice(tuple(SORTED_BY), "order of the classes")
        tip(self.mode, "What the cells show. Rows are labels, columns predictions; hatched cells are right answers.")
        self.mode.currentIndexChanged.connect(lambda _: self._sort())
        self.order.currentIndexChanged.connect(lambda _: self._sort())
        self.heads = [Elided(), Elided()]
        self.told = label(soft=True, wrap=True)
        self.told.setMinimumHeight(18)
        self.pairs = LinesTable(workspace, PAIRS, "the pairs that changed most; Enter selects")
        self._workers = workspace.group(1)
        self._sorting = LatestOnly(self._workers)
        self.body = QWidget()
        grid = QGridLayout(self.body)
        grid.setContentsMargins(0, 0, 0, 0)
        grid.setHorizontalSpacing(10)
        for column, (head, matrix) in enumerate(zip(self.heads, (self.a, self.b), strict=True)):
            grid.addWidget(head, 0, column)
            grid.addWidget(matrix, 1, column)
            grid.setColumnStretch(column, 1)
        self.change_head = label("difference, b − a")
        tip(self.change_head, "Plum: more of them under b; verdigris: more under a.")
        grid.addWidget(self.change_head, 2, 0)
        grid.addWidget(label("the pairs that changed most"), 2, 1)
        grid.addWidget(self.change, 3, 0)
        grid.addWidget(self.pairs, 3, 1)
        grid.setRowStretch(1, 1)
        grid.setRowStretch(3, 1)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 8, 0, 8)
        self.choices = QWidget()
        self.choices.setLayout(row(self.order, None, self.mode))
        for widget in (self.verdict, self.choices, self.told):
            layout.addWidget(widget)
        # Lower than this the matrices could not be read: then the page is scrolled.
        self.body.setMinimumHeight(LEAST_HEIGHT)
        self.scrolled = Scrolled(self.body, wide=False)
        layout.addWidget(self.scrolled, 1)
        layout.addStretch(0)
        for matrix in self.matrices:
            matrix.pointed.connect(self._point)
        self._late = Late(self, self.refresh, workspace.topics.compared)
        theme.changed.connect(self._follow_theme)

    def _follow_theme(self) -> None:
        if self.workspace.is_open:
            self._ink()

    def _ink(self) -> None:
        for head, token in zip(self.heads, ("accent", "second"), strict=True):
            restyle(head, f"color: {getattr(theme.tokens, token)}; font-weight: 600")

    def _point(self, cell: tuple[int, int] | None) -> None:
        """One cross in all of them, and the cell in words."""
        for matrix in self.matrices:
            matrix.point_at(cell)
        there = cell is not None and max(cell) < len(self.a._matrix)
        self.told.setText(
            self.a.describe(*cell)
            if there and cell is not None
            else "Point at a cell to see it in all three; click one to see its images."
        )

    def refresh(self) -> None:
        compared = self.workspace.shown.compared
        for widget in (self.scrolled, self.choices, self.told):
            widget.setVisible(compared is not None)
        if compared is None or len(compared.found.classes) != len(self.a._matrix):
            for matrix in self.matrices:  # those of another study mean nothing here
                matrix.set_order(None)
                matrix.take(EMPTY)
        if compared is None:
            self._sorting.cancel()
            self.pairs.show_lines([])
            return
        for head, letter, name in zip(self.heads, "ab", (compared.held.names.a, compared.held.names.b), strict=True):
            head.set_text(f"{letter}: {name}")
        self._ink()
        self._point(None)
        self.pairs.show_lines(pair_lines(compared, self.workspace.shown.held_other))
        self._sort()

    def _sort(self) -> None:
        """Work out what the matrices show, and in which order."""
        compared, by, mode = (
            self.workspace.shown.compared,
            SORTED_BY[self.order.currentText()],
            self.mode.currentIndex(),
        )
        if compared is None:
            self._sorting.cancel()
            return
        a, b = compared.found.either.matrix_a, compared.found.either.matrix_b
        self._sorting.start(
            lambda task: (both_matrices(a, b, mode), by(a + b) if by is not None else None), done=self._take
        )

    def _take(self, found: tuple[BothMatrices, NDArray[np.int64] | None]) -> None:
        for matrix in self.matrices:
            matrix.set_order(found[1])
            matrix.take(found[0])

    def as_table(self) -> list[list[str]]:
        """The pairs, for the clipboard."""
        return self.pairs.as_lines()

    @property
    def settled(self) -> bool:
        return not self._workers.busy

    def stop(self) -> None:
        self._workers.stop_all()
