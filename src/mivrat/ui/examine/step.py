"""The figures area of the Examine step: the review, causes counted, what wrong images have in common, groups by likeness, labels, images two classes fit."""

from __future__ import annotations

from mivrat.ui.examine.causes_page import CausesPage
from mivrat.ui.examine.groups_page import GroupsPage
from mivrat.ui.examine.in_common_page import InCommonPage
from mivrat.ui.examine.labels_page import LabelsPage
from mivrat.ui.examine.review_page import ReviewPage
from mivrat.ui.examine.two_classes_page import TwoClassesPage
from mivrat.ui.parts.pictures import Thumbnails
from mivrat.ui.parts.step_area import StepArea
from mivrat.ui.parts.widgets import row
from mivrat.workspace.reviewing import Reviewer
from mivrat.workspace.workspace import Workspace

PAGES = (ReviewPage, CausesPage, InCommonPage, GroupsPage, LabelsPage, TwoClassesPage)


class ExamineStep(StepArea):
    """Its pages, one at a time."""

    def __init__(self, workspace: Workspace, reviewer: Reviewer, thumbnails: Thumbnails) -> None:
        super().__init__(*PAGES)
        self.review, self.causes = ReviewPage(workspace, reviewer), CausesPage(workspace)
        self.in_common = InCommonPage(workspace)
        self.in_common.finding_wanted.connect(self.finding_wanted)
        self.groups, self.labels = GroupsPage(workspace, reviewer, thumbnails), LabelsPage(workspace, reviewer)
        self.two_classes = TwoClassesPage(workspace)
        self.more = self.export_button("export this page", "Copy as a table")
        line = row(self.tabs, self.more, spacing=4)
        line.setStretch(0, 1)
        self.fill(self.review, self.causes, self.in_common, self.groups, self.labels, self.two_classes, top=line)
