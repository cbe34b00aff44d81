"""What the report is to have: its summary in the analyst's own words, its sections in their order; and saving it."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QFileDialog, QLineEdit, QListWidget, QListWidgetItem, QMenu, QVBoxLayout, QWidget

from mivrat.core.reporting.report.content import SECTIONS
from mivrat.ui.actions import tooltip
from mivrat.ui.parts.folders import folder_to_save_in
from mivrat.ui.parts.widgets import Scrolled, button, label, more_button, row, tip
from mivrat.ui.parts.writing import Writing
from mivrat.workspace.reporting import Reporter

OTHERS = {"Figures as JSON…": ".json", "JUnit XML for build servers…": ".xml", "Model card in Markdown…": ".md"}
KEY = Qt.ItemDataRole.UserRole


class ReportPage(QWidget):
    """The words, the sections, and the buttons that save."""

    def __init__(self, reporter: Reporter) -> None:
        super().__init__()
        self.reporter, self.workspace = reporter, reporter.workspace
        self.author = QLineEdit()
        self.author.setAccessibleName("made by")
        self.author.setPlaceholderText("your name, as it is to stand on the report")
        self.author.editingFinished.connect(self._keep_author)
        self.summary = Writing("summary of the report", "what somebody who reads only the first page has to know", 5)
        self.summary.written.connect(lambda text: self._want("summary of the report", summary=text))
        self.sections = QListWidget()
        self.sections.setAccessibleName("sections of the report")
        self.sections.setFixedHeight(len(SECTIONS) * 22 + 8)
        self.sections.itemChanged.connect(lambda _: self._keep_sections())
        self.up, self.down = button("Up", lambda: self._move(-1), kind="small"), button("Down", lambda: self._move(1), kind="small")  # fmt: skip
        self.save = button("Save as HTML or PDF…", self.ask, kind="primary")
        tip(self.save, tooltip("report"))
        self.more = more_button("other files of the report", "Figures as JSON, JUnit XML, a model card")
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
                "Ticked ones are in the report, in this order; one that has nothing to say is left out. Comparison needs another run "
                "held against this one, findings are written under Findings.",
                soft=True,
                wrap=True,
            )
        )
        inside.addWidget(self.sections)
        inside.addLayout(row(self.up, self.down, None))
        inside.addStretch(1)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.addWidget(Scrolled(body, wide=False))
        reporter.wanted_changed.connect(self.refresh)
        self.workspace.topics.run.connect(self.refresh)
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

    def showEvent(self, event: object) -> None:  # noqa: N802
        super().showEvent(event)  # type: ignore[arg-type]
        self.reporter.look(True)
        if self.workspace.is_open:
            self.refresh()

    def hideEvent(self, event: object) -> None:  # noqa: N802
        super().hideEvent(event)  # type: ignore[arg-type]
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
        kinds = f"*{ending}" if ending else "*.html *.pdf"
        found, _ = QFileDialog.getSaveFileName(
            self, "Save the report", str(folder / f"report{ending or '.html'}"), f"Report ({kinds})"
        )
        if found:
            path = Path(found)
            endings = (".html", ".pdf") if not ending else (ending,)
            known = path.suffix.lower() in endings
            self.reporter.write(*([path] if known else [path.with_name(f"{path.name}{one}") for one in endings]))
