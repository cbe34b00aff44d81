"""The Explain step by clicks and keys: the board, regions and cover tests, maps over a selection, trust, and the layers."""

from __future__ import annotations

import json
from collections.abc import Callable
from pathlib import Path
from xml.etree import ElementTree

import numpy as np
import pytest
from PIL import Image
from PySide6.QtCore import QPoint, QPointF, Qt
from PySide6.QtTest import QTest
from pytestqt.qtbot import QtBot

from mivrat.core.heatmaps.maps import Target
from mivrat.core.heatmaps.setup import MapSetup
from mivrat.core.region_masking.cover_test import plan_from_text
from mivrat.core.region_masking.regions import Shape
from mivrat.core.reporting import cover_report
from mivrat.core.selecting.selection import Labelled, Outcome, Picked, Predicted
from mivrat.core.study.file import Study
from mivrat.core.study.kept_evidence import EVERY, load_regions, load_tests
from mivrat.demo.study import demo_study_path
from mivrat.ui.bench import EXPLAIN
from mivrat.ui.explain.region_form import ALIKE, COLOUR, HOTTEST, REGIONS
from mivrat.ui.explain.step import BOARD, COVER, LAYERS, TRUST, WHERE
from mivrat.ui.window import MainWindow
from tests.support.demo import CLASSES

Settle = Callable[[], None]
LEFT, CONTROL, SHIFT = Qt.MouseButton.LeftButton, Qt.KeyboardModifier.ControlModifier, Qt.KeyboardModifier.ShiftModifier
RAGWEED, PLANTAIN = CLASSES.index("ragweed"), CLASSES.index("plantain")


@pytest.fixture
def explain(demo: MainWindow, settle: Settle) -> MainWindow:
    """The window at the plantain grains that were called ragweed, the first one looked at, in the Explain step."""
    run = next(
        one for one in demo.workspace.runs if one.image_set == "late-summer-field" and one.model == "grain-net-1"
    )
    demo.show_run(run.id)
    settle()
    demo.workspace.shown.choose(Labelled(frozenset({PLANTAIN})), Predicted(frozenset({RAGWEED})))
    demo.workspace.shown.focus.step(0)
    QTest.keyClick(demo, Qt.Key.Key_5, CONTROL)
    settle()
    assert demo.bench.figures.currentIndex() == EXPLAIN
    return demo


def run_job(qtbot: QtBot, window: MainWindow, settle: Settle) -> None:
    qtbot.waitUntil(lambda: window.workspace.jobs.going_on is None, timeout=120000)
    settle()


def drag(
    widget: object,
    start: tuple[float, float],
    end: tuple[float, float],
    keys: Qt.KeyboardModifier = Qt.KeyboardModifier.NoModifier,
) -> None:
    """Drag over a canvas, between shares of its picture."""
    place = widget.picture_rect()  # type: ignore[attr-defined]
    points = [QPoint(round(place.width() * x), round(place.height() * y)) for x, y in (start, end)]
    QTest.mousePress(widget, LEFT, keys, points[0])
    for step in (0.3, 0.7, 1.0):
        QTest.mouseMove(widget, points[0] + (points[1] - points[0]) * step)
    QTest.mouseRelease(widget, LEFT, keys, points[1])


