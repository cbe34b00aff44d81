"""The real window on an offscreen screen, with settings of its own."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from pathlib import Path

import pytest
from PySide6.QtCore import QSettings
from PySide6.QtWidgets import QApplication
from pytestqt.qtbot import QtBot

from mivrat.ui.application import make_application
from mivrat.ui.parts.loop import QtLoop
from mivrat.ui.parts.pictures import Thumbnails
from mivrat.ui.window import BENCH, MainWindow
from mivrat.workspace.executors import Executor
from mivrat.workspace.workspace import Workspace
from tests.support.workspaces import made_up_run, opened


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


@pytest.fixture
def workspace(qapp: object, tmp_path: Path) -> Workspace:
    return opened(made_up_run(tmp_path, 4, 60), QtLoop())


@pytest.fixture
def thumbnails(qapp: object) -> Iterator[Thumbnails]:
    made = Thumbnails(Executor(QtLoop()), most=40)
    yield made
    made.stop()
