"""Asks for the scheduler of a cluster on which the rest of a run is to be scored."""

from __future__ import annotations

from collections.abc import Callable

from PySide6.QtWidgets import QDialog, QLineEdit, QVBoxLayout, QWidget

from mivrat.ui import words
from mivrat.ui.parts.widgets import button, label, row
from mivrat.ui.theme import theme
from mivrat.workspace.workspace import Preferences

# Where the address used last is remembered.
LAST = "cluster"
WIDE = 460


class ClusterDialog(QDialog):
    """``score`` is called with the address; it is remembered for the next time."""

    def __init__(self, parent: QWidget, preferences: Preferences, pending: int, score: Callable[[str], object]) -> None:
        super().__init__(parent)
        self._preferences, self._score = preferences, score
        self.setWindowTitle("Score on a cluster")
        self.setObjectName("page")
        theme.style(self)
        self.address = QLineEdit(str(preferences.value(LAST, "") or "local:2"))
        self.address.setAccessibleName("address of the scheduler")
        self.address.setPlaceholderText("tcp://host:port or local:2")
        self.address.selectAll()
        self.begin = button(f"Score {words.images(pending)}", self._begin, kind="primary")
        self.begin.setDefault(True)
        self.address.textChanged.connect(lambda text: self.begin.setEnabled(bool(text.strip())))
        layout = QVBoxLayout(self)
        layout.setContentsMargins(28, 24, 28, 20)
        layout.setSpacing(10)
        layout.addWidget(label("Score on a cluster", "heading"))
        about = label(
            "The address of a Dask scheduler, such as tcp://host:8786, or local:4 for four processes of this machine. Workers read the model and "
            "the images from the same paths, and are sent what they lack. Scores and figures are the same as on this machine.",
            soft=True,
            wrap=True,
        )
        about.setFixedWidth(WIDE)
        layout.addWidget(about)
        layout.addWidget(self.address)
        layout.addLayout(row(None, button("Cancel", self.reject), self.begin))
        self.ensurePolished()
        about.setMinimumHeight(about.heightForWidth(WIDE))
        self.resize(self.sizeHint())

    def _begin(self) -> None:
        address = self.address.text().strip()
        self._preferences.setValue(LAST, address)
        self.accept()
        self._score(address)
