"""The real window on an offscreen screen, with settings of its own."""

from __future__ import annotations

import hashlib
import pickle
import time
from collections.abc import Callable, Iterator
from dataclasses import fields
from pathlib import Path
from weakref import WeakSet

import numpy as np
import pytest
from PySide6.QtCore import QSettings
from PySide6.QtWidgets import QApplication
from pytestqt.qtbot import QtBot

from mivrat.core.answers.judged import EvaluatedRun
from mivrat.core.running.slow_figures import slow_figures
from mivrat.ui.application import make_application
from mivrat.ui.parts.loop import Debouncer, QtLoop
from mivrat.ui.parts.pictures import Thumbnails
from mivrat.ui.window import BENCH, MainWindow
from mivrat.workspace import measuring
from mivrat.workspace.executors import Executor
from mivrat.workspace.workspace import Workspace
from tests.support.kept_window import KeptWindow
from tests.support.workspaces import made_up_run, opened


@pytest.fixture(scope="session")
def qapp() -> QApplication:
    return make_application()


_FAILED = pytest.StashKey[bool]()


@pytest.hookimpl(wrapper=True)
def pytest_runtest_makereport(item: pytest.Item) -> Iterator[None]:
    report = yield
    item.stash[_FAILED] = item.stash.get(_FAILED, False) or report.failed
    return report


@pytest.fixture(scope="session")
def settings_file(tmp_path_factory: pytest.TempPathFactory) -> QSettings:
    return QSettings(str(tmp_path_factory.getbasetemp() / "settings.ini"), QSettings.Format.IniFormat)


@pytest.fixture
def settings(settings_file: QSettings) -> QSettings:
    """Settings in which nothing is kept yet."""
    settings_file.clear()
    return settings_file


@pytest.fixture(scope="session", autouse=True)
def slow_figures_once() -> Iterator[None]:
    """What is slow to work out is worked out once for the same answers: most tests open the demonstration."""
    kept: dict[str, object] = {}

    def once(judged: EvaluatedRun, among: np.ndarray | None = None) -> object:
        if judged.rows.size > 1_000_000:
            return slow_figures(judged, among)
        content = hashlib.sha256(
            pickle.dumps([getattr(judged, one.name) for one in fields(judged)] + [among])
        ).hexdigest()
        if content not in kept:
            found = slow_figures(judged, among)
            if found is None:  # it was stopped
                return None
            kept[content] = found
        return kept[content]

    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(measuring, "slow_figures", once)
        yield


@pytest.fixture(scope="session")
def kept_window(qapp: QApplication, settings_file: QSettings) -> Iterator[KeptWindow]:
    kept = KeptWindow(settings_file)
    yield kept
    kept.drop()


@pytest.fixture
def window(
    qtbot: QtBot, settings: QSettings, demo_study: Path, kept_window: KeptWindow, request: pytest.FixtureRequest
) -> Iterator[MainWindow]:
    """A window on the start page; the demonstration is made already, so that it opens at once."""
    yield kept_window.get()
    if request.node.stash.get(_FAILED, False):
        kept_window.drop()  # whatever went wrong is not to spoil the next one
    else:
        kept_window.leave()


# What waits longer than this many milliseconds is not waited for: it keeps something, or speaks up where work takes long.
LONGEST = 200
# So many turns of the main loop without anything going on are calm.
TURNS = 4


@pytest.fixture
def debouncers(monkeypatch: pytest.MonkeyPatch) -> WeakSet[Debouncer]:
    """Every debouncer that has been started; the report is not waited for longer than anything else."""
    found, start = WeakSet[Debouncer](), Debouncer.start
    monkeypatch.setattr(Debouncer, "start", lambda one: (found.add(one), start(one))[1])
    monkeypatch.setattr("mivrat.workspace.reporting.MILLISECONDS", 60)
    return found


@pytest.fixture
def settle(qtbot: QtBot, debouncers: WeakSet[Debouncer], window: MainWindow) -> Callable[[], None]:
    """Waits until no worker has anything to do, and nothing is to be done soon."""

    def wait() -> None:
        until, calm = time.monotonic() + 60, 0
        while calm < TURNS:
            assert time.monotonic() < until, "it never settles"
            qtbot.wait(1 if calm else 4)  # looking often would keep the workers from their work
            waiting = any(one.waiting and one._timer.interval() <= LONGEST for one in list(debouncers))
            calm = 0 if waiting or not window.settled else calm + 1

    return wait


@pytest.fixture
def demo(qtbot: QtBot, window: MainWindow, demo_study: Path, settle: Callable[[], None]) -> MainWindow:
    """The window on the demonstration."""
    window.open_study(demo_study)
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