def test_the_board_fills_follows_and_reads_values(explain: MainWindow, settle: Settle, tmp_path: Path) -> None:
    page, workspace = explain.bench.explain.board, explain.workspace
    view, image = page.view, workspace.shown.focus.current
    assert image is not None
    assert [name.split("\n")[0] for name in view.board.columns] == ["ragweed", "plantain", "ragweed"]
    assert view.board.columns[2].endswith("rather than plantain")
    maker = workspace.makers.seen(workspace.shown.record)
    assert maker is not None
    stages = explain.bench.explain.explainer.stages()
    assert [one.grid for one in stages] == [(12, 12), (24, 24), (48, 48)]
    from mivrat.core.pictures.prepare import prepare_file

    tensor = prepare_file(workspace.shown.snapshot.record.image_set.file(image), workspace.shown.snapshot.record.recipe)
    for r, layer in enumerate(stages):
        targets = [Target(RAGWEED), Target(PLANTAIN), Target(RAGWEED, PLANTAIN)]
        expected = maker.laid_maps(np.stack([tensor] * 3), targets, [layer])[0]
        for c in range(3):
            found = view.board.cells[r][c].heat
            assert found is not None
            np.testing.assert_allclose(found, expected[c], rtol=1e-4, atol=1e-7)
    # The value under the pointer, at the hottest place of the first map.
    heat = view.board.cells[0][0].heat
    assert heat is not None
    row, column = np.unravel_index(int(heat.argmax()), heat.shape)
    place = view.picture_rect(0, 0)
    at = QPointF(
        place.left() + place.width() * (column + 0.5) / heat.shape[1],
        place.top() + place.height() * (row + 0.5) / heat.shape[0],
    )
    QTest.mouseMove(view, at.toPoint())
    assert "100 % of the peak" in page.told.text()
    assert f"place {row + 1}, {column + 1} of 48 × 48" in page.told.text()
    # Keys: the next target and layer, one map large and back.
    view.setFocus()
    QTest.keyClick(view, Qt.Key.Key_T)
    QTest.keyClick(view, Qt.Key.Key_L)
    assert view.at == (1, 1)
    assert page.told.text().startswith("plantain, stage2/Relu_1")
    QTest.keyClick(view, Qt.Key.Key_Return)
    assert view.large
    QTest.keyClick(view, Qt.Key.Key_Escape)
    assert not view.large
    # The next mistake keeps the set-up.
    page.toggle((CLASSES.index("pine"), None))
    QTest.keyClick(view, Qt.Key.Key_M)
    settle()
    assert workspace.shown.focus.current == int(workspace.shown.images[1])
    assert [name.split("\n")[0] for name in view.board.columns] == ["ragweed", "plantain", "ragweed", "pine"]
    assert all(cell.picture is not None for line in view.board.cells for cell in line)
    # Other pictures below the heat, other colours, one peak for all: the picture changes, the map does not.
    before = view.board.cells[2][0].picture
    for choice, text in ((page.base, "over its edges"), (page.peaks, "common peak"), (page.scale, "grey scale")):
        choice.setCurrentText(text)
        choice.activated.emit(choice.currentIndex())
        settle()
        after = view.board.cells[2][0].picture
        assert after != before
        before = after
    page.view.at = (0, 0)
    page.save_overlay(tmp_path / "o.png")
    page.save_raw(tmp_path / "m.npy")
    page.save_board(tmp_path / "b.svg")
    page.save_board(tmp_path / "b.png")
    np.testing.assert_array_equal(np.load(tmp_path / "m.npy"), view.board.cells[0][0].heat)
    said = "".join(ElementTree.parse(tmp_path / "b.svg").getroot().itertext())
    assert "rather than plantain" in said
    assert "stage4/Relu_1" in said
    for name in ("o.png", "b.png"):
        with Image.open(tmp_path / name) as drawn:
            assert drawn.width > 150


def test_slow_methods_can_be_stopped_and_bad_choices_are_said(
    qtbot: QtBot, explain: MainWindow, settle: Settle
) -> None:
    page = explain.bench.explain.board
    page.way.setCurrentText("random masks")
    page.way.activated.emit(page.way.currentIndex())
    qtbot.waitUntil(page.stop_button.isVisible, timeout=5000)
    assert page.view.board.rows == ["the whole model\nno layer"]
    QTest.mouseClick(page.stop_button, LEFT)
    settle()
    assert page.view.board.cells[0][-1].note == "stopped"
    for method, rows in (("occlusion", 1), ("activation only", 1), ("score-weighted", 3)):
        page.way.setCurrentText(method)
        page.way.activated.emit(page.way.currentIndex())
        settle()
        assert len(page.view.board.rows) == rows
        assert page.view.board.cells[0][0].heat is not None
    assert explain.bench.explain.explainer.settled


