"""Gives the columns of a table the width that what stands in them takes, so that the names get what is left."""

from __future__ import annotations

from collections.abc import Collection, Mapping

from PySide6.QtCore import Qt
from PySide6.QtGui import QFontMetrics
from PySide6.QtWidgets import QTableView

from mivrat.ui.theme import font

# A column may become so much wider than it is meant to be, or this wide, where its content asks for it; narrower it may be.
MOST, ALLOWED, LEAST = 1.6, 90, 34
# Beside each text, and in a heading; and where there is little room.
AROUND, NARROW = 26, 20
# The column with the names keeps at least this; so many rows are looked at.
NAMES, LOOKED_AT = 90, 300


def fit_columns(
    table: QTableView,
    meant: Mapping[int, int],
    numbers: Collection[int] = (),
    pictures: Mapping[int, int] | None = None,
) -> None:
    """Set these columns to what their contents and headings take, around the width they are meant to have; where the names
    would be left with too little, those of texts to no more than that, but ``numbers`` are never cut. ``pictures`` are as wide as they
    are meant to be, and two thirds of it where there is little room."""
    wanted = {}
    meant = {column: width for column, width in meant.items() if not table.isColumnHidden(column)}
    numbers = [column for column in numbers if column in meant]
    for column, width in meant.items():
        takes = _takes(table, column)
        wanted[column] = takes if column in numbers else max(LEAST, min(takes, max(ALLOWED, round(MOST * width))))
    wanted |= pictures or {}
    if table.viewport().width() - sum(wanted.values()) < NAMES:
        wanted |= {c: min(wanted[c], width) for c, width in meant.items() if c not in numbers}
        wanted |= {c: wanted[c] - AROUND + NARROW for c in numbers}
        wanted |= {c: 2 * width // 3 for c, width in (pictures or {}).items()}
    for column, width in wanted.items():
        table.setColumnWidth(column, width)


def _takes(table: QTableView, column: int) -> int:
    """The width that a column's texts take, whether the table is shown yet or not."""
    model, letters = table.model(), QFontMetrics(font(13))
    head = str(model.headerData(column, Qt.Orientation.Horizontal) or "")
    texts = [str(model.index(line, column).data() or "") for line in range(min(LOOKED_AT, model.rowCount()))]
    return max(letters.horizontalAdvance(text) for text in (head, *texts)) + AROUND
