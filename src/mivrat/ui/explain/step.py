"""The figures area of the Explain step: its pages, one at a time."""

from __future__ import annotations

from collections.abc import Callable

from PySide6.QtCore import Qt
from PySide6.QtGui import QKeySequence, QShortcut

from mivrat.ui.explain.board_page import BoardPage
from mivrat.ui.explain.cover_page import CoverPage
from mivrat.ui.explain.heat_thumbs import HeatThumbs
from mivrat.ui.explain.layers_page import LayersPage
from mivrat.ui.explain.sheet_page import SheetPage
from mivrat.ui.explain.transplant_page import TransplantPage
from mivrat.ui.explain.trust_page import TrustPage
from mivrat.ui.explain.where_page import WherePage
from mivrat.ui.parts.pictures import Thumbnails
from mivrat.ui.parts.step_area import StepArea
from mivrat.workspace.explaining import Explainer
from mivrat.workspace.reviewing import Reviewer
from mivrat.workspace.transplanting import Transplanter

PAGES = (BoardPage, CoverPage, TransplantPage, SheetPage, WherePage, TrustPage, LayersPage)
BOARD, COVER, TRANSPLANT, SHEET, WHERE, TRUST, LAYERS = range(len(PAGES))


class ExplainStep(StepArea):
    """Holds the pages and what they share."""

    def __init__(self, explainer: Explainer, reviewer: Reviewer, heat: HeatThumbs, thumbnails: Thumbnails) -> None:
        super().__init__(*PAGES)
        self.explainer, self.heat = explainer, heat
        self.board, self.cover = BoardPage(explainer), CoverPage(explainer)
        self.transplanter = Transplanter(explainer)
        self.transplant = TransplantPage(self.transplanter)
        self.sheet = SheetPage(self.transplanter)
        self.sheet.page_wanted.connect(self.go_to)
        self.where, self.trust = WherePage(explainer, reviewer, thumbnails), TrustPage(explainer)
        self.layers = LayersPage(explainer)
        self.board.layers_wanted.connect(lambda: self.choose(LAYERS))
        self.where.heat_wanted.connect(heat.switch)
        self.cover.result.finding_wanted.connect(self.finding_wanted)
        keys: list[tuple[str, Callable[[int], object], int]] = [
            ("T", self.board.step_target, 1),
            ("Shift+T", self.board.step_target, -1),
            ("L", self.board.step_layer, 1),
            ("Shift+L", self.board.step_layer, -1),
        ]
        for key, step, by in keys:
            shortcut = QShortcut(QKeySequence(key), self)
            shortcut.setContext(Qt.ShortcutContext.WidgetWithChildrenShortcut)
            shortcut.activated.connect(lambda step=step, by=by: self._on_board(step, by))
        self.offer_copying()
        self.fill(self.board, self.cover, self.transplant, self.sheet, self.where, self.trust, self.layers)

    def _on_board(self, step: Callable[[int], object], by: int) -> None:
        if self.pages.currentIndex() == BOARD:
            step(by)

    def toggle_heat(self) -> None:
        """Show heat on the light table, or take it off."""
        self.where.on_table.setChecked(not self.where.on_table.isChecked())