def test_a_region_is_drawn_moved_by_keys_and_taken_back(explain: MainWindow, settle: Settle) -> None:
    page, explainer = explain.bench.explain.cover, explain.bench.explain.explainer
    explain.bench.explain.tabs.choose(COVER)
    settle()
    assert page.form.region.currentText() == HOTTEST  # nothing has to be drawn to begin with
    assert page.preview.one is not None
    assert page.preview.one.hidden.answers.predicted[1] == PLANTAIN
    page.form.region.setCurrentIndex(1)
    page.form.region.activated.emit(1)
    drag(page.preview.canvas, (0.02, 0.7), (0.3, 0.98))
    settle()
    (shape,) = explainer.regions[EVERY]
    assert shape.kind == "rectangle"
    np.testing.assert_allclose(shape.points, [(0.02, 0.7), (0.3, 0.98)], atol=0.02)
    assert page.preview.one is not None
    answers = page.preview.one.hidden.answers
    assert (answers.predicted[0], answers.predicted[1], answers.predicted[2]) == (RAGWEED, PLANTAIN, RAGWEED)
    assert answers.p[0] > 0.9 > 0.3 > answers.p[1]
    assert "holds" in page.preview.told.text()
    assert page.preview.answers.cells[1][2].full_text == "plantain"
    page.form.region.setCurrentIndex(2)
    page.form.region.activated.emit(2)
    drag(page.preview.canvas, (0.5, 0.1), (0.7, 0.3), CONTROL)
    assert [one.kind for one in explainer.regions[EVERY]] == ["rectangle", "ellipse"]
    page.preview.canvas.setFocus()
    QTest.keyClick(page.preview.canvas, Qt.Key.Key_Right)
    QTest.keyClick(page.preview.canvas, Qt.Key.Key_Plus)
    moved = explainer.regions[EVERY][0]
    assert moved.points[0][0] > shape.points[0][0] - 0.03
    assert moved.points[1][0] > shape.points[1][0] + 0.03
    QTest.keyClick(page.preview.canvas, Qt.Key.Key_Delete)
    assert EVERY not in explainer.regions
    QTest.keyClick(page.preview.canvas, Qt.Key.Key_Return)  # a region by keys alone
    assert len(explainer.regions[EVERY]) == 1
    for _ in range(2):
        QTest.keyClick(page.preview.canvas, Qt.Key.Key_Z, CONTROL)
    assert len(explainer.regions[EVERY]) == 2
    page.form.place.setCurrentIndex(1)
    page.form.place.activated.emit(1)
    page.form.region.setCurrentIndex(3)
    page.form.region.activated.emit(3)
    drag(page.preview.canvas, (0.1, 0.1), (0.3, 0.4))
    page.form.region.setCurrentIndex(4)
    page.form.region.activated.emit(4)
    drag(page.preview.canvas, (0.4, 0.4), (0.6, 0.4))
    settle()
    image = explain.workspace.shown.focus.current
    assert image is not None
    assert [one.kind for one in explainer.regions[image]] == ["brush"]
    assert page.begin.text() == "Cover the 1 image with a region of their own"
    explain.workspace.writing.wait()
    study = Study.open(demo_study_path(), again=True)
    try:
        kept = load_regions(study, explain.workspace.shown.snapshot.record.info.set_id)
    finally:
        study.close()
    assert set(kept) == {EVERY, image}


