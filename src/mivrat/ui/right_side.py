"""The right side of the workbench: the light table, the close look, or what a page puts in the light table's place."""

from __future__ import annotations

from collections.abc import Callable

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QStackedWidget, QWidget

from mivrat.ui.close_look.blind_look import BlindLook
from mivrat.ui.close_look.view import CloseLook
from mivrat.ui.light_table.table import LightTable
from mivrat.ui.theme import theme
from mivrat.workspace.workspace import Workspace


class RightSide(QStackedWidget):
    """The blind look takes the close look's place while answers are hidden. ``companion`` gives what stands in the place of the light table while the page shown is; None: the light table stays."""

    def __init__(
        self,
        workspace: Workspace,
        light_table: LightTable,
        close_look: CloseLook,
        blind_look: BlindLook,
        companion: Callable[[], QWidget | None],
    ) -> None:
        super().__init__()
        self.workspace = workspace
        self.light_table, self.close_look, self.blind_look = light_table, close_look, blind_look
        self._companion = companion
        for widget in (light_table, close_look, blind_look):
            self.addWidget(widget)
        self.setMinimumWidth(290)
        workspace.topics.blind.connect(self._look_otherwise)

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
        return self.currentWidget() in (self.close_look, self.blind_look)

    @property
    def look(self) -> CloseLook | BlindLook:
        """What shows one image large: the close look, or the blind one while answers are hidden."""
        return self.blind_look if self.workspace.is_open and self.workspace.shown.blind else self.close_look

    def look_closely(self) -> None:
        """Open the close look on the current image."""
        look = self.look
        self.setCurrentWidget(look)
        look.open()
        look.setFocus()

    def _look_otherwise(self) -> None:
        """Answers are hidden from now on, or shown again: an image that is looked at is shown the other way."""
        if self.looks_closely and self.currentWidget() is not self.look:
            self.look_closely()

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
            (self.look if self.looks_closely else self._resting()).setFocus(Qt.FocusReason.TabFocusReason)
