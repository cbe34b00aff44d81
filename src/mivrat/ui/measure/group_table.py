"""Figures by any column: the group that most surely falls below the rest comes first; a row selects its images."""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np
from PySide6.QtCore import QModelIndex, QPersistentModelIndex, Qt, Signal
from PySide6.QtGui import QPainter, QResizeEvent
from PySide6.QtWidgets import (
    QAbstractItemView,
    QHeaderView,
    QStyledItemDelegate,
    QStyleOptionViewItem,
    QTableWidget,
    QTableWidgetItem,
    QVBoxLayout,
    QWidget,
)

from mivrat.core.answers.other import Other
from mivrat.core.base.numbers import bounds, percent, with_bounds
from mivrat.core.base.text import minus
from mivrat.core.checks.result import in_words
from mivrat.core.figures.groups import Group, group_figures, group_names
from mivrat.core.figures.intervals import Proportion
from mivrat.core.figures.units import Units
from mivrat.core.pictures.image_sets import column_of
from mivrat.core.running.groups import groups_of_run
from mivrat.core.running.snapshot import Snapshot
from mivrat.core.selecting.kept import positions_by_group
from mivrat.core.selecting.ordering import columns_to_group_by
from mivrat.core.selecting.selection import InGroup
from mivrat.ui import words
from mivrat.ui.parts.columns import fit_columns
from mivrat.ui.parts.page import Page
from mivrat.ui.parts.tables import paint_share
from mivrat.ui.parts.widgets import Choice, label, row, tip
from mivrat.ui.theme import font, theme
from mivrat.workspace.executors import LatestOnly
from mivrat.workspace.workspace import Workspace

COLUMNS = ("group", "images", "right", "95 % interval", "signed gap", "below rest")
INTERVAL = 3
WIDTHS = {1: 60, 2: 66, 3: 104, 4: 84, 5: 92}
SHARE, OTHER, WARNED = (Qt.ItemDataRole.UserRole + n for n in (2, 3, 4))


@dataclass(frozen=True)
class Grouped:
    """The groups of one column and the images of each; ``other`` is the accuracy of the run held in each, where one is held on these
    images."""

    column: str
    groups: list[Group]
    positions: dict[str, tuple[int, ...]]
    other: dict[str, Proportion] = field(default_factory=dict)


class _Table(QTableWidget):
    """Tells when there is more or less room."""

    resized = Signal()

    def resizeEvent(self, event: QResizeEvent) -> None:
        super().resizeEvent(event)
        self.resized.emit()


