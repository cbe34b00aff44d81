"""The page the window opens with; it is drawn before anything else is loaded, so it leans on little."""

from __future__ import annotations

from pathlib import Path

from PySide6.QtCore import QSettings, Qt, Signal
from PySide6.QtGui import QIcon
from PySide6.QtWidgets import QLabel, QVBoxLayout, QWidget

from mivrat.core.base.text import clipped
from mivrat.share import ICON
from mivrat.ui.parts.widgets import button, clear, label, row, tip

MOST_RECENT = 6


class RecentStudies:
    """Paths of the studies opened last, newest first, kept in the user's settings."""

    def __init__(self, settings: QSettings) -> None:
        self._settings = settings

    def paths(self) -> list[Path]:
        found = self._settings.value("recent", [])
        listed = [found] if isinstance(found, str) else [str(one) for one in found] if isinstance(found, list) else []
        return [Path(one) for one in listed if Path(one).is_file()][:MOST_RECENT]

    def add(self, path: Path) -> None:
        others = [str(one) for one in self.paths() if one != path.resolve()]
        self._settings.setValue("recent", [str(path.resolve()), *others][:MOST_RECENT])


class StartPage(QWidget):
    """What Mivrat is for, and the ways to begin."""

    demo_wanted, new_wanted, open_wanted = Signal(), Signal(), Signal()
    study_wanted = Signal(Path)

    def __init__(self, recent: RecentStudies) -> None:
        super().__init__()
        self.setObjectName("page")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self._recent = recent
        inner = QVBoxLayout()
        inner.setSpacing(14)
        mark = QLabel()
        mark.setPixmap(QIcon(str(ICON)).pixmap(44, 44))
        inner.addLayout(row(mark, label("Mivrat", "title"), None, spacing=14))
        inner.addWidget(
            label(
                "Find out how good an image classifier is, which images it gets wrong, and why.", soft=True, wrap=True
            )
        )
        inner.addSpacing(10)
        self.demo = button("Open the demonstration", self.demo_wanted.emit, kind="primary")
        self.new = button("New study…", self.new_wanted.emit)
        self.open = button("Open a study…", self.open_wanted.emit)
        inner.addLayout(row(self.demo, self.new, self.open, None, spacing=10))
        inner.addWidget(
            label(
                "The demonstration: pollen grains under a microscope, named by a small network that does well in spring and badly in late summer.",
                soft=True,
                wrap=True,
            )
        )
        inner.addWidget(
            label(
                "Or drop a model file, a class list, a recipe, an image folder or a study on this window.",
                soft=True,
                wrap=True,
            )
        )
        self.problem = label(role="problem", wrap=True)
        inner.addWidget(self.problem)
        inner.addSpacing(18)
        self.recent_title = label("Recent studies", "heading")
        inner.addWidget(self.recent_title)
        self.recent_box = QVBoxLayout()
        self.recent_box.setSpacing(2)
        inner.addLayout(self.recent_box)
        holder = QWidget()
        holder.setLayout(inner)
        holder.setFixedWidth(620)
        outer = QVBoxLayout(self)
        outer.addStretch(2)
        outer.addLayout(row(None, holder, None))
        outer.addStretch(3)

    def refresh(self) -> None:
        clear(self.recent_box)
        paths = self._recent.paths()
        self.recent_title.setVisible(bool(paths))
        for path in paths:
            self.recent_box.addWidget(self._recent_button(path))

    def _recent_button(self, path: Path) -> QWidget:
        made = button(
            f"{path.stem}      {clipped(str(path.parent), 60)}",
            lambda: self.study_wanted.emit(path),
            kind="quiet",
        )
        made.setStyleSheet("text-align: left;")
        tip(made, str(path))
        return made

    def show_problem(self, text: str) -> None:
        self.problem.setText(text)
