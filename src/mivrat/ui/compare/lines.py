"""A table of lines that select images: names, numbers, and differences drawn with their intervals; it takes thousands of lines."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import Any

from PySide6.QtCore import QAbstractTableModel, QModelIndex, QPersistentModelIndex, QPointF, QRectF, QSize, Qt
from PySide6.QtGui import QPainter, QPen, QResizeEvent
from PySide6.QtWidgets import QStyledItemDelegate, QStyleOptionViewItem

from mivrat.core.base.text import printable
from mivrat.core.figures.differences import Difference
from mivrat.core.selecting.selection import Condition
from mivrat.ui.parts.tables import ChoosingTable
from mivrat.ui.parts.widgets import plain
from mivrat.ui.theme import theme
from mivrat.workspace.workspace import Workspace

DRAWN = Qt.ItemDataRole.UserRole + 1
LINE = 30
# Names are asked for their widths as far as here; more than so many pixels they need not have.
LOOKED_AT, ENOUGH = 300, 220
Index = QModelIndex | QPersistentModelIndex


@dataclass(frozen=True)
class Drawn:
    """A difference to draw: both shares as points with their intervals on a scale from 0 to 1 (``as_points``), or b - a with its
    interval around the tick of none, on a scale of ``reach`` to both sides."""

    difference: Difference
    as_points: bool = False
    reach: float = 1.0


@dataclass(frozen=True)
class TableCell:
    """What stands in a cell: its text, what it is sorted by, a drawing in place of the text, and its ink (a token)."""

    text: str = ""
    sort: float | str | None = None
    drawn: Drawn | None = None
    ink: str = ""


@dataclass(frozen=True)
class TableLine:
    """A line of cells; ``conditions`` are what it selects, ``about`` its tooltip. What takes a moment to tell is told by ``pick``, once
    the line is chosen."""

    cells: tuple[TableCell, ...]
    conditions: tuple[Condition, ...] = ()
    about: str = ""
    pick: Callable[[], tuple[Condition, ...]] | None = None


@dataclass(frozen=True)
class TableColumn:
    """A column: its heading, its width in pixels (0: what is left), whether it is of numbers, and whether it ``gives_way`` where long
    names would not have enough."""

    name: str
    width: int = 0
    number: bool = False
    gives_way: bool = False


class _Model(QAbstractTableModel):
    def __init__(self, columns: Sequence[TableColumn]) -> None:
        super().__init__()
        self.columns = columns
        self.lines: list[TableLine] = []
        self.order: list[int] = []

    def rowCount(self, parent: Index = QModelIndex()) -> int:  # noqa: B008
        return len(self.order)

    def columnCount(self, parent: Index = QModelIndex()) -> int:  # noqa: B008
        return len(self.columns)

    def headerData(self, section: int, orientation: Qt.Orientation, role: int = Qt.ItemDataRole.DisplayRole) -> Any:
        if orientation != Qt.Orientation.Horizontal or not 0 <= section < len(self.columns):
            return None
        column = self.columns[section]
        if role == Qt.ItemDataRole.DisplayRole:
            return column.name
        if role == Qt.ItemDataRole.TextAlignmentRole:
            side = Qt.AlignmentFlag.AlignRight if column.number else Qt.AlignmentFlag.AlignLeft
            return side | Qt.AlignmentFlag.AlignVCenter
        return None

    def data(self, index: Index, role: int = Qt.ItemDataRole.DisplayRole) -> Any:
        line = self.lines[self.order[index.row()]]
        cell = line.cells[index.column()]
        if role == Qt.ItemDataRole.DisplayRole:
            return "" if cell.drawn is not None else printable(cell.text)
        if role == Qt.ItemDataRole.ToolTipRole:
            return plain(line.about)
        if role == Qt.ItemDataRole.AccessibleTextRole:
            return cell.text
        if role == Qt.ItemDataRole.ForegroundRole and cell.ink:
            return theme.colour(cell.ink)
        if role == Qt.ItemDataRole.TextAlignmentRole:
            side = Qt.AlignmentFlag.AlignRight if self.columns[index.column()].number else Qt.AlignmentFlag.AlignLeft
            return side | Qt.AlignmentFlag.AlignVCenter
        return cell.drawn if role == DRAWN else None

    def sort(self, column: int, order: Qt.SortOrder = Qt.SortOrder.AscendingOrder) -> None:
        """Sort by a column, those without a value last; below 0 as given."""
        self.beginResetModel()
        self.order = list(range(len(self.lines)))
        if column >= 0:
            keys = [one.cells[column].sort for one in self.lines]
            known = [i for i in self.order if keys[i] is not None]
            down = order == Qt.SortOrder.DescendingOrder
            known.sort(key=lambda i: keys[i], reverse=down)  # type: ignore[arg-type,return-value]
            self.order = known + [i for i in self.order if keys[i] is None]
        self.endResetModel()


class _Drawing(QStyledItemDelegate):
    """Draws differences."""

    def paint(self, painter: QPainter, option: QStyleOptionViewItem, index: Index) -> None:
        super().paint(painter, option, index)
        drawn = index.data(DRAWN)
        if drawn is not None:
            painter.save()
            painter.setRenderHint(QPainter.RenderHint.Antialiasing)
            area = QRectF(option.rect).adjusted(8, 0, -8, 0)
            (_points if drawn.as_points else _change)(painter, area, drawn)
            painter.restore()

    def sizeHint(self, option: QStyleOptionViewItem, index: Index) -> QSize:
        return QSize(10, LINE)


def _points(painter: QPainter, area: QRectF, drawn: Drawn) -> None:
    """Both shares from 0 to 1: a round point above, a square one in plum below, each on its interval."""
    found = drawn.difference
    painter.fillRect(QRectF(area.left(), area.center().y(), area.width(), 1), theme.colour("line"))
    for value, ends, token, down in ((found.a, found.ends_a, "accent", -4.5), (found.b, found.ends_b, "second", 4.5)):
        if value is None:
            continue
        y = area.center().y() + down
        if ends is not None:
            painter.setPen(QPen(theme.colour(token), 1.6))
            painter.drawLine(
                QPointF(area.left() + ends[0] * area.width(), y), QPointF(area.left() + ends[1] * area.width(), y)
            )
        _dot(painter, area.left() + value * area.width(), y, token)


def _dot(painter: QPainter, x: float, y: float, token: str) -> None:
    painter.setPen(Qt.PenStyle.NoPen)
    painter.setBrush(theme.colour(token))
    if token == "second":
        painter.drawRect(QRectF(x - 3.5, y - 3.5, 7, 7))
    else:
        painter.drawEllipse(QPointF(x, y), 4, 4)


def _change(painter: QPainter, area: QRectF, drawn: Drawn) -> None:
    """b - a on its interval, with a tick where there is no difference."""
    found, middle = drawn.difference, area.center()
    painter.fillRect(QRectF(area.left(), middle.y(), area.width(), 1), theme.colour("line"))
    painter.fillRect(QRectF(middle.x() - 0.5, middle.y() - 8, 1.2, 16), theme.colour("soft"))
    if found.value is None:
        return

    def at(value: float) -> float:
        return middle.x() + max(-1.0, min(1.0, value / drawn.reach)) * area.width() / 2

    if found.low is not None and found.high is not None:
        painter.fillRect(
            QRectF(at(found.low), middle.y() - 1.2, max(2.0, at(found.high) - at(found.low)), 2.8), theme.colour("ink")
        )
    painter.setPen(Qt.PenStyle.NoPen)
    painter.setBrush(theme.colour("ink"))
    painter.drawEllipse(QPointF(at(found.value), middle.y() + 0.3), 3.8, 3.8)


class LinesTable(ChoosingTable):
    """Clicking a line (or Enter on it) selects its images, Ctrl adds beside; ``whole`` shows all lines without scrolling."""

    def __init__(self, workspace: Workspace, columns: Sequence[TableColumn], name: str, *, whole: bool = False) -> None:
        super().__init__()
        self.workspace, self._whole = workspace, whole
        self._model = _Model(columns)
        self._sorted: tuple[int, Qt.SortOrder] = (-1, Qt.SortOrder.AscendingOrder)
        self.setModel(self._model)
        self._drawing = _Drawing(self)
        self.setItemDelegate(self._drawing)
        self.setAccessibleName(name)
        self.verticalHeader().setDefaultSectionSize(LINE)
        head = self.horizontalHeader()
        head.setMinimumSectionSize(24)
        head.setSectionsClickable(not whole)
        head.sectionClicked.connect(self._sort)
        if whole:
            self.setVerticalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        workspace.topics.selection.connect(self.follow)
        theme.changed.connect(self.viewport().update)

    def show_lines(self, lines: Sequence[TableLine]) -> None:
        """Show these lines, sorted as chosen before."""
        self._model.lines = list(lines)
        self._model.sort(*self._sorted)
        if self._whole:
            height = self.horizontalHeader().sizeHint().height() + LINE * len(lines) + 4
            self.setFixedHeight(height)
        self._share_room()
        self.follow()

    def _sort(self, column: int) -> None:
        down = self._sorted == (column, Qt.SortOrder.AscendingOrder)
        self._sorted = column, Qt.SortOrder.DescendingOrder if down else Qt.SortOrder.AscendingOrder
        self.horizontalHeader().setSortIndicator(*self._sorted)
        self.horizontalHeader().setSortIndicatorShown(True)
        self._model.sort(*self._sorted)
        self.follow()

    def resizeEvent(self, event: QResizeEvent) -> None:
        super().resizeEvent(event)
        self._share_room()

    def _share_room(self) -> None:
        """Give the columns their widths, and what is left to those that ask for it."""
        columns, letters = self._model.columns, self.fontMetrics()
        free = [i for i, one in enumerate(columns) if not one.width]
        longest = max((one.cells[0].text for one in self._model.lines[:LOOKED_AT]), key=len, default="")
        wanted = min(ENOUGH, letters.horizontalAdvance(longest) + 24)
        narrow = self.viewport().width() - sum(one.width for one in columns) < wanted
        for i, one in enumerate(columns):
            self.setColumnHidden(i, narrow and one.gives_way)
        taken = sum(one.width for one in columns if not (narrow and one.gives_way))
        rest = max(70 * len(free), self.viewport().width() - taken)
        for i, one in enumerate(columns):
            self.setColumnWidth(i, one.width or rest // max(1, len(free)))

    @property
    def lines(self) -> list[TableLine]:
        """The lines in the order shown."""
        return [self._model.lines[i] for i in self._model.order]

    def follow(self) -> None:
        """Mark the line whose images are selected."""
        shown = self.workspace.shown.conditions if self.workspace.is_open else ()
        self.clearSelection()
        for row, line in enumerate(self.lines):
            if line.conditions and all(one in shown for one in line.conditions):
                self.selectRow(row)
                return

    def choose(self, index: QModelIndex, beside: bool, *, enter: bool = False) -> None:
        if not index.isValid():
            return
        line = self.lines[index.row()]
        if conditions := line.conditions or (line.pick() if line.pick is not None else ()):
            (self.workspace.shown.enter if enter else self.workspace.shown.choose)(*conditions, beside=beside)

    def as_lines(self) -> list[list[str]]:
        """What is shown, with the headings, for the clipboard."""
        told: list[list[str]] = [[one.name for one in self._model.columns]]
        return told + [[cell.text for cell in line.cells] for line in self.lines]
