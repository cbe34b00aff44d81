"""Causes counted: how many of the reviewed mistakes are put down to each, in all, by class, pair, column; a row selects."""

from __future__ import annotations

import numpy as np
from PySide6.QtWidgets import QVBoxLayout, QWidget

from mivrat.core.base.numbers import bounds, percent
from mivrat.core.figures.causes import CauseCount, count_causes
from mivrat.core.figures.groups import group_names
from mivrat.core.pictures.image_sets import column_of
from mivrat.core.selecting.kept import positions_by_group
from mivrat.core.selecting.ordering import BY_COLUMN, columns_to_group_by
from mivrat.core.selecting.selection import (
    Caused,
    Condition,
    InGroup,
    Labelled,
    MatrixCells,
    Outcome,
    Predicted,
    Reviewed,
)
from mivrat.ui import words
from mivrat.ui.parts.late import Late
from mivrat.ui.parts.page import Page
from mivrat.ui.parts.tables import FigureTable
from mivrat.ui.parts.widgets import Choice, label, row
from mivrat.workspace.workspace import Workspace

BY = ("all together", "labelled class", "predicted class", "pair")
NO_CAUSE = "no cause"


class CausesPage(Page, QWidget):
    """The table under its choice of what to count by."""

    title, place_id = "Causes", "causes"
    help = "How many of the reviewed mistakes each cause accounts for. A row selects them."

    def __init__(self, workspace: Workspace) -> None:
        super().__init__()
        self.workspace = workspace
        self.found: list[CauseCount[str]] = []
        self._conditions: dict[str, tuple[Condition, ...]] = {}
        self.by = Choice(BY, "count by")
        self.by.activated.connect(lambda _: self.refresh())
        self.note = label(wrap=True)
        self.table = FigureTable(
            ("cause", "in", "mistakes", "share", "95 % interval"), (160, 92, 70, 100), "causes counted", (2, 3, 4)
        )
        self.table.cellClicked.connect(lambda line, _: self._choose(line))
        self.table.cellActivated.connect(lambda line, _: self._choose(line))
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 10, 0, 8)
        layout.addLayout(row(label("count by", soft=True), self.by, None))
        layout.addWidget(self.note)
        layout.addWidget(self.table, 1)
        workspace.topics.run.connect(self._list_columns)
        self._late = Late(self, self.refresh, workspace.topics.reviews, workspace.topics.figures)

    def _list_columns(self) -> None:
        items = self.workspace.shown.snapshot.record.image_set.items
        kept = self.by.currentText()
        self.by.clear()
        self.by.addItems([*BY, *(f"{BY_COLUMN}{name}" for name in columns_to_group_by(items))])
        self.by.setCurrentIndex(max(0, self.by.findText(kept)))
        self.refresh()

    def begin_anew(self) -> None:
        self.by.setCurrentIndex(0)

    def refresh(self) -> None:
        """Count anew, over the mistakes that have been reviewed."""
        snapshot, reviews = self.workspace.shown.snapshot, self.workspace.shown.reviews
        judged, listed = snapshot.judged, snapshot.counts.listed
        use = np.flatnonzero(judged.wrong & reviews.mask(listed, "reviewed"))
        units = self.workspace.shown.snapshot.judged.units
        unit = units.of(use) if units is not None and len(use) else None
        self.found = count_causes([self._listed(reviews[int(i)].causes) for i in use], self._groups(use), unit)
        total = int(judged.wrong.sum())
        self.note.setText(
            f"Of the {words.count(len(use))} mistakes reviewed ({words.count(total)} in all). A mistake can have several causes."
            if len(use)
            else f"No mistake has been reviewed yet, of {words.count(total)}. Assign causes with the keys 1 to 9."
        )
        lines, tips = [], []
        for one in self.found:
            share, name = one.share, NO_CAUSE if one.cause is None else reviews.name_of(one.cause)
            of = f"{words.count(share.hits)} of {words.count(share.total)}"
            lines.append((name, one.group, of, percent(share.value), bounds(share)))
            tips.append(f"{name}: {of} reviewed mistakes, {one.group}\n{words.how(share)} Click to see them.")
        self.table.show_lines(lines, tips)

    def _listed(self, causes: frozenset[int]) -> frozenset[int]:
        return causes & {one.id for one in self.workspace.shown.reviews.causes}

    def _groups(self, use: np.ndarray) -> list[str]:
        """The group of each image, and what selects each group."""
        snapshot, by = self.workspace.shown.snapshot, self.by.currentText()
        judged, classes, items = snapshot.judged, snapshot.record.classes, snapshot.record.image_set.items
        self._conditions = {}
        if by.startswith(BY_COLUMN):
            column = by.removeprefix(BY_COLUMN)
            names = group_names(column_of(items, column))
            for name, positions in positions_by_group(items, column).items():
                self._conditions[name] = (InGroup(column, frozenset({(name, positions)})),)
            return [names[int(i)] for i in use]
        found = []
        for i in use.tolist():
            a, b = int(judged.labels[i]), int(judged.predicted[i])
            ways: dict[str, tuple[str, Condition]] = {
                "labelled class": (classes[a], Labelled(frozenset({a}))),
                "predicted class": (classes[b], Predicted(frozenset({b}))),
                "pair": (f"{classes[a]} → {classes[b]}", MatrixCells(frozenset({(a, b)}))),
            }
            name = ways[by][0] if by in ways else "all"
            self._conditions[name] = (ways[by][1],) if by in ways else ()
            found.append(name)
        return found

    def _choose(self, line: int) -> None:
        one, reviews = self.found[line], self.workspace.shown.reviews
        about: Condition = (
            Caused(frozenset({one.cause}), reviews)
            if one.cause is not None
            else Reviewed(frozenset({"reviewed, no cause"}), reviews)
        )
        group = self._conditions.get(one.group, ())
        wrong = () if any(c.kind == "cells" for c in group) else (Outcome(frozenset({"wrong"})),)
        seen = (Reviewed(frozenset({"reviewed"}), reviews),) if one.cause is not None else ()
        self.workspace.shown.replace(*group, *wrong, about, *seen)

    def as_table(self) -> list[list[str]]:
        return self.table.as_lines()
