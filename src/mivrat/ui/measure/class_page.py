"""The classes: a field to find one, the table, and below it the ROC and precision-recall curves of the class selected."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray
from PySide6.QtGui import QShowEvent
from PySide6.QtWidgets import QCheckBox, QLineEdit, QVBoxLayout, QWidget

from mivrat.core.pictures.classes import fold
from mivrat.core.running.snapshot import Snapshot
from mivrat.core.selecting.selection import Labelled
from mivrat.ui import words
from mivrat.ui.measure.class_curves import ClassCurves, CurvesPanel, curves_of
from mivrat.ui.measure.class_table import ClassTable
from mivrat.ui.parts.widgets import label, row
from mivrat.workspace.executors import Newest
from mivrat.workspace.workspace import Workspace

MILLISECONDS = 120


class ClassesPage(QWidget):
    """The table between the field to find a class and the curves of the selected one."""

    def __init__(self, workspace: Workspace) -> None:
        super().__init__()
        self.workspace, self.table, self.panel = workspace, ClassTable(workspace), CurvesPanel()
        self._workers = self.workspace.parallel.group(1)
        self._working = Newest(self._workers)
        self.search = QLineEdit()
        self.search.setPlaceholderText("find a class")
        self.search.setClearButtonEnabled(True)
        self.search.textChanged.connect(self._filter)
        self.told = label(soft=True, wrap=True)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 8, 0, 4)
        self.families = QCheckBox("families as one row each")
        self.families.toggled.connect(self._fold)
        self.families.hide()
        layout.addLayout(row(self.search, self.families, None))
        layout.addWidget(self.table, 1)
        layout.addWidget(self.told)
        layout.addWidget(self.panel)
        self.panel.hide()
        # A little later, so that the selection itself is painted first.
        self._soon = self.workspace.soon(MILLISECONDS, self._start)
        workspace.topics.selection.connect(self._follow)
        workspace.topics.measured.connect(self._follow)
        workspace.topics.measured.connect(lambda: self._filter(self.search.text()))

    def _filter(self, text: str) -> None:
        wanted, snapshot = fold(text), self.workspace.shown.snapshot
        for line in range(self.table.rows.rowCount()):
            self.table.setRowHidden(line, bool(wanted) and wanted not in fold(self.table.rows.name(line)))
        self.families.setVisible(bool(snapshot.record.families))

    def _fold(self, on: bool) -> None:
        self.table.rows.fold_families(on)
        self._filter(self.search.text())

    def selected(self) -> int | None:
        """The class selected, where it is one."""
        chosen = [one for one in self.workspace.shown.conditions if isinstance(one, Labelled)]
        return next(iter(chosen[0].classes)) if chosen and len(chosen[0].classes) == 1 else None

    def _follow(self) -> None:
        k, snapshot = self.selected(), self.workspace.shown.snapshot
        self._soon.stop()
        self._working.cancel()
        known = k is not None and snapshot.judged.has_scores
        self.panel.setVisible(known)
        if k is None:
            self.told.setText("Select a class for its ROC and precision-recall curves.")
            return
        if not snapshot.judged.has_scores:
            self.told.setText("Curves need a score for every class.")
            return
        self._soon.start()

    def _start(self) -> None:
        k, snapshot = self.selected(), self.workspace.shown.snapshot
        if k is not None and snapshot.judged.has_scores and self.isVisible():
            among = self._among(snapshot)
            self._working.start(lambda work: curves_of(snapshot, k, among), done=self._take)

    def _among(self, snapshot: Snapshot) -> NDArray[np.bool_] | None:
        """The images the curves are of, where the figures follow the selection: what is selected, of every label.

        The class itself is selected to see its curves, so conditions on label and prediction have to be left out.
        """
        if not self.workspace.shown.measured.of_selection:
            return None
        found = np.ones(snapshot.counts.listed, bool)
        for condition in self.workspace.shown.conditions:
            if condition.kind not in ("labelled", "predicted", "cells", "outcome"):
                found &= condition.mask(snapshot.judged)
        return found

    def showEvent(self, event: QShowEvent) -> None:  # noqa: N802
        super().showEvent(event)
        self._follow()

    def _take(self, found: ClassCurves) -> None:
        if found.k != self.selected():
            return
        self.panel.show_curves(found)
        name = words.clipped(self.workspace.shown.classes[found.k], 40)
        self.told.setText(
            f"{name} against the rest, {'the selection of any label' if found.of_selection else 'all images'}: AUROC {words.decimal(found.auroc)}{_ends(found.auroc_ends)}, average precision "
            f"{words.decimal(found.average_precision)}{_ends(found.average_precision_ends)} ({words.count(found.images)} of {words.count(found.total)} labelled so). "
            "Dot: the model's own answers."
        )

    def as_table(self) -> list[list[str]]:
        """What the table shows, for the clipboard."""
        return self.table.as_table()

    @property
    def settled(self) -> bool:
        return not self._workers.busy and not self._soon.waiting

    def stop(self) -> None:
        self._workers.stop_all()


def _ends(ends: tuple[float, float] | None) -> str:
    return "" if ends is None else f" ({ends[0]:.3f} – {ends[1]:.3f})"
