"""Collects Python's garbage on the main thread only: a widget that a worker's collection destroyed would end the program."""

from __future__ import annotations

import gc

from PySide6.QtCore import QObject, QTimer

MILLISECONDS = 500


class MainThreadCollector(QObject):
    """Turns automatic collection off and collects by timer instead, a generation at a time, by Python's own thresholds."""

    def __init__(self, parent: QObject) -> None:
        super().__init__(parent)
        self._thresholds = gc.get_threshold()
        gc.disable()
        self._timer = QTimer(self, interval=MILLISECONDS)
        self._timer.timeout.connect(self.collect)
        self._timer.start()

    def collect(self) -> None:
        """Collect the oldest generation that is due."""
        counts = gc.get_count()
        for generation in (2, 1, 0):
            if counts[generation] > self._thresholds[generation]:
                gc.collect(generation)
                return
