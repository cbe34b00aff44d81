"""The figures area of the Measure step: its tabs and their pages."""

from __future__ import annotations

from PySide6.QtWidgets import QStackedWidget, QVBoxLayout, QWidget

from mivrat.ui.measure.class_table import ClassTable
from mivrat.ui.measure.confusions import Confusions
from mivrat.ui.measure.headline import Headline
from mivrat.ui.measure.reliability import Reliability
from mivrat.ui.session import Session
from mivrat.ui.theme import theme
from mivrat.ui.widgets import Tabs

NAMES = ("Headline", "Classes", "Confusions", "Confidence")


class MeasureStep(QWidget):
    """Headline, classes, confusions and confidence, one at a time."""

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.tabs = Tabs(NAMES)
        self.headline, self.class_table = Headline(session), ClassTable(session)
        self.confusions, self.reliability = Confusions(session), Reliability(session)
        self.pages = QStackedWidget()
        for page in (self.headline, self.class_table, self.confusions, self.reliability):
            self.pages.addWidget(page)
        self.tabs.chosen.connect(self.pages.setCurrentIndex)
        theme.style(self.tabs, self.headline, self.class_table, self.confusions, self.reliability)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(18, 10, 14, 0)
        layout.addWidget(self.tabs)
        layout.addWidget(self.pages, 1)
