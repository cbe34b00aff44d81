"""The help sheet: what the page shown is for, and every key, in one place."""

from __future__ import annotations

from PySide6.QtCore import QSize, Qt
from PySide6.QtGui import QKeyEvent
from PySide6.QtWidgets import QDialog, QGridLayout, QVBoxLayout, QWidget

from mivrat.ui.actions import sheet
from mivrat.ui.parts.widgets import Scrolled, button, label, row
from mivrat.ui.steps import STEPS
from mivrat.ui.theme import theme

# What stands around the keys: margins, a scroll bar, the button below.
AROUND = QSize(28 + 16 + 14, 24 + 20 + 52)


def _columns(number: int) -> QWidget:
    """All keys in so many columns, each group under the ones before in the column that is the shortest."""
    columns, lines = [QVBoxLayout() for _ in range(number)], [0] * number
    for column in columns:
        column.setSpacing(0)
    for title, keys in sheet([step.name for step in STEPS]):
        box = QGridLayout()
        box.setHorizontalSpacing(16)
        box.setVerticalSpacing(6)
        box.addWidget(label(title, "heading"), 0, 0, 1, 2)
        for line, (key, meaning) in enumerate(keys, 1):
            box.addWidget(label(key), line, 0)
            box.addWidget(label(meaning, soft=True), line, 1)
        box.setColumnStretch(1, 1)
        shortest = lines.index(min(lines))
        columns[shortest].addLayout(box)
        columns[shortest].addSpacing(16)
        lines[shortest] += len(keys) + 2
    body = QWidget()
    beside = row(*columns, spacing=40, margins=(0, 0, 12, 0))
    for column in columns:
        column.addStretch(1)
    body.setLayout(beside)
    return body


class ShortcutSheet(QDialog):
    """Shows the sheet, above it what the page ``title`` is for; any of Esc, Enter and F1 closes it."""

    def __init__(self, parent: QWidget, title: str = "", about: str = "") -> None:
        super().__init__(parent)
        self.setWindowTitle("Keys")
        self.setObjectName("page")
        theme.style(self)
        room = self.screen().availableGeometry().size() - AROUND
        body = _columns(3)
        if body.sizeHint().width() > room.width():
            body = _columns(2)
        self.sheet = Scrolled(body)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(28, 24, 16, 20)
        around = QSize(AROUND)
        if title:
            head = label(f"{title}: {about}", wrap=True)
            head.setFixedWidth(min(body.sizeHint().width(), room.width()))
            layout.addWidget(head)
            layout.addSpacing(12)
            around += QSize(0, head.heightForWidth(head.width()) + 12 + layout.spacing())
        layout.addWidget(self.sheet)
        layout.addLayout(row(None, button("Close", self.accept, kind="primary")))
        self.ensurePolished()
        self.resize((body.sizeHint() + around).boundedTo(room))

    def keyPressEvent(self, event: QKeyEvent) -> None:
        if getattr(event, "key", lambda: None)() == Qt.Key.Key_F1:
            self.accept()
        else:
            super().keyPressEvent(event)
