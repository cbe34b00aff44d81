"""The confusion matrix with its choices of what the cells show and in which order, and the worst pairs beside it."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray
from PySide6.QtCore import Qt
from PySide6.QtGui import QResizeEvent
from PySide6.QtWidgets import QBoxLayout, QVBoxLayout, QWidget

from mivrat.core.checks.result import in_words
from mivrat.core.figures.confusion import ConfusedPair, order_by_likeness, order_by_support, worst_pairs
from mivrat.ui import words
from mivrat.ui.measure.matrix import ZOOM_STEP, ConfusionMatrix
from mivrat.ui.measure.pair_list import HEAD, LINE, PairList
from mivrat.ui.parts.widgets import Choice, button, label, row, tip
from mivrat.workspace.executors import Newest
from mivrat.workspace.workspace import Workspace

MODES = ("counts", "share of label, %", "share of prediction, %")
SORTED_BY = {
    "order of the list": None,
    "most images first": order_by_support,
    "confused ones together": order_by_likeness,
}
ORDERS = tuple(SORTED_BY)
MOST_PAIRS = 30
# From this width on the pairs stand beside the matrix, else below it.
WIDE, BESIDE, LINES_BELOW = 940, 420, 4
QWIDGETSIZE_MAX = (1 << 24) - 1


class Confusions(QWidget):
    """The matrix, what is pointed at in words, and the list of pairs."""

    def __init__(self, workspace: Workspace) -> None:
        super().__init__()
        self.workspace = workspace
        self.matrix, self.pairs = ConfusionMatrix(workspace), PairList(workspace)
        self.mode, self.order = Choice(MODES, "what the cells show"), Choice(ORDERS, "order of the classes")
        self.mode.currentIndexChanged.connect(self.matrix.set_mode)
        self.order.currentIndexChanged.connect(lambda _: self._work_out())
        self._workers = self.workspace.parallel.group(1)
        self._working = Newest(self._workers)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 4, 0, 8)
        tip(self.mode, "What the cells show. Rows are labels, columns predictions; hatched cells are right answers.")
        self.smaller = button("−", lambda: self.matrix.zoom_by(1 / ZOOM_STEP), kind="quiet")
        self.larger = button("+", lambda: self.matrix.zoom_by(ZOOM_STEP), kind="quiet")
        for one, does in ((self.smaller, "smaller cells"), (self.larger, "larger cells; drag to move")):
            one.setAccessibleName(does)
            tip(one, f"{does[0].upper()}{does[1:]} (wheel, or keys − and +)")
            one.setFixedWidth(28)
        self.hint = label("hatched: right", soft=True)
        layout.addLayout(row(self.order, None, self.hint, self.smaller, self.larger, self.mode))
        self._both = QBoxLayout(QBoxLayout.Direction.TopToBottom)
        self._both.addWidget(self.matrix, 1)
        beside = QWidget()
        under = QVBoxLayout(beside)
        under.setContentsMargins(0, 0, 0, 0)
        self.told = label(wrap=True)
        self.told.setFixedHeight(38)
        self.told.setAlignment(Qt.AlignmentFlag.AlignTop)
        under.addWidget(self.told)
        under.addWidget(self.pairs, 1)
        self._beside = beside
        self._both.addWidget(beside)
        layout.addLayout(self._both, 1)
        self.matrix.pointed.connect(self._tell)
        self.matrix.zoomed.connect(self._follow_zoom)
        workspace.topics.selection.connect(lambda: self._tell(None))
        workspace.topics.measured.connect(self._work_out)

    def resizeEvent(self, event: QResizeEvent) -> None:  # noqa: N802
        super().resizeEvent(event)
        self._arrange()

    def _arrange(self) -> None:
        wide = self.width() >= WIDE
        self._both.setDirection(QBoxLayout.Direction.LeftToRight if wide else QBoxLayout.Direction.TopToBottom)
        self._beside.setMinimumWidth(BESIDE if wide else 0)
        self._beside.setMaximumWidth(BESIDE if wide else QWIDGETSIZE_MAX)
        lines = min(len(self.pairs.pairs), LINES_BELOW)
        self.pairs.setVisible(bool(lines))
        height = HEAD + LINE * lines + 2
        self.pairs.setMinimumHeight(0 if wide else height)
        self.pairs.setMaximumHeight(QWIDGETSIZE_MAX if wide else height)

    def _follow_zoom(self) -> None:
        self.smaller.setEnabled(self.matrix.zoom > 1)
        self.larger.setEnabled(self.matrix.zoom < self.matrix.most_zoom)

    def _tell(self, cell: tuple[int, int] | None) -> None:
        """Both directions of the pair pointed at, or else selected, and whether one outweighs the other beyond chance."""
        measured = self.workspace.shown.measured
        if cell is None:
            chosen = self.matrix._selected_cells()
            cell = chosen[0] if len(chosen) == 1 else None
        if cell is None or max(cell) >= len(measured.figures.matrix):
            self.told.setText("")
            return
        counts, (a, b) = measured.figures.matrix, cell
        first, second = (words.clipped(self.workspace.shown.classes[k], 24) for k in (a, b))
        if a == b:
            self.told.setText(f"{first}: {int(counts[a, a])} of {int(counts[a].sum())} right.")
            return
        there, back = int(counts[a, b]), int(counts[b, a])
        snapshot = self.workspace.shown.snapshot
        p = snapshot.judged.direction(a, b, measured.among)
        exact = words.paired_test(snapshot.judged.units)
        how = "one way beyond chance" if p < 0.05 else "no direction beyond chance"
        self.told.setText(
            f"{first} → {second}: {there} of {int(counts[a].sum())}.  {second} → {first}: {back} of {int(counts[b].sum())}.  "
            f"{how[0].upper()}{how[1:]} ({exact} of this pair alone, p {in_words(p)})."
        )

    def _work_out(self) -> None:
        """Sort the classes and find the worst pairs."""
        measured, by = self.workspace.shown.measured, SORTED_BY[ORDERS[self.order.currentIndex()]]
        self._working.cancel()
        if by is None:
            self.matrix.set_order(None)
        counts, snapshot, among = measured.figures.matrix, self.workspace.shown.snapshot, measured.among
        over_units = snapshot.judged.units is not None

        def direction(a: int, b: int) -> float:
            return snapshot.judged.direction(a, b, among)

        self._working.start(
            lambda work: (
                by(counts) if by is not None else None,
                worst_pairs(counts, MOST_PAIRS, direction if over_units else None),
            ),
            done=self._take,
        )

    def _take(self, found: tuple[NDArray[np.int64] | None, list[ConfusedPair]]) -> None:
        order, pairs = found
        if order is not None:
            self.matrix.set_order(order)
        self.pairs.show_pairs(pairs)
        self._arrange()

    def as_table(self) -> list[list[str]]:
        """The counts in the order shown, for the clipboard."""
        classes, order = self.workspace.shown.classes, self.matrix.order.tolist()
        counts = self.workspace.shown.measured.figures.matrix
        lines = [[classes[i], *(str(int(counts[i, j])) for j in order)] for i in order]
        return [["labelled / predicted", *(classes[j] for j in order)], *lines]

    @property
    def settled(self) -> bool:
        return not self._workers.busy

    def stop(self) -> None:
        self._workers.stop_all()
