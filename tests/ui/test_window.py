"""The window driven by clicks and keys: the walk from the start page to the cause, a new study, and its edges."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

import numpy as np
import pytest
from PySide6.QtCore import QMimeData, QPoint, QPointF, QSettings, Qt, QUrl
from PySide6.QtGui import QDropEvent
from PySide6.QtWidgets import QApplication, QLabel, QPushButton
from pytestqt.qtbot import QtBot

from mivrat.core.pictures.recipe import recipe_to_toml
from mivrat.core.selecting.selection import Confidence, Labelled, MatrixCells, Outcome, Predicted
from mivrat.core.study.file import Study
from mivrat.core.study.settings import load_setting
from mivrat.ui.theme import LAMP, PAPER, ThemeColours, theme
from mivrat.ui.window import BENCH, NEW, START, MainWindow
from tests.support.demo import CLASSES
from tests.support.networks import classifier, recipe_for, saved
from tests.support.sets import write_classes, write_set

Settle = Callable[[], None]
RAGWEED, PLANTAIN = CLASSES.index("ragweed"), CLASSES.index("plantain")
LEFT = Qt.MouseButton.LeftButton


def chips(window: MainWindow) -> list[str]:
    QApplication.processEvents()
    found = window.bench.line.findChildren(QPushButton)
    return [b.text().removesuffix("×").strip() for b in found if b.property("chip") and b.isVisible()]


def visible_text(window: MainWindow) -> str:
    return "\n".join(one.text() for one in window.findChildren(QLabel) if one.isVisible())


def test_from_start_to_cause_in_three_clicks(qtbot: QtBot, window: MainWindow, settle: Settle) -> None:
    """Open the demonstration, click the most frequent mistake, double-click its surest image: the dot is the evidence."""
    assert window.pages.currentIndex() == START
    qtbot.mouseClick(window.start.demo, LEFT)
    qtbot.waitUntil(lambda: window.pages.currentIndex() == BENCH, timeout=30000)
    settle()
    assert "late-summer-field" in window.bench.header.run_button.text()
    worst = window.bench.measure.headline._rows[0]
    assert worst.accessibleName().startswith("plantain → ragweed")
    qtbot.mouseClick(worst, LEFT)
    assert chips(window) == ["labelled plantain", "predicted ragweed"]
    settle()
    first = window.bench.light_table.thumbs.cell_rect(0).center()
    qtbot.mouseClick(window.bench.light_table.thumbs.viewport(), LEFT, pos=first)
    qtbot.mouseDClick(window.bench.light_table.thumbs.viewport(), LEFT, pos=first)
    settle()
    look = window.bench.close_look
    assert look.isVisible()
    assert look.sentence.text().startswith("ragweed at ")
    assert "labelled plantain, ranked" in look.sentence.text()
    assert (look.heat_predicted.emphasis, look.heat_other.emphasis) == ("ragweed", "plantain")
    assert look.look is not None
    assert look.evidence is not None
    heat, pixels = look.evidence.maps[0], look.look.photo.astype(int)
    violet = (pixels[..., 2] > pixels[..., 0] + 25) & (pixels[..., 1] < 110)
    y, x = np.unravel_index(heat.argmax(), heat.shape)
    row, column = (int((at + 0.5) / size * 128) for at, size in zip((y, x), heat.shape, strict=True))
    assert violet[max(0, row - 12) : row + 12, max(0, column - 12) : column + 12].any()
    assert look.references[0].image is not None


def test_the_same_walk_with_keys_alone(qtbot: QtBot, window: MainWindow, settle: Settle) -> None:
    assert window.start.demo.hasFocus()
    qtbot.keyClick(window.start.demo, Qt.Key.Key_Space)
    qtbot.waitUntil(lambda: window.pages.currentIndex() == BENCH, timeout=30000)
    settle()
    assert window.bench.light_table.thumbs.hasFocus()
    qtbot.keyClick(QApplication.focusWidget(), Qt.Key.Key_F6)
    bars = window.bench.measure.headline.picture.rows.bars
    assert QApplication.focusWidget() is bars
    qtbot.keyClick(bars, Qt.Key.Key_Up)  # the last row: the worst class
    assert "recall of plantain: 22 of 50 images" in bars.accessibleDescription()
    qtbot.keyClick(bars, Qt.Key.Key_Return)
    assert chips(window) == ["labelled plantain"]
    qtbot.keyClick(QApplication.focusWidget(), Qt.Key.Key_F6)
    thumbs = window.bench.light_table.thumbs
    assert thumbs.hasFocus()
    qtbot.keyClick(thumbs, Qt.Key.Key_Right)
    qtbot.keyClick(thumbs, Qt.Key.Key_Return)
    settle()
    look = window.bench.close_look
    assert look.isVisible()
    before = window.workspace.shown.focus.current
    qtbot.keyClick(look, Qt.Key.Key_M)
    assert window.workspace.shown.focus.current != before
    qtbot.keyClick(look, Qt.Key.Key_M, Qt.KeyboardModifier.ShiftModifier)
    assert window.workspace.shown.focus.current == before
    settle()
    layer = look.layer.currentData()
    qtbot.keyClick(look, Qt.Key.Key_L)
    settle()
    assert look.layer.currentData() != layer
    assert look.evidence is not None
    assert look.evidence.layer.tensor == look.layer.currentData()
    qtbot.keyClick(look, Qt.Key.Key_T)
    settle()
    assert look.evidence is not None
    assert look.heat_predicted.note.startswith("rather than plantain")
    alone = look.evidence.maps[0]
    qtbot.keyClick(look, Qt.Key.Key_T)
    settle()
    assert not np.allclose(alone, look.evidence.maps[0])
    qtbot.keyClick(look, Qt.Key.Key_H)
    settle()
    assert not look.heat_on
    qtbot.keyClick(look, Qt.Key.Key_Z)
    assert not window.bench.measure.isVisible()
    qtbot.keyClick(look, Qt.Key.Key_Escape)
    assert window.bench.measure.isVisible()
    assert thumbs.hasFocus()
    qtbot.keyClick(thumbs, Qt.Key.Key_Backspace)
    qtbot.keyClick(thumbs, Qt.Key.Key_Backspace)
    assert chips(window) == []
    qtbot.keyClick(thumbs, Qt.Key.Key_Left, Qt.KeyboardModifier.AltModifier)
    assert len(chips(window)) == 1
    qtbot.keyClick(thumbs, Qt.Key.Key_Right, Qt.KeyboardModifier.AltModifier)
    assert chips(window) == []


def test_every_figure_selects(qtbot: QtBot, demo: MainWindow, settle: Settle) -> None:
    """A cell, its headers, a class row and a bin: the light table then holds just the images counted there."""
    snapshot, workspace = demo.workspace.shown.snapshot, demo.workspace
    matrix = demo.bench.measure.confusions.matrix
    demo.bench.measure.tabs.choose(2)
    cell = matrix.cell_rect(PLANTAIN, RAGWEED)
    qtbot.mouseClick(matrix, LEFT, pos=cell.center().toPoint())
    assert workspace.shown.conditions == (Labelled(frozenset({PLANTAIN})), Predicted(frozenset({RAGWEED})))
    assert len(workspace.shown.images) == snapshot.figures.matrix[PLANTAIN, RAGWEED]
    other = matrix.cell_rect(RAGWEED, PLANTAIN).center().toPoint()
    qtbot.mouseClick(matrix, LEFT, Qt.KeyboardModifier.ControlModifier, other)
    assert workspace.shown.conditions == (MatrixCells(frozenset({(PLANTAIN, RAGWEED), (RAGWEED, PLANTAIN)})),)
    assert (
        len(workspace.shown.images)
        == snapshot.figures.matrix[PLANTAIN, RAGWEED] + snapshot.figures.matrix[RAGWEED, PLANTAIN]
    )
    header = QPoint(int(cell.center().x()), int(matrix.cell_rect(0, 0).top()) - 10)
    qtbot.mouseClick(matrix, LEFT, pos=header)
    assert workspace.shown.conditions == (Predicted(frozenset({RAGWEED})),)
    assert len(workspace.shown.images) == snapshot.figures.classes[RAGWEED].predicted
    workspace.shown.clear()

    demo.bench.measure.tabs.choose(1)
    table = demo.bench.measure.class_table
    table.sortByColumn(4, Qt.SortOrder.AscendingOrder)
    qtbot.mouseClick(table.viewport(), LEFT, pos=table.visualRect(table.model().index(0, 1)).center())
    lowest = min(range(8), key=lambda i: snapshot.figures.classes[i].recall.value or 0)
    assert workspace.shown.conditions == (Labelled(frozenset({lowest})),)
    assert len(workspace.shown.images) == snapshot.figures.classes[lowest].support
    share = workspace.shown.accuracy()
    assert share.value == snapshot.figures.classes[lowest].recall.value
    assert f"({100 * (share.low or 0):.1f} – {100 * (share.high or 0):.1f})" in demo.bench.line.summary.text()
    workspace.shown.clear()

    demo.bench.measure.tabs.choose(3)
    diagram = demo.bench.measure.reliability.diagram
    qtbot.mouseClick(diagram.viewport(), LEFT, pos=diagram.bin_rect(14).center().toPoint())
    assert isinstance(workspace.shown.conditions[0], Confidence)
    assert len(workspace.shown.images) == snapshot.figures.calibration.bins[14].count
    qtbot.keyClick(diagram, Qt.Key.Key_Left)
    qtbot.keyClick(diagram, Qt.Key.Key_Return)
    assert len(workspace.shown.images) == snapshot.figures.calibration.bins[13].count


def test_unreadable_images_are_named_everywhere(demo: MainWindow, settle: Settle) -> None:
    assert demo.bench.header.badge.text() == "1 unreadable"
    demo.workspace.shown.replace(Outcome(frozenset({"unreadable"})))
    demo.workspace.shown.focus.step(0)
    demo.bench.look_closely()
    settle()
    assert "decoded" in demo.bench.close_look.sentence.text()
    assert demo.bench.close_look.photo.image is None
    assert "decoded" in demo.bench.close_look.photo.message
    assert demo.bench.close_look.heat_predicted.message == "no answer to explain"
    demo.workspace.shown.clear()
    demo.bench.leave_close_look()


def test_another_run_of_the_study(qtbot: QtBot, demo: MainWindow, settle: Settle) -> None:
    demo.workspace.shown.choose(Labelled(frozenset({PLANTAIN})))
    later = next(
        run for run in demo.workspace.runs if run.model == "grain-net-2" and run.image_set == "late-summer-field"
    )
    demo.show_run(later.id)
    settle()
    assert demo.workspace.shown.snapshot.record.info == later
    assert "grain-net-2" in demo.bench.header.facts.full_text
    assert demo.workspace.shown.accuracy().value == demo.workspace.shown.snapshot.figures.classes[PLANTAIN].recall.value
    assert demo.workspace.study_path is not None
    study = Study.open(demo.workspace.study_path)
    assert load_setting(study, "run") == str(later.id)
    study.close()


@pytest.fixture
def inputs(tmp_path: Path) -> dict[str, Path]:
    model = classifier()
    (tmp_path / "recipe.toml").write_text(recipe_to_toml(recipe_for(model)))
    return {
        "model": saved(model, tmp_path / "net.onnx"),
        "classes": write_classes(tmp_path / "classes.txt"),
        "recipe": tmp_path / "recipe.toml",
        "images": write_set(tmp_path / "held out", per_class=300),
    }


def test_new_study_from_dropped_files_runs_stops_and_goes_on(
    qtbot: QtBot, window: MainWindow, settle: Settle, inputs: dict[str, Path]
) -> None:
    data = QMimeData()
    data.setUrls([QUrl.fromLocalFile(str(path)) for path in inputs.values()])
    copy = Qt.DropAction.CopyAction
    window.dropEvent(QDropEvent(QPointF(400, 300), copy, data, LEFT, Qt.KeyboardModifier.NoModifier))
    page = window.new_page
    assert window.pages.currentIndex() == NEW
    assert page.study.path == inputs["images"].parent / "held out.mivrat"
    qtbot.waitUntil(page.start.isEnabled, timeout=10000)
    assert "900 images, all labelled" in page.message.text()
    qtbot.mouseClick(page.start, LEFT)
    qtbot.waitUntil(lambda: window.pages.currentIndex() == BENCH, timeout=10000)
    assert window.foot.stop.isVisible()
    qtbot.mouseClick(window.foot.stop, LEFT)
    qtbot.waitUntil(lambda: window.workspace.jobs.going_on is None, timeout=10000)
    snapshot = window.workspace.shown.snapshot
    done = snapshot.counts.evaluated
    if done < 900:  # none at all, where the machine was busy
        assert "What is done is kept" in visible_text(window)
        qtbot.mouseClick(window.foot.resume, LEFT)
        qtbot.waitUntil(lambda: window.workspace.jobs.going_on is None, timeout=30000)
    assert window.workspace.shown.snapshot.counts.evaluated == 900
    settle()


def test_the_form_says_what_does_not_fit(
    qtbot: QtBot, window: MainWindow, inputs: dict[str, Path], tmp_path: Path
) -> None:
    window.new_study()
    page = window.new_page
    assert page.message.text() == "Still needed: model, class list, images, study."
    page.drop(list(inputs.values()))
    page.classes.set_path(write_classes(tmp_path / "two.txt", ["birch", "alder"]))
    qtbot.waitUntil(lambda: "names 2 classes" in page.message.text(), timeout=10000)
    assert not page.start.isEnabled()
    page.classes.set_path(inputs["classes"])
    qtbot.waitUntil(page.start.isEnabled, timeout=10000)
    page.study.set_path(inputs["model"])
    Study.create(tmp_path / "net.onnx.mivrat", ["a"]).close()
    qtbot.waitUntil(lambda: "exists already" in page.message.text(), timeout=10000)


def test_a_file_that_is_no_study_is_refused_in_the_window(
    qtbot: QtBot, window: MainWindow, tmp_path: Path, settle: Settle
) -> None:
    (tmp_path / "x.mivrat").write_text("nothing of the kind" * 50)
    window.open_study(tmp_path / "x.mivrat")
    settle()
    assert window.pages.currentIndex() == START
    assert "not a Mivrat study" in window.start.problem.text()


def test_moved_images_are_told_of_and_nothing_breaks(demo: MainWindow, settle: Settle) -> None:
    snapshot = demo.workspace.shown.snapshot
    demo.workspace.shown.replace(Outcome(frozenset({"wrong"})))
    demo.bench.thumbnails._cache.clear()
    object.__setattr__(snapshot.record.image_set, "root", Path("/nowhere"))
    demo.bench.light_table.thumbs.viewport().repaint()
    demo.workspace.shown.focus.step(0)
    demo.bench.look_closely()
    settle()
    assert "gone" in demo.bench.close_look.photo.message
    assert demo.bench.close_look.ranking.lines


def test_window_state_and_theme_are_remembered(
    qtbot: QtBot, window: MainWindow, settings: QSettings, settle: Settle
) -> None:
    window.resize(1100, 700)
    window.switch_theme()
    assert theme.tokens is LAMP
    window.open_demo()
    qtbot.waitUntil(lambda: window.pages.currentIndex() == BENCH, timeout=30000)
    settle()
    window.close()
    again = MainWindow(settings)
    qtbot.addWidget(again)
    assert theme.tokens is LAMP
    assert again.height() == 700
    again.start.refresh()
    assert [p.name for p in again.recent.paths()] == ["demonstration.mivrat"]
    again.switch_theme()
    assert theme.tokens is PAPER
    again.close()


def contrast(first: str, second: str) -> float:
    """WCAG 2.1 contrast ratio of two colours."""

    def luminance(colour: str) -> float:
        parts = [int(colour[i : i + 2], 16) / 255 for i in (1, 3, 5)]
        linear = [c / 12.92 if c <= 0.04045 else ((c + 0.055) / 1.055) ** 2.4 for c in parts]
        return 0.2126 * linear[0] + 0.7152 * linear[1] + 0.0722 * linear[2]

    high, low = sorted((luminance(first), luminance(second)), reverse=True)
    return (high + 0.05) / (low + 0.05)


@pytest.mark.parametrize("tokens", [PAPER, LAMP], ids=lambda t: t.name)
def test_contrast_is_aa(tokens: ThemeColours) -> None:
    for ground in (tokens.paper, tokens.sheet, tokens.accent_wash):
        for ink in (tokens.ink, tokens.soft, tokens.wrong, tokens.look, tokens.second):
            assert contrast(ink, ground) >= 4.5 or (ground == tokens.accent_wash and contrast(ink, ground) >= 4.0), (
                ink,
                ground,
            )
    assert contrast(tokens.on_accent, tokens.accent) >= 4.5
    assert contrast(tokens.accent, tokens.paper) >= 4.5
