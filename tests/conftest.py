"""Settings every test shares: no screen, and nothing of the user's own folders is touched."""

from __future__ import annotations

import itertools
import os
import shutil
import sqlite3
import sys
import time
from collections.abc import Iterator
from contextlib import suppress
from pathlib import Path
from typing import Any

import pytest
from hypothesis import settings

from mivrat.demo.study import demo_study_path, make_demo_study

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
settings.register_profile("mivrat", deadline=None, print_blob=True, derandomize=True, max_examples=80)
settings.load_profile("mivrat")


FOLDERS = ("XDG_DATA_HOME", "XDG_CONFIG_HOME", "XDG_STATE_HOME", "XDG_CACHE_HOME")
_HOMES = itertools.count()


@pytest.fixture(autouse=True)
def own_folders(tmp_path_factory: pytest.TempPathFactory, monkeypatch: pytest.MonkeyPatch) -> Path:
    """Point data, configuration, log and cache folders at a place of the test's own."""
    home = tmp_path_factory.getbasetemp() / f"home{next(_HOMES)}"
    for name in FOLDERS:
        monkeypatch.setenv(name, str(home / name.lower()))
    return home


@pytest.fixture(scope="session")
def demo_made(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """A home in which the demonstration study has been made; as deep as every test's own, so that its paths hold there too."""
    home = tmp_path_factory.getbasetemp() / "home-made"
    before = {name: os.environ.get(name) for name in FOLDERS}
    os.environ.update({name: str(home / name.lower()) for name in FOLDERS})
    try:
        for _ in make_demo_study(demo_study_path()):
            pass
    finally:
        for name, value in before.items():
            if value is None:
                del os.environ[name]
            else:
                os.environ[name] = value
    return home


@pytest.fixture
def demo_study(demo_made: Path, own_folders: Path) -> Path:
    """A fresh copy of the demonstration study in the test's own folders."""
    shutil.copytree(demo_made, own_folders)
    return demo_study_path()


@pytest.fixture(autouse=True)
def no_trials(request: pytest.FixtureRequest, monkeypatch: pytest.MonkeyPatch) -> None:
    """The networks of the tests are our own: only tests marked ``trials`` try them in a process of their own first."""
    if request.node.get_closest_marker("trials") is None:
        monkeypatch.setattr("mivrat.core.models.onnx_model.passes_trial", lambda *_: None)


@pytest.fixture(autouse=True)
def no_waiting_for_disks(monkeypatch: pytest.MonkeyPatch) -> None:
    """No test ends with the power cut, so none waits until a disk has what was written."""
    monkeypatch.setattr(os, "fsync", lambda _: None)


def _left_open(opened: list[tuple[sqlite3.Connection, str]]) -> list[str]:
    """Where connections were opened that are still open; those of the tests themselves left out."""
    left = []
    for connection, where in list(opened):
        try:
            connection.total_changes  # noqa: B018
        except sqlite3.ProgrammingError as error:
            if "closed" in str(error):
                continue
        if where:
            left.append(where)
    return left


@pytest.fixture(autouse=True)
def all_closed(monkeypatch: pytest.MonkeyPatch) -> Iterator[None]:
    """Fail a test in which Mivrat leaves a study's database open, and say who opened it; close what the test opened itself."""
    connect, opened = sqlite3.connect, list[tuple[sqlite3.Connection, str]]()

    def connected(*args: Any, **options: Any) -> sqlite3.Connection:
        made = connect(*args, **options)
        with suppress(sqlite3.Error):  # it is no database, as the test will find out
            made.execute("PRAGMA synchronous = OFF")
        frames, one = list[str](), sys._getframe(1)
        while one is not None and len(frames) < 5:
            if not (file := one.f_code.co_filename).endswith(("core/study/file.py", "core/base/database.py")):
                frames.append(f"{file}:{one.f_lineno} in {one.f_code.co_name}")
            one = one.f_back
        opened.append((made, "" if "/tests/" in frames[0] else "\n".join(frames)))
        return made

    monkeypatch.setattr(sqlite3, "connect", connected)
    yield
    waited = time.monotonic() + 5  # what works in the background may be about to end
    while (left := _left_open(opened)) and time.monotonic() < waited:
        time.sleep(0.02)
    for connection, _ in opened:
        try:
            connection.close()
        except sqlite3.ProgrammingError:
            continue
    assert not left, f"left open:\n{left[0]}"
