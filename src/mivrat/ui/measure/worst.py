"""What is worst, as three small diagrams that select: classes, confidence against accuracy, groups."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray
from PySide6.QtCore import Signal
from PySide6.QtWidgets import QGridLayout, QVBoxLayout, QWidget

from mivrat.core.base.numbers import with_bounds
from mivrat.core.checks.result import in_words
from mivrat.core.figures.groups import Group
from mivrat.core.running.groups import groups_of_run
from mivrat.core.running.snapshot import Snapshot
from mivrat.core.selecting.kept import positions_by_group
from mivrat.core.selecting.selection import InGroup, Labelled
from mivrat.ui import words
from mivrat.ui.measure.headline_lines import below_accuracy
from mivrat.ui.measure.headline_picture import worst_classes
from mivrat.ui.measure.reliability_diagram import ReliabilityDiagram
from mivrat.ui.parts.interval_rows import IntervalRow, IntervalRows
from mivrat.ui.parts.widgets import button, label, row
from mivrat.workspace.executors import LatestOnly
from mivrat.workspace.workspace import Workspace

# Rows of a small diagram, and the columns of an image table that are looked through for the worst group.
MOST = 5
# A column, its groups, and the images of each.
Found = tuple[str, list[Group], dict[str, tuple[int, ...]]]
NAMES_WIDE, TALL = 52, 120


class Worst(QWidget):
    """The classes, the bins of confidence and the groups that fall below; ``page_wanted`` gives the id of the page that has all of them."""

    page_wanted = Signal(str)
    # Asks for all groups of a column.
    groups_wanted = Signal(str)

    def __init__(self, workspace: Workspace) -> None:
        super().__init__()
        self.workspace = workspace
        self._workers = workspace.group(1)
        self._working = LatestOnly(self._workers)
        self.classes = IntervalRows(workspace, "worst classes: recall", names=NAMES_WIDE)
        self.groups = IntervalRows(workspace, "worst groups: accuracy", names=NAMES_WIDE)
        self.confidence = ReliabilityDiagram(workspace, small=True)
        self.confidence.setFixedHeight(TALL)
        self.of_classes, self.of_confidence, self.of_groups = (label(soft=True, wrap=True) for _ in range(3))
        grid = QGridLayout(self)
        grid.setContentsMargins(0, 0, 0, 0)
        grid.setHorizontalSpacing(16)
        self.parts = [
            self._part("worst classes", "classes", self.classes, self.of_classes),
            self._part("confidence", "confidence", self.confidence, self.of_confidence),
            self._part("worst groups", "groups", self.groups, self.of_groups),
        ]
        for column, part in enumerate(self.parts):
            grid.addWidget(part, 0, column)
            grid.setColumnStretch(column, 6 if column != 1 else 5)

    def _part(self, title: str, place_id: str, picture: QWidget, told: QWidget) -> QWidget:
        part = QWidget()
        inner = QVBoxLayout(part)
        inner.setContentsMargins(0, 0, 0, 0)
        inner.setSpacing(3)
        more = button("all", lambda: self._show_all(place_id), kind="quiet")
        more.setAccessibleName(f"the page {place_id.capitalize()}")
        inner.addLayout(row(label(title, "heading"), None, more, spacing=2))
        inner.addWidget(picture)
        inner.addWidget(told)
        inner.addStretch(1)
        return part

    def _show_all(self, place_id: str) -> None:
        if place_id == "groups" and self.column:
            self.groups_wanted.emit(self.column)
        self.page_wanted.emit(place_id)

    def refresh(self) -> None:
        """Show what is measured now; the groups come from a worker."""
        measured, snapshot = self.workspace.shown.results.measured, self.workspace.shown.snapshot
        names = self.workspace.shown.classes
        found, low = worst_classes(self.workspace), below_accuracy(self.workspace)
        rows = [
            IntervalRow(
                names[k],
                one.recall.value or 0.0,
                one.recall.low,
                one.recall.high,
                "",
                f"N {words.count(one.support)}",
                f"recall of {names[k]}: {with_bounds(one.recall)}, {words.images(one.support)} labelled so",
                k in low,
                (Labelled(frozenset({k})),),
            )
            for k, one in found[:MOST]
        ]
        self.classes.show_rows(rows, (0.0, 1.0))
        more = len(found) - len(rows)
        self.of_classes.setText(
            (
                f"recall: {words.count(len(low))} of {words.count(len(found))} significantly below the accuracy"
                if low
                else "recall: none significantly below the accuracy"
            )
            + (f"; {words.count(more)} not shown" if more else "")
        )
        gap = measured.figures.calibration.signed_gap
        self.parts[1].setVisible(gap is not None)
        if gap is not None:
            lean = "over" if gap > 0 else "under"
            close = abs(gap) < 0.005
            self.of_confidence.setText(
                "confidence and accuracy agree on average"
                if close
                else f"against accuracy: on average {abs(100 * gap):.1f} points {lean}confident"
            )
        among = self.workspace.shown.shown_mask() if measured.of_selection else None
        self._working.cancel()
        items = snapshot.record.image_set.items

        def work(_: object) -> Found | None:
            worst = worst_groups(snapshot, among)
            return None if worst is None else (*worst, positions_by_group(items, worst[0]))

        self._working.start(work, done=self._take)

    def _take(self, found: Found | None) -> None:
        self.parts[2].setVisible(found is not None)
        if found is None:
            return
        column, groups, positions = found
        self.column, p = column, groups[0].p
        rows = [
            IntervalRow(
                one.name,
                one.accuracy.value or 0.0,
                one.accuracy.low,
                one.accuracy.high,
                "",
                f"N {words.count(one.accuracy.total)}",
                f"{column} {one.name}: accuracy {with_bounds(one.accuracy)}, {words.images(one.accuracy.total)}",
                one.p < 0.05,
                (InGroup(column, frozenset({(one.name, positions[one.name])})),),
            )
            for one in groups[:MOST]
        ]
        self.groups.show_rows(rows, (0.0, 1.0))
        told = f"accuracy by {words.clipped(column, 20)}: "
        if p < 0.05:
            told += f"{words.clipped(groups[0].name, 24)} below the rest, p {in_words(p)}"
        else:
            told += "none significantly below the rest"
        self.of_groups.setText(told)

    @property
    def settled(self) -> bool:
        return not self._workers.busy

    def stop(self) -> None:
        self._workers.stop_all()


def worst_groups(snapshot: Snapshot, among: NDArray[np.bool_] | None = None) -> tuple[str, list[Group]] | None:
    """The column whose worst group falls below the rest most surely, and its groups, worst first. None without a column."""
    found = {column: groups for column, groups in groups_of_run(snapshot, among).items() if len(groups) > 1}
    return min(found.items(), key=lambda one: one[1][0].p) if found else None
