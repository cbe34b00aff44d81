"""The classes: a field to find one, the table, and below it the story of the class selected."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray
from PySide6.QtCore import Qt
from PySide6.QtGui import QShowEvent
from PySide6.QtWidgets import QCheckBox, QSplitter, QVBoxLayout, QWidget

from mivrat.core.pictures.classes import fold
from mivrat.core.running.class_story import ClassStory, story_of
from mivrat.core.running.snapshot import Snapshot
from mivrat.core.selecting.selection import Labelled, MatrixCells
from mivrat.ui.measure.class_curves import ClassCurves, curves_of
from mivrat.ui.measure.class_story import StoryPanel
from mivrat.ui.measure.class_table import ClassTable
from mivrat.ui.parts.page import Page
from mivrat.ui.parts.pictures import Thumbnails
from mivrat.ui.parts.widgets import field_of_study, label, row
from mivrat.workspace.executors import LatestOnly
from mivrat.workspace.workspace import Workspace

MILLISECONDS = 120


class ClassesPage(Page, QWidget):
    """The table between the field to find a class and the story of the selected one."""

    title, place_id = "Classes", "classes"
    help = "Precision, recall and more, class by class. A row selects the images of the class and tells its story."

    def __init__(self, workspace: Workspace, thumbnails: Thumbnails) -> None:
        super().__init__()
        self.workspace, self.table = workspace, ClassTable(workspace)
        self.table.setAccessibleName("classes, with their figures")
        self.story = StoryPanel(workspace, thumbnails)
        self._of: int | None = None
        self._workers = self.workspace.group(1)
        self._working = LatestOnly(self._workers)
        self.search = field_of_study("find a class")
        self.search.setClearButtonEnabled(True)
        self.search.textChanged.connect(self._filter)
        self.told = label(soft=True, wrap=True)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 8, 0, 4)
        self.families = QCheckBox("families as one row each")
        self.families.toggled.connect(self._fold)
        self.families.hide()
        layout.addLayout(row(self.search, self.families, None))
        self.parts = QSplitter(Qt.Orientation.Vertical)
        self.parts.setChildrenCollapsible(False)
        self.parts.setHandleWidth(9)
        for part in (self.table, self.story):
            self.parts.addWidget(part)
        self.table.setMinimumHeight(120)
        self.parts.setSizes([300, 340])
        layout.addWidget(self.parts, 1)
        layout.addWidget(self.told)
        self.story.hide()
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
        conditions = self.workspace.shown.conditions
        for one in conditions:
            if isinstance(one, Labelled):
                return next(iter(one.classes)) if len(one.classes) == 1 else None
            # A confusion of the class shown, which its story selects, is part of the story.
            if isinstance(one, MatrixCells) and self._of is not None and all(self._of in cell for cell in one.cells):
                return self._of
        return None

    def _follow(self) -> None:
        k = self._of = self.selected()
        self._soon.stop()
        self._working.cancel()
        self.story.setVisible(k is not None)
        self.told.setVisible(k is None)
        if k is None:
            self.told.setText("Select a class for its story: what it is confused with, its images, its curves.")
            return
        self._soon.start()

    def _start(self) -> None:
        k, snapshot, measured = self.selected(), self.workspace.shown.snapshot, self.workspace.shown.results.measured
        if k is None or not self.isVisible():
            return
        among, inside = self._among(snapshot), measured.among

        def work(_: object) -> tuple[ClassStory, ClassCurves | None]:
            curves = curves_of(snapshot, k, among) if snapshot.judged.has_scores else None
            return story_of(snapshot, k, inside), curves

        self._working.start(work, done=self._take)

    def _among(self, snapshot: Snapshot) -> NDArray[np.bool_] | None:
        """The images the curves are of, where the figures follow the selection: what is selected, of every label.

        The class itself is selected to see its curves, so conditions on label and prediction have to be left out.
        """
        if not self.workspace.shown.results.measured.of_selection:
            return None
        found = np.ones(snapshot.counts.listed, bool)
        for condition in self.workspace.shown.conditions:
            if condition.kind not in ("labelled", "predicted", "cells", "outcome"):
                found &= condition.mask(snapshot.judged)
        return found

    def showEvent(self, event: QShowEvent) -> None:
        super().showEvent(event)
        self._follow()

    def _take(self, found: tuple[ClassStory, ClassCurves | None]) -> None:
        if found[0].k == self.selected():
            self.story.show_story(*found)
            self.table.show_chosen()

    def as_table(self) -> list[list[str]]:
        """What the table shows, for the clipboard."""
        return self.table.as_table()

    @property
    def settled(self) -> bool:
        return not self._workers.busy and not self._soon.waiting

    def stop(self) -> None:
        self._workers.stop_all()
