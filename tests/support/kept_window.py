"""The window that tests of the interface are given one after the other."""

from __future__ import annotations

import gc
import time

from PySide6.QtCore import QCoreApplication, QEvent, QSettings
from PySide6.QtTest import QTest

from mivrat.ui.theme import theme
from mivrat.ui.window import MainWindow


class KeptWindow:
    """One window in which study after study is opened, as a user does; a new one where it was left unfit for another."""

    def __init__(self, settings: QSettings) -> None:
        self._settings, self._spoilt = settings, False
        self.window: MainWindow | None = None

    def get(self) -> MainWindow:
        if self.window is None:
            self.window = MainWindow(self._settings)
            self.window.show()
        theme.use("paper")
        self.window.resize(1280, 800)
        self.window.activateWindow()
        self.window.show_start()
        return self.window

    def leave(self) -> None:
        """Close the study; the window too where it cannot be used again."""
        window = self.window
        assert window is not None
        if window.isVisible():
            window.stop_job()
            waited = time.monotonic() + 20
            while window.workspace.busy and time.monotonic() < waited:
                QTest.qWait(1)
            window.close_study()
        if self._spoilt or not window.isVisible() or window.workspace.is_open:
            self.drop()

    def spoil(self) -> None:
        """The test puts something of its own into the window, which goes with it."""
        self._spoilt = True

    def drop(self) -> None:
        if self.window is not None:
            self.window.close()
            self.window.deleteLater()
            QCoreApplication.sendPostedEvents(None, QEvent.Type.DeferredDelete)
            self.window, self._spoilt = None, False
            gc.collect()
