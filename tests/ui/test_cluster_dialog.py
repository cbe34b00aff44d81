"""The rest of a run is scored on a cluster: asked for in the menu, with the address remembered, and refused in one line."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

import pytest
from PySide6.QtCore import Qt, QTimer
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication
from pytestqt.qtbot import QtBot

from mivrat.core.pictures.image_sets import read_image_set
from mivrat.core.running.evaluation import Evaluation
from mivrat.core.study.file import Study
from mivrat.ui.cluster_dialog import ClusterDialog
from mivrat.ui.window import BENCH, MainWindow
from tests.support.networks import classifier, loaded
from tests.support.sets import CLASSES, write_set


def ask(window: MainWindow, address: str) -> list[str]:
    """Choose the entry of the menu, type an address where it asks, and go on; what stood in the field before."""
    stood: list[str] = []

    def answer() -> None:
        dialog = QApplication.activeModalWidget()
        assert isinstance(dialog, ClusterDialog)
        stood.append(dialog.address.text())
        dialog.address.clear()
        assert not dialog.begin.isEnabled()
        QTest.keyClicks(dialog.address, address)
        QTest.keyClick(dialog.address, Qt.Key.Key_Return)

    QTimer.singleShot(50, answer)
    entry = next(one for one in window.menu.actions() if one.text() == "Score on a cluster…")
    entry.trigger()
    return stood


def test_the_rest_of_a_run_is_scored_on_a_cluster(
    qtbot: QtBot, window: MainWindow, settle: Callable[[], None], tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr("mivrat.cluster.dask_cluster.PATIENCE", 1.0)
    model = loaded(classifier(seed=4, classes=len(CLASSES)), tmp_path / "m.onnx", len(CLASSES))
    images = read_image_set(write_set(tmp_path / "set", 6, classes=CLASSES), CLASSES)
    alone = Evaluation(model, images)
    list(alone.run())
    with Study.create(tmp_path / "s.mivrat", CLASSES) as study:
        list(Evaluation(model, images, study).run(only=range(7), batch_size=4))
    window.open_study(tmp_path / "s.mivrat")
    qtbot.waitUntil(lambda: window.pages.currentIndex() == BENCH, timeout=20000)
    settle()
    shown = window.workspace.shown
    assert window.can_score_elsewhere
    assert ask(window, "tcp://127.0.0.1:1") == ["local:2"]
    qtbot.waitUntil(lambda: not window.workspace.busy, timeout=20000)
    qtbot.waitUntil(lambda: "no scheduler answers there" in window.foot.problem.full_text, timeout=5000)
    assert shown.snapshot.counts.pending == len(images.items) - 7
    assert ask(window, "local:1") == ["tcp://127.0.0.1:1"]
    qtbot.waitUntil(lambda: window.workspace.busy, timeout=5000)
    assert window.foot.what.text() == "Scoring set on local:1"
    assert window.foot.stop.isVisible()
    qtbot.waitUntil(lambda: not window.workspace.busy, timeout=60000)
    settle()
    assert shown.snapshot.counts.pending == 0
    assert shown.record.answers.rows.tobytes() == alone.answers.rows.tobytes()
    assert not window.can_score_elsewhere  # nothing is left to score