class GroupTable(Page, QWidget):
    """A table of groups under the choice of a column."""

    title, place_id = "Groups", "groups"
    help = "Figures by any column of the set, the group that falls most surely below the rest first."

    def __init__(self, workspace: Workspace) -> None:
        super().__init__()
        self.workspace = workspace
        self.found: Grouped | None = None
        self._workers = self.workspace.group(1)
        self._working = LatestOnly(self._workers)
        self.column = Choice(name="column to group by")
        self.column.activated.connect(lambda _: self._start())
        self.note = label(soft=True, wrap=True)
        self.table = _Table(0, len(COLUMNS))
        self.table.setAccessibleName("groups, with their accuracy")
        self.table.resized.connect(self._fit)
        self.table.setHorizontalHeaderLabels(list(COLUMNS))
        self.table.setEditTriggers(QAbstractItemView.EditTrigger.NoEditTriggers)
        self.table.setSelectionBehavior(QAbstractItemView.SelectionBehavior.SelectRows)
        self.table.setTabKeyNavigation(False)
        self.table.setShowGrid(False)
        self.table.verticalHeader().hide()
        self.table.verticalHeader().setDefaultSectionSize(40)
        self.table.setItemDelegateForColumn(INTERVAL, _IntervalBar(self.table))
        head = self.table.horizontalHeader()
        head.setHighlightSections(False)
        head.setDefaultAlignment(Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter)
        if (gap := self.table.horizontalHeaderItem(4)) is not None:
            tip(gap, "Mean confidence minus the share right, in percentage points: above 0 is overconfident")
        head.setSectionResizeMode(0, QHeaderView.ResizeMode.Stretch)
        self.table.setWordWrap(False)
        self.table.setTextElideMode(Qt.TextElideMode.ElideMiddle)
        for i, width in WIDTHS.items():
            self.table.setColumnWidth(i, width)
            if (title := self.table.horizontalHeaderItem(i)) is not None and i != INTERVAL:
                title.setTextAlignment(Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter)
        self.table.cellClicked.connect(lambda line, _: self._choose(line))
        self.table.cellActivated.connect(lambda line, _: self._choose(line, enter=True))
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 8, 0, 8)
        self.by = label("by", soft=True)
        layout.addLayout(row(self.by, self.column, None))
        layout.addWidget(self.note)
        layout.addWidget(self.table, 1)
        layout.addStretch(0)  # where there is no table, what is said stands at the top
        workspace.topics.run.connect(self._list_columns)
        workspace.topics.measured.connect(self._start)
        workspace.topics.held.connect(self._start)

    def show_column(self, column: str) -> None:
        """Group by this column, where there is one of that name."""
        if self.column.findText(column) >= 0:
            self.column.setCurrentText(column)
            self._start()

    def _list_columns(self) -> None:
        snapshot = self.workspace.shown.snapshot
        items = snapshot.record.image_set.items
        few = columns_to_group_by(items)
        kept = self.column.currentText()
        self.column.clear()
        self.column.addItems(few)
        self.column.setCurrentText(kept if kept in few else few[0] if few else "")
        for widget in (self.by, self.column):
            widget.setVisible(bool(few))
        if not few:
            self.found = None
            self._show()

    def _start(self) -> None:
        snapshot, column, measured = (
            self.workspace.shown.snapshot,
            self.column.currentText(),
            self.workspace.shown.results.measured,
        )
        if not column:
            return
        self._working.cancel()
        among = self.workspace.shown.shown_mask() if measured.of_selection else None
        other = self.workspace.shown.other
        self._working.start(lambda work: _grouped(snapshot, column, among, other), done=self._take)

    def _take(self, found: Grouped) -> None:
        self.found = found
        self._show()

    def _show(self) -> None:
        found = self.found
        self.table.setVisible(found is not None)
        if found is None:
            self.note.setText("No column to group by. An image table may have further columns, such as site or date.")
            return
        below = [one for one in found.groups if one.p < 0.05]
        units = self._units()
        if units is not None and all(one.accuracy.low is None for one in found.groups):
            most = words.units(max((one.accuracy.units or 0 for one in found.groups), default=0))
            self.note.setText(
                f"No group can be compared with the rest: each is within {most} of '{units.column}', which is too few."
            )
        else:
            self._note_tests(below, units)
        self._fill(found)

    def _note_tests(self, below: list[Group], units: Units | None) -> None:
        self.note.setText(
            (
                f"{', '.join(one.name for one in below[:4])} significantly below the rest. "
                if below
                else "No group is significantly below the rest. "
            )
            + (
                f"One-sided test of each group against the others, whole units of '{units.column}' at a time"
                if units is not None
                else "Exact one-sided test of each group against the others"
            )
            + ", corrected over the groups of all columns (Holm)."
        )

    def _fill(self, found: Grouped) -> None:
        self.table.setRowCount(len(found.groups))
        for i, one in enumerate(found.groups):
            gap = "" if one.gap is None else minus(f"{100 * one.gap:+.1f}")
            p = f"p {in_words(one.p)}" if one.p < 0.05 else "" if one.p > 0.9995 else f"p {in_words(one.p)}"
            texts = (one.name, words.count(one.accuracy.total), percent(one.accuracy.value), "", gap, p)
            for column, text in enumerate(texts):
                item = QTableWidgetItem(text)
                if column:
                    item.setTextAlignment(Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter)
                if column == INTERVAL:
                    item.setData(SHARE, one.accuracy)
                    item.setData(OTHER, found.other.get(one.name))
                    item.setData(WARNED, one.p < 0.05)
                    tip(
                        item,
                        f"{one.accuracy.hits} of {one.accuracy.total}: {bounds(one.accuracy)}. {words.how(one.accuracy)}{self._of_held(found, one.name)}",
                    )
                if column == 1 and one.small:
                    item.setText(f"{text}  few")
                    tip(item, "Few images: a wide interval")
                self.table.setItem(i, column, item)
        self._fit()

    def _fit(self) -> None:
        others = {i: width for i, width in WIDTHS.items() if i != INTERVAL}
        fit_columns(self.table, others, (1, 2, 4, 5), {INTERVAL: WIDTHS[INTERVAL]})

    def _of_held(self, found: Grouped, name: str) -> str:
        """The same group under the run held, in words; empty while none is held."""
        held, share = self.workspace.shown.held, found.other.get(name)
        return f"\n{held.names.b}: {with_bounds(share)}" if held is not None and share is not None else ""

    def _units(self) -> Units | None:
        return self.workspace.shown.snapshot.judged.units

    def _choose(self, line: int, *, enter: bool = False) -> None:
        if self.found is not None:
            name = self.found.groups[line].name
            choose = self.workspace.shown.enter if enter else self.workspace.shown.choose
            choose(InGroup(self.found.column, frozenset({(name, self.found.positions[name])})))

    def as_table(self) -> list[list[str]]:
        """What is shown, for the clipboard."""
        found = self.found.groups if self.found else []
        lines = [
            [one.name, str(one.accuracy.total), str(one.accuracy.hits), *_digits(one.accuracy), f"{one.p:.6g}"]
            for one in found
        ]
        return [["group", "images", "right", "share", "low", "high", "p below rest"], *lines]

    @property
    def settled(self) -> bool:
        return not self._workers.busy

    def stop(self) -> None:
        self._workers.stop_all()


