"""The figures area of the Examine step: the review, causes counted, groups by likeness, labels, images two classes fit."""

from __future__ import annotations

from PySide6.QtGui import QKeySequence, QShortcut
from PySide6.QtWidgets import QMenu, QStackedWidget, QVBoxLayout, QWidget

from mivrat.ui.examine.causes_page import CausesPage
from mivrat.ui.examine.groups_page import GroupsPage
from mivrat.ui.examine.labels_page import LabelsPage
from mivrat.ui.examine.review_page import ReviewPage
from mivrat.ui.examine.two_classes_page import TwoClassesPage
from mivrat.ui.keeper import Keeper
from mivrat.ui.pictures import Thumbnails
from mivrat.ui.reviewing import Reviewer
from mivrat.ui.session import Session
from mivrat.ui.theme import theme
from mivrat.ui.widgets import Tabs, copy_table, more_button, offer_by_right_click, row

NAMES = ("Review", "Causes", "Groups", "Labels", "Two classes")


class ExamineStep(QWidget):
    """Its pages, one at a time."""

    def __init__(self, session: Session, keeper: Keeper, reviewer: Reviewer, thumbnails: Thumbnails) -> None:
        super().__init__()
        self.session, self.tabs = session, Tabs(NAMES)
        self.review, self.causes = ReviewPage(session, keeper, reviewer), CausesPage(session)
        self.groups, self.labels = GroupsPage(session, thumbnails), LabelsPage(session, reviewer)
        self.two_classes = TwoClassesPage(session)
        self.pages = QStackedWidget()
        for page in (self.review, self.causes, self.groups, self.labels, self.two_classes):
            self.pages.addWidget(page)
        self.tabs.chosen.connect(self.pages.setCurrentIndex)
        self.groups.features_wanted.connect(keeper.find_features)
        self.groups.named.connect(self.review.keep_as)
        self.two_classes.wanted.connect(keeper.find_two_classes)
        self.more = more_button("export this page", "Copy as a table")
        menu = QMenu(self.more)
        menu.addAction("Copy as a table (Ctrl+Shift+C)").triggered.connect(lambda: self.copy_table())
        self.more.setMenu(menu)
        offer_by_right_click(self.more, self)
        QShortcut(QKeySequence("Ctrl+Shift+C"), self).activated.connect(self.copy_table)
        top = QWidget()
        line = row(self.tabs, self.more, spacing=4)
        line.setStretch(0, 1)
        top.setLayout(line)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(18, 10, 14, 0)
        layout.addWidget(top)
        layout.addWidget(self.pages, 1)
        theme.style(top, self.review, self.causes, self.groups, self.labels, self.two_classes)

    def copy_table(self) -> None:
        """Put what the page shows on the clipboard, as comma-separated values."""
        page = self.pages.currentWidget()
        assert page is not None
        copy_table(page.as_table())  # type: ignore[attr-defined]

    @property
    def settled(self) -> bool:
        """Whether nothing is still being worked out."""
        return all(part.settled for part in (self.review, self.groups, self.labels))

    def stop(self) -> None:
        for part in (self.review, self.groups, self.labels):
            part.stop()
