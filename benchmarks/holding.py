"""Two runs at 50,000 images and 1,000 classes: from *hold against* to its figures, from a click to repainted figures and light table
while another run is held, and the longest stall of the main thread."""

from __future__ import annotations

import os
import statistics
import sys
import tempfile
import time
from collections.abc import Sequence
from itertools import pairwise
from pathlib import Path

os.environ["QT_QPA_PLATFORM"] = "offscreen"

import numpy as np
from PySide6.QtCore import QSettings, QTimer
from PySide6.QtWidgets import QApplication

from benchmarks.opening import CLASSES, make_study
from benchmarks.screens import wait
from benchmarks.selection import repainted
from mivrat.core.comparing.holding import hold, names_of
from mivrat.core.selecting.selection import Condition, Labelled, OtherPredicted, OutcomeOfBoth, Predicted
from mivrat.ui.application import make_application
from mivrat.ui.bench import COMPARE
from mivrat.ui.window import BENCH, MainWindow


def main() -> None:
    make_application()
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "s.mivrat"
        make_study(path, models=2)
        window = MainWindow(QSettings(f"{folder}/settings.ini", QSettings.Format.IniFormat))
        window.show()
        ticks: list[float] = []
        timer = QTimer(interval=0)
        timer.timeout.connect(lambda: ticks.append(time.perf_counter()))
        timer.start()
        window.open_study(path)
        wait(lambda: window.pages.currentIndex() == BENCH)
        wait(lambda: not window.workspace.reading.busy and window.bench.measure.settled, 120)
        window.bench.show_step(COMPARE)
        shown, comparer = window.workspace.shown, window.bench.comparer
        began = time.perf_counter()
        comparer.hold(comparer.choices()[0][1][0])
        wait(lambda: shown.compared is not None, 60)
        read = time.perf_counter() - began
        wait(lambda: comparer.settled, 120)
        whole = time.perf_counter() - began
        # Both are open: laying one on the other and comparing again, to the figures on the page.
        held = shown.held
        assert held is not None
        ticks.clear()
        began = time.perf_counter()
        again = hold(held.a, held.b, names_of(held.a, held.b))
        shown.set_held(again)
        wait(lambda: shown.compared is not None and shown.compared.held is again, 60)
        window.repaint()
        QApplication.processEvents()
        both_open = time.perf_counter() - began
        wait(lambda: comparer.settled, 120)
        stall = max(b - a for a, b in pairwise(ticks))
        rng = np.random.default_rng(0)
        ticks.clear()

        def choose(step: int) -> Sequence[Condition]:
            window.bench.compare.choose(step % 3)
            k = int(rng.integers(CLASSES))
            return (
                (OutcomeOfBoth(frozenset({("fixed", "broken", "both wrong")[step % 3]}), shown.held_other),),
                (Labelled(frozenset({k})),),
                (OtherPredicted(frozenset({k}), shown.held_other),),
                (Predicted(frozenset({k})), OutcomeOfBoth(frozenset({"fixed"}), shown.held_other)),
            )[step % 4]

        milliseconds = repainted(window, 60, choose)
        longest = max(b - a for a, b in pairwise(ticks))
        print(
            f"from hold against to figures: {read:.2f} s with reading the run, {both_open:.2f} s where both are open; all intervals "
            f"after {whole:.1f} s; longest stall {1000 * stall:.0f} ms\n"
            f"selection to repainted: median {statistics.median(milliseconds):.0f} ms, worst {max(milliseconds):.0f} ms; longest "
            f"stall {1000 * longest:.0f} ms"
        )
        window.close()


if __name__ == "__main__":
    main()
    sys.stdout.flush()
    os._exit(0)