def test_a_region_is_given_by_its_colour_or_by_what_it_is_like(
    qtbot: QtBot, explain: MainWindow, settle: Settle
) -> None:
    """A patch is marked on the ink dot of one image; the dot is found in the others, and its claim is checked on other images too."""
    page, workspace = explain.bench.explain.cover, explain.workspace
    explain.bench.explain.tabs.choose(COVER)
    names = [workspace.shown.name_of(one) for one in workspace.shown.images.tolist()]
    workspace.shown.focus.look_at(int(workspace.shown.images[names.index("pl_0047.jpg")]))
    settle()
    for choice, place in ((COLOUR, "colour"), (ALIKE, "likeness")):
        index = page.form.region.findText(choice)
        page.form.region.setCurrentIndex(index)
        page.form.region.activated.emit(index)
        settle()
        assert not page.begin.isEnabled()
        assert page.form.sampled.text() == "mark a patch on the image"
        drag(page.preview.canvas, (0.82, 0.07), (0.92, 0.17))
        settle()
        assert page.form.rule is not None
        assert page.preview.one is not None
        mask = page.preview.one.hidden.mask
        assert mask is not None
        assert mask[:20, -20:].mean() > 0.2  # the dot is top right
        assert not mask[40:, :40].any()
        QTest.mouseClick(page.begin, LEFT)
        run_job(qtbot, explain, settle)
        test = explain.bench.explain.explainer.test
        assert test is not None
        assert test.plan.region.place == place
        assert test.result.total >= 24
        assert test.result.region.fixed >= 22
        assert test.result.hot_elsewhere is not None
        assert page.result.table.rowCount() == 3
        assert "more than what is hot in another image" in page.result.sentence.text()
    # A patch belongs to the model whose features it is of; under another model, or after a clear, it is marked again.
    second = next(one for one in workspace.runs if one.image_set == "late-summer-field" and one.model == "grain-net-2")
    explain.show_run(second.id)
    settle()
    assert page.form.rule is None
    assert not page.begin.isEnabled()
    assert page.form.alike.text() == "at least 60 %"


def test_from_one_mistake_to_a_tested_cause_that_is_kept(
    qtbot: QtBot, explain: MainWindow, settle: Settle, tmp_path: Path
) -> None:
    """The hottest part of each plantain grain called ragweed is hidden: the answers change, and not by the control."""
    page, explainer = explain.bench.explain.cover, explain.bench.explain.explainer
    explain.bench.explain.tabs.choose(COVER)
    settle()
    QTest.mouseClick(page.begin, LEFT)
    run_job(qtbot, explain, settle)
    test = explainer.test
    assert test is not None
    assert test.result.total == 25
    assert test.result.region.changed.hits >= 24
    assert test.result.region.fixed >= 23
    assert test.result.control.changed.hits <= 3
    assert test.result.p < 1e-4
    assert (
        "25 only by the region" in page.result.sentence.text() or "24 only by the region" in page.result.sentence.text()
    )
    page.result.keep_name.setFocus()
    QTest.keyClicks(page.result.keep_name, "ink dot")
    QTest.keyClick(page.result.keep_name, Qt.Key.Key_Return)
    assert explain.workspace.shown.results.tests_kept == 1
    assert explain.bench.rail.steps[EXPLAIN].state == "fine"
    explain.workspace.writing.wait()
    study = Study.open(demo_study_path(), again=True)
    try:
        (kept,) = load_tests(study)
    finally:
        study.close()
    assert cover_report.result_from_json(json.loads(kept.outcome)) == test.result
    earlier = json.loads(kept.outcome.replace('"fixed":', '"mended":'))
    assert cover_report.result_from_json(earlier) == test.result  # as versions before wrote it
    assert plan_from_text(kept.plan, explain.workspace.shown.snapshot.record.names) == test.plan
    page.kept_tests.table.setCurrentCell(0, 0)
    page.kept_tests.save(tmp_path)
    assert json.loads((tmp_path / "cover.json").read_text())["format"] == "mivrat-cover/3"
    # The same again on the later model: the places are those the first model looked at, and no such effect is seen.
    second = next(
        one for one in explain.workspace.runs if one.image_set == "late-summer-field" and one.model == "grain-net-2"
    )
    explain.show_run(second.id)
    settle()
    assert page.kept_tests.table.rowCount() == 1
    page.kept_tests.table.setCurrentCell(0, 0)
    page.kept_tests.do_again()
    run_job(qtbot, explain, settle)
    assert explainer.test is not None
    assert explainer.test.plan.images == test.plan.images
    assert explainer.test.result.region.changed.hits <= 8
    assert explainer.test.result.p > 0.05, explainer.test.found
    page.kept_tests.take_away()
    assert explainer.tests == ()
    explain.undo()
    assert [one.name for one in explainer.tests] == ["ink dot"]


