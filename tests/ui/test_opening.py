"""Opening studies: one window at a time, folders asked for, copies saved, files dropped, what cannot be written."""

from __future__ import annotations

import shutil
from collections.abc import Callable
from pathlib import Path

import pytest
from PySide6.QtCore import QSettings, Qt
from pytestqt.qtbot import QtBot

from mivrat.core.base.errors import InputError
from mivrat.core.pictures.image_sets import read_image_set
from mivrat.core.running.evaluation import Evaluation
from mivrat.core.study.file import Study
from mivrat.core.study.lock import StudyLock
from mivrat.core.study.places import places_to_ask_about
from mivrat.ui.bench import PREPARE
from mivrat.ui.window import ASK, BENCH, START, MainWindow
from mivrat.workspace import study_edits
from tests.support.networks import classifier, loaded, saved
from tests.support.sets import CLASSES, write_set

Settle = Callable[[], None]
LEFT = Qt.MouseButton.LeftButton


@pytest.fixture
def study(tmp_path: Path) -> Path:
    """A scored study whose model and images lie beside its folder, not in it."""
    model = loaded(classifier(), tmp_path / "far" / "m.onnx", 3) if (tmp_path / "far").mkdir() is None else None
    assert model is not None
    images = read_image_set(write_set(tmp_path / "far" / "set"), CLASSES)
    made = Study.create(tmp_path / "near" / "s.mivrat", CLASSES)
    for _ in Evaluation(model, images, made).run():
        pass
    made.close()
    return tmp_path / "near" / "s.mivrat"


def test_folders_outside_are_asked_for_once(
    qtbot: QtBot, window: MainWindow, settle: Settle, study: Path, settings: QSettings
) -> None:
    far = study.parent.parent / "far"
    window.open_study(study)
    settle()
    assert window.pages.currentIndex() == ASK
    assert window.ask.places.text().splitlines() == [str(far), str(far / "set")]
    assert not window.workspace.is_open
    qtbot.keyClick(window.ask.no, Qt.Key.Key_Space)
    assert window.pages.currentIndex() == START
    window.open_study(study)
    settle()
    qtbot.mouseClick(window.ask.yes, LEFT)
    qtbot.waitUntil(lambda: window.pages.currentIndex() == BENCH, timeout=10000)
    settle()
    window.close_study()
    window.open_study(study)
    settle()
    assert window.pages.currentIndex() == BENCH
    window.close_study()
    link = far / "link"
    link.symlink_to("/etc")
    assert places_to_ask_about(study, [far / "set", link], [far]) == [link]


def test_a_second_window_is_told(qtbot: QtBot, window: MainWindow, settle: Settle, study: Path, tmp_path: Path) -> None:
    window.workspace.allow(tmp_path)
    with StudyLock(study):
        window.open_study(study)
        settle()
        assert "open in another window" in window.start.problem.text()
    window.open_study(study)
    qtbot.waitUntil(lambda: window.pages.currentIndex() == BENCH, timeout=10000)
    settle()
    with pytest.raises(InputError, match="another window"):
        StudyLock(study)
    window.close_study()
    StudyLock(study).release()


def test_a_copy_is_saved_and_gone_on_with(
    qtbot: QtBot, window: MainWindow, settle: Settle, study: Path, tmp_path: Path
) -> None:
    window.workspace.allow(tmp_path)
    window.open_study(study)
    settle()
    window.save_copy(tmp_path / "elsewhere" / "copy")
    settle()
    assert window.workspace.study_path == tmp_path / "elsewhere" / "copy.mivrat"
    assert window.workspace.shown.snapshot.counts.evaluated == 12
    StudyLock(study).release()
    window.save_copy(window.workspace.study_path)
    settle()
    assert "this very study" in window.foot.problem.full_text


def test_files_dropped_on_an_open_study_are_added(
    qtbot: QtBot, window: MainWindow, settle: Settle, study: Path, tmp_path: Path
) -> None:
    window.workspace.allow(tmp_path)
    window.open_study(study)
    settle()
    window.take_files([write_set(tmp_path / "more", per_class=2)])
    settle()
    assert window.bench.figures.currentIndex() == PREPARE
    assert window.workspace.contents is not None
    assert [one.name for one in window.workspace.contents.sets] == ["set", "more"]
    window.take_files([saved(classifier(seed=3), tmp_path / "later.onnx")])
    settle()
    assert [one.name for one in window.workspace.contents.models] == ["m", "later"]
    assert window.workspace.shown.snapshot.record.info.model == "m"  # what is looked at stays
    window.workspace.edits.take(study_edits.remove_model(window.workspace.contents.models[0]))
    settle()
    assert [run.model for run in window.workspace.runs] == ["later"]
    window.workspace.edits.undo()
    settle()
    assert sorted(run.model for run in window.workspace.runs) == ["later", "m"]


def test_a_folder_that_vanishes_during_a_run_stops_it_with_a_message(
    qtbot: QtBot, window: MainWindow, settle: Settle, study: Path, tmp_path: Path
) -> None:
    window.workspace.allow(tmp_path)
    window.open_study(study)
    settle()
    window.bench.prepare.inputs.add_images(write_set(tmp_path / "more", per_class=3), "held-out")
    settle()
    assert window.workspace.contents is not None
    model, more = window.workspace.contents.models[0], window.workspace.contents.sets[1]
    window.workspace.edits.take(study_edits.add_run("begun", model.path, more.id, model.recipe))
    settle()
    shutil.rmtree(tmp_path / "more")
    qtbot.mouseClick(window.foot.resume, LEFT)
    qtbot.waitUntil(lambda: window.workspace.jobs.going_on is None, timeout=10000)
    settle()
    assert "the folder of images is gone" in window.foot.problem.full_text
    assert window.workspace.shown.snapshot.counts.pending == 9
    assert not window.workspace.busy
