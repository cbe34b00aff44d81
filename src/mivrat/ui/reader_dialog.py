"""Asks who reads: a name for the reviews so far, or who goes on from here."""

from __future__ import annotations

from collections.abc import Callable

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QDialog, QLineEdit, QRadioButton, QVBoxLayout, QWidget

from mivrat.core.base.text import clipped
from mivrat.ui.parts.widgets import button, label, row
from mivrat.ui.theme import theme
from mivrat.workspace.reader_edits import reader_changed, reader_named
from mivrat.workspace.workspace import Workspace

WIDE = 420


class ReaderDialog(QDialog):
    """``then`` goes on once the reader has a name. A reader who has one may get another, or let another reader go on."""

    def __init__(self, parent: QWidget, workspace: Workspace, then: Callable[[], object] | None = None) -> None:
        super().__init__(parent)
        self.workspace, self._then = workspace, then
        self._before = workspace.shown.reviews.reader
        self.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        self.setWindowTitle("Reader")
        self.setObjectName("page")
        theme.style(self)
        self.name = QLineEdit(self._before)
        self.name.setAccessibleName("name of the reader")
        self.name.setPlaceholderText("name")
        self.name.setMaxLength(200)
        self.name.selectAll()
        self.other = QRadioButton("another reader goes on from here")
        self.same = QRadioButton(f"still {clipped(self._before, 30)}, under this name")
        self.other.setChecked(True)
        for choice in (self.other, self.same):
            choice.setVisible(bool(self._before))
        self.take = button("Take this name", self._take, kind="primary")
        self.take.setDefault(True)
        self.name.textChanged.connect(lambda _: self._show_state())
        layout = QVBoxLayout(self)
        layout.setContentsMargins(28, 24, 28, 20)
        layout.setSpacing(10)
        layout.addWidget(label("Who reads here?", "heading"))
        about = label(
            "Decisions carry the name of who made them. Each reader of a study sees and edits their own; what others have decided stays as it is."
            if self._before
            else "The reviews of this study get this name. They carry it when they are exported and merged into another study.",
            soft=True,
            wrap=True,
        )
        about.setFixedWidth(WIDE)
        for widget in (about, self.name, self.other, self.same):
            layout.addWidget(widget)
        layout.addLayout(row(None, button("Cancel", self.reject), self.take))
        self.ensurePolished()
        about.setMinimumHeight(about.heightForWidth(WIDE))
        self._show_state()
        self.resize(self.sizeHint())

    def _show_state(self) -> None:
        self.take.setEnabled(self.name.text().strip() not in ("", self._before))

    def _take(self) -> None:
        name = self.name.text()
        self.accept()
        make = reader_changed if self._before and self.other.isChecked() else reader_named
        self.workspace.edits.take(make(self._before, name), self._then)