def test_maps_of_a_selection_are_stopped_gone_on_with_and_looked_through(
    qtbot: QtBot, explain: MainWindow, settle: Settle, tmp_path: Path
) -> None:
    page, explainer, workspace = explain.bench.explain.where, explain.bench.explain.explainer, explain.workspace
    workspace.shown.replace(Outcome(frozenset({"wrong"})))
    explain.bench.explain.tabs.choose(WHERE)
    explainer.set_setup(MapSetup("signed", of="predicted"))
    settle()
    for image in list(explainer.maps):  # the cache may know them from another test: ask for what nobody has asked for
        assert image in workspace.shown.images
    explainer.set_setup(MapSetup("signed", (), CLASSES.index("nettle"), CLASSES.index("pine")))
    settle()
    known = len(explainer.maps)
    if not known:
        assert page.begin.text() == "Make the 68 missing maps"
        QTest.mouseClick(page.begin, LEFT)
        qtbot.waitUntil(lambda: explain.workspace.jobs.going_on is not None, timeout=5000)
        explain.stop_job()
        run_job(qtbot, explain, settle)
        assert len(explainer.maps) < 68
        QTest.mouseClick(page.begin, LEFT)
        run_job(qtbot, explain, settle)
    assert len(explainer.maps) == 68
    assert not page.begin.isVisible()
    page.by.setCurrentText("pair")
    page.by.activated.emit(4)
    settle()
    first = page.grid.maps[0]
    assert (first.name, first.mean.total) == ("plantain → ragweed", 25)
    expected = np.mean([m / np.abs(m).max() for m in (explainer.maps[i] for i in first.images)], axis=0)
    np.testing.assert_allclose(first.mean.heat, expected, atol=1e-5)
    assert sum(len(one.members) for one in page.groups) == 68 - sum(not m.any() for m in explainer.maps.values())
    QTest.keyClick(explain.bench.light_table.thumbs, Qt.Key.Key_H, SHIFT)
    settle()
    assert explain.bench.explain.heat.on
    image = int(workspace.shown.images[0])
    file = workspace.shown.snapshot.record.image_set.file(image)
    qtbot.waitUntil(
        lambda: explain.bench.thumbnails.get(file)[1] and explain.bench.explain.heat.get(image) is not None,
        timeout=10000,
    )
    heated, (plain, _) = explain.bench.explain.heat.get(image), explain.bench.thumbnails.known(file)
    assert plain is not None
    assert heated != plain
    page.grid.setFocus()
    QTest.keyClick(page.grid, Qt.Key.Key_Return)
    assert workspace.shown.images.tolist() == list(first.images)
    workspace.shown.back()
    page.cards[0].select()
    assert workspace.shown.conditions == (Picked("place of the evidence, group 1", page.groups[0].members),)
    page.write_folder(tmp_path)
    run_job(qtbot, explain, settle)
    assert len(list(tmp_path.glob("*.npy"))) == len(page.groups[0].members)
    assert (tmp_path / "index.csv").read_text().count("\n") == 1 + len(page.groups[0].members)
    # How much of the evidence lies inside a region, right answers against wrong ones.
    workspace.shown.clear()
    explainer.keep_regions("r", {EVERY: (Shape("rectangle", ((0, 0), (0.5, 1))),)})
    explain.bench.explain.tabs.choose(COVER)
    explain.bench.explain.cover.form.region.setCurrentIndex(REGIONS.index("rectangle"))
    explain.bench.explain.cover.form.region.activated.emit(1)
    settle()
    inside = explain.bench.explain.cover.inside
    assert inside is not None
    assert (inside.right.total, inside.wrong.total + inside.none) == (0, 68)
    assert "in wrong answers (N = " in explain.bench.explain.cover.told_inside.text()


