"""Suspected wrong labels, most likely first, to be confirmed with the likelier label or dismissed."""

from __future__ import annotations

from PySide6.QtCore import Qt, Signal
from PySide6.QtGui import QKeyEvent
from PySide6.QtWidgets import QVBoxLayout, QWidget

from mivrat.core.base.text import minus
from mivrat.core.figures.suspicion import Suspects
from mivrat.core.running.snapshot import Snapshot
from mivrat.core.selecting.selection import Picked
from mivrat.ui import words
from mivrat.ui.parts.late import Late
from mivrat.ui.parts.page import Page
from mivrat.ui.parts.tables import FigureTable
from mivrat.ui.parts.widgets import button, label, row, tip
from mivrat.workspace.concluding import Concluder
from mivrat.workspace.executors import LatestOnly
from mivrat.workspace.reviewing import Reviewer
from mivrat.workspace.workspace import Workspace

BY = "suspected wrong label"


class _Table(FigureTable):
    """The list; C confirms and D dismisses what is chosen."""

    confirmed, dismissed = Signal(), Signal()

    def keyPressEvent(self, event: QKeyEvent) -> None:
        if event.key() == Qt.Key.Key_C and not event.modifiers():
            self.confirmed.emit()
        elif event.key() == Qt.Key.Key_D and not event.modifiers():
            self.dismissed.emit()
        else:
            super().keyPressEvent(event)


class LabelsPage(Page, QWidget):
    """The list of suspects; moving along it shows each image in the light table and in the close look."""

    title, place_id = "Labels", "labels"
    help = "Labels that are probably wrong, the most suspicious first, to be corrected or dismissed."

    def __init__(self, workspace: Workspace, reviewer: Reviewer) -> None:
        super().__init__()
        self.workspace, self.reviewer = workspace, reviewer
        self.found: Suspects | None = None
        self._workers = self.workspace.group(1)
        self._working = LatestOnly(self._workers)
        self._done_for: Snapshot | None = None
        self.told = label(wrap=True)
        self.note = label(soft=True, wrap=True)
        self.see = button("Show them", self.select, kind="small")
        self.confirm = button("Confirm (C)", self.confirm_label, kind="small")
        tip(self.confirm, "Propose the likelier label for the image chosen; the source label stays as it is")
        self.dismiss = button("Dismiss (D)", self.dismiss_suspicion, kind="small")
        tip(self.dismiss, "The label is right after all")
        self.table = _Table(
            ("image", "labelled", "likelier", "margin", ""), (104, 104, 64, 92), "suspected wrong labels", (3,)
        )
        if (head := self.table.horizontalHeaderItem(3)) is not None:
            tip(head, "p(label) minus the highest other p: the lower, the more suspicious")
        self.table.confirmed.connect(self.confirm_label)
        self.table.dismissed.connect(self.dismiss_suspicion)
        self.table.currentCellChanged.connect(lambda line, *_: self._look(line))
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 10, 0, 8)
        layout.addWidget(self.told)
        layout.addWidget(self.note)
        layout.addLayout(row(self.see, self.confirm, self.dismiss, None))
        layout.addWidget(self.table, 1)
        self._late = Late(self, self.refresh, workspace.topics.figures, workspace.topics.run)
        self._late_states = Late(self, self._show_states, workspace.topics.reviews)

    def finding(self, concluder: Concluder) -> bool:
        if not self.workspace.shown.reviews.proposed():
            return False
        concluder.add_labels()
        return True

    def refresh(self) -> None:
        snapshot = self.workspace.shown.snapshot
        if snapshot is self._done_for:
            return
        self._done_for = snapshot
        self._working.cancel()
        self.told.setText("Looking for suspicious labels …")
        self._working.start(
            lambda work: (snapshot.judged.suspected_labels(), snapshot.judged.expected_suspects()),
            done=lambda found: self._show(snapshot, *found),
        )

    def _show(self, snapshot: Snapshot, found: Suspects, expected: float | None) -> None:
        self.found = found
        classes, judged = snapshot.record.classes, snapshot.judged
        total = snapshot.counts.evaluated
        if not judged.has_scores:
            self.told.setText("Finding suspect labels needs a score for every class, which this run has not.")
        elif not len(found.positions):
            self.told.setText(f"No label of {words.images(total)} is suspected to be wrong.")
        else:
            self.told.setText(
                f"{len(found.positions)} of {words.count(total)} labels are suspected to be wrong, most likely first"
                + (
                    f". If no label were wrong and the confidence were calibrated, about {expected:.0f} would be suspected."
                    if expected is not None
                    else "."
                )
            )
        self.note.setText(
            "Suspected: another class reaches its usual confidence and the labelled one does not (confident learning, Northcutt "
            "2021). A model's own blind spots look the same, so look at each."
            if len(found.positions)
            else ""
        )
        lines = [
            (self.workspace.shown.name_of(i), classes[judged.labels[i]], classes[k], minus(f"{margin:.2f}"), "")
            for i, k, margin in zip(
                found.positions.tolist(), found.likely.tolist(), found.margins.tolist(), strict=True
            )
        ]
        self.table.blockSignals(True)
        self.table.show_lines(lines)
        self.table.blockSignals(False)
        for one in (self.see, self.confirm, self.dismiss, self.table):
            one.setVisible(bool(lines))
        self._show_states()

    def _show_states(self) -> None:
        if self.found is None:
            return
        for line, i in enumerate(self.found.positions.tolist()):
            review = self.workspace.shown.reviews[i]
            state = "label proposed" if review.label is not None else "dismissed" if review.dismissed else "suspected"
            if (item := self.table.item(line, 4)) is not None:
                item.setText(state)
        self.table.fit()

    def select(self) -> None:
        """Show the suspects in the light table, most likely first."""
        if self.found is not None and len(self.found.positions):
            self.workspace.shown.replace(Picked(BY, tuple(self.found.positions.tolist())))

    def _look(self, line: int) -> None:
        if self.found is None or not 0 <= line < len(self.found.positions):
            return
        if not any(isinstance(one, Picked) and one.by == BY for one in self.workspace.shown.conditions):
            self.select()
        self.workspace.shown.focus.look_at(int(self.found.positions[line]))

    def _decide(self, confirmed: bool) -> None:
        line = self.table.currentRow()
        if self.found is None or not 0 <= line < len(self.found.positions):
            return
        image = int(self.found.positions[line])
        if confirmed:
            self.reviewer.propose(int(self.found.likely[line]), [image])
        else:
            self.reviewer.dismiss([image])
        if line + 1 < self.table.rowCount():
            self.table.setCurrentCell(line + 1, 0)

    def confirm_label(self) -> None:
        """Propose the likelier label for the image chosen, and go to the next."""
        self._decide(True)

    def dismiss_suspicion(self) -> None:
        """Find the suspicion of the image chosen empty, and go to the next."""
        self._decide(False)

    def as_table(self) -> list[list[str]]:
        return self.table.as_lines()

    @property
    def settled(self) -> bool:
        return not self._workers.busy

    def stop(self) -> None:
        self._workers.stop_all()
