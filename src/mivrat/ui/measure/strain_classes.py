"""Recall of each class at each level of the kind looked at, those that lose most first, shaded by what they lose."""

from __future__ import annotations

from collections.abc import Callable

from PySide6.QtCore import QModelIndex, QPersistentModelIndex, Qt
from PySide6.QtGui import QBrush, QPainter
from PySide6.QtWidgets import QStyledItemDelegate, QStyleOptionViewItem, QTableWidgetItem, QVBoxLayout, QWidget

from mivrat.core.base.numbers import percent, with_bounds
from mivrat.core.base.text import minus, printable
from mivrat.core.figures.intervals import proportion
from mivrat.core.pictures.distorting.kinds import kind_in_words
from mivrat.core.straining.curves import StrainCurve, StrainFigures, StrainLevel, losses
from mivrat.ui import words
from mivrat.ui.parts.tables import RIGHT, FigureTable
from mivrat.ui.parts.widgets import label, tip
from mivrat.ui.theme import mix, theme

# Of very many classes only so many are listed.
MOST = 30
# A class that loses all of its recall is shaded so far towards the colour of what is wrong.
DEEPEST = 0.6


class _Shaded(QStyledItemDelegate):
    """Lays a cell's own background under it, which the style sheet would leave out."""

    def paint(
        self, painter: QPainter, option: QStyleOptionViewItem, index: QModelIndex | QPersistentModelIndex
    ) -> None:
        shade = index.data(Qt.ItemDataRole.BackgroundRole)
        if isinstance(shade, QBrush):
            painter.fillRect(option.rect.adjusted(0, 0, 0, -1), shade)
        super().paint(painter, option, index)


class StrainClasses(QWidget):
    """A table of classes by levels; ``chosen`` is called with a class and a level, those of the cell clicked or entered."""

    def __init__(self, chosen: Callable[[int, StrainLevel], object]) -> None:
        super().__init__()
        self._chosen = chosen
        self._curve: StrainCurve | None = None
        self._classes: list[int] = []
        self.title = label("", "heading", wrap=True)
        self.told = label(soft=True, wrap=True)
        self.table = FigureTable(("class",), (), "recall by class and level")
        self.table.setSelectionBehavior(FigureTable.SelectionBehavior.SelectItems)
        self.table.setItemDelegate(_Shaded(self.table))
        self.table.cellClicked.connect(self._choose)
        self.table.cellActivated.connect(self._choose)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 8, 0, 0)
        layout.setSpacing(6)
        for widget in (self.title, self.told, self.table):
            layout.addWidget(widget)
        self._last: tuple[StrainFigures | None, str, list[str]] = (None, "", [])
        theme.changed.connect(self._draw_again)

    def _draw_again(self) -> None:
        self.show_kind(*self._last)

    def show_kind(self, figures: StrainFigures | None, spelled: str, classes: list[str]) -> None:
        """Show the curve spelled so, else the first; nothing without figures or labels."""
        self._last = figures, spelled, classes
        curves = figures.curves if figures is not None else ()
        self._curve = curve = next((one for one in curves if one.spelled == spelled), curves[0] if curves else None)
        there = figures is not None and curve is not None and any(of for _, of in figures.by_class)
        self.setVisible(there)
        if figures is None or curve is None or not there:
            return
        lost = losses(figures, curve)
        self._classes = sorted(lost, key=lambda k: (-lost[k], k))[:MOST]
        self.title.setText(f"Recall by class: {kind_in_words(curve.kind, curve.given)}")
        first = (
            f"the {MOST} of {words.count(len(lost))} that lose most on average"
            if len(lost) > MOST
            else "those that lose most on average first"
        )
        self.told.setText(
            f"Of {words.count(figures.untouched.total)} labelled images; {first}. Shaded by what is lost against untouched. Whether one class loses beyond "
            "chance is not tested here. A cell selects the images of the class whose answer changes there."
        )
        heads = ["class", "N", "untouched", *(minus(f"{one.strain.level:g}") for one in curve.levels)]
        self.table.setColumnCount(len(heads))
        self.table.setHorizontalHeaderLabels(heads)
        self.table.setRowCount(len(self._classes))
        for line, k in enumerate(self._classes):
            self._fill(line, k, figures, curve, classes)
        for column in range(1, len(heads)):
            self.table.setColumnWidth(column, 48 if column == 1 else 84 if column == 2 else 62)
            if (item := self.table.horizontalHeaderItem(column)) is not None:
                item.setTextAlignment(RIGHT)
        self.table.setFixedHeight(30 * len(self._classes) + self.table.horizontalHeader().sizeHint().height() + 6)

    def _fill(self, line: int, k: int, figures: StrainFigures, curve: StrainCurve, classes: list[str]) -> None:
        right, of = figures.by_class[k]
        before = right / of
        cells: list[tuple[str, float, str]] = [(classes[k], 0.0, ""), (words.count(of), 0.0, "")]
        for (hits, total), level in [((right, of), None), *((one.by_class[k], one) for one in curve.levels)]:
            share = proportion(hits, total)
            lost = before - share.value if share.value is not None and level is not None else 0.0
            ends = f"{hits} of {total}" + (f", {with_bounds(share)}" if total else "")
            cells.append((percent(share.value, 0) if total else "–", lost, f"{printable(classes[k])}: {ends}"))
        for column, (text, lost, told) in enumerate(cells):
            item = QTableWidgetItem(printable(text))
            if column:
                item.setTextAlignment(RIGHT)
            if lost > 0:
                item.setBackground(QBrush(mix(theme.colour("paper"), theme.colour("wrong"), DEEPEST * lost)))
            tip(item, told or text)
            self.table.setItem(line, column, item)

    def _choose(self, line: int, column: int) -> None:
        if self._curve is not None and 0 <= column - 3 < len(self._curve.levels) and line < len(self._classes):
            self._chosen(self._classes[line], self._curve.levels[column - 3])
