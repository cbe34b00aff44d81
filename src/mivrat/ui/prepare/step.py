"""The figures area of the Prepare step: its tabs and their pages."""

from __future__ import annotations

from PySide6.QtCore import Signal
from PySide6.QtWidgets import QStackedWidget, QVBoxLayout, QWidget

from mivrat.ui.keeper import Keeper
from mivrat.ui.pictures import Thumbnails
from mivrat.ui.prepare.class_page import ClassPage
from mivrat.ui.prepare.inputs import InputsPage
from mivrat.ui.prepare.recipe_page import RecipePage
from mivrat.ui.prepare.try_out import TryOutPage
from mivrat.ui.session import Session
from mivrat.ui.theme import theme
from mivrat.ui.widgets import Tabs

NAMES = ("Inputs", "Classes", "Recipe", "Try-out")
INPUTS, CLASSES, RECIPE, TRY_OUT = range(4)


class PrepareStep(QWidget):
    """Inputs, classes, recipe and try-out, one at a time."""

    run_wanted = Signal(int)
    looked = Signal()

    def __init__(self, session: Session, keeper: Keeper, thumbnails: Thumbnails) -> None:
        super().__init__()
        self.tabs = Tabs(NAMES)
        self.inputs, self.class_page = InputsPage(session, keeper), ClassPage(session, keeper)
        self.recipe_page = RecipePage(session, keeper)
        self.try_out = TryOutPage(session, keeper, thumbnails)
        self.pages = QStackedWidget()
        for page in (self.inputs, self.class_page, self.recipe_page, self.try_out):
            self.pages.addWidget(page)
        self.tabs.chosen.connect(self.pages.setCurrentIndex)
        self.inputs.run_wanted.connect(self.run_wanted)
        self.inputs.pairs_wanted.connect(lambda: self.tabs.choose(CLASSES))
        self.recipe_page.try_wanted.connect(lambda: self.tabs.choose(TRY_OUT))
        self.try_out.looked.connect(self.looked)
        theme.style(self.tabs, self.inputs, self.class_page, self.recipe_page, self.try_out)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(18, 10, 14, 0)
        layout.addWidget(self.tabs)
        layout.addWidget(self.pages, 1)

    def undo(self) -> bool:
        """Take back the last step on the page shown, where it has one of its own."""
        return self.tabs.current == RECIPE and self.recipe_page.undo()

    def redo(self) -> bool:
        return self.tabs.current == RECIPE and self.recipe_page.redo()

    def stop(self) -> None:
        self.recipe_page.stop()
