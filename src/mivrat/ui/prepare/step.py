"""The figures area of the Prepare step: its tabs and their pages."""

from __future__ import annotations

from PySide6.QtCore import Signal

from mivrat.ui.parts.pictures import Thumbnails
from mivrat.ui.parts.step_area import StepArea
from mivrat.ui.prepare.class_page import ClassPage
from mivrat.ui.prepare.inputs import InputsPage
from mivrat.ui.prepare.recipe_page import RecipePage
from mivrat.ui.prepare.try_out import TryOutPage
from mivrat.workspace.workspace import Workspace

PAGES = (InputsPage, ClassPage, RecipePage, TryOutPage)
INPUTS, CLASSES, RECIPE, TRY_OUT = range(4)


class PrepareStep(StepArea):
    """Inputs, classes, recipe and try-out, one at a time."""

    run_wanted = Signal(int)
    service_wanted = Signal()

    def __init__(self, workspace: Workspace, thumbnails: Thumbnails) -> None:
        super().__init__(*PAGES)
        self.inputs, self.class_page = InputsPage(workspace), ClassPage(workspace)
        self.recipe_page = RecipePage(workspace)
        self.try_out = TryOutPage(workspace, thumbnails)
        self.inputs.run_wanted.connect(self.run_wanted)
        self.inputs.service_wanted.connect(self.service_wanted)
        self.inputs.pairs_wanted.connect(lambda: self.choose(CLASSES))
        self.recipe_page.try_wanted.connect(lambda: self.choose(TRY_OUT))
        self.try_out.looked.connect(workspace.topics.look_wanted.emit)
        self.fill(self.inputs, self.class_page, self.recipe_page, self.try_out)
