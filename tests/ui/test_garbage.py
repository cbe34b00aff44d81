"""Garbage is collected on the main thread only."""

from __future__ import annotations

import gc
import threading

from PySide6.QtCore import QObject
from PySide6.QtWidgets import QApplication
from pytestqt.qtbot import QtBot

from mivrat.ui.garbage import MainThreadCollector


def test_widgets_in_a_cycle_are_destroyed_on_the_main_thread(qtbot: QtBot, qapp: QApplication) -> None:
    """A worker that makes much garbage collects none of it; the timer on the main thread does."""
    assert not gc.isenabled()
    where: list[str] = []

    class Told(QObject):
        def __del__(self) -> None:
            where.append(threading.current_thread().name)

    told = Told()
    told.itself = told  # type: ignore[attr-defined]
    del told

    def litter() -> None:
        for _ in range(30_000):
            loop: list[object] = []
            loop.append(loop)

    worker = threading.Thread(target=litter, name="worker")
    worker.start()
    worker.join()
    assert where == []
    collector = qapp.findChildren(MainThreadCollector)[0]
    for _ in range(60):
        collector.collect()
        if where:
            break
        litter()
    gc.collect()
    assert where == ["MainThread"]
