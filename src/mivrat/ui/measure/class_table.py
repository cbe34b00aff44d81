"""The class table: support, precision, recall and F1 of every class, sortable; a row selects the class."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

from PySide6.QtCore import QAbstractTableModel, QModelIndex, QPersistentModelIndex, QRect, Qt
from PySide6.QtGui import QPainter, QResizeEvent
from PySide6.QtWidgets import QStyledItemDelegate, QStyleOptionViewItem

from mivrat.core.base.numbers import bounds, percent, with_bounds
from mivrat.core.base.text import printable
from mivrat.core.figures.confusion import ClassFigures, class_figures, mistakes
from mivrat.core.figures.families import family_matrix, family_members
from mivrat.core.figures.intervals import Proportion
from mivrat.core.selecting.selection import Labelled
from mivrat.ui import words
from mivrat.ui.measure.headline_lines import below_accuracy
from mivrat.ui.parts.tables import ChoosingTable, paint_share
from mivrat.ui.parts.widgets import plain
from mivrat.ui.theme import font, theme
from mivrat.workspace.workspace import Workspace

# Where the names would have less than this, the number of images predicted as a class gives way: its precision has it too.
LEAST_FOR_NAMES, ENOUGH_FOR_NAMES = 150, 240
SMALL = 30
INTERVAL = Qt.ItemDataRole.UserRole + 1
SHARE, OTHER, WARNED, WHOLE = (Qt.ItemDataRole.UserRole + n for n in (2, 3, 4, 5))
PAINTED = (INTERVAL, Qt.ItemDataRole.DisplayRole, SHARE, OTHER, WARNED)
Index = QModelIndex | QPersistentModelIndex


def _tip_of_counts(c: ClassFigures, name: str) -> str:
    few = ". Few images: wide intervals." if c.support < SMALL else ""
    return f"{name}: {c.support} labelled, {c.predicted} predicted, {c.true_positive} both{few}"


def _tip_of_precision(c: ClassFigures, name: str) -> str:
    if not c.predicted:
        return f"undefined: nothing was predicted as {name}"
    return f"precision of {name}: {c.true_positive} of {c.predicted} images predicted so. {words.how(c.precision)}"


def _tip_of_recall(c: ClassFigures, name: str) -> str:
    if not c.support:
        return f"undefined: no image is labelled {name}"
    return f"recall of {name}: {c.true_positive} of {c.support} images labelled so. {words.how(c.recall)}"


@dataclass(frozen=True)
class Number:
    """A column of numbers, one for each class: ``value`` is what it is sorted by and ``text`` how it is told; a share is told
    in percent, with its interval. ``few`` marks counts under which intervals are wide."""

    title: str
    about: str
    width: int
    value: Callable[[ClassFigures], float | None] = lambda c: None
    text: Callable[[float | None], str] = percent
    share: Callable[[ClassFigures], Proportion] | None = None
    tip: Callable[[ClassFigures, str], str] = _tip_of_counts
    few: bool = False

    def told(self, c: ClassFigures) -> float | None:
        """The number of a class; None: undefined."""
        return self.value(c) if self.share is None else self.share(c).value

    def small(self, c: ClassFigures) -> str:
        """What stands below the number: the interval of a share, or that a count is small."""
        if self.share is not None:
            return bounds(self.share(c))
        return "few" if self.few and 0 < c.support < SMALL else ""


NUMBERS = (
    Number(
        "labelled",
        "Images with this label (support). Fewer than 30 are marked: their intervals are wide.",
        68,
        lambda c: c.support,
        lambda n: f"{n}",
        few=True,
    ),
    Number("predicted", "Images predicted as this class.", 76, lambda c: c.predicted, lambda n: f"{n}"),
    Number(
        "precision",
        "Of the images predicted as this class, the share that is labelled so. Small: 95 % interval.",
        86,
        share=lambda c: c.precision,
        tip=_tip_of_precision,
    ),
    Number(
        "recall",
        "Of the images labelled with this class, the share predicted so. Small: 95 % interval.",
        86,
        share=lambda c: c.recall,
        tip=_tip_of_recall,
    ),
    Number(
        "F1",
        "2 TP / (2 TP + FP + FN). Small: 95 % interval, by that of TP / (TP + FP + FN).",
        86,
        share=lambda c: c.f1_share,
    ),
)
NAMED, TAKEN_FOR = 0, len(NUMBERS) + 1
HEADS = ("class", *(one.title for one in NUMBERS), "most confused with")
TIPS = (
    "",
    *(one.about for one in NUMBERS),
    "The most frequent wrong answer for images with this label, and how often.",
)
GIVES_WAY = HEADS.index("predicted")
# What the columns with names keep, and what each share gives for it where there is little room.
LEAST_NAMED, LEAST_TAKEN_FOR, MOST_TAKEN = 72, 96, 16


class ClassModel(QAbstractTableModel):
    """The figures of each class as table data; undefined values are dashes and sort last."""

    def __init__(self, workspace: Workspace) -> None:
        super().__init__()
        self.workspace = workspace
        self._wrong: list[tuple[int, int]] = []
        self._figures: list[ClassFigures] = []
        self._names: list[str] = []
        self._members: list[frozenset[int]] = []
        self.by_family = False
        self._low: dict[str, frozenset[int]] = {}
        self._order: list[int] = []
        self._sorted_by = (0, Qt.SortOrder.AscendingOrder)
        workspace.topics.measured.connect(self._reset)
        workspace.topics.compared.connect(self._reset)

    def _reset(self) -> None:
        self.beginResetModel()
        measured, snapshot = self.workspace.shown.results.measured, self.workspace.shown.snapshot
        self._wrong, self._figures, self._names, self._members = [], [], [], []
        figures = measured.figures
        if self.by_family:
            families = snapshot.record.families
            members = family_members(families, len(figures.matrix))
            grouped = family_matrix(figures.matrix, families)[1]
            self._figures, self._wrong = class_figures(grouped), mistakes(grouped, 1).most_taken_for
            self._members = [frozenset(one) for one in members]
            self._names = [printable(families.get(one[0], self.workspace.shown.classes[one[0]])) for one in members]
        else:
            self._figures, self._wrong = figures.classes, measured.mistakes.most_taken_for
            self._names, self._members = (
                [printable(name) for name in self.workspace.shown.classes],
                [frozenset({k}) for k in range(len(figures.classes))],
            )
        # Of families no share is marked: what is looked at are their members.
        self._low = (
            {}
            if self.by_family
            else {
                one.title: below_accuracy(self.workspace, one.share)
                for one in NUMBERS
                if one.share is not None and one.title in ("precision", "recall")
            }
        )
        self._put_in_order()
        self.endResetModel()

    def _put_in_order(self) -> None:
        column, order = self._sorted_by
        self._order = sorted(range(len(self._wrong)), key=lambda k: self._sort_key(k, column))
        if order == Qt.SortOrder.DescendingOrder:
            self._order.reverse()

    def _sort_key(self, k: int, column: int) -> float:
        """What class k is sorted by; undefined values come below all others."""
        if column in (NAMED, TAKEN_FOR):
            return float(self._wrong[k][1] if column else k)
        value = NUMBERS[column - 1].told(self._figures[k])
        return -1.0 if value is None else float(value)

    def sort(self, column: int, order: Qt.SortOrder = Qt.SortOrder.AscendingOrder) -> None:
        self.layoutAboutToBeChanged.emit()
        self._sorted_by = (column, order)
        self._put_in_order()
        self.layoutChanged.emit()

    def fold_families(self, on: bool) -> None:
        """Show one row for each family (and for each class without one), or one for each class."""
        self.by_family = on
        self._reset()

    def longest(self) -> tuple[str, str]:
        """The longest text of the column of names, and of that of the classes taken for."""
        texts = [f"{times} × {self._names[k]}" for k, times in self._wrong if times]
        return max((HEADS[NAMED] + "    ", *self._names), key=len), max((HEADS[TAKEN_FOR], *texts), key=len)

    def members(self, row: int) -> frozenset[int]:
        """The classes that a row shows: one, or those of a family."""
        return self._members[self._order[row]]

    def name(self, row: int) -> str:
        """What a row is called."""
        return self._names[self._order[row]]

    def figures(self, row: int) -> ClassFigures:
        """What a row shows."""
        return self._figures[self._order[row]]

    def row_of(self, classes: frozenset[int]) -> int:
        """The row that shows these classes and no others, or -1."""
        return next((row for row, k in enumerate(self._order) if self._members[k] == classes), -1)

    def rowCount(self, parent: Index = QModelIndex()) -> int:  # noqa: B008
        return len(self._wrong)

    def columnCount(self, parent: Index = QModelIndex()) -> int:  # noqa: B008
        return len(HEADS)

    def headerData(self, section: int, orientation: Qt.Orientation, role: int = Qt.ItemDataRole.DisplayRole) -> Any:
        if orientation == Qt.Orientation.Horizontal:
            if role == Qt.ItemDataRole.DisplayRole:
                return HEADS[section]
            if role == Qt.ItemDataRole.ToolTipRole:
                return TIPS[section]
            if role == Qt.ItemDataRole.TextAlignmentRole:
                return self._side(section)
        return None

    @staticmethod
    def _side(column: int) -> Qt.AlignmentFlag:
        across = Qt.AlignmentFlag.AlignLeft if column in (NAMED, TAKEN_FOR) else Qt.AlignmentFlag.AlignRight
        return across | Qt.AlignmentFlag.AlignVCenter

    def data(self, index: Index, role: int = Qt.ItemDataRole.DisplayRole) -> Any:
        if index.row() >= len(self._order):
            return None
        k, column = self._order[index.row()], index.column()
        if role == Qt.ItemDataRole.TextAlignmentRole:
            return self._side(column)
        if column in (NAMED, TAKEN_FOR):
            return self._of_names(k, column, role)
        c, number = self._figures[k], NUMBERS[column - 1]
        if role == WHOLE:  # all that painting takes, in one go
            return tuple(self.data(index, one) for one in PAINTED)
        if role == Qt.ItemDataRole.DisplayRole:
            return number.text(number.told(c))
        if role == INTERVAL:
            return number.small(c)
        if role == SHARE:
            return None if number.share is None else number.share(c)
        if role == WARNED:
            return k in self._low.get(number.title, ())
        other = self._other(k, number) if role in (OTHER, Qt.ItemDataRole.ToolTipRole) else None
        if role == OTHER:
            return other
        if role == Qt.ItemDataRole.ToolTipRole:
            held = self.workspace.shown.held
            more = f"\n{held.names.b}: {with_bounds(other)}" if other is not None and held is not None else ""
            return plain(f"{number.tip(c, self._names[k])}{more}")
        return None

    def _other(self, k: int, number: Number) -> Proportion | None:
        """The same share of the class under the run held, where that is over the same images."""
        compared, measured = self.workspace.shown.compared, self.workspace.shown.results.measured
        if compared is None or compared.b_figures is None or number.share is None or self.by_family:
            return None
        if compared.of_selection != measured.of_selection or k >= len(compared.b_figures.classes):
            return None
        return number.share(compared.b_figures.classes[k])

    def _of_names(self, k: int, column: int, role: int) -> Any:
        if role == Qt.ItemDataRole.ToolTipRole:
            return plain(_tip_of_counts(self._figures[k], self._names[k]))
        if role != Qt.ItemDataRole.DisplayRole:
            return "" if role == INTERVAL else None
        if column == NAMED:
            return self._names[k]
        taken_for, times = self._wrong[k]
        return f"{times} × {self._names[taken_for]}" if times else ""


class _IntervalDelegate(QStyledItemDelegate):
    """Draws a value with its interval in smaller, softer ink below it, and as a point on its interval at the foot."""

    def paint(self, painter: QPainter, option: QStyleOptionViewItem, index: Index) -> None:
        small, text, share, other, warned = index.data(WHOLE) or ("", "", None, None, False)
        if not small:
            super().paint(painter, option, index)
            return
        self.initStyleOption(option, index)
        option.text = ""
        option.widget.style().drawControl(
            option.widget.style().ControlElement.CE_ItemViewItem, option, painter, option.widget
        )
        painter.save()
        area = option.rect.adjusted(6, 3, -6, -14)
        right = Qt.AlignmentFlag.AlignRight
        painter.setFont(font(13))
        painter.setPen(theme.colour("ink"))
        painter.drawText(area, right | Qt.AlignmentFlag.AlignTop, text)
        painter.setFont(font(11))
        painter.setPen(theme.colour("second" if other is not None else "soft" if share is not None else "look"))
        painter.drawText(
            area,
            right | Qt.AlignmentFlag.AlignBottom,
            f"→ {percent(other.value)}" if other is not None else small,
        )
        if share is not None and share.value is not None:
            foot = QRect(area.left(), option.rect.bottom() - 14, area.width(), 12)
            paint_share(painter, foot, share, other, warned)
        painter.restore()


class ClassTable(ChoosingTable):
    """The table; clicking a row (or Enter on it) selects the images labelled so, Ctrl adds beside."""

    def __init__(self, workspace: Workspace) -> None:
        super().__init__()
        self.workspace = workspace
        self._model = ClassModel(workspace)
        self.setModel(self._model)
        self.setItemDelegate(_IntervalDelegate(self))
        self.setSortingEnabled(True)
        self.sortByColumn(0, Qt.SortOrder.AscendingOrder)
        self.verticalHeader().setDefaultSectionSize(50)
        for column, number in enumerate(NUMBERS, 1):
            self.setColumnWidth(column, number.width)
        self._model.modelReset.connect(self._share_room)
        workspace.topics.selection.connect(self._follow)

    def resizeEvent(self, event: QResizeEvent) -> None:
        super().resizeEvent(event)
        self._share_room()

    def _share_room(self) -> None:
        """Give the names what the numbers leave: of both columns with names each as much as it needs, else its part."""
        room, wanted = self.viewport().width() - sum(one.width for one in NUMBERS), self._model.longest()
        letters, most = self.fontMetrics(), 400
        needs = [min(most, letters.horizontalAdvance(text) + 20) for text in wanted]
        narrow = room < (LEAST_FOR_NAMES if sum(needs) <= room else ENOUGH_FOR_NAMES)
        self.setColumnHidden(GIVES_WAY, narrow)
        if narrow:
            room += NUMBERS[GIVES_WAY - 1].width
        shares = [column for column, number in enumerate(NUMBERS, 1) if number.share is not None]
        lacking = min(MOST_TAKEN * len(shares), max(0, LEAST_NAMED + LEAST_TAKEN_FOR - room))
        for column in shares:
            self.setColumnWidth(column, NUMBERS[column - 1].width - -(-lacking // len(shares)))
        room += lacking
        first = max(LEAST_NAMED, needs[0] if sum(needs) <= room else round(room * needs[0] / sum(needs)))
        self.setColumnWidth(NAMED, min(first, max(LEAST_NAMED, room - LEAST_TAKEN_FOR)))
        self.setColumnWidth(TAKEN_FOR, max(LEAST_TAKEN_FOR, room - self.columnWidth(NAMED)))

    def choose(self, index: QModelIndex, beside: bool, *, enter: bool = False) -> None:
        if index.isValid():
            choose = self.workspace.shown.enter if enter else self.workspace.shown.choose
            choose(Labelled(self._model.members(index.row())), beside=beside)

    def show_chosen(self) -> None:
        """Scroll to the row that is marked."""
        for index in self.selectionModel().selectedRows():
            self.scrollTo(index)

    @property
    def rows(self) -> ClassModel:
        """What the rows show."""
        return self._model

    def as_table(self) -> list[list[str]]:
        """What is shown, in the order shown, for the clipboard."""
        head = ["class", "labelled", "predicted", "both", "precision", "low", "high", "recall", "low", "high", "F1"]
        lines = []
        for row in range(self._model.rowCount()):
            c = self._model.figures(row)
            shares = (
                c.precision.value,
                c.precision.low,
                c.precision.high,
                c.recall.value,
                c.recall.low,
                c.recall.high,
                c.f1,
            )
            digits = ["" if value is None else f"{value:.6f}" for value in shares]
            lines.append([self._model.name(row), str(c.support), str(c.predicted), str(c.true_positive), *digits])
        return [head, *lines]

    def _follow(self) -> None:
        """Mark the row of the selected class, where it is one class."""
        chosen = [c for c in self.workspace.shown.conditions if isinstance(c, Labelled)]
        self.selectionModel().clearSelection()
        if chosen and (row := self._model.row_of(chosen[0].classes)) >= 0:
            self.selectRow(row)
