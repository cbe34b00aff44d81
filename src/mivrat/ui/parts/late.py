"""Brings up to date what is shown, at once; what is not shown, once it is."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from PySide6.QtCore import QEvent, QObject
from PySide6.QtWidgets import QWidget

from mivrat.workspace.topics import Topic


class Late(QObject):
    """Calls ``refresh`` when one of the signals or topics tells, if the widget is shown; else when it is shown next.

    Where topics are told only while a run is open, nothing is refreshed before one is.
    """

    def __init__(self, widget: QWidget, refresh: Callable[[], object], *signals: Any) -> None:
        super().__init__(widget)
        self._widget, self._refresh, self._due = widget, refresh, False
        self._topics = [one for one in signals if isinstance(one, Topic)]
        for one in signals:
            one.connect(self.ask)
        widget.installEventFilter(self)

    def ask(self, *_: object) -> None:
        """Something has changed."""
        self._due = True
        if self._widget.isVisible():
            self._do()

    def eventFilter(self, watched: QObject, event: QEvent) -> bool:
        if event.type() == QEvent.Type.Show and self._due:
            self._do()
        return False

    def _do(self) -> None:
        if all(one.heard for one in self._topics):
            self._due = False
            self._refresh()
