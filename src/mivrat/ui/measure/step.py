"""The figures area of the Measure step: its tabs and their pages, what they are figures of, and taking them elsewhere."""

from __future__ import annotations

from pathlib import Path

from PySide6.QtCore import QPoint, QRect
from PySide6.QtGui import QImage, QPainter
from PySide6.QtSvg import QSvgGenerator
from PySide6.QtWidgets import QFileDialog, QWidget

from mivrat.ui.measure.class_page import ClassesPage
from mivrat.ui.measure.confusions import Confusions
from mivrat.ui.measure.group_table import GroupTable
from mivrat.ui.measure.headline import Headline
from mivrat.ui.measure.reliability import Reliability
from mivrat.ui.parts.step_area import StepArea
from mivrat.ui.parts.widgets import Choice, row, tip
from mivrat.ui.parts.wrapping import flowing
from mivrat.ui.theme import theme
from mivrat.workspace.measuring import Measurer
from mivrat.workspace.workspace import Workspace

NAMES = ("Headline", "Classes", "Confusions", "Confidence", "Groups")
SCOPES = ("all images", "the selection")


class MeasureStep(StepArea):
    """Headline, classes, confusions, confidence and groups, one at a time, of all images or of the selection."""

    def __init__(self, workspace: Workspace) -> None:
        super().__init__(*NAMES)
        self.measurer = Measurer(workspace)
        self.workers.append(self.measurer)
        self.headline, self.classes_page = Headline(workspace), ClassesPage(workspace)
        self.class_table = self.classes_page.table
        self.confusions, self.reliability = Confusions(workspace), Reliability(workspace)
        self.groups = GroupTable(workspace)
        self.scope = Choice(SCOPES, "figures of")
        tip(self.scope, "What these figures are of: all images, or those of the selection")
        self.scope.currentIndexChanged.connect(lambda i: self.measurer.follow_selection(i == 1))
        self.more = self.export_button(
            "export these figures",
            "Copy as a table, save as a picture",
            ("Save as a picture…", self._choose_picture),
        )
        beside = QWidget()
        beside.setLayout(row(self.scope, self.more, spacing=4))
        self.fill(
            self.headline,
            self.classes_page,
            self.confusions,
            self.reliability,
            self.groups,
            top=flowing(self.tabs, beside, spacing=12),
        )

    def _choose_picture(self) -> None:
        name = NAMES[self.tabs.current].lower()
        found, _ = QFileDialog.getSaveFileName(self, "Save as a picture", f"{name}.png", "Pictures (*.png *.svg)")
        if found:
            self.save_picture(Path(found))

    def save_picture(self, path: Path) -> None:
        """Draw the page into a file: SVG where its name ends so, else PNG at twice the screen's size."""
        page = self.page
        size = page.size()
        if path.suffix.lower() == ".svg":
            generator = QSvgGenerator()
            generator.setFileName(str(path))
            generator.setSize(size)
            generator.setViewBox(QRect(0, 0, size.width(), size.height()))
            generator.setTitle(NAMES[self.tabs.current])
            with QPainter(generator) as painter:
                painter.fillRect(0, 0, size.width(), size.height(), theme.colour("paper"))
                page.render(painter, QPoint())
            return
        picture = QImage(size * 2, QImage.Format.Format_RGB32)
        picture.setDevicePixelRatio(2)
        picture.fill(theme.colour("paper"))
        page.render(picture)
        picture.save(str(path if path.suffix else path.with_suffix(".png")))
