"""The figures area of the Measure step: its tabs and their pages, what they are figures of, and taking them elsewhere."""

from __future__ import annotations

from PySide6.QtWidgets import QWidget

from mivrat.ui.measure.class_page import ClassesPage
from mivrat.ui.measure.confusions import Confusions
from mivrat.ui.measure.group_table import GroupTable
from mivrat.ui.measure.headline import Headline
from mivrat.ui.measure.reliability import Reliability
from mivrat.ui.measure.strain_page import StrainPage
from mivrat.ui.parts.pictures import Thumbnails
from mivrat.ui.parts.step_area import StepArea
from mivrat.ui.parts.widgets import Choice, row, tip
from mivrat.ui.parts.wrapping import flowing
from mivrat.workspace.measuring import Measurer
from mivrat.workspace.workspace import Workspace

PAGES = (Headline, ClassesPage, Confusions, Reliability, GroupTable, StrainPage)
SCOPES = ("all images", "the selection")


class MeasureStep(StepArea):
    """Headline, classes, confusions, confidence, groups and strain, one at a time; of all images or, but for strain, of the selection."""

    def __init__(self, workspace: Workspace, thumbnails: Thumbnails) -> None:
        super().__init__(*PAGES)
        self.measurer = Measurer(workspace)
        self.workers.append(self.measurer)
        self.headline, self.classes_page = Headline(workspace), ClassesPage(workspace, thumbnails)
        self.class_table = self.classes_page.table
        self.confusions, self.reliability = Confusions(workspace), Reliability(workspace)
        self.groups, self.strain = GroupTable(workspace), StrainPage(workspace)
        self.strain.finding_wanted.connect(self.finding_wanted)
        self.headline.worst.groups_wanted.connect(self.groups.show_column)
        self.headline.worst.page_wanted.connect(self.go_to)
        self.scope = Choice(SCOPES, "figures of")
        tip(self.scope, "What these figures are of: all images, or those of the selection")
        self.scope.currentIndexChanged.connect(lambda i: self.measurer.follow_selection(i == 1))
        self.more = self.export_button(
            "export these figures",
            "Copy as a table, save as a picture",
            ("Save as a picture…", self.choose_picture),
        )
        beside = QWidget()
        beside.setLayout(row(self.scope, self.more, spacing=4))
        self.fill(
            self.headline,
            self.classes_page,
            self.confusions,
            self.reliability,
            self.groups,
            self.strain,
            top=flowing(self.tabs, beside, spacing=12),
        )

        # A strain test is of all images.
        self.tabs.chosen.connect(lambda page: self.scope.setVisible(PAGES[page] is not StrainPage))

    def begin_anew(self) -> None:
        super().begin_anew()
        self.scope.setCurrentIndex(0)
