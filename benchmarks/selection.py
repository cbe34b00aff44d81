"""From a click to repainted figures and light table with 50,000 images and 1,000 classes, and the longest stall."""

from __future__ import annotations

import os
import statistics
import sys
import tempfile
import time
from collections.abc import Callable, Sequence
from itertools import pairwise
from pathlib import Path

os.environ["QT_QPA_PLATFORM"] = "offscreen"

import numpy as np
from PySide6.QtCore import QSettings, QTimer
from PySide6.QtWidgets import QApplication

from benchmarks.opening import CLASSES, make_study
from benchmarks.screens import wait
from mivrat.core.selecting.selection import Condition, Confidence, Labelled, Outcome, Predicted
from mivrat.ui.application import make_application
from mivrat.ui.window import BENCH, MainWindow


def repainted(window: MainWindow, steps: int, choose: Callable[[int], Sequence[Condition]]) -> list[float]:
    """Milliseconds from each selection to the repainted window."""
    taken = []
    for step in range(steps):
        some = choose(step)
        QApplication.processEvents()
        began = time.perf_counter()
        window.workspace.shown.replace(*some)
        window.repaint()
        QApplication.processEvents()
        taken.append(1000 * (time.perf_counter() - began))
        wait(lambda: window.bench.thumbnails.settled, 20)
    return taken


def main() -> None:
    make_application()
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "s.mivrat"
        make_study(path)
        window = MainWindow(QSettings(f"{folder}/settings.ini", QSettings.Format.IniFormat))
        window.show()
        ticks: list[float] = []
        timer = QTimer(interval=0)
        timer.timeout.connect(lambda: ticks.append(time.perf_counter()))
        timer.start()
        window.open_study(path)
        wait(lambda: window.pages.currentIndex() == BENCH)
        opening = max(b - a for a, b in pairwise(ticks))
        wait(
            lambda: (
                not window.workspace.reading.busy and window.bench.measure.settled and window.bench.thumbnails.settled
            )
        )
        rng = np.random.default_rng(0)
        ticks.clear()

        def choose(step: int) -> Sequence[Condition]:
            window.bench.measure.tabs.choose(step % 5)
            k = int(rng.integers(CLASSES))
            return [
                (
                    Labelled(frozenset({k})),
                    Predicted(frozenset({k})),
                    Outcome(frozenset({"wrong"})),
                    Confidence(frozenset({(0.2, 0.4)})),
                )[step % 4]
            ]

        milliseconds = repainted(window, 60, choose)
        stall = max(b - a for a, b in pairwise(ticks))
        print(
            f"selection to repainted: median {statistics.median(milliseconds):.0f} ms, worst {max(milliseconds):.0f} ms; "
            f"longest stall meanwhile {1000 * stall:.0f} ms, while opening {1000 * opening:.0f} ms"
        )
        window.close()


if __name__ == "__main__":
    main()
    sys.stdout.flush()
    os._exit(0)
