"""The findings: their list with what has become of each, above the one chosen; and how to come by one."""

from __future__ import annotations

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QVBoxLayout, QWidget

from mivrat.core.base.numbers import DASH, percent
from mivrat.core.concluding.findings import Measure
from mivrat.core.concluding.formatting import difference_told, figure_told
from mivrat.ui import words
from mivrat.ui.actions import ACTIONS
from mivrat.ui.conclude.finding_detail import ROLES, RULE, FindingDetail
from mivrat.ui.parts.late import Late
from mivrat.ui.parts.page import Page
from mivrat.ui.parts.pictures import Thumbnails
from mivrat.ui.parts.tables import FigureTable
from mivrat.ui.parts.widgets import Choice, Scrolled, label, row, tip
from mivrat.ui.theme import theme
from mivrat.workspace.concluding import Concluder

INKS = {"good": "accent", "look": "look", "problem": "wrong"}
WEIGHT_INKS = {"blocks": "wrong", "matters": "look", "note": "soft"}
MOST_LINES = 7


class FindingsPage(Page, QWidget):
    """A table of the findings under the choice of the run they are checked on, and the one chosen."""

    title, place_id = "Findings", "findings"
    help = "What you have found, with its evidence; it can be checked again on the next model."

    def __init__(self, concluder: Concluder, thumbnails: Thumbnails) -> None:
        super().__init__()
        self.concluder, self.workspace = concluder, concluder.workspace
        self.chosen: int | None = None
        self.target = Choice((), "the run that findings are checked on")
        tip(self.target, "The run that every finding is checked on")
        self.target.activated.connect(self._choose_target)
        self.state = label(soft=True)
        self.empty = label(
            f"No finding yet. A finding keeps what was found with a claim that can be checked again on any later model: press "
            f"{ACTIONS['finding'].key_text} on any figure, selection, cover test or difference, and what is on screen is added with "
            "all that repeating it takes. A cover test done under Explain makes the strongest claim.",
            soft=True,
            wrap=True,
        )
        self.table = FigureTable(("finding", "weight", "found", "checked"), (64, 118, 170), "findings")
        self.table.currentCellChanged.connect(lambda line, *_: self._choose(line))
        self.table.cellClicked.connect(lambda line, _: self._choose(line))
        self.table.cellActivated.connect(lambda line, _: self._enter(line))
        self.detail = FindingDetail(concluder, thumbnails)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 8, 0, 0)
        layout.setSpacing(8)
        self.about_target = label("checked on", soft=True)
        layout.addLayout(row(self.about_target, self.target, self.state, None))
        layout.addWidget(self.empty)
        layout.addWidget(self.table)
        self.below = Scrolled(self.detail, wide=False)
        layout.addWidget(self.below, 1)
        layout.addStretch(0)
        concluder.added.connect(self._follow_added)
        self._late = Late(
            self,
            self.refresh,
            concluder.findings_changed,
            concluder.checks_changed,
            self.workspace.topics.run,
            self.workspace.topics.held,
            theme.changed,
        )

    def _follow_added(self, finding_id: int) -> None:
        self.chosen = finding_id
        self.refresh()

    # --- showing ---

    def refresh(self) -> None:
        """Show the findings as they stand."""
        findings, concluder = self.concluder.findings, self.concluder
        self._list_targets()
        at = concluder.progress
        what = f"checking {at.done + 1} of {at.total} …" if at is not None else ""
        if at is not None and at.within is not None and at.within.total:
            what = f"checking {at.done + 1} of {at.total}, {at.within.done} of {at.within.total} images …"
        lost = f"{concluder.lost} cannot be read" if concluder.lost else ""
        self.state.setText(" · ".join(part for part in (what, lost) if part))
        self.empty.setVisible(not findings)
        for part in (self.table, self.below, self.target, self.about_target):
            part.setVisible(bool(findings))
        if concluder.get(self.chosen) is None:
            self.chosen = findings[0].id if findings else None
        lines, tips = [], []
        for one in findings:
            checked = concluder.checked.get(one.id)
            state: str = "aside" if one.aside else checked.state if checked is not None else "…"
            told = state
            if checked is not None and checked.after.value is not None and not one.aside:
                told = f"{state}: {_short(checked.after)}"
            lines.append((one.title, one.weight, _short(one.before), told))
            tips.append(f"{one.title}\n{checked.why if checked is not None else ''}\n\n{RULE}")
        blocked = self.table.blockSignals(True)
        self.table.show_lines(lines, tips)
        for i, one in enumerate(findings):
            checked = concluder.checked.get(one.id)
            ink = INKS.get(ROLES.get(checked.state, ""), "soft") if checked is not None and not one.aside else "soft"
            for column, token in ((1, WEIGHT_INKS[one.weight]), (3, ink), *(((0, "soft"),) if one.aside else ())):
                if (item := self.table.item(i, column)) is not None:
                    item.setForeground(theme.colour(token))
            if one.id == self.chosen:
                self.table.setCurrentCell(i, 0)
        self.table.blockSignals(blocked)
        self.table.setFixedHeight(38 + 30 * min(MOST_LINES, max(1, len(lines))))
        self.detail.show_finding(concluder.get(self.chosen))

    def _list_targets(self) -> None:
        runs, target = self.workspace.runs, self.concluder.target
        names = []
        for run in runs:
            names.append(words.clipped(f"{run.model} on {run.image_set}", 60))
        if names != [self.target.itemText(i) for i in range(self.target.count())]:
            self.target.clear()
            self.target.addItems(names)
        at = next((i for i, run in enumerate(runs) if run.id == target.id), 0)
        self.target.setCurrentIndex(at)

    # --- choosing ---

    def _choose(self, line: int) -> None:
        findings = self.concluder.findings
        if 0 <= line < len(findings) and findings[line].id != self.chosen:
            self.chosen = findings[line].id
            self.detail.show_finding(findings[line])

    def _enter(self, line: int) -> None:
        self._choose(line)
        self.detail.title.setFocus(Qt.FocusReason.OtherFocusReason)
        self.detail.title.selectAll()

    def _choose_target(self, index: int) -> None:
        runs = self.workspace.runs
        if 0 <= index < len(runs):
            self.concluder.choose_target(runs[index])

    def show_targets(self) -> None:
        """Let the run that findings are checked on be chosen, by keys too."""
        self.target.setFocus(Qt.FocusReason.ShortcutFocusReason)
        self.target.showPopup()

    def as_table(self) -> list[list[str]]:
        """The findings, for the clipboard."""
        return self.table.as_lines()


def _short(measure: Measure) -> str:
    """What a claim comes to, in a few letters."""
    if measure.value is None:
        return DASH
    if measure.points:
        return f"{difference_told(measure.value, None, None, measure.percent)[0]}{' points' if measure.percent else ''}"
    if measure.hits is not None and measure.total is not None and measure.total < 10_000:
        return f"{measure.hits} of {measure.total}"
    return percent(measure.value) if measure.percent else figure_told(measure.value, None, None)
