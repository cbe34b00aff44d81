"""The Check step by clicks and keys: what runs by itself, what is asked for, images, offers taken, files read again."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

import numpy as np
import pytest
from PIL import Image
from PySide6.QtCore import Qt
from PySide6.QtWidgets import QLabel
from pytestqt.qtbot import QtBot

from mivrat.core.checks.catalogue import CHECKS
from mivrat.core.models.onnx_model import OnnxModel
from mivrat.core.pictures.image_sets import list_images, match_labels
from mivrat.core.pictures.recipe import Crop, Recipe, Resize, Values
from mivrat.core.running.evaluation import Evaluation
from mivrat.core.selecting.selection import Picked
from mivrat.core.study.file import Study
from mivrat.ui.bench import CHECK
from mivrat.ui.check.step import figure_tables
from mivrat.ui.steps import check_state
from mivrat.ui.window import BENCH, MainWindow
from mivrat.workspace.jobs import QUICK
from tests.support.fitted import STRIPED, fitted, write_striped

Settle = Callable[[], None]
LEFT = Qt.MouseButton.LeftButton
RIGHT_RECIPE = Recipe(
    resize=Resize(rule="shorter-side", size=48), crop=Crop(size=(48, 48)), values=Values(mean=[0.5], std=[0.5])
)


@pytest.fixture(scope="module")
def striped(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """A classifier that has learnt, and pictures to try it on: one of them twice, one cut short."""
    root = tmp_path_factory.mktemp("striped")
    fitted(root / "net.onnx", RIGHT_RECIPE, root / "train", per_class=25)
    held = write_striped(root / "held", 12)
    first = sorted((held / "rust fine").iterdir())
    (held / "rust fine" / "again.png").write_bytes(first[0].read_bytes())
    (held / "rust fine" / "cut.png").write_bytes(first[1].read_bytes()[:700])
    return root


def made(root: Path, folder: Path, classes: list[str], recipe: Recipe) -> Path:
    """A scored study of those, by a recipe and with the classes in an order."""
    study = Study.create(folder / "s.mivrat", classes)
    images = match_labels(list_images(root / "held"), classes).image_set
    for _ in Evaluation(OnnxModel(root / "net.onnx", recipe, len(classes)), images, study).run():
        pass
    study.close()
    return folder / "s.mivrat"


def opened(qtbot: QtBot, window: MainWindow, settle: Settle, root: Path, study: Path) -> None:
    window.workspace.allow(root)
    window.open_study(study)
    qtbot.waitUntil(lambda: window.pages.currentIndex() == BENCH, timeout=10000)
    settle()
    qtbot.mouseClick(window.bench.rail.steps[CHECK], LEFT)


def accuracy(window: MainWindow) -> float:
    value = window.workspace.shown.snapshot.figures.top_k[1].value
    assert value is not None
    return value


def test_quick_ones_run_by_themselves_and_slow_ones_when_asked(
    qtbot: QtBot, window: MainWindow, settle: Settle, striped: Path, tmp_path: Path
) -> None:
    study = made(striped, tmp_path, list(STRIPED), RIGHT_RECIPE)
    opened(qtbot, window, settle, striped, study)
    check, workspace = window.bench.check, window.workspace
    assert set(workspace.shown.results.checks) == set(QUICK)
    assert check.rows["duplicates"].state == "open"
    qtbot.mouseClick(check.all, LEFT)
    assert window.foot.stop.isVisible()
    qtbot.waitUntil(lambda: window.workspace.jobs.going_on is None, timeout=30000)
    settle()
    assert set(workspace.shown.results.checks) == {check.name for check in CHECKS}
    assert (check.rows["readable"].state, check.rows["duplicates"].state) == ("look", "look")
    assert check.rows["recipe"].state == "fine"
    assert window.bench.rail.steps[CHECK].state == "look"
    assert "Copies among held-out images" in window.bench.rail.steps[CHECK].toolTip()
    row = check.rows["duplicates"]
    assert row.images.text() == "2 images"
    qtbot.mouseClick(row.images, LEFT)
    assert isinstance(workspace.shown.conditions[0], Picked)
    assert workspace.shown.order.by == "as listed"
    names = (
        [workspace.shown.snapshot.record.image_set.items[i].path for i in workspace.shown.images]
        if workspace.shown.snapshot
        else []
    )
    assert sorted(names) == ["rust fine/0-000.png", "rust fine/again.png"]
    workspace.shown.clear()
    assert workspace.shown.order.by == "confident mistakes"
    row.setFocus()
    qtbot.keyClick(row, Qt.Key.Key_Return)
    assert row.details.isVisible()
    assert "counts twice" in "\n".join(one.text() for one in row.details.findChildren(QLabel))
    qtbot.keyClick(row, Qt.Key.Key_Down)
    assert not row.hasFocus()
    window.close_study()
    opened(qtbot, window, settle, striped, study)
    assert check.rows["duplicates"].state == "look"
    assert workspace.shown.results.checks["recipe"].answered == 74


def test_a_file_made_whole_is_read_again(
    qtbot: QtBot, window: MainWindow, settle: Settle, striped: Path, tmp_path: Path
) -> None:
    opened(qtbot, window, settle, striped, made(striped, tmp_path, list(STRIPED), RIGHT_RECIPE))
    cut = striped / "held" / "rust fine" / "cut.png"
    before = cut.read_bytes()
    try:
        rng = np.random.default_rng(0)
        Image.fromarray(rng.integers(0, 256, (70, 110, 3), dtype=np.uint8)).save(cut)
        window.workspace.jobs.check(("readable",))
        qtbot.waitUntil(lambda: window.workspace.jobs.going_on is None, timeout=10000)
        settle()
        assert window.bench.check.rows["changed"].state == "stop"
        assert window.bench.header.badge.text() == "1 unreadable"
        qtbot.mouseClick(window.bench.check.rows["changed"].again, LEFT)
        qtbot.waitUntil(lambda: window.workspace.jobs.going_on is None, timeout=10000)
        settle()
        assert window.bench.header.badge.text() == ""
        assert window.bench.check.rows["changed"].state == "fine"
    finally:
        cut.write_bytes(before)


def test_another_class_order_is_found_and_taken_back(
    qtbot: QtBot, window: MainWindow, settle: Settle, striped: Path, tmp_path: Path
) -> None:
    turned = sorted(STRIPED)
    opened(qtbot, window, settle, striped, made(striped, tmp_path, turned, RIGHT_RECIPE))
    row = window.bench.check.rows["class-order"]
    assert row.state == "stop"
    assert window.bench.rail.steps[CHECK].state == "stop"
    low = accuracy(window)
    assert row.adopt.text() == "Use this class order"
    qtbot.mouseClick(row.adopt, LEFT)
    settle()
    assert accuracy(window) > 0.9 > 0.6 > low
    assert window.workspace.shown.classes == list(STRIPED)
    assert window.bench.check.rows["class-order"].state == "fine"
    qtbot.keyClick(window, Qt.Key.Key_Z, Qt.KeyboardModifier.ControlModifier)
    settle()
    assert accuracy(window) == low
    assert window.bench.check.rows["class-order"].state == "stop"


def test_a_better_recipe_is_found_and_adopted(
    qtbot: QtBot, window: MainWindow, settle: Settle, striped: Path, tmp_path: Path
) -> None:
    wrong = RIGHT_RECIPE.model_copy(update={"values": Values()})
    opened(qtbot, window, settle, striped, made(striped, tmp_path, list(STRIPED), wrong))
    low = accuracy(window)
    qtbot.mouseClick(window.bench.check.rows["recipe"].run, LEFT)
    qtbot.waitUntil(lambda: window.workspace.jobs.going_on is None, timeout=30000)
    settle()
    assert window.bench.check.rows["recipe"].state == "stop"
    qtbot.mouseClick(window.bench.check.rows["recipe"].adopt, LEFT)
    settle()
    snapshot = window.workspace.shown.snapshot
    assert snapshot.record.recipe.value_ranges()[0] == pytest.approx((-1, 1))
    assert len(window.workspace.runs) == 2
    qtbot.waitUntil(
        lambda: "recipe" in window.workspace.shown.results.checks and window.workspace.jobs.going_on is None,
        timeout=30000,
    )
    settle()
    assert window.workspace.shown.snapshot.counts.pending == 0  # it was scored, and checked again
    assert window.bench.check.rows["recipe"].state == "fine"
    assert (
        "always saying the commonest class" in window.workspace.shown.results.checks["recipe"].result.sentence.lower()
    )
    assert accuracy(window) > 0.9 > low


def test_a_missing_model_stops_and_says_so(
    qtbot: QtBot, window: MainWindow, settle: Settle, striped: Path, tmp_path: Path
) -> None:
    study = made(striped, tmp_path, list(STRIPED), RIGHT_RECIPE)
    (striped / "net.onnx").rename(striped / "gone.onnx")
    try:
        opened(qtbot, window, settle, striped, study)
        assert window.bench.check.rows["outputs"].state == "stop"
        assert "net.onnx" in window.bench.check.rows["outputs"].sentence.text()
    finally:
        (striped / "gone.onnx").rename(striped / "net.onnx")


def test_figures_of_checks_as_tables() -> None:
    plain, listed = figure_tables(
        {
            "images": 12000,
            "unknown_labels": {"oak": 2},
            "orders": [{"name": "alphabetical", "accuracy": 0.5, "p": 1e-9}] * 20,
            "ratio": 1.25,
            "empty": [],
            "whole": True,
        }
    )
    assert plain == [
        ("images", "12\u202f000"),
        ("unknown labels", "oak: 2"),
        ("ratio", "1.250"),
        ("empty", "none"),
        ("whole", "yes"),
    ]
    assert listed[:2] == [("name", "accuracy", "p"), ("alphabetical", "50.0 %", "< 0.0001")]
    assert listed[-1] == ("and 8 more",)


def test_a_check_is_answered_once_and_for_this_content(qtbot: QtBot, demo: MainWindow, settle: Settle) -> None:
    step, workspace = demo.bench.check, demo.workspace
    demo.bench.show_step(CHECK)
    workspace.jobs.check(("readable",))
    settle()
    asked = [name for name, one in step.rows.items() if one.state in ("look", "stop")]
    row = step.rows[asked[0]]
    state = check_state(workspace)
    qtbot.mouseClick(row.reply, LEFT)
    assert row.answer.hasFocus()
    qtbot.keyClicks(row.answer, "looked: this station has a darker camera")
    qtbot.keyClick(row.answer, Qt.Key.Key_Return)
    settle()
    assert row.state == "answered"
    assert row.sentence.text().endswith(": looked: this station has a darker camera")
    assert check_state(workspace) != state
    runs = {(one.image_set, one.model): one.id for one in workspace.runs}
    for name in ("spring-check", "late-summer-field"):
        demo.show_run(runs[name, "grain-net-1"])
        settle()
    assert step.rows[asked[0]].state == "answered"  # kept, and found again
    demo.undo()
    settle()
    assert (step.rows[asked[0]].state, check_state(workspace)) == (
        workspace.shown.results.checks[asked[0]].result.state,
        state,
    )
    demo.redo()
    settle()
    assert step.rows[asked[0]].state == "answered"
