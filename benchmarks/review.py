"""A scripted review by keys: what the interface itself takes per image; and reviews killed in the middle: what is kept."""

from __future__ import annotations

import os
import random
import signal
import statistics
import subprocess
import sys
import tempfile
import time
from pathlib import Path

from mivrat.core.study.runs import list_runs

os.environ["QT_QPA_PLATFORM"] = "offscreen"

from PySide6.QtCore import QSettings, Qt
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication

from benchmarks.screens import wait
from mivrat.core.selecting.selection import Outcome
from mivrat.core.study.file import Study
from mivrat.core.study.reviews import load_reviews
from mivrat.demo.study import demo_study_path, make_demo_study
from mivrat.ui.application import make_application
from mivrat.ui.bench import EXAMINE
from mivrat.ui.window import BENCH, MainWindow

IMAGES, KILLS = 100, 20
DIGITS = (Qt.Key.Key_1, Qt.Key.Key_2, Qt.Key.Key_3, Qt.Key.Key_4, Qt.Key.Key_5, Qt.Key.Key_6)


def opened(folder: str) -> MainWindow:
    """The window on the demonstration's mistakes, all of them unreviewed."""
    make_application()
    for _ in make_demo_study(demo_study_path()):
        pass
    study = Study.open(demo_study_path())
    with study.writing() as db:
        db.execute("DELETE FROM review")
        db.execute("DELETE FROM setting WHERE key LIKE 'place of run %'")
    study.close()
    window = MainWindow(QSettings(f"{folder}/settings.ini", QSettings.Format.IniFormat))
    window.show()
    window.open_demo()
    wait(lambda: window.pages.currentIndex() == BENCH)
    window.bench.show_step(EXAMINE)
    window.workspace.shown.replace(Outcome(frozenset({"wrong", "right"})))
    window.bench.light_table.thumbs.setFocus()
    wait(lambda: not window.workspace.reading.busy and window.bench.measure.settled and window.bench.close_look.settled)
    return window


def press(window: MainWindow, key: Qt.Key) -> None:
    target = window.focusWidget()
    assert target is not None
    QTest.keyClick(target, key)


def speed(folder: str) -> None:
    """Next image by Right, a cause by its digit: time until both are painted, the heatmaps' own time left aside."""
    window = opened(folder)
    press(window, Qt.Key.Key_Home)
    press(window, Qt.Key.Key_Return)
    taken = []
    for number in range(IMAGES):
        began = time.perf_counter()
        press(window, Qt.Key.Key_Right)
        QApplication.processEvents()
        press(window, DIGITS[number % len(DIGITS)])
        QApplication.processEvents()
        taken.append(1000 * (time.perf_counter() - began))
        wait(lambda: window.bench.close_look.settled)
    window.workspace.writing.wait()
    kept = len(window.workspace.shown.reviews.by_position)
    print(
        f"{IMAGES} images with a cause each: the interface takes {statistics.median(taken):.1f} ms an image "
        f"(worst {max(taken):.1f}); {kept} kept"
    )
    window.close()


def be_killed(folder: str) -> None:
    """Review until killed, saying each image once its key has been dealt with."""
    window = opened(folder)
    press(window, Qt.Key.Key_Home)
    press(window, Qt.Key.Key_Return)
    while True:
        press(window, Qt.Key.Key_Right)
        press(window, DIGITS[0])
        print(window.workspace.shown.focus.current, flush=True)
        QApplication.processEvents()


def kills() -> None:
    rng, lost, pressed = random.Random(0), [], 0
    number = 4 if "--quick" in sys.argv else KILLS
    for _ in range(number):
        with tempfile.TemporaryDirectory() as home:
            places = dict.fromkeys(("XDG_DATA_HOME", "XDG_CACHE_HOME", "XDG_CONFIG_HOME"), home)
            command = [sys.executable, "-m", "benchmarks.review", "--be-killed", home]
            process = subprocess.Popen(command, stdout=subprocess.PIPE, text=True, env=os.environ | places)
            assert process.stdout is not None
            told = [int(process.stdout.readline())]
            time.sleep(rng.uniform(0.1, 1.5))
            process.send_signal(signal.SIGKILL)
            told += [int(line) for line in process.stdout.read().split("\n") if line.strip().isdigit()]
            process.wait()
            study = Study.open(Path(home) / "mivrat" / "demonstration.mivrat")
            kept = load_reviews(study, next(one.set_id for one in list_runs(study))).by_position
            study.close()
            lost.append(sum(i not in kept for i in dict.fromkeys(told)))
            pressed += len(told)
    print(
        f"killed {number} times after {pressed} keys in all: decisions lost {sum(lost)}, at most {max(lost)} at a time"
    )


def main() -> None:
    with tempfile.TemporaryDirectory() as folder:
        if "--be-killed" in sys.argv:
            be_killed(sys.argv[-1])
        speed(folder)
    kills()


if __name__ == "__main__":
    main()
    sys.stdout.flush()
    os._exit(0)
