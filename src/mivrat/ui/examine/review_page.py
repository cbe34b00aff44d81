"""The review run: how far it is, the causes with their counts, selections kept, and figures as labelled and as corrected."""

from __future__ import annotations

from dataclasses import replace

from PySide6.QtCore import Qt
from PySide6.QtWidgets import (
    QGridLayout,
    QHBoxLayout,
    QProgressBar,
    QVBoxLayout,
    QWidget,
)

from mivrat.core.base.numbers import decimal, percent, with_bounds
from mivrat.core.figures.summary import Figures
from mivrat.core.running.snapshot import Snapshot
from mivrat.core.selecting import kept
from mivrat.core.selecting.selection import Caused, Conditions, Outcome, Reviewed
from mivrat.core.study.reviews import Cause
from mivrat.ui import words
from mivrat.ui.actions import tooltip
from mivrat.ui.examine.readers_section import ReadersSection
from mivrat.ui.parts.late import Late
from mivrat.ui.parts.page import Page
from mivrat.ui.parts.tables import FigureTable
from mivrat.ui.parts.widgets import Scrolled, button, clear, field_of_study, label, row, tip
from mivrat.workspace.executors import LatestOnly
from mivrat.workspace.reviewing import Reviewer
from mivrat.workspace.workspace import Workspace


