"""The figures area of the Conclude step: criteria, findings, which images to label, the report, and what is exported."""

from __future__ import annotations

from PySide6.QtWidgets import QWidget

from mivrat.ui.conclude.criteria_page import CriteriaPage
from mivrat.ui.conclude.export_page import ExportPage
from mivrat.ui.conclude.findings_page import FindingsPage
from mivrat.ui.conclude.report_page import ReportPage
from mivrat.ui.conclude.report_preview import ReportPreview
from mivrat.ui.conclude.sample_page import SamplePage
from mivrat.ui.exporter import Exporter
from mivrat.ui.parts.pictures import Thumbnails
from mivrat.ui.parts.step_area import StepArea
from mivrat.ui.parts.widgets import row
from mivrat.ui.parts.wrapping import flowing
from mivrat.workspace.concluding import Concluder
from mivrat.workspace.reporting import Reporter

PAGES = (CriteriaPage, FindingsPage, SamplePage, ReportPage, ExportPage)
CRITERIA, FINDINGS, TO_LABEL, REPORT, EXPORT = range(5)


class ConcludeStep(StepArea):
    """Criteria, findings, images to label, report and export, one at a time; the report's pages stand where the light table does."""

    def __init__(self, concluder: Concluder, exporter: Exporter, thumbnails: Thumbnails) -> None:
        super().__init__(*PAGES)
        self.concluder, self.reporter = concluder, Reporter(concluder.workspace, concluder)
        self.criteria, self.findings = CriteriaPage(concluder), FindingsPage(concluder, thumbnails)
        self.to_label = SamplePage(concluder.workspace)
        self.to_label.finding_wanted.connect(self.finding_wanted)
        self.report, self.exporter = ReportPage(self.reporter), ExportPage(exporter)
        self.preview = ReportPreview(self.reporter)
        self.preview.setParent(self)  # until it is shown in the place of the light table
        self.preview.hide()
        self.workers += [self.reporter, self.preview, exporter.log, exporter]
        self.more = self.export_button("export this page", "Copy as a table")
        beside = QWidget()
        beside.setLayout(row(self.more, spacing=4))
        self.fill(
            self.criteria,
            self.findings,
            self.to_label,
            self.report,
            self.exporter,
            top=flowing(self.tabs, beside, spacing=12),
        )

    @property
    def companion(self) -> QWidget | None:
        """What stands in the place of the light table beside the page shown."""
        return self.preview if self.tabs.current == REPORT else None

    def show_finding(self, finding_id: int) -> None:
        """Show one finding."""
        self.choose(FINDINGS)
        self.findings.chosen = finding_id
        self.findings.refresh()
