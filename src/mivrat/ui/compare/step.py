"""The figures area of the Compare step: what is held against the run shown, page by page."""

from __future__ import annotations

from PySide6.QtWidgets import QWidget

from mivrat.ui.compare.classes_page import ClassDifferencesPage
from mivrat.ui.compare.confusions_page import ConfusionsPage
from mivrat.ui.compare.difference_page import DifferencePage
from mivrat.ui.compare.sets_page import SetsPage
from mivrat.ui.compare.training_page import TrainingPage
from mivrat.ui.parts.step_area import StepArea
from mivrat.ui.parts.widgets import Choice, row, tip
from mivrat.ui.parts.wrapping import flowing
from mivrat.workspace.comparing import Comparer
from mivrat.workspace.workspace import Workspace

PAGES = (DifferencePage, ClassDifferencesPage, ConfusionsPage, SetsPage, TrainingPage)
SCOPES = ("all images", "the selection")


class CompareStep(StepArea):
    """Difference, classes, confusions, sets and training, one at a time, of all images or of the selection."""

    def __init__(self, workspace: Workspace, comparer: Comparer) -> None:
        super().__init__(*PAGES)
        self.comparer = comparer
        self.difference = DifferencePage(workspace, comparer)
        self.classes = ClassDifferencesPage(workspace, comparer)
        self.confusions = ConfusionsPage(workspace, comparer)
        self.sets, self.training = SetsPage(workspace, comparer), TrainingPage(workspace)
        self.scope = Choice(SCOPES, "differences of")
        tip(self.scope, "What these figures are of: all images, or those of the selection")
        self.scope.currentIndexChanged.connect(lambda i: comparer.follow_selection(i == 1))
        self.more = self.export_button(
            "export this page", "Copy as a table, save as a picture", ("Save as a picture…", self.choose_picture)
        )
        beside = QWidget()
        beside.setLayout(row(self.scope, self.more, spacing=4))
        self.fill(
            self.difference,
            self.classes,
            self.confusions,
            self.sets,
            self.training,
            top=flowing(self.tabs, beside, spacing=12),
        )

    def begin_anew(self) -> None:
        super().begin_anew()
        self.scope.setCurrentIndex(0)
