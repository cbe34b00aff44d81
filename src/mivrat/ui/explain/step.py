"""The figures area of the Explain step: its pages, one at a time."""

from __future__ import annotations

from PySide6.QtCore import Qt
from PySide6.QtGui import QKeySequence, QShortcut
from PySide6.QtWidgets import QStackedWidget, QVBoxLayout, QWidget

from mivrat.ui.explain.board_page import BoardPage
from mivrat.ui.explain.explainer import Explainer
from mivrat.ui.keeper import Keeper
from mivrat.ui.pictures import Thumbnails
from mivrat.ui.session import Session
from mivrat.ui.theme import theme
from mivrat.ui.widgets import Tabs, copy_table

NAMES = ("Board",)
BOARD = 0


class ExplainStep(QWidget):
    """Holds the pages and what they share."""

    def __init__(self, session: Session, keeper: Keeper, thumbnails: Thumbnails) -> None:
        super().__init__()
        self.session, self.tabs = session, Tabs(NAMES)
        self.explainer = Explainer(session, keeper)
        self.board = BoardPage(self.explainer)
        self.pages = QStackedWidget()
        self._parts = (self.board,)
        for page in self._parts:
            self.pages.addWidget(page)
        self.tabs.chosen.connect(self.pages.setCurrentIndex)
        QShortcut(
            QKeySequence("Ctrl+Shift+C"), self, context=Qt.ShortcutContext.WidgetWithChildrenShortcut
        ).activated.connect(self.copy_table)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(18, 10, 14, 0)
        layout.addWidget(self.tabs)
        layout.addWidget(self.pages, 1)
        theme.style(self.tabs, *self._parts)

    def copy_table(self) -> None:
        """Put what the page shows on the clipboard, as comma-separated values."""
        page = self.pages.currentWidget()
        copy_table(page.as_table())  # type: ignore[union-attr]

    @property
    def settled(self) -> bool:
        """Whether nothing is still being worked out."""
        return self.explainer.settled and all(part.settled for part in self._parts)

    def stop(self) -> None:
        self.explainer.stop()
        for part in self._parts:
            part.stop()
