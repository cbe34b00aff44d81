"""All that can go out, of the images shown or marked, and what was written before."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import Literal

import numpy as np
from PySide6.QtGui import QShowEvent
from PySide6.QtWidgets import QCheckBox, QGridLayout, QVBoxLayout, QWidget

from mivrat.core.reporting.exporting import BY
from mivrat.ui import words
from mivrat.ui.exporter import LISTS, Exporter
from mivrat.ui.parts.late import Late
from mivrat.ui.parts.page import Page
from mivrat.ui.parts.tables import FigureTable
from mivrat.ui.parts.widgets import Choice, Scrolled, button, label, open_folder_of, row, tip
from mivrat.ui.parts.wrapping import flowing

ALL, EVERY = "the predicted class", "every class"


class ExportPage(Page, QWidget):
    """A line for each thing that can be written, with how many images that is; below it what was written before."""

    title, place_id = "Export", "hand back"
    help = "Everything that can be written to files: lists of images, predictions, labels, heatmaps."

    def __init__(self, exporter: Exporter) -> None:
        super().__init__()
        self.exporter, self.workspace = exporter, exporter.workspace
        self.about = label("", wrap=True)
        self.of = Choice((ALL, EVERY), "whose probability")
        self.by, self.how = Choice(BY, "folders by"), Choice(("copies", "links"), "copies or links")
        tip(self.how, "Links need no disk space. They point to where the files are now")
        self.sets = QCheckBox("with sets")
        tip(self.sets, "The prediction set of each image, at the level and score chosen under Measure, Confidence")
        self._counts: dict[str, tuple[Callable[[], int], object]] = {}
        grid = QGridLayout()
        grid.setHorizontalSpacing(12)
        grid.setVerticalSpacing(7)
        grid.setColumnStretch(1, 1)
        self.buttons = {}
        self.counts = {}
        for name, about, beside, do in self._entries():
            at = grid.rowCount()
            grid.addWidget(label(name), at, 0)
            holder = QWidget()
            holder.setLayout(
                flowing(label(about, soft=True), *beside, spacing=4)
                if beside
                else row(label(about, soft=True, wrap=True))
            )
            grid.addWidget(holder, at, 1)
            self.counts[name] = label(soft=True)
            grid.addWidget(self.counts[name], at, 2)
            made = button("Write…", do, kind="small")
            made.setAccessibleName(f"write {name}")
            self.buttons[name] = made
            grid.addWidget(made, at, 3)
        self.empty = label("Nothing has been written from this study yet.", soft=True)
        self.table = FigureTable(("what", "when", "number", "where"), (130, 70, 200), "what was written before", (2,))
        self.open = button("Open the folder", self._open, kind="small")
        body = QWidget()
        inside = QVBoxLayout(body)
        inside.setContentsMargins(0, 8, 8, 12)
        inside.setSpacing(8)
        inside.addWidget(self.about)
        inside.addLayout(grid)
        self.comments = QCheckBox("Begin CSV files with comment lines that say where they came from")
        tip(self.comments, "Lines that begin with #; not every program skips them")
        self.comments.toggled.connect(self._set_comments)
        inside.addWidget(self.comments)
        inside.addSpacing(10)
        inside.addLayout(row(label("Written before", "heading"), None, self.open))
        inside.addWidget(self.empty)
        inside.addWidget(self.table)
        inside.addStretch(1)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.addWidget(Scrolled(body, wide=False))
        self.table.cellActivated.connect(lambda *_: self._open())
        self._late = Late(
            self,
            self.refresh,
            self.workspace.topics.selection,
            self.workspace.topics.current,
            self.workspace.topics.reviews,
            self.workspace.topics.busy,
        )
        self.workspace.topics.run.connect(self._list_classes)
        exporter.log.changed.connect(self._list)

    def _entries(self) -> list[tuple[str, str, tuple[QWidget, ...], Callable[[], object]]]:
        exporter = self.exporter
        lists = list(LISTS.values())
        return [
            (
                "Images",
                "path, label, prediction, causes, note: CSV or Parquet",
                (),
                lambda: exporter.ask_for_list(*lists[0]),
            ),
            (
                "Labels to correct",
                "those with another label proposed: CSV or Parquet",
                (),
                lambda: exporter.ask_for_list(*lists[1]),
            ),
            (
                "Collect more",
                "examples of what is lacking, counted: CSV or Parquet",
                (),
                lambda: exporter.ask_for_list(*lists[2]),
            ),
            (
                "Predictions",
                "id and probability of",
                (self.of, self.sets),
                lambda: exporter.ask_for_predictions(self._whose(), self.sets.isChecked()),
            ),
            (
                "Files in folders",
                "by",
                (self.by, self.how),
                lambda: exporter.ask_for_folder(self.how.currentText(), BY[self.by.currentIndex()]),
            ),
            ("Heatmaps", "overlays, arrays and an index", (), exporter.ask_for_heat),
            ("Contact sheet", "labelled pictures on pages: PDF or PNG", (), exporter.ask_for_sheet),
        ]

    def _set_comments(self, on: bool) -> None:
        self.exporter.comments = on

    def _whose(self) -> int | Literal["predicted", "every"]:
        at = self.of.currentIndex()
        return "predicted" if at == 0 else "every" if at == 1 else at - 2

    def _list_classes(self) -> None:
        shown = self.workspace.shown
        self.of.clear()
        self.of.addItems(
            [ALL] if not shown.judged.has_scores else [ALL, EVERY, *(words.clipped(one, 30) for one in shown.classes)]
        )
        self.sets.setEnabled(shown.judged.has_scores)
        self.sets.setChecked(self.sets.isChecked() and shown.judged.has_scores)
        self.refresh()

    def showEvent(self, event: QShowEvent) -> None:
        super().showEvent(event)
        if self.workspace.is_open:
            self.refresh()
            self._list()

    def refresh(self) -> None:
        """Count what would go out."""
        if not self.isVisible():
            return
        shown = self.workspace.shown
        marked = len(shown.focus.marked) > 1
        some = np.asarray(self.exporter.images(), np.int64) if marked else shown.images
        what = (
            "those marked on the light table"
            if marked
            else "all images"
            if not shown.conditions
            else "those of the selection"
        )
        self.about.setText(f"Of {words.images(len(some))}: {what}. Select or mark others to export those.")
        proposed = shown.reviews.proposed()
        numbers = dict.fromkeys(self.buttons, len(some))
        numbers["Labels to correct"] = sum(i in proposed for i in some.tolist()) if proposed else 0
        possible = self.exporter.explainer.setup.possible(shown.judged)
        numbers["Heatmaps"] = int(possible[some].sum()) if self.exporter.explainer.can_explain else 0
        for name, number in numbers.items():
            self.counts[name].setText(words.images(number) if number else "none")
            self.buttons[name].setEnabled(bool(number) and not self.workspace.busy)

    def _list(self) -> None:
        entries = self.exporter.log.entries
        self.empty.setVisible(not entries)
        self.table.setVisible(bool(entries))
        self.open.setVisible(bool(entries))
        lines = [(one.what, one.day, words.count(one.number), one.place) for one in entries]
        self.table.show_lines(lines, [one.place for one in entries])
        self.table.setFixedHeight(38 + 30 * min(8, max(1, len(entries))))

    def _open(self) -> None:
        entries, at = self.exporter.log.entries, max(0, self.table.currentRow())
        if at < len(entries) and not open_folder_of(Path(entries[at].place)):
            self.workspace.notices.say(f"The desktop does not open it: {entries[at].place}")

    def as_table(self) -> list[list[str]]:
        """What was written, for the clipboard."""
        return self.table.as_lines()