class ReviewPage(Page, Scrolled):
    """Progress, causes, kept selections and the corrected figures, one below the other."""

    title, place_id = "Review", "review"
    help = "Going through the mistakes one by one: how far you are, and what you put them down to."

    def __init__(self, workspace: Workspace, reviewer: Reviewer) -> None:
        super().__init__()
        self.workspace, self.reviewer = workspace, reviewer
        self._workers = self.workspace.group(1)
        self._working = LatestOnly(self._workers)
        self._corrected_for: tuple[Snapshot, dict[int, int]] | None = None
        self.told = label("", "heading", wrap=True)
        self.bar = QProgressBar()
        self.bar.setTextVisible(False)
        self.next = button("Next unreviewed", self.reviewer.go_to_next, kind="primary")
        tip(self.next, tooltip("next unreviewed"))
        self.mistakes = button("All mistakes", lambda: workspace.shown.replace(Outcome(frozenset({"wrong"}))))
        self.left = button("Not reviewed", self._choose_left)
        tip(self.left, "The mistakes that have not been reviewed")
        self.causes = FigureTable(("cause", "key", "images", "mistakes"), (46, 70, 76), "causes", (2, 3))
        self.causes.setFixedHeight(0)
        self.causes.cellClicked.connect(lambda line, _: self._choose_cause(line))
        self.causes.cellActivated.connect(lambda line, _: self._choose_cause(line))
        self.causes.currentCellChanged.connect(lambda *_: self._show_name())
        self.name = field_of_study("new cause, or new name")
        self.name.setAccessibleName("name of a cause")
        self.name.returnPressed.connect(self.add_cause)
        self.add = button("Add", self.add_cause, kind="small")
        self.rename = button("Rename", self.rename_cause, kind="small")
        self.take_out = button("Remove", self.remove_cause, kind="small")
        tip(self.take_out, "Remove the cause from the list; images keep it in case it comes back")
        self.up = button("↑", lambda: self.move_cause(-1), kind="small")
        self.down = button("↓", lambda: self.move_cause(1), kind="small")
        for one, does in ((self.up, "move up, to an earlier key"), (self.down, "move down, to a later key")):
            tip(one, does)
            one.setAccessibleName(does)
        self.kept_name = field_of_study("name the current selection to keep it")
        self.kept_name.setAccessibleName("name for the current selection")
        self.kept_name.returnPressed.connect(self.keep_selection)
        self.keep = button("Keep", self.keep_selection, kind="small")
        self.kept_list = QVBoxLayout()
        self.kept_list.setSpacing(2)
        self.corrected = QGridLayout()
        self.corrected.setHorizontalSpacing(18)
        self.corrected.setVerticalSpacing(4)
        self.corrected_note = label(soft=True, wrap=True)
        body = QWidget()
        layout = QVBoxLayout(body)
        layout.setContentsMargins(0, 10, 10, 16)
        layout.setSpacing(8)
        layout.addWidget(self.told)
        layout.addWidget(self.bar)
        layout.addLayout(row(self.next, self.mistakes, self.left, None))
        layout.addSpacing(10)
        layout.addWidget(label("Causes", "heading"))
        layout.addWidget(self.causes)
        edits = row(self.name, self.add, self.rename, self.take_out, self.up, self.down, spacing=4)
        edits.setStretch(0, 1)
        layout.addLayout(edits)
        layout.addSpacing(10)
        layout.addWidget(label("Kept selections", "heading"))
        layout.addLayout(self.kept_list)
        keeps = row(self.kept_name, self.keep, spacing=4)
        keeps.setStretch(0, 1)
        layout.addLayout(keeps)
        layout.addSpacing(10)
        layout.addWidget(label("As labelled, and as corrected", "heading"))
        layout.addLayout(self.corrected)
        layout.addWidget(self.corrected_note)
        layout.addSpacing(10)
        self.readers = ReadersSection(workspace)
        layout.addWidget(self.readers)
        layout.addStretch(1)
        self.setWidget(body)
        self._late = Late(
            self,
            self.refresh,
            workspace.topics.reviews,
            workspace.topics.selection,
            workspace.topics.run,
            workspace.topics.figures,
        )
        self._late_kept = Late(self, self._show_kept, workspace.topics.kept, workspace.topics.selection)

    # --- progress ---

    def refresh(self) -> None:
        progress = self.reviewer.progress()
        scope = "Of the selection, " if self.workspace.shown.conditions else ""
        if not progress.total:
            self.told.setText("No mistake among the images shown: nothing to review.")
        else:
            self.told.setText(f"{scope}{progress.sentence()}.")
        self.bar.setRange(0, max(1, progress.total))
        self.bar.setValue(progress.reviewed)
        self.next.setEnabled(progress.reviewed < progress.total)
        self._show_causes()
        self._correct()

    def _choose_left(self) -> None:
        self.workspace.shown.replace(
            Outcome(frozenset({"wrong"})), Reviewed(frozenset({"not reviewed"}), self.workspace.shown.reviews)
        )

    # --- causes ---

    def _show_causes(self) -> None:
        snapshot, reviews = self.workspace.shown.snapshot, self.workspace.shown.reviews
        lines, listed = [], snapshot.counts.listed
        for i, one in enumerate(reviews.causes, 1):
            mask = reviews.with_causes(listed, frozenset({one.id}))
            wrong = int((mask & snapshot.judged.wrong).sum())
            lines.append((one.name, str(i) if i <= 9 else "", words.count(int(mask.sum())), words.count(wrong)))
        chosen = self.causes.currentRow()
        self.causes.show_lines(lines, [f"{one.name}: click to see its images" for one in reviews.causes])
        self.causes.setFixedHeight(30 * len(lines) + 34)
        if 0 <= chosen < len(lines):
            self.causes.setCurrentCell(chosen, 0)

    def _choose_cause(self, line: int) -> None:
        one = self.workspace.shown.reviews.causes[line]
        self.workspace.shown.replace(Caused(frozenset({one.id}), self.workspace.shown.reviews))

    def _show_name(self) -> None:
        line = self.causes.currentRow()
        if 0 <= line < len(self.workspace.shown.reviews.causes) and self.causes.hasFocus():
            self.name.setText(self.workspace.shown.reviews.causes[line].name)

    def _edit(self, words: str, causes: list[Cause], line: int) -> None:
        self.workspace.edits.keep_causes(words, causes)
        self.causes.setCurrentCell(line, 0)

    def _chosen(self) -> int | None:
        line = self.causes.currentRow()
        return line if 0 <= line < len(self.workspace.shown.reviews.causes) else None

    def _typed(self) -> str:
        """The name typed, if it is one that no cause has yet."""
        name = self.name.text().strip()
        return "" if name in {one.name for one in self.workspace.shown.reviews.causes} else name

    def add_cause(self) -> None:
        """Add the cause whose name has been typed, at the end of the list."""
        name, causes = self._typed(), list(self.workspace.shown.reviews.causes)
        if name:
            noted = self.workspace.shown.reviews.by_position.values()
            used = [one.id for one in causes] + [i for one in noted for i in one.causes]
            causes.append(Cause(max(used, default=0) + 1, name))
            self._edit(f"cause {name} added", causes, len(causes) - 1)
            self.name.clear()

    def rename_cause(self) -> None:
        """Give the chosen cause the name that has been typed."""
        name, line, causes = self._typed(), self._chosen(), list(self.workspace.shown.reviews.causes)
        if name and line is not None:
            causes[line] = replace(causes[line], name=name)
            self._edit(f"cause named {name}", causes, line)
            self.name.clear()

    def remove_cause(self) -> None:
        """Take the chosen cause out of the list."""
        line, causes = self._chosen(), list(self.workspace.shown.reviews.causes)
        if line is not None:
            gone = causes.pop(line)
            self._edit(f"cause {gone.name} taken out", causes, min(line, len(causes) - 1))
            self.name.clear()

    def move_cause(self, by: int) -> None:
        """Move the chosen cause up or down, and with it its key."""
        line, causes = self._chosen(), list(self.workspace.shown.reviews.causes)
        if line is not None:
            to = min(len(causes) - 1, max(0, line + by))
            causes.insert(to, causes.pop(line))
            self._edit(f"cause {causes[to].name} moved", causes, to)

    # --- kept selections ---

    def keep_selection(self) -> None:
        """Keep the selection in force, or else the images marked, under the name typed."""
        name = self.kept_name.text().strip()
        if name and self.workspace.shown.conditions:
            self.reviewer.keep_as(name)
            self.kept_name.clear()

    def _show_kept(self) -> None:
        snapshot = self.workspace.shown.snapshot
        clear(self.kept_list)
        self.keep.setEnabled(bool(self.workspace.shown.conditions))
        self.kept_name.setEnabled(bool(self.workspace.shown.conditions))
        if not self.workspace.shown.kept:
            self.kept_list.addWidget(
                label(
                    "None yet. Select images by figures, causes or groups, then name the selection here.",
                    soft=True,
                    wrap=True,
                )
            )
        record = snapshot.record
        for one in self.workspace.shown.kept:
            shown = self.workspace.shown
            found = kept.from_text(
                one.conditions,
                record.classes,
                record.image_set.items,
                record.names,
                shown.reviews,
                measures=shown.measures,
            )
            self.kept_list.addLayout(self._kept_row(one, found))

    def _kept_row(self, one: kept.KeptSelection, found: Conditions | None) -> QHBoxLayout:
        choose = button(words.clipped(one.name, 40), kind="quiet")
        drop = button("×", lambda: self._drop(one), kind="quiet")
        drop.setAccessibleName(f"do not keep {one.name} any longer")
        tip(drop, "Remove this kept selection (the images stay)")
        if found is None:
            choose.setEnabled(False)
            return row(choose, label("no longer fits the classes or columns of this study", soft=True), None, drop)
        choose.clicked.connect(lambda: self.workspace.shown.replace(*found))
        tip(choose, "; ".join(" ".join(each.words(self.workspace.shown.classes)).lstrip() for each in found))
        snapshot = self.workspace.shown.snapshot
        mask = snapshot.judged.labels >= -1
        for each in found:
            mask &= each.mask(snapshot.judged)
        wrong = int((mask & snapshot.judged.wrong).sum())
        told = f"{words.images(int(mask.sum()))}, {words.count(wrong)} wrong"
        return row(choose, label(told, soft=True), None, drop)

    def _drop(self, dropped: kept.KeptSelection) -> None:
        left = [one for one in self.workspace.shown.kept if one != dropped]
        self.workspace.edits.keep_selections(f"selection {dropped.name} not kept", left)

    # --- as corrected ---

    def _correct(self) -> None:
        snapshot, proposed = self.workspace.shown.snapshot, self.workspace.shown.reviews.proposed()
        done = self._corrected_for
        if done is not None and done[0] is snapshot and done[1] == proposed:
            return
        self._corrected_for = snapshot, proposed
        self._working.cancel()
        judged, ks = snapshot.judged, sorted(snapshot.figures.top_k)
        self._working.start(
            lambda work: judged.relabelled(proposed).figures(ks, ranked=False) if proposed else None,
            done=lambda found: self._show_corrected(snapshot.figures, found, len(proposed)),
        )

    def _show_corrected(self, before: Figures, after: Figures | None, changed: int) -> None:
        clear(self.corrected)
        if after is None:
            self.corrected_note.setText(
                "No label has been corrected yet. Propose one in the close look, or under Labels."
            )
            return
        for column, title in enumerate(("", "as labelled", "as corrected")):
            self.corrected.addWidget(label(title, soft=True), 0, column, Qt.AlignmentFlag.AlignRight)
        for line, (name, *values) in enumerate(self.corrected_lines(before, after), 1):
            self.corrected.addWidget(label(name), line, 0)
            for column, value in enumerate(values, 1):
                self.corrected.addWidget(label(value), line, column, Qt.AlignmentFlag.AlignRight)
        self.corrected.setColumnStretch(3, 1)
        self.corrected_note.setText(
            f"{words.images(changed)} judged by the label proposed instead. N = {words.count(before.total)} and "
            f"{words.count(after.total)}. {words.how(after.top_k[1])} Only suspected images were looked at, so the "
            "corrected figures lean towards the model."
        )

    @staticmethod
    def corrected_lines(before: Figures, after: Figures) -> list[tuple[str, str, str]]:
        """Figures by the labels as they are, and by those proposed."""

        def shown(one: Figures) -> list[str]:
            top1 = one.top_k[1]
            return [
                with_bounds(top1),
                percent(one.averages["balanced_accuracy"]),
                percent(one.averages["macro_f1"]),
                decimal(one.log_loss.value if one.log_loss else None),
                percent(one.calibration.ece),
            ]

        names = ("top-1 accuracy", "balanced accuracy", "macro F1", "log loss", "ECE")
        return list(zip(names, shown(before), shown(after), strict=True))

    def as_table(self) -> list[list[str]]:
        """The causes, for the clipboard."""
        return self.causes.as_lines()

    @property
    def settled(self) -> bool:
        return not self._workers.busy and self.readers.settled

    def stop(self) -> None:
        self._workers.stop_all()
        self.readers.stop()
