"""Memory and threads over a long time of scripted use: every step, page, method and run of the demonstration, again and again.

``python -m benchmarks.long_use [minutes]`` prints both once a tenth of the time. Neither may keep growing.
"""

from __future__ import annotations

import gc
import os
import random
import sys
import tempfile
import threading
import time
from collections.abc import Callable
from pathlib import Path

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
if __name__ == "__main__":
    _home = tempfile.TemporaryDirectory(prefix="mivrat-use-")
    for _name in ("XDG_DATA_HOME", "XDG_CONFIG_HOME", "XDG_STATE_HOME", "XDG_CACHE_HOME"):
        os.environ[_name] = str(Path(_home.name) / _name.lower())

from PySide6.QtCore import QEventLoop, QSettings, Qt, QTimer
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication

from mivrat.core.selecting.selection import Outcome
from mivrat.demo.study import demo_study_path, make_demo_study
from mivrat.ui.application import make_application
from mivrat.ui.window import MainWindow


def resident() -> float:
    """Memory in use by this process, in MB."""
    pages = int(Path("/proc/self/statm").read_text().split()[1])
    return pages * os.sysconf("SC_PAGE_SIZE") / 1e6


def threads() -> int:
    """Threads of this process, those of libraries included."""
    return len(list(Path("/proc/self/task").iterdir()))


class User:
    """Uses the window at random, by the seed."""

    def __init__(self, window: MainWindow, seed: int = 0) -> None:
        self.window, self.random = window, random.Random(seed)
        self.done = 0

    def settle(self, seconds: float = 30) -> None:
        """Wait until no worker has anything to do."""
        window, end, quiet = self.window, time.monotonic() + seconds, 0
        while time.monotonic() < end and quiet < 4:
            loop = QEventLoop()  # a loop of its own: without one, what is to be deleted stays
            QTimer.singleShot(10, loop.quit)
            loop.exec()
            parts = (
                window.bench.close_look,
                window.bench.measure,
                window.bench.examine,
                window.bench.explain,
                window.bench.light_table,
                window.bench.thumbnails,
            )
            busy = window.workspace.busy or window.workspace.reading.busy or not all(part.settled for part in parts)
            quiet = 0 if busy else quiet + 1

    def act(self) -> None:
        """Do one thing, and wait for what comes of it."""
        self.random.choice(self._ways())()
        self.settle()
        self.done += 1

    def _ways(self) -> list[Callable[[], object]]:
        window, chance = self.window, self.random
        workspace = window.workspace
        shown = workspace.shown.images

        def page(step: int, tabs: object, count: int) -> None:
            window.bench.show_step(step)
            tabs.choose(chance.randrange(count))  # type: ignore[attr-defined]

        def look() -> None:
            if len(shown):
                workspace.shown.focus.look_at(int(chance.choice(shown.tolist())))
                window.bench.look_closely()

        def key(name: str) -> None:
            target = QApplication.focusWidget() or window.bench.light_table.thumbs
            QTest.keyClick(target, name)

        def row() -> None:
            rows = window.bench.measure.headline._rows
            if rows:
                QTest.mouseClick(chance.choice(rows), Qt.MouseButton.LeftButton)

        def method() -> None:
            window.bench.show_step(4)
            box = window.bench.explain.board.way
            box.setCurrentIndex(chance.randrange(4))
            box.activated.emit(box.currentIndex())

        def cover() -> None:
            workspace.shown.replace(Outcome(frozenset({"wrong"})))
            window.bench.show_step(4)
            window.bench.explain.tabs.choose(1)
            self.settle()
            window.bench.explain.cover.cover_selection()

        return [
            lambda: page(0, window.bench.prepare.tabs, 4),
            lambda: window.bench.show_step(1),
            lambda: page(2, window.bench.measure.tabs, 5),
            lambda: page(2, window.bench.measure.tabs, 5),
            lambda: page(3, window.bench.examine.tabs, 5),
            lambda: page(4, window.bench.explain.tabs, 5),
            lambda: page(4, window.bench.explain.tabs, 5),
            look,
            look,
            *(lambda k=k: key(k) for k in "MLTHNRS1B"),
            row,
            method,
            cover,
            workspace.shown.clear,
            workspace.shown.back,
            window.bench.leave_close_look,
            lambda: window.show_run(chance.choice(workspace.runs).id),
            lambda: window.bench.explain.explainer.make_maps(),
            window.switch_theme,
            lambda: window.resize(chance.choice([1000, 1280, 1600]), 800),
        ]


def main() -> None:
    minutes = float(sys.argv[1]) if len(sys.argv) > 1 else 20.0
    make_application()
    for _ in make_demo_study(demo_study_path()):
        pass
    window = MainWindow(QSettings(str(Path(tempfile.mkdtemp()) / "s.ini"), QSettings.Format.IniFormat))
    window.resize(1280, 800)
    window.show()
    user = User(window)
    window.open_demo()
    user.settle(120)
    began, told = time.monotonic(), 0
    print(f"{'minute':>8}{'actions':>9}{'MB':>8}{'threads':>9}{'of Python':>11}", flush=True)
    while True:
        passed = (time.monotonic() - began) / 60
        if passed >= told * minutes / 10:
            gc.collect()
            print(f"{passed:8.1f}{user.done:9}{resident():8.0f}{threads():9}{threading.active_count():11}", flush=True)
            told += 1
        if passed >= minutes:
            break
        user.act()
    window.close()


if __name__ == "__main__":
    main()
