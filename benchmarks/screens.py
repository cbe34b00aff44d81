"""Waits for a window while its events go on."""

from __future__ import annotations

import time
from collections.abc import Callable

from PySide6.QtWidgets import QApplication


def wait(condition: Callable[[], bool], seconds: float = 300) -> None:
    """Let events go on until a condition holds."""
    until = time.monotonic() + seconds
    while not condition():
        if time.monotonic() > until:
            raise TimeoutError
        QApplication.processEvents()
        time.sleep(0.001)
