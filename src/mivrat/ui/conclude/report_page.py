"""What the report is to have: its summary in the analyst's own words, its sections in their order; and saving it."""

from __future__ import annotations

from dataclasses import replace

from PySide6.QtCore import Qt
from PySide6.QtGui import QHideEvent, QShowEvent
from PySide6.QtWidgets import QLineEdit, QListWidget, QListWidgetItem, QMenu, QVBoxLayout, QWidget

from mivrat.core.reporting.report.compared import OtherRun
from mivrat.core.reporting.report.content import SECTIONS
from mivrat.core.study.records import RunInfo
from mivrat.ui.actions import tooltip
from mivrat.ui.parts.file_dialogs import ask_to_save, folder_to_save_in
from mivrat.ui.parts.late import Late
from mivrat.ui.parts.page import Page
from mivrat.ui.parts.widgets import Scrolled, button, label, more_button, row, tip
from mivrat.ui.parts.writing import Writing
from mivrat.workspace.reporting import Reporter

OTHERS = {
    "Figures as JSON…": ".json",
    "JUnit XML for build servers…": ".xml",
    "Model card in Markdown…": ".md",
    "List of the images as CSV…": ".csv",
}
KEY = Qt.ItemDataRole.UserRole


class ReportPage(Page, QWidget):
    """The words, the sections, and the buttons that save."""

    title, place_id = "Report", "report"
    help = "The sections of the report, and your summary in your own words."

    def __init__(self, reporter: Reporter) -> None:
        super().__init__()
        self.reporter, self.workspace = reporter, reporter.workspace
        self.author = QLineEdit()
        self.author.setAccessibleName("made by")
        self.author.setPlaceholderText("your name, as it should appear on the report")
        self.author.editingFinished.connect(self._keep_author)
        self.summary = Writing("summary of the report", "summary for readers of the first page only", 5)
        self.summary.written.connect(lambda text: self._want("summary of the report", summary=text))
        self.sections = QListWidget()
        self.sections.setAccessibleName("sections of the report")
        self.sections.setFixedHeight(len(SECTIONS) * 22 + 8)
        self.sections.itemChanged.connect(lambda _: self._keep_sections())
        self.up, self.down = (
            button("Up", lambda: self._move(-1), kind="small"),
            button("Down", lambda: self._move(1), kind="small"),
        )
        self.save = button("Save as HTML or PDF…", self.ask, kind="primary")
        tip(self.save, tooltip("report"))
        self.more = more_button(
            "other files of the report", "Figures as JSON, JUnit XML, a model card, the list of images"
        )
        menu = QMenu(self.more)
        for text, ending in OTHERS.items():
            menu.addAction(text).triggered.connect(lambda _=False, e=ending: self._ask(e))
        self.more.setMenu(menu)
        body = QWidget()
        inside = QVBoxLayout(body)
        inside.setContentsMargins(0, 8, 8, 12)
        inside.setSpacing(8)
        inside.addLayout(row(self.save, self.more, None))
        inside.addWidget(label("Summary, in your own words", "heading"))
        inside.addWidget(self.summary)
        inside.addLayout(row(label("made by", soft=True), self.author))
        inside.addWidget(label("Sections", "heading"))
        inside.addWidget(
            label(
                "Ticked ones are in the report, in this order; one that has nothing to say is left out. Findings are written under "
                "Findings, a training log is chosen under Compare.",
                soft=True,
                wrap=True,
            )
        )
        inside.addWidget(self.sections)
        inside.addLayout(row(self.up, self.down, None))
        self.runs = QListWidget()
        self.runs.setAccessibleName("comparisons of the report")
        self.runs.itemChanged.connect(lambda _: self._keep_runs())
        self.swap = button("Swap baseline and candidate", self._swap, kind="small")
        self.no_runs = label("The study has no other run to compare with.", soft=True)
        inside.addWidget(label("Comparisons", "heading"))
        inside.addWidget(
            label(
                "Each reads candidate against baseline. Without a choice of yours it is the run held under Compare.",
                soft=True,
                wrap=True,
            )
        )
        inside.addWidget(self.runs)
        inside.addWidget(self.no_runs)
        inside.addLayout(row(self.swap, None))
        inside.addStretch(1)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.addWidget(Scrolled(body, wide=False))
        self._late = Late(self, self.refresh, reporter.wanted_changed, self.workspace.topics.run)
        self.workspace.topics.busy.connect(lambda: self.save.setEnabled(not self.workspace.busy))

    def refresh(self) -> None:
        """Show what is wanted."""
        wanted = self.reporter.wanted
        self.summary.show_text(wanted.summary)
        if not (self.author.hasFocus() and self.author.isModified()):
            self.author.setText(wanted.author)
        order = [*wanted.sections, *(one for one in SECTIONS if one not in wanted.sections)]
        at = self.sections.currentRow()
        blocked = self.sections.blockSignals(True)
        self.sections.clear()
        for key in order:
            item = QListWidgetItem(SECTIONS[key])
            item.setData(KEY, key)
            item.setFlags(item.flags() | Qt.ItemFlag.ItemIsUserCheckable)
            item.setCheckState(Qt.CheckState.Checked if key in wanted.sections else Qt.CheckState.Unchecked)
            self.sections.addItem(item)
        self.sections.setCurrentRow(max(0, at))
        self.sections.blockSignals(blocked)
        self._list_runs()

    def _list_runs(self) -> None:
        """Offer every other run of the study as baseline, or as candidate where it was chosen so."""
        shown, keys = self.workspace.shown.record.info, self.reporter.keys
        chosen = {one.run: one.baseline for one in self.reporter.against()}
        at = self.runs.currentRow()
        blocked = self.runs.blockSignals(True)
        self.runs.clear()
        for run in self.workspace.runs:
            if run.id == shown.id or run.id not in keys:
                continue
            name, own = self._name(run), self._name(shown)
            baseline = chosen.get(keys[run.id], True)
            item = QListWidgetItem(f"{own} against {name}" if baseline else f"{name} against {own}")
            item.setData(KEY, (keys[run.id], baseline))
            item.setFlags(item.flags() | Qt.ItemFlag.ItemIsUserCheckable)
            item.setCheckState(Qt.CheckState.Checked if keys[run.id] in chosen else Qt.CheckState.Unchecked)
            self.runs.addItem(item)
        self.runs.setCurrentRow(max(0, at))
        self.runs.blockSignals(blocked)
        some = self.runs.count()
        self.runs.setFixedHeight(min(8, some) * 22 + 8)
        for widget in (self.runs, self.swap):
            widget.setVisible(some > 0)
        self.no_runs.setVisible(not some)

    def _name(self, run: RunInfo) -> str:
        """A run by what sets it apart from the one shown, or both where that does not."""
        others = [one for one in self.workspace.runs if one.id != run.id]
        if all(one.set_id == run.set_id for one in others):
            return run.model
        return (
            run.image_set if all(one.model_id == run.model_id for one in others) else f"{run.model} on {run.image_set}"
        )

    def showEvent(self, event: QShowEvent) -> None:
        super().showEvent(event)
        self.reporter.look(True)
        if self.workspace.is_open:
            self.refresh()

    def hideEvent(self, event: QHideEvent) -> None:
        super().hideEvent(event)
        self.reporter.look(False)

    # --- what is wanted ---

    def _want(self, what: str, **parts: object) -> None:
        if self.workspace.is_open:
            self.reporter.want(replace(self.reporter.wanted, **parts), what)  # type: ignore[arg-type]

    def _keep_author(self) -> None:
        if self.author.isModified():
            self.author.setModified(False)
            self._want("who made the report", author=self.author.text().strip())

    def _keep_sections(self) -> None:
        items = [self.sections.item(i) for i in range(self.sections.count())]
        chosen = tuple(str(one.data(KEY)) for one in items if one.checkState() == Qt.CheckState.Checked)
        if not chosen:
            self.refresh()
            self.workspace.notices.say("A report has at least one section.")
            return
        self._want("sections of the report", sections=chosen)

    def _keep_runs(self) -> None:
        items = [self.runs.item(i) for i in range(self.runs.count())]
        chosen = tuple(OtherRun(*one.data(KEY)) for one in items if one.checkState() == Qt.CheckState.Checked)
        self._want("comparisons of the report", against=chosen)

    def _swap(self) -> None:
        """Make the candidate of the comparison chosen its baseline, and tick it."""
        item = self.runs.currentItem()
        if item is not None:
            run, baseline = item.data(KEY)
            blocked = self.runs.blockSignals(True)
            item.setData(KEY, (run, not baseline))
            item.setCheckState(Qt.CheckState.Checked)
            self.runs.blockSignals(blocked)
            self._keep_runs()

    def _move(self, by: int) -> None:
        at, to = self.sections.currentRow(), self.sections.currentRow() + by
        if at >= 0 and 0 <= to < self.sections.count():
            blocked = self.sections.blockSignals(True)
            item = self.sections.takeItem(at)
            self.sections.insertItem(to, item)
            self.sections.setCurrentRow(to)
            self.sections.blockSignals(blocked)
            self._keep_sections()

    # --- saving ---

    def ask(self) -> None:
        """Ask where the report is to go, and write it: HTML or PDF by the name's end; one without an end gives both."""
        self._ask("")

    def _ask(self, ending: str) -> None:
        folder = folder_to_save_in(self.workspace.path)
        kinds = f"Report (*{ending})" if ending else "Report"
        path = ask_to_save(self, "Save the report", folder / f"report{ending or '.html'}", kinds)
        if path is not None:
            endings = (".html", ".pdf") if not ending else (ending,)
            known = path.suffix.lower() in endings
            self.reporter.write(*([path] if known else [path.with_name(f"{path.name}{one}") for one in endings]))
