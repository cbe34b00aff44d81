"""The right side of the workbench: the light table, the close look, or what a page puts in the light table's place."""

from __future__ import annotations

from collections.abc import Callable

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QStackedWidget, QWidget

from mivrat.ui.close_look.view import CloseLook
from mivrat.ui.light_table.table import LightTable
from mivrat.ui.theme import theme


class RightSide(QStackedWidget):
    """``companion`` gives what stands in the place of the light table while the page shown is; None: the light table stays."""

    def __init__(self, light_table: LightTable, close_look: CloseLook, companion: Callable[[], QWidget | None]) -> None:
        super().__init__()
        self.light_table, self.close_look, self._companion = light_table, close_look, companion
        for widget in (light_table, close_look):
            self.addWidget(widget)
        self.setMinimumWidth(290)

    def _resting(self) -> QWidget:
        """What stands here while no image is looked at closely."""
        companion = self._companion()
        if companion is not None and self.indexOf(companion) < 0:
            self.addWidget(companion)
            theme.style(companion)
        return companion or self.light_table

    def follow_page(self) -> None:
        """Show what goes with the page shown; a close look stays unless the page brings a companion."""
        if not self.looks_closely or self._companion() is not None:
            self.setCurrentWidget(self._resting())

    def begin_anew(self) -> None:
        """The study was left: no companion of its pages stays."""
        if not self.looks_closely:
            self.setCurrentWidget(self.light_table)

    @property
    def looks_closely(self) -> bool:
        return self.currentWidget() is self.close_look

    def look_closely(self) -> None:
        """Open the close look on the current image."""
        self.setCurrentWidget(self.close_look)
        self.close_look.open()
        self.close_look.setFocus()

    def leave_close_look(self) -> None:
        """Go back to the light table, where one was."""
        resting = self._resting()
        self.setCurrentWidget(resting)
        (self.light_table.thumbs if resting is self.light_table else resting).setFocus()

    def take_focus(self) -> None:
        """Give the focus to what is shown here."""
        if self.currentWidget() is self.light_table:
            self.light_table.thumbs.setFocus(Qt.FocusReason.TabFocusReason)
        else:
            (self.close_look if self.looks_closely else self._resting()).setFocus(Qt.FocusReason.TabFocusReason)
