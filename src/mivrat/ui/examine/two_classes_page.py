"""Images with more than one plausible class: near scores that stay near when the image is shifted and cropped."""

from __future__ import annotations

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QVBoxLayout, QWidget

from mivrat.core.base.numbers import DASH, percent
from mivrat.core.running.two_classes import LEAST_RATIO, LEAST_VIEWS, VIEWS, TwoClasses, candidates
from mivrat.core.selecting.selection import Picked
from mivrat.ui import words
from mivrat.ui.parts.late import Late
from mivrat.ui.parts.page import Page
from mivrat.ui.parts.tables import FigureTable
from mivrat.ui.parts.widgets import button, label, row
from mivrat.workspace.workspace import Workspace

BY = "two plausible classes"
HOW = (
    (
        f"Each image whose two highest scores are near is scored whole and through {VIEWS - 1} windows (96 % of its sides in the "
        "middle; 92 % in the middle and each corner). It is listed where the second class's mean probability is at least "
        f"{percent(LEAST_RATIO, 0)} of the first's, and the same two lead in at least {LEAST_VIEWS} of the {VIEWS} views."
    )
    .replace("50%", "half")
    .replace(" %", "\u00a0%")
)


class TwoClassesPage(Page, QWidget):
    """The list, once somebody has looked."""

    title, place_id = "Two classes", "two classes"
    help = "Images between two classes: their scores are close and stay close when the picture is shifted."

    def __init__(self, workspace: Workspace) -> None:
        super().__init__()
        self.workspace = workspace
        self.told, self.how = label(wrap=True), label(HOW, soft=True, wrap=True)
        self.begin = button("Score shifted and cropped copies", self.workspace.jobs.find_two_classes, kind="primary")
        self.see = button("Show them", self.select, kind="small")
        self.table = FigureTable(
            ("image", "labelled", "first", "second", "views"), (92, 132, 132, 56), "two plausible classes", (4,)
        )
        self.table.currentCellChanged.connect(lambda line, *_: self._look(line))
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 10, 0, 8)
        for part in (self.told, self.how):
            layout.addWidget(part)
        layout.addLayout(row(self.begin, self.see, None))
        layout.addWidget(self.table, 1)
        layout.addStretch(0)
        layout.setAlignment(Qt.AlignmentFlag.AlignTop)
        self._late = Late(self, self.refresh, workspace.topics.two_classes, workspace.topics.run, workspace.topics.busy)

    def refresh(self) -> None:
        snapshot, found = self.workspace.shown.snapshot, self.workspace.shown.results.two_classes
        needs_model = not snapshot.record.kind.can.scores
        self.begin.setVisible(not needs_model)
        self.begin.setEnabled(not self.workspace.busy)
        self.see.setVisible(bool(found))
        self.table.setVisible(bool(found))
        if needs_model:
            self.told.setText(snapshot.record.kind.lacks("Scoring again needs"))
        elif found is None:
            number = VIEWS * len(candidates(snapshot.judged)) if snapshot.record.kind.can.asked else 0
            asks = f" Looking takes {words.count(number)} requests to the service." if number else ""
            self.told.setText(f"Images that fit two classes have not been looked for yet.{asks}")
        elif not found:
            self.told.setText(f"No image of {words.count(snapshot.counts.listed)} has two plausible classes.")
        else:
            self.told.setText(
                f"{len(found)} of {words.images(snapshot.counts.listed)} have two plausible classes, the nearest first."
            )
        classes, judged = snapshot.record.classes, snapshot.judged
        lines = [
            (
                self.workspace.shown.name_of(one.image),
                classes[judged.labels[one.image]] if judged.labels[one.image] >= 0 else DASH,
                f"{classes[one.first]} {percent(one.p_first)}",
                f"{classes[one.second]} {percent(one.p_second)}",
                f"{one.views} of {VIEWS}",
            )
            for one in self._sorted()
        ]
        self.table.blockSignals(True)
        self.table.show_lines(lines)
        self.table.blockSignals(False)

    def _sorted(self) -> list[TwoClasses]:
        return sorted(
            self.workspace.shown.results.two_classes or (), key=lambda one: (one.p_first - one.p_second, one.image)
        )

    def select(self) -> None:
        """Show them in the light table."""
        if self.workspace.shown.results.two_classes:
            self.workspace.shown.replace(Picked(BY, tuple(one.image for one in self._sorted())))

    def _look(self, line: int) -> None:
        found = self._sorted()
        if not 0 <= line < len(found):
            return
        if not any(isinstance(one, Picked) and one.by == BY for one in self.workspace.shown.conditions):
            self.select()
        self.workspace.shown.focus.look_at(found[line].image)

    def as_table(self) -> list[list[str]]:
        return self.table.as_lines()
