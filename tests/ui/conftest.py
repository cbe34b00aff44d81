"""The real window on an offscreen screen, with settings of its own."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from pathlib import Path

import pytest
from PySide6.QtCore import QSettings
from PySide6.QtWidgets import QApplication
from pytestqt.qtbot import QtBot

from mivrat.ui.application import make_application
from mivrat.ui.window import BENCH, MainWindow


@pytest.fixture(scope="session")
def qapp() -> QApplication:
    return make_application()


@pytest.fixture
def settings(tmp_path: Path) -> QSettings:
    return QSettings(str(tmp_path / "settings.ini"), QSettings.Format.IniFormat)


@pytest.fixture
def window(qtbot: QtBot, settings: QSettings, demo_study: Path) -> Iterator[MainWindow]:
    """A window on the start page; the demonstration is made already, so that it opens at once."""
    made = MainWindow(settings)
    made.resize(1280, 800)
    made.show()
    qtbot.waitExposed(made)
    yield made
    made.close()
    made.deleteLater()


@pytest.fixture
def settle(qtbot: QtBot, window: MainWindow) -> Callable[[], None]:
    """Waits until no worker has anything to do."""

    def wait() -> None:
        qtbot.wait(30)
        qtbot.waitUntil(lambda: window.settled, timeout=30000)
        qtbot.wait(30)

    return wait


@pytest.fixture
def demo(qtbot: QtBot, window: MainWindow, settle: Callable[[], None]) -> MainWindow:
    """The window on the demonstration."""
    window.open_demo()
    qtbot.waitUntil(lambda: window.pages.currentIndex() == BENCH, timeout=30000)
    settle()
    return window
