"""What is worst, as three small diagrams that select: classes, confidence against accuracy, groups."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray
from PySide6.QtCore import Signal
from PySide6.QtWidgets import QGridLayout, QVBoxLayout, QWidget

from mivrat.core.checks.result import in_words
from mivrat.core.figures.groups import Group, group_figures, group_names
from mivrat.core.running.snapshot import Snapshot
from mivrat.core.selecting.kept import positions_by_group
from mivrat.core.selecting.ordering import columns_to_group_by
from mivrat.core.selecting.selection import InGroup, Labelled
from mivrat.ui import words
from mivrat.ui.measure.headline_lines import wholly_below
from mivrat.ui.measure.headline_picture import worst_classes
from mivrat.ui.measure.reliability_diagram import ReliabilityDiagram
from mivrat.ui.parts.interval_rows import IntervalRow, IntervalRows
from mivrat.ui.parts.widgets import button, label, row
from mivrat.workspace.executors import Newest
from mivrat.workspace.workspace import Workspace

# Rows of a small diagram, and the columns of an image table that are looked through for the worst group.
MOST, MOST_COLUMNS = 5, 12
NAMES_WIDE, TALL = 52, 120


class Worst(QWidget):
    """The classes, the bins of confidence and the groups that fall below; ``page_wanted`` names the tab that has all of them."""

    page_wanted = Signal(str)

    def __init__(self, workspace: Workspace) -> None:
        super().__init__()
        self.workspace = workspace
        self._workers = workspace.parallel.group(1)
        self._working = Newest(self._workers)
        self.classes = IntervalRows(workspace, "worst classes: recall", names=NAMES_WIDE)
        self.groups = IntervalRows(workspace, "worst groups: accuracy", names=NAMES_WIDE)
        self.confidence = ReliabilityDiagram(workspace, small=True)
        self.confidence.setFixedHeight(TALL)
        self.of_classes, self.of_confidence, self.of_groups = (label(soft=True, wrap=True) for _ in range(3))
        grid = QGridLayout(self)
        grid.setContentsMargins(0, 0, 0, 0)
        grid.setHorizontalSpacing(16)
        self.parts = [
            self._part("worst classes", "Classes", self.classes, self.of_classes),
            self._part("confidence", "Confidence", self.confidence, self.of_confidence),
            self._part("worst groups", "Groups", self.groups, self.of_groups),
        ]
        for column, part in enumerate(self.parts):
            grid.addWidget(part, 0, column)
            grid.setColumnStretch(column, 6 if column != 1 else 5)

    def _part(self, title: str, tab: str, picture: QWidget, told: QWidget) -> QWidget:
        part = QWidget()
        inner = QVBoxLayout(part)
        inner.setContentsMargins(0, 0, 0, 0)
        inner.setSpacing(3)
        more = button("all", lambda: self.page_wanted.emit(tab), kind="quiet")
        more.setAccessibleName(f"the page {tab}")
        inner.addLayout(row(label(title, "heading"), None, more, spacing=2))
        inner.addWidget(picture)
        inner.addWidget(told)
        inner.addStretch(1)
        return part

    def refresh(self) -> None:
        """Show what is measured now; the groups come from a worker."""
        measured, snapshot = self.workspace.shown.measured, self.workspace.shown.snapshot
        names = self.workspace.shown.classes
        found = worst_classes(self.workspace)
        rows = [
            IntervalRow(
                names[k], one.recall.value or 0.0, one.recall.low, one.recall.high, "", f"N {words.count(one.support)}",
                f"recall of {names[k]}: {words.with_bounds(one.recall)}, {words.images(one.support)} labelled so",
                wholly_below(self.workspace, one.recall), (Labelled(frozenset({k})),),
            )
            for k, one in found[:MOST]
        ]  # fmt: skip
        self.classes.show_rows(rows, (0.0, 1.0))
        more = len(found) - len(rows)
        below = sum(wholly_below(self.workspace, one.recall) for _, one in found)
        self.of_classes.setText(
            (
                f"recall: {words.count(below)} of {words.count(len(found))} lie wholly below the accuracy"
                if below
                else "recall: none lies wholly below the accuracy"
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

        def work(_: object) -> tuple[str, list[Group], float, dict[str, tuple[int, ...]]] | None:
            worst = worst_groups(snapshot, among)
            return None if worst is None else (*worst, positions_by_group(items, worst[0]))

        self._working.start(work, done=self._take)

    def _take(self, found: tuple[str, list[Group], float, dict[str, tuple[int, ...]]] | None) -> None:
        self.parts[2].setVisible(found is not None)
        if found is None:
            return
        column, groups, p, positions = found
        rows = [
            IntervalRow(
                one.name, one.accuracy.value or 0.0, one.accuracy.low, one.accuracy.high, "", f"N {words.count(one.accuracy.total)}",
                f"{column} {one.name}: right {words.with_bounds(one.accuracy)}, {words.images(one.accuracy.total)}",
                one.p < 0.05, (InGroup(column, frozenset({(one.name, positions[one.name])})),),
            )
            for one in groups[:MOST]
        ]  # fmt: skip
        self.groups.show_rows(rows, (0.0, 1.0))
        told = f"accuracy by {words.clipped(column, 20)}: "
        if p < 0.05:
            told += f"{words.clipped(groups[0].name, 24)} below the rest, p {in_words(p)}"
        else:
            told += "none below the rest beyond chance"
        self.of_groups.setText(told)

    @property
    def settled(self) -> bool:
        return not self._workers.busy

    def stop(self) -> None:
        self._workers.stop_all()


def worst_groups(snapshot: Snapshot, among: NDArray[np.bool_] | None = None) -> tuple[str, list[Group], float] | None:
    """The column whose worst group falls below the rest most surely, its groups, worst first, and the probability of that, which
    is corrected for the number of groups (Holm) and of columns looked through (Bonferroni). None without a column."""
    items, judged = snapshot.record.image_set.items, snapshot.judged
    use = judged.evaluated_among(among)
    columns = columns_to_group_by(items)[:MOST_COLUMNS]
    found: list[tuple[float, int, str, list[Group]]] = []
    for column in columns:
        names = group_names([one.columns.get(column, "") for one in items])
        groups = group_figures(names, judged.right, judged.confidence, use, judged.units)
        if len(groups) > 1:
            found.append((min(1.0, groups[0].p * len(columns)), len(found), column, groups))
    if not found:
        return None
    p, _, column, groups = min(found, key=lambda one: one[:2])
    return column, groups, p