def test_trust_is_examined_and_said_in_words(qtbot: QtBot, explain: MainWindow, settle: Settle) -> None:
    page, explainer = explain.bench.explain.trust, explain.bench.explain.explainer
    explain.bench.explain.tabs.choose(TRUST)
    settle()
    QTest.mouseClick(page.one, LEFT)
    run_job(qtbot, explain, settle)
    trust = explainer.reliance
    assert trust is not None
    assert trust.finished
    assert "what the answer depends on" in page.verdict.text()
    assert "cover test" in page.verdict.text()
    assert page.shuffled.item(0, 2).text() == "the maps change"
    assert page.areas.item(0, 3).text() == "10 of 10 random orders"
    assert page.agreement.rowCount() == 6


def test_layers_are_found_and_put_on_the_board(explain: MainWindow, settle: Settle) -> None:
    page, explainer = explain.bench.explain.layers, explain.bench.explain.explainer
    explain.bench.explain.tabs.choose(LAYERS)
    settle()
    assert page.table.rowCount() == len(explainer.layers)
    # The likely ones first: the default, then the last layer of each block.
    assert [one.tensor.split("/")[1] for one in page.listed[:5]] == ["stage4", "stage3", "stage2", "stage1", "stem"]
    assert page.listed[0].default
    assert page.table.item(0, 1).text() == "activation (Relu), stage4"
    assert "28 layers from image to scores, 26 of them with a map; 206\u202f008 parameters" in page.told.text()
    assert len(page.strip.pictures) == 16
    page.search.setFocus()
    QTest.keyClicks(page.search, "stage3/add")
    assert [one.tensor for one in page.listed] == ["/stage3/Add_output_0"]
    page.table.setCurrentCell(0, 0)
    page.table.setFocus()
    QTest.keyClick(page.table, Qt.Key.Key_Space)
    assert "/stage3/Add_output_0" in explainer.rows
    explainer.combine_all(True)
    explain.bench.explain.tabs.choose(BOARD)
    settle()
    board = explain.bench.explain.board.view.board
    assert [name.split("\n")[0] for name in board.rows] == [
        *("stage4/Relu_1", "stage3/Add", "stage2/Relu_1", "stage1/Relu_1"),
        "these 4 together",
    ]
    assert all(cell.heat is not None for line in board.cells for cell in line)


def test_headings_among_the_layers_are_stepped_over(explain: MainWindow, settle: Settle) -> None:
    """In the close look, L goes from the likely layers on to the first block's, past its heading, and Shift+L back again."""
    explain.bench.look_closely()
    settle()
    box, seen = explain.bench.close_look.layer, []
    assert box.itemText(0) == "likely layers"
    some = [box.itemData(i) for i in range(box.count()) if box.itemData(i)][:7]
    assert box.itemData(6) is None  # a heading between them
    for way in (Qt.KeyboardModifier.NoModifier, Qt.KeyboardModifier.ShiftModifier):
        for _ in range(6):
            seen.append(box.currentData())
            QTest.keyClick(explain.bench.close_look, "L", way)
            settle()
    assert seen == [*some[:6], *some[:0:-1]]
    assert box.currentText().startswith("stage4/Relu_1, default")


def test_without_a_model_or_an_image_the_pages_say_so(explain: MainWindow, settle: Settle) -> None:
    explain.workspace.shown.focus.look_at(None)
    settle()
    assert "press M" in explain.bench.explain.board.note.text()
    explain.bench.explain.tabs.choose(COVER)
    settle()
    assert "M: the next mistake" in explain.bench.explain.cover.preview.canvas.message
    assert explain.bench.explain.cover.begin.text() == "Cover the 25 images shown"  # that needs no image looked at
    explain.bench.explain.tabs.choose(TRUST)
    assert not explain.bench.explain.trust.one.isEnabled()
    assert explain.bench.explain.trust.verdict.text().startswith("A heatmap that looks right proves nothing")
