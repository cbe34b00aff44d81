"""The confusion matrix with its choices of what the cells show and in which order, and the worst pairs beside it."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from PySide6.QtCore import Qt
from PySide6.QtGui import QKeySequence, QResizeEvent, QShortcut
from PySide6.QtWidgets import QBoxLayout, QStackedWidget, QVBoxLayout, QWidget

from mivrat.core.checks.result import in_words
from mivrat.core.figures.blocks import Block, blocks_of, mistakes_between
from mivrat.core.figures.confusion import ConfusedPair, order_by_likeness, order_by_support, worst_pairs
from mivrat.core.selecting.selection import MatrixCells
from mivrat.ui import words
from mivrat.ui.measure.block_list import BlockList
from mivrat.ui.measure.block_map import BlockMap
from mivrat.ui.measure.matrix import ZOOM_STEP, ConfusionMatrix
from mivrat.ui.measure.pair_list import HEAD, LINE, PairList
from mivrat.ui.parts.late import Late
from mivrat.ui.parts.page import Page
from mivrat.ui.parts.widgets import Choice, Elided, Tabs, button, label, row, tip
from mivrat.workspace.executors import LatestOnly
from mivrat.workspace.workspace import Workspace

MODES = ("counts", "share of label, %", "share of prediction, %")
SORTED_BY = {
    "order of the list": None,
    "most images first": order_by_support,
    "confused ones together": order_by_likeness,
}
BLOCKS = "blocks of confused classes"
ORDERS = (*SORTED_BY, BLOCKS)
MOST_PAIRS = 30
# More classes than this are shown in blocks first: their matrix cannot be read as a whole.
MANY = 40
# From this width on the pairs stand beside the matrix, else below it.
WIDE, BESIDE, LINES_BELOW = 940, 420, 4
# Below this height the matrix needs the room more than the pairs do.
LOW = 480
QWIDGETSIZE_MAX = (1 << 24) - 1


@dataclass(frozen=True)
class WorkedOut:
    """What takes a while: an order of the classes, the worst pairs, and the blocks with the mistakes between them."""

    order: NDArray[np.int64] | None
    pairs: list[ConfusedPair]
    blocks: list[Block]
    between: NDArray[np.int64]


class Confusions(Page, QWidget):
    """The matrix, what is pointed at in words, and the list of pairs; of many classes blocks first, each of which opens into a
    matrix of its own, with the worst blocks beside the worst pairs."""

    title, place_id = "Confusions", "confusions"
    help = "Which classes are confused with which. A cell selects its images."

    def __init__(self, workspace: Workspace) -> None:
        super().__init__()
        self.workspace = workspace
        self.matrix, self.pairs = ConfusionMatrix(workspace), PairList(workspace)
        self.map, self.worst_blocks = BlockMap(workspace), BlockList()
        self.blocks: list[Block] = []
        self._open: tuple[int, ...] = ()
        self._pending = False
        self._of: tuple[object, bool] | None = None
        self._blocks_before = False
        self.mode, self.order = Choice(MODES, "what the cells show"), Choice(ORDERS, "order of the classes")
        self.mode.currentIndexChanged.connect(self.matrix.set_mode)
        self.order.activated.connect(lambda _: self._choose_order())
        self._workers = self.workspace.group(1)
        self._working = LatestOnly(self._workers)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 4, 0, 8)
        tip(self.mode, "What the cells show. Rows are labels, columns predictions; hatched cells are right answers.")
        self.smaller = button("−", lambda: self.matrix.zoom_by(1 / ZOOM_STEP), kind="quiet")
        self.larger = button("+", lambda: self.matrix.zoom_by(ZOOM_STEP), kind="quiet")
        for one, does in ((self.smaller, "smaller cells"), (self.larger, "larger cells; drag to move")):
            one.setAccessibleName(does)
            tip(one, f"{does[0].upper()}{does[1:]} (wheel, or keys − and +)")
            one.setFixedWidth(28)
        self.hint = label("hatched: correct", soft=True)
        self.all_blocks = button("‹ all blocks", self.close_block, kind="small")
        tip(self.all_blocks, "Back to the overview (Esc)")
        self.opened = Elided(mode=Qt.TextElideMode.ElideRight)
        layout.addLayout(row(self.order, self.all_blocks, None, self.hint, self.smaller, self.larger, self.mode))
        layout.addWidget(self.opened)
        self.pictures = QStackedWidget()
        for picture in (self.matrix, self.map):
            self.pictures.addWidget(picture)
        self._both = QBoxLayout(QBoxLayout.Direction.TopToBottom)
        self._both.addWidget(self.pictures, 1)
        beside = QWidget()
        under = QVBoxLayout(beside)
        under.setContentsMargins(0, 0, 0, 0)
        self.told = label(wrap=True)
        self.told.setFixedHeight(38)
        self.told.setAlignment(Qt.AlignmentFlag.AlignTop)
        under.addWidget(self.told)
        self.tabs = Tabs(("worst pairs", "worst blocks"))
        self.lists = QStackedWidget()
        for listed in (self.pairs, self.worst_blocks):
            self.lists.addWidget(listed)
        self.tabs.chosen.connect(self.lists.setCurrentIndex)
        under.addWidget(self.tabs)
        under.addWidget(self.lists, 1)
        self._beside = beside
        self._both.addWidget(beside)
        layout.addLayout(self._both, 1)
        self.matrix.pointed.connect(self._notify)
        self.matrix.zoomed.connect(self._follow_zoom)
        self.map.opened.connect(self.open_blocks)
        self.worst_blocks.opened.connect(lambda at: self.open_blocks(at, at))
        escape = QShortcut(QKeySequence(Qt.Key.Key_Escape), self)
        escape.setContext(Qt.ShortcutContext.WidgetWithChildrenShortcut)
        escape.activated.connect(self.close_block)
        workspace.topics.selection.connect(lambda: self._notify(None))
        Late(self, self._work_out, workspace.topics.measured)

    def resizeEvent(self, event: QResizeEvent) -> None:
        super().resizeEvent(event)
        self._arrange()

    def _arrange(self) -> None:
        wide = self.width() >= WIDE
        self._both.setDirection(QBoxLayout.Direction.LeftToRight if wide else QBoxLayout.Direction.TopToBottom)
        self._beside.setMinimumWidth(BESIDE if wide else 0)
        self._beside.setMaximumWidth(BESIDE if wide else QWIDGETSIZE_MAX)
        lines = min(len(self.pairs.pairs), LINES_BELOW if self.height() >= LOW else 1)
        # An open block has the height to itself.
        room = wide or not self._open
        self.lists.setVisible(bool(lines) and room)
        self.tabs.setVisible(self.in_blocks and room)
        height = HEAD + LINE * lines + 2
        self.lists.setMinimumHeight(0 if wide else height)
        self.lists.setMaximumHeight(QWIDGETSIZE_MAX if wide else height)

    def _follow_zoom(self) -> None:
        self.smaller.setEnabled(self.matrix.zoom > 1)
        self.larger.setEnabled(self.matrix.zoom < self.matrix.most_zoom)

    def _notify(self, cell: tuple[int, int] | None) -> None:
        """Both directions of the pair pointed at, or else selected, and whether one outweighs the other beyond chance."""
        measured = self.workspace.shown.results.measured
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
        how = "significantly one way" if p < 0.05 else "no significant direction"
        self.told.setText(
            f"{first} → {second}: {there} of {int(counts[a].sum())}.  {second} → {first}: {back} of {int(counts[b].sum())}.  "
            f"{how[0].upper()}{how[1:]} ({exact} of this pair alone, p {in_words(p)})."
        )

    # --- blocks ---

    @property
    def in_blocks(self) -> bool:
        """Whether classes are shown in blocks."""
        return ORDERS[self.order.currentIndex()] == BLOCKS

    def _choose_order(self) -> None:
        self._open = ()
        self._work_out()

    def open_blocks(self, labels: int, predictions: int) -> None:
        """Show the matrix of a block, or of two that are confused, and select their mistakes."""
        self._open = tuple(dict.fromkeys((labels, predictions)))
        self._show()
        self.matrix.setFocus(Qt.FocusReason.OtherFocusReason)
        counts = self.workspace.shown.results.measured.figures.matrix
        rows, columns = (np.array(self.blocks[at].classes) for at in (labels, predictions))
        part = counts[np.ix_(rows, columns)]
        wrong = {(int(rows[i]), int(columns[j])) for i, j in np.argwhere(part > 0) if rows[i] != columns[j]}
        if wrong:
            self.workspace.shown.choose(MatrixCells(frozenset(wrong)))

    def close_block(self) -> None:
        """Back to the overview of the blocks."""
        if self._open:
            self._open = ()
            self._show()
            self.map.setFocus(Qt.FocusReason.OtherFocusReason)

    def _show(self) -> None:
        """Show the overview, an open block, or the whole matrix."""
        overview = self.in_blocks and not self._open
        self.pictures.setCurrentIndex(int(overview))
        self.all_blocks.setVisible(bool(self._open))
        for one in (self.hint, self.smaller, self.larger, self.mode):
            one.setVisible(not overview)
        told = ""
        if self._open:
            chosen = [self.blocks[at] for at in self._open]
            self.matrix.set_order(np.array([k for one in chosen for k in one.classes], np.int64))
            inside, leaving = sum(one.inside for one in chosen), sum(one.leaving for one in chosen)
            if len(chosen) == 1:
                told = f"{chosen[0].name}: {words.count(inside)} mistakes inside, {words.count(leaving)} leave it"
            else:
                told = " and ".join(words.clipped(one.name, 30) for one in chosen)
        elif overview and self._pending:
            told = f"Grouping {words.count(len(self.workspace.shown.classes))} classes by what they are confused with …"
        elif overview and self.blocks:
            total = sum(one.inside + one.leaving for one in self.blocks)
            within = sum(one.inside for one in self.blocks)
            blocks = "1 block" if len(self.blocks) == 1 else f"{len(self.blocks)} blocks"
            told = f"{blocks}; {words.count(within)} of {words.count(total)} mistakes lie inside one"
            told = told if total else "No mistake by which classes could be grouped"
        self.opened.set_text(told)
        self.opened.setVisible(bool(told))
        self._arrange()
        self._follow_zoom()

    def _work_out(self) -> None:
        """Sort the classes, part them into blocks and find the worst pairs."""
        measured, snapshot = self.workspace.shown.results.measured, self.workspace.shown.snapshot
        counts, among = measured.figures.matrix, measured.among
        many = len(counts) > MANY
        of = snapshot.record.key, many
        new_run = self._of != of
        if new_run:  # another run: what is seen first depends on how many classes it has
            if self._of is None or many != self._of[1] or not many:
                self.order.setCurrentIndex(ORDERS.index(BLOCKS) if many else min(2, self.order.currentIndex()))
            self._of, self._open = of, ()
        by, in_blocks = SORTED_BY.get(ORDERS[self.order.currentIndex()]), self.in_blocks
        self._working.cancel()
        if by is None and not in_blocks:
            self.matrix.set_order(None)
        over_units, names, families = (
            snapshot.judged.units is not None,
            self.workspace.shown.classes,
            snapshot.record.families,
        )

        def direction(a: int, b: int) -> float:
            return snapshot.judged.direction(a, b, among)

        def work(_: object) -> WorkedOut:
            blocks = blocks_of(counts, names, families) if in_blocks else []
            return WorkedOut(
                by(counts) if by is not None else None,
                worst_pairs(counts, MOST_PAIRS, direction if over_units else None),
                blocks,
                mistakes_between(counts, blocks),
            )

        # While those of another run are worked out nothing of this one's is there to be shown.
        self._pending = in_blocks and (new_run or not self.blocks)
        if self._pending:
            self.blocks = []
            self.map.show_blocks([], np.zeros((0, 0), np.int64))
            self.worst_blocks.show_blocks([])
            self._show()
        self._working.start(work, done=self._take)

    def _take(self, found: WorkedOut) -> None:
        self._pending = False
        if found.order is not None:
            self.matrix.set_order(found.order)
        if [one.classes for one in found.blocks] != [one.classes for one in self.blocks]:
            self._open = ()  # other blocks than those that one of was open
        self.blocks = found.blocks
        self.map.show_blocks(found.blocks, found.between)
        self.worst_blocks.show_blocks(found.blocks)
        self.pairs.show_pairs(found.pairs)
        if self.in_blocks is not self._blocks_before:
            self._blocks_before = self.in_blocks
            self.tabs.choose(int(self.in_blocks))
        self._show()

    def as_table(self) -> list[list[str]]:
        """The counts in the order shown, for the clipboard."""
        classes, order = self.workspace.shown.classes, self.matrix.order.tolist()
        counts = self.workspace.shown.results.measured.figures.matrix
        lines = [[classes[i], *(str(int(counts[i, j])) for j in order)] for i in order]
        return [["labelled / predicted", *(classes[j] for j in order)], *lines]

    @property
    def settled(self) -> bool:
        return not self._workers.busy

    def stop(self) -> None:
        self._workers.stop_all()