def _digits(share: Proportion) -> list[str]:
    return ["" if value is None else f"{value:.6f}" for value in (share.value, share.low, share.high)]


def _grouped(snapshot: Snapshot, column: str, among: np.ndarray | None, other: Other | None) -> Grouped:
    items, judged = snapshot.record.image_set.items, snapshot.judged
    names = group_names(column_of(items, column))
    use = judged.evaluated_among(among)
    found = groups_of_run(snapshot, among).get(column)
    if found is None:  # a further column, looked at by itself
        found = group_figures(names, judged.right, judged.confidence, use, judged.units, judged.alike)
    positions, accuracy = positions_by_group(items, column), dict[str, Proportion]()
    if other is not None:
        right, both = other.predicted == judged.labels, use & other.both
        for name, some in positions.items():
            inside = np.zeros(len(both), bool)
            inside[list(some)] = True
            accuracy[name] = judged.share(right, inside & both)
    return Grouped(column, found, positions, accuracy)


class _IntervalBar(QStyledItemDelegate):
    """Draws a share as a point on its interval."""

    def paint(
        self, painter: QPainter, option: QStyleOptionViewItem, index: QModelIndex | QPersistentModelIndex
    ) -> None:
        super().paint(painter, option, index)
        share = index.data(SHARE)
        if not isinstance(share, Proportion) or share.value is None:
            return
        painter.setFont(font(11))
        painter.setPen(theme.colour("soft"))
        if share.low is None or share.high is None:
            painter.drawText(option.rect.adjusted(8, 0, -8, 0), Qt.AlignmentFlag.AlignVCenter, "too few units")
            return
        other = index.data(OTHER)
        held = other if isinstance(other, Proportion) and other.value is not None else None
        area = option.rect.adjusted(4, 4, -4, -20)
        paint_share(painter, area, share, held, bool(index.data(WARNED)))
        painter.setPen(theme.colour("soft" if held is None else "second"))
        told = bounds(share) if held is None else f"→ {percent(held.value)}"
        painter.drawText(option.rect.adjusted(0, 20, 0, -3), Qt.AlignmentFlag.AlignCenter, told)
