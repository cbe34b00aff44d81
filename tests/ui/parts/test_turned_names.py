"""Names with characters that turn the direction of writing round change nothing of what stands beside them in the window."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

from PySide6.QtWidgets import QAbstractItemView, QLabel, QPushButton
from pytestqt.qtbot import QtBot

from mivrat.core.pictures.image_sets import read_image_set
from mivrat.core.running.evaluation import Evaluation
from mivrat.core.study.file import Study
from mivrat.ui.bench import MEASURE
from mivrat.ui.window import MainWindow
from tests.support.networks import classifier, loaded
from tests.support.sets import write_set

TURNS = set("\u202a\u202b\u202c\u202d\u202e\u2066\u2067\u2068\u2069")


def test_no_name_turns_what_is_shown(
    qtbot: QtBot, window: MainWindow, settle: Callable[[], None], tmp_path: Path
) -> None:
    names = ["plain", "gnp\u202egnp", "\u2067abc"]
    images = read_image_set(write_set(tmp_path / "set", 6, classes=["plain", "one", "two"]), ["plain", "one", "two"])
    study = Study.create(tmp_path / "s.mivrat", names)
    for _ in Evaluation(loaded(classifier(classes=3), tmp_path / "m.onnx", 3), images, study).run():
        pass
    study.close()
    window.open_study(tmp_path / "s.mivrat")
    settle()
    window.bench.show_step(MEASURE)
    for page in range(4):
        window.bench.measure.choose(page)
        settle()
        texts = [one.text() for kind in (QLabel, QPushButton) for one in window.findChildren(kind)]
        for table in window.findChildren(QAbstractItemView):
            model = table.model()
            if model is not None and table.isVisible():
                texts += [
                    str(model.index(r, c).data())
                    for r in range(min(20, model.rowCount()))
                    for c in range(model.columnCount())
                ]
        turned = [text for text in texts if TURNS & set(text)]
        assert not turned, turned
    assert any("\\u202e" in text for text in texts)
