"""The figures area of the Explain step: its pages, one at a time."""

from __future__ import annotations

from collections.abc import Callable

from PySide6.QtCore import Qt
from PySide6.QtGui import QKeySequence, QShortcut
from PySide6.QtWidgets import QStackedWidget, QVBoxLayout, QWidget

from mivrat.ui.explain.board_page import BoardPage
from mivrat.ui.explain.cover_page import CoverPage
from mivrat.ui.explain.explainer import Explainer
from mivrat.ui.explain.heat_thumbs import HeatThumbs
from mivrat.ui.explain.layers_page import LayersPage
from mivrat.ui.explain.trust_page import TrustPage
from mivrat.ui.explain.where_page import WherePage
from mivrat.ui.keeper import Keeper
from mivrat.ui.pictures import Thumbnails
from mivrat.ui.session import Session
from mivrat.ui.theme import theme
from mivrat.ui.widgets import Tabs, copy_table

NAMES = ("Board", "Cover test", "Where", "Trust", "Layers")
BOARD, COVER, WHERE, TRUST, LAYERS = range(len(NAMES))


class ExplainStep(QWidget):
    """Holds the pages and what they share."""

    def __init__(self, session: Session, keeper: Keeper, thumbnails: Thumbnails) -> None:
        super().__init__()
        self.session, self.tabs = session, Tabs(NAMES)
        self.explainer = Explainer(session, keeper)
        self.heat = HeatThumbs(self.explainer, thumbnails)
        self.board, self.cover = BoardPage(self.explainer), CoverPage(self.explainer)
        self.where, self.trust = WherePage(self.explainer, thumbnails), TrustPage(self.explainer)
        self.layers = LayersPage(self.explainer)
        self.pages = QStackedWidget()
        self._parts = (self.board, self.cover, self.where, self.trust, self.layers)
        for page in self._parts:
            self.pages.addWidget(page)
        self.tabs.chosen.connect(self.pages.setCurrentIndex)
        self.board.layers_wanted.connect(lambda: self.tabs.choose(LAYERS))
        self.where.heat_wanted.connect(self.heat.switch)
        keys: list[tuple[str, Callable[[], object]]] = [
            ("Ctrl+Shift+C", self.copy_table),
            ("T", lambda: self._on_board(self.board.step_target, 1)),
            ("Shift+T", lambda: self._on_board(self.board.step_target, -1)),
            ("L", lambda: self._on_board(self.board.step_layer, 1)),
            ("Shift+L", lambda: self._on_board(self.board.step_layer, -1)),
        ]
        for key, wanted in keys:
            shortcut = QShortcut(QKeySequence(key), self)
            shortcut.setContext(Qt.ShortcutContext.WidgetWithChildrenShortcut)
            shortcut.activated.connect(lambda w=wanted: w())
        layout = QVBoxLayout(self)
        layout.setContentsMargins(18, 10, 14, 0)
        layout.addWidget(self.tabs)
        layout.addWidget(self.pages, 1)
        theme.style(self.tabs, *self._parts)

    def _on_board(self, step: Callable[[int], object], by: int) -> None:
        if self.pages.currentIndex() == BOARD:
            step(by)

    def toggle_heat(self) -> None:
        """Show heat on the light table, or take it off."""
        self.where.on_table.setChecked(not self.where.on_table.isChecked())

    def copy_table(self) -> None:
        """Put what the page shows on the clipboard, as comma-separated values."""
        page = self.pages.currentWidget()
        copy_table(page.as_table())  # type: ignore[union-attr]

    @property
    def settled(self) -> bool:
        """Whether nothing is still being worked out."""
        return self.explainer.settled and self.heat.settled and all(part.settled for part in self._parts)

    def stop(self) -> None:
        self.explainer.stop()
        self.heat.stop()
        for part in self._parts:
            part.stop()
