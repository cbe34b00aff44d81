"""The figures area of the Measure step: its tabs and their pages, what they are figures of, and taking them elsewhere."""

from __future__ import annotations

from pathlib import Path

from PySide6.QtCore import QPoint, QRect
from PySide6.QtGui import QImage, QKeySequence, QPainter, QShortcut
from PySide6.QtSvg import QSvgGenerator
from PySide6.QtWidgets import QFileDialog, QMenu, QStackedWidget, QVBoxLayout, QWidget

from mivrat.ui.flow import flowing
from mivrat.ui.keeper import Keeper
from mivrat.ui.measure.class_page import ClassesPage
from mivrat.ui.measure.confusions import Confusions
from mivrat.ui.measure.group_table import GroupTable
from mivrat.ui.measure.headline import Headline
from mivrat.ui.measure.measurer import Measurer
from mivrat.ui.measure.reliability import Reliability
from mivrat.ui.session import Session
from mivrat.ui.theme import theme
from mivrat.ui.widgets import Choice, Tabs, copy_table, more_button, offer_by_right_click, row, tip

NAMES = ("Headline", "Classes", "Confusions", "Confidence", "Groups")
SCOPES = ("all images", "the selection")


class MeasureStep(QWidget):
    """Headline, classes, confusions, confidence and groups, one at a time, of all images or of the selection."""

    def __init__(self, session: Session, keeper: Keeper) -> None:
        super().__init__()
        self.session, self.tabs, self.measurer = session, Tabs(NAMES), Measurer(session, self)
        self.headline, self.classes_page = Headline(session, keeper), ClassesPage(session)
        self.class_table = self.classes_page.table
        self.confusions, self.reliability = Confusions(session), Reliability(session, keeper)
        self.groups = GroupTable(session)
        self.pages = QStackedWidget()
        for page in (self.headline, self.classes_page, self.confusions, self.reliability, self.groups):
            self.pages.addWidget(page)
        self.tabs.chosen.connect(self.pages.setCurrentIndex)
        self.scope = Choice(SCOPES, "figures of")
        tip(self.scope, "What these figures are of: all images, or those of the selection")
        self.scope.currentIndexChanged.connect(lambda i: self.measurer.follow_selection(i == 1))
        self.more = more_button("export these figures", "Copy as a table, save as a picture")
        menu = QMenu(self.more)
        menu.addAction("Copy as a table (Ctrl+Shift+C)").triggered.connect(lambda: self.copy_table())
        menu.addAction("Save as a picture…").triggered.connect(lambda: self._choose_picture())
        self.more.setMenu(menu)
        offer_by_right_click(self.more, self.pages)
        QShortcut(QKeySequence("Ctrl+Shift+C"), self).activated.connect(self.copy_table)
        top, beside = QWidget(), QWidget()
        beside.setLayout(row(self.scope, self.more, spacing=4))
        top.setLayout(flowing(self.tabs, beside, spacing=12))
        theme.style(top, self.headline, self.classes_page, self.confusions, self.reliability, self.groups)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(18, 10, 14, 0)
        layout.addWidget(top)
        layout.addWidget(self.pages, 1)

    def copy_table(self) -> None:
        """Put what the page shows on the clipboard, as comma-separated values."""
        page = self.pages.currentWidget()
        assert page is not None
        copy_table(page.as_table())  # type: ignore[attr-defined]

    def _choose_picture(self) -> None:
        name = NAMES[self.tabs.current].lower()
        found, _ = QFileDialog.getSaveFileName(self, "Save as a picture", f"{name}.png", "Pictures (*.png *.svg)")
        if found:
            self.save_picture(Path(found))

    def save_picture(self, path: Path) -> None:
        """Draw the page into a file: SVG where its name ends so, else PNG at twice the screen's size."""
        page = self.pages.currentWidget()
        assert page is not None
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

    @property
    def settled(self) -> bool:
        """Whether nothing is still being worked out."""
        return all(
            part.settled for part in (self.measurer, self.groups, self.confusions, self.classes_page, self.reliability)
        )

    def stop(self) -> None:
        for part in (self.measurer, self.groups, self.confusions, self.classes_page, self.reliability):
            part.stop()
