"""The start page stands before the workbench is loaded; what is asked for meanwhile is done once it can be."""

from __future__ import annotations

import subprocess
import sys
from pathlib import Path

import pytest
from PySide6.QtCore import QSettings, Qt
from pytestqt.qtbot import QtBot

from mivrat.ui.window import BENCH, NEW, START, MainWindow

IN_A_PROCESS_OF_ITS_OWN = """
import sys, time
from pathlib import Path
from PySide6.QtCore import QSettings, Qt
from PySide6.QtTest import QTest
from mivrat.ui.application import make_application
from mivrat.ui.window import BENCH, MainWindow
application = make_application()
window = MainWindow(QSettings(sys.argv[1] + "/settings.ini", QSettings.Format.IniFormat), at_once=False)
window.show()
application.processEvents()
print("early", "mivrat.ui.bench" in sys.modules, window.start.demo.isVisible())
window.load()
QTest.mouseClick(window.start.demo, Qt.MouseButton.LeftButton)
print(window.foot.what.text())
end = time.monotonic() + 60
while time.monotonic() < end and not (window.settled and window.pages.currentIndex() == BENCH):
    application.processEvents()
    time.sleep(0.01)
print(window.bench.header.value.text(), len(window.workspace.shown.images))
window.close()
"""


@pytest.mark.usefixtures("demo_study")
def test_a_click_on_the_start_page_is_kept_until_all_is_loaded(tmp_path: Path) -> None:
    found = subprocess.run(
        [sys.executable, "-c", IN_A_PROCESS_OF_ITS_OWN, str(tmp_path)], capture_output=True, text=True, check=True
    )
    early, waiting, shown = found.stdout.splitlines()
    assert early == "early False True"
    assert waiting == "Getting ready …"
    assert shown == "83.0 % 400"


def test_the_last_wish_counts_and_a_window_closed_early_closes(qtbot: QtBot, settings: QSettings) -> None:
    window = MainWindow(settings, at_once=False)
    qtbot.addWidget(window)
    window.show()
    for button in (window.start.demo, window.start.new):
        qtbot.mouseClick(button, Qt.MouseButton.LeftButton)
    assert window.pages.currentIndex() == START
    assert not window.settled
    window.load()
    qtbot.waitUntil(lambda: window.pages.currentIndex() == NEW, timeout=20000)
    assert not window.foot.what.isVisible()
    assert window.pages.widget(BENCH) is window.bench
    early = MainWindow(settings, at_once=False)
    early.show()
    assert early.close()
