"""Brings up to date what is shown, at once; what is not shown, once it is."""

from __future__ import annotations

from collections.abc import Callable

from PySide6.QtCore import QEvent, QObject
from PySide6.QtWidgets import QWidget


class Late(QObject):
    """Calls ``refresh`` when asked if the widget is shown, else when it is shown next."""

    def __init__(self, widget: QWidget, refresh: Callable[[], object]) -> None:
        super().__init__(widget)
        self._widget, self._refresh, self._due = widget, refresh, False
        widget.installEventFilter(self)

    def ask(self) -> None:
        """Something has changed."""
        if self._widget.isVisible():
            self._refresh()
        else:
            self._due = True

    def eventFilter(self, watched: QObject, event: QEvent) -> bool:
        if event.type() == QEvent.Type.Show and self._due:
            self._due = False
            self._refresh()
        return False
