"""Keeps the keyboard's focus while a job goes on: what began it is disabled then, and what is typed must go nowhere else."""

from __future__ import annotations

from PySide6.QtCore import QObject, Qt
from PySide6.QtWidgets import QApplication, QWidget

from mivrat.ui.parts.widgets import Waiting
from mivrat.workspace.workspace import Workspace

TAB = Qt.FocusPolicy.TabFocus


class WaitingFocus(QObject):
    """Moves the focus to ``waiting`` where a job takes it away, and back to where it was once the job has ended."""

    def __init__(self, workspace: Workspace, place: QWidget, waiting: Waiting) -> None:
        super().__init__(place)
        self._workspace, self._place, self._waiting = workspace, place, waiting
        self._before: QWidget | None = None
        workspace.topics.busy.connect(self._come_back, always=True)
        application = QApplication.instance()
        if isinstance(application, QApplication):
            application.focusChanged.connect(self._moved)

    def _come_back(self) -> None:
        if self._workspace.busy:
            return
        before, self._before = self._before, None
        if before is not None and self._waiting.hasFocus():
            try:
                following: QWidget | None = before
                while following is not None and not (
                    following.isVisible() and following.isEnabled() and following.focusPolicy() & TAB
                ):
                    following = following.nextInFocusChain()  # what had it may be of no more use
                    if following is before:
                        return
                assert following is not None
                following.setFocus(Qt.FocusReason.OtherFocusReason)
            except RuntimeError:  # it is gone since
                return

    def _moved(self, old: QWidget | None, new: QWidget | None) -> None:
        """The focus has moved on by itself, since what had it was disabled by a job that began."""
        if self._workspace.busy and old is not None and new is not None and new is not self._waiting:
            try:
                lost = not old.isEnabled() and self._place.window().isAncestorOf(old) and old.isVisible()
            except RuntimeError:
                return
            if lost:
                self._before = old
                self._waiting.setFocus(Qt.FocusReason.OtherFocusReason)
