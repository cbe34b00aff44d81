"""Holding another run against the one shown, by clicks and keys: what changes in the whole window, and the pages of Compare."""

from __future__ import annotations

import csv
import io
import json
from collections.abc import Callable
from pathlib import Path

import numpy as np
import pytest
from PySide6.QtCore import QPointF, Qt, QTimer
from PySide6.QtGui import QGuiApplication, QImage
from pytestqt.qtbot import QtBot

from mivrat.core.heatmaps.maps import HeatmapMaker, Target
from mivrat.core.models.onnx_model import OnnxModel
from mivrat.core.pictures.image_sets import read_image_set
from mivrat.core.pictures.prepare import prepare_file
from mivrat.core.running.evaluation import Evaluation
from mivrat.core.selecting.ordering import BY_BOTH, GAINS
from mivrat.core.selecting.selection import Labelled, OtherPredicted, OutcomeOfBoth, Picked
from mivrat.core.study.file import Study
from mivrat.core.study.records import RunInfo
from mivrat.core.study.settings import load_setting
from mivrat.ui.bench import COMPARE, EXPLAIN, MEASURE
from mivrat.ui.compare.lines import DRAWN, LinesTable
from mivrat.ui.window import MainWindow
from mivrat.workspace import study_edits
from tests.support.demo import CLASSES
from tests.support.networks import classifier, loaded
from tests.support.sets import write_set

Settle = Callable[[], None]
LEFT, CTRL = Qt.MouseButton.LeftButton, Qt.KeyboardModifier.ControlModifier
RAGWEED, PLANTAIN = CLASSES.index("ragweed"), CLASSES.index("plantain")


def other_run(window: MainWindow, *, model: bool = True) -> RunInfo:
    """Another model on the images shown, or this model on other images."""
    shown = window.workspace.shown.record.info
    return next(
        one
        for one in window.workspace.runs
        if one.id != shown.id and (one.set_id == shown.set_id if model else one.model_id == shown.model_id)
    )


@pytest.fixture
def held(demo: MainWindow, settle: Settle, qtbot: QtBot) -> MainWindow:
    """The demonstration with the later model held against the one under test, by the button on the empty page."""
    demo.bench.show_step(COMPARE)
    settle()
    (offer,) = [
        one
        for one in demo.bench.compare.findChildren(type(demo.bench.compare.difference.all_runs))
        if one.text() == "grain-net-2" and one.isVisible()
    ]
    qtbot.mouseClick(offer, LEFT)
    settle()
    return demo


def click(
    qtbot: QtBot, table: LinesTable, name: str, modifier: Qt.KeyboardModifier = Qt.KeyboardModifier.NoModifier
) -> None:
    """Click the line whose first cell says this."""
    row = next(i for i, line in enumerate(table.lines) if line.cells[0].text == name)
    place = table.visualRect(table.model().index(row, 0)).center()
    qtbot.mouseClick(table.viewport(), LEFT, modifier, place)


def test_the_same_images_under_another_model(held: MainWindow, qtbot: QtBot, settle: Settle) -> None:
    shown, page = held.workspace.shown, held.bench.compare.difference
    a, b = shown.judged, shown.held
    assert b is not None
    right = a.right, b.b.judged.right
    counts = {"both right": right[0] & right[1], "fixed": ~right[0] & right[1], "broken": right[0] & ~right[1]}
    for state, mask in counts.items():
        assert page.square.boxes[state].count.text() == str(int((mask & a.evaluated & b.b.judged.evaluated).sum()))
    assert page.verdict.sentences[0].startswith("grain-net-2 is better than grain-net-1 by 11.5 points (8.3 to 15.1)")
    assert (held.bench.header.value.text(), held.bench.header.other_value.text()) == ("83.0 % →", "94.5 %")
    assert held.bench.header.held.choose.text() == "compared with grain-net-2 ▾"
    assert "nothing significantly worse" in held.bench.rail.steps[COMPARE].accessibleDescription()
    # a box selects its images; Enter on it looks at them; Backspace takes the condition away
    qtbot.mouseClick(page.square.boxes["fixed"], LEFT)
    settle()
    assert set(shown.images.tolist()) == set(np.flatnonzero(counts["fixed"]).tolist())
    assert "correct 0.0 % → 100.0 %" in held.bench.line.summary.text()
    qtbot.mouseClick(page.square.boxes["broken"], LEFT, CTRL)
    assert len(shown.images) == int((counts["fixed"] | counts["broken"]).sum())
    qtbot.keyClick(held, Qt.Key.Key_Backspace)
    assert len(shown.images) == 400
    page.square.boxes["broken"].setFocus()
    qtbot.keyClick(page.square.boxes["broken"], Qt.Key.Key_Space)
    qtbot.keyClick(page.square.boxes["broken"], Qt.Key.Key_Return)
    assert held.bench.looks_closely
    assert shown.focus.current in np.flatnonzero(counts["broken"])
    held.bench.leave_close_look()
    qtbot.mouseClick(page.square.same, LEFT)
    assert shown.conditions == (OutcomeOfBoth(frozenset({"same wrong answer"}), shown.held_other),)
    # the margin decides what counts as not worse
    assert page.square.standing.text() == "met"
    # a figure leads to the images its difference comes from
    shown.clear()
    page.ensureWidgetVisible(page.figures)
    click(qtbot, page.figures, "top-3 accuracy")
    within = [(one.rank >= 1) & (one.rank <= 3) for one in (a, b.b.judged)]
    assert set(shown.images.tolist()) == set(np.flatnonzero(within[0] != within[1]).tolist())
    click(qtbot, page.figures, "log loss")
    assert len(shown.images) == 100
    moved = np.abs(np.log(a.own) - np.log(b.b.judged.own))[shown.images]
    assert (np.diff(moved) <= 1e-12).all()


def test_orders_bands_and_thumbnails_of_both(held: MainWindow, settle: Settle) -> None:
    shown, table = held.workspace.shown, held.bench.light_table
    other = shown.other
    assert other is not None
    low = table.thumbs.cell_rect(0).height()
    table.order.setCurrentText(GAINS)
    table.order.activated.emit(0)
    table.bands.setCurrentText(BY_BOTH)
    table.bands.activated.emit(0)
    settle()
    assert [band.name for band in shown.bands][:2] == ["broken", "fixed"]
    for band in shown.bands:
        gains = other.gain[shown.images[band.start : band.stop]]
        gains = gains[~np.isnan(gains)]
        assert (np.diff(gains) <= 0).all()
    held.bench.comparer.let_go()
    settle()
    assert (shown.order.by, shown.order.band_by) == ("confident mistakes", "not grouped")
    assert table.order.findText(GAINS) < 0
    assert table.thumbs.cell_rect(0).height() < low
    assert shown.other_accuracy() is None


def test_classes_confusions_and_what_they_select(held: MainWindow, qtbot: QtBot, settle: Settle) -> None:
    step, shown = held.bench.compare, held.workspace.shown
    step.choose(1)
    settle()
    lines = step.classes.table.lines
    assert [line.cells[0].text for line in lines[:2]] == ["plantain", "ragweed"]
    assert step.classes.table.model().index(0, 2).data(DRAWN).difference.b == pytest.approx(0.96)
    click(qtbot, step.classes.table, "ragweed")
    assert shown.conditions == (Labelled(frozenset({RAGWEED})),)
    qtbot.keyClicks(step.classes.search, "pla")
    assert [line.cells[0].text for line in step.classes.table.lines] == ["plantain"]
    step.choose(2)
    shown.clear()
    settle()
    page = step.confusions
    # one cross in all three; a cell of the run held selects by what that one says
    page.b._point_at((RAGWEED, PLANTAIN))
    assert page.a.pointed_cell == page.change.pointed_cell == (RAGWEED, PLANTAIN)
    assert "20 of 50, then 0 of 50" in page.told.text()
    cell = page.a.cell_rect(RAGWEED, PLANTAIN).center().toPoint()
    qtbot.mouseClick(page.a, LEFT, pos=cell)
    assert len(shown.images) == 20
    b = int(np.flatnonzero((page.b._matrix - np.diag(np.diagonal(page.b._matrix))).ravel())[0])
    label, predicted = divmod(b, 8)
    qtbot.mouseClick(page.b, LEFT, pos=page.b.cell_rect(label, predicted).center().toPoint())
    assert set(shown.conditions) == {
        Labelled(frozenset({label})),
        OtherPredicted(frozenset({predicted}), shown.held_other),
    }
    assert len(shown.images) == page.b._matrix[label, predicted]
    first = page.pairs.lines[0].cells
    assert (first[0].text, first[1].text, first[2].text) == ("plantain → ragweed", "25 → 0", "54 %")
    click(qtbot, page.pairs, "plantain → ragweed")
    assert len(shown.images) == 25
    page.order.setCurrentIndex(2)
    page.mode.setCurrentIndex(1)
    settle()
    assert page.a.order.tolist() == page.b.order.tolist() == page.change.order.tolist() != list(range(8))


def test_two_sets_of_one_model(demo: MainWindow, qtbot: QtBot, settle: Settle) -> None:
    """From spring to late summer: the drop, what it is made of, and how unlike the pictures are."""
    demo.show_run(next(r.id for r in demo.workspace.runs if r.image_set == "spring-check" and r.model == "grain-net-1"))
    settle()
    demo.bench.show_step(COMPARE)
    demo.bench.comparer.hold(other_run(demo, model=False))
    settle()
    step, shown = demo.bench.compare, demo.workspace.shown
    text = step.difference.verdict.sentences
    assert text[0].startswith("On late-summer-field accuracy is lower by 13.3 points")
    assert "−11.3 of these are ragweed and plantain confused with each other" in text[1]
    assert not step.difference.square.isVisible()
    assert shown.other is None
    step.choose(3)
    settle()
    page = step.sets
    assert page.split.text().startswith("−13.3 points in all  =  0.0 (")
    assert [CLASSES[k] for k in page.diagram.classes[:2]] == ["plantain", "ragweed"]
    place = page.diagram.mark_rect(0).center()
    qtbot.mouseClick(page.diagram.viewport(), LEFT, pos=place.toPoint())
    assert shown.conditions == (Labelled(frozenset({PLANTAIN})),)
    assert "6.8" in page.diagram.describe(page.diagram.mark_at(QPointF(place)))
    qtbot.mouseClick(page.work_out, LEFT)
    settle()
    qtbot.waitUntil(lambda: demo.bench.comparer.unlike is not None, timeout=30000)
    assert "To the model the same classes look unlike" in page.unlike_told.text()
    found = demo.bench.comparer.unlike
    assert found is not None
    assert found.estimates is None  # every image has a label: nothing has to be estimated
    qtbot.mouseClick(page.far, LEFT)
    assert isinstance(shown.conditions[0], Picked) == page.far.isEnabled()
    # the selection means the same in both sets; a list of images does not
    shown.replace(Labelled(frozenset({PLANTAIN})))
    step.scope.setCurrentIndex(1)
    settle()
    assert shown.compared is not None and shown.compared.found.sets is not None  # noqa: PT018
    assert (shown.compared.found.sets.total_a, shown.compared.found.sets.total_b) == (50, 50)
    assert demo.bench.measure.scope.currentIndex() == 1
    shown.replace(Picked("hand", (1, 2)))
    step.choose(0)
    settle()
    assert step.difference.verdict.sentences[0].startswith("“picked by hand” means nothing in late-summer-field")


def test_both_heats_for_the_same_targets(held: MainWindow, settle: Settle) -> None:
    shown = held.workspace.shown
    shown.choose(OutcomeOfBoth(frozenset({"fixed"}), shown.held_other))
    shown.focus.step(0)
    held.bench.look_closely()
    settle()
    look = held.bench.close_look
    assert look.other_heat.isVisible()
    assert look.other_heat.name.text() == "grain-net-2"
    assert "as labelled" in look.other_heat.says.text()
    found = look.other_heat._found
    assert found is not None and look.evidence is not None  # noqa: PT018
    assert found[1].classes == look.evidence.classes
    record, image = shown.held.b.record if shown.held else shown.record, shown.focus.current
    assert image is not None
    maker = HeatmapMaker(OnnxModel(record.model_path, record.recipe, 8))
    tensor = np.repeat(prepare_file(record.image_set.file(image), record.recipe)[None], 2, axis=0)
    expected = maker.laid_maps(tensor, [Target(k) for k in found[1].classes], [maker.layer(None)])[0]
    np.testing.assert_allclose(found[1].maps, expected, rtol=1e-3, atol=1e-5)
    held.bench.show_step(EXPLAIN)
    held.bench.explain.choose(0)
    settle()
    board = held.bench.explain.board
    settle()
    rows, cells = board.view.board.rows, board.view.board.cells
    assert rows[1].startswith("grain-net-2\n")
    assert rows[1].split("\n")[1] == rows[0].split("\n")[0]  # the layers that correspond
    assert [line[0].of_other for line in cells] == [False, True] * (len(rows) // 2)
    assert all(cell.heat is not None for line in cells for cell in line)
    np.testing.assert_allclose(cells[1][0].heat, expected[0], rtol=1e-3, atol=1e-5)
    held.bench.comparer.let_go()
    settle()
    assert not look.other_heat.isVisible()
    assert len(board.view.board.rows) == len(rows) // 2


def test_measure_shows_both_and_groups_are_told(held: MainWindow, qtbot: QtBot, settle: Settle) -> None:
    shown, page = held.workspace.shown, held.bench.compare.difference
    figures = shown.held.b.figures if shown.held else shown.snapshot.figures
    measure = held.bench.measure
    assert shown.compared is not None and shown.compared.b_figures is not None  # noqa: PT018
    assert shown.compared.b_figures.top_k[1] == figures.top_k[1]
    held.bench.show_step(MEASURE)
    measure.choose(1)
    settle()
    model = measure.class_table.rows
    assert f"grain-net-2: {100 * (figures.classes[0].recall.value or 0):.1f} %" in model.index(0, 4).data(
        Qt.ItemDataRole.ToolTipRole
    )
    other = measure.reliability.diagram.other()
    assert other is not None
    assert other.ece == pytest.approx(figures.calibration.ece)
    measure.choose(4)
    measure.groups.column.setCurrentText("station")
    measure.groups.column.activated.emit(0)
    settle()
    roof = measure.groups.found.other["north roof"] if measure.groups.found is not None else None
    assert roof is not None
    assert (roof.hits, roof.total) == (123, 132)
    held.bench.show_step(COMPARE)
    page.by.setCurrentText("station")
    page.by.activated.emit(0)
    settle()
    lines = {line.cells[0].text: [cell.text for cell in line.cells] for line in page.groups.lines}
    assert lines["north roof"][1:5] == ["132", "17 of 26", "0", "+12.9"]
    page.ensureWidgetVisible(page.groups)
    click(qtbot, page.groups, "north roof")
    assert len(shown.images) == 132
    held.bench.compare.scope.setCurrentIndex(1)
    settle()
    assert page.verdict.sentences[0] == "Of the selection only:"
    assert "132 images" in page.verdict.sentences[1]
    # as a table, and as a picture
    held.bench.compare.copy_table()
    rows = list(csv.reader(io.StringIO(QGuiApplication.clipboard().text())))
    assert rows[0][:4] == ["figure", "a", "b", "difference"]
    assert rows[1][:4] == ["top-1 accuracy", "80.3 %", "93.2 %", "+12.9"]
    # the model held is taken out of the study: nothing is held any more
    contents = held.workspace.contents
    assert contents is not None
    held.workspace.edits.take(study_edits.remove_model(next(m for m in contents.models if m.name == "grain-net-2")))
    settle()
    qtbot.waitUntil(lambda: held.workspace.shown.held is None, timeout=10000)
    settle()
    assert not page.figures.isVisible()


def test_every_page_is_copied_and_saved(held: MainWindow, tmp_path: Path, settle: Settle) -> None:
    for i, name in enumerate(("difference", "classes", "confusions", "sets", "training")):
        held.bench.compare.choose(i)
        settle()
        held.bench.compare.copy_table()
        assert len(QGuiApplication.clipboard().text()) > 10
        for ending in ("png", "svg"):
            held.bench.compare.save_picture(tmp_path / f"{name}.{ending}")
        assert QImage(str(tmp_path / f"{name}.png")).width() > 900
        assert "<svg" in (tmp_path / f"{name}.svg").read_text()[:400]


def test_keys_alone_hold_and_let_go(demo: MainWindow, qtbot: QtBot, settle: Settle) -> None:
    demo.bench.light_table.thumbs.setFocus()
    menu, entries = demo.bench.header.held.menu, list[str]()

    def in_menu() -> None:  # the menu has the keys until it is closed
        entries.extend(one.text().strip() for one in menu.actions())
        qtbot.keyClick(menu, Qt.Key.Key_Down)
        qtbot.keyClick(menu, Qt.Key.Key_Return)

    QTimer.singleShot(300, in_menu)
    qtbot.keyClick(demo.bench.light_table.thumbs, Qt.Key.Key_A)
    assert entries == [
        "the same images under",
        "grain-net-2",
        "the same model on",
        "spring-check",
        "another model on other images",
        "grain-net-2 on spring-check",
    ]
    settle()
    assert demo.workspace.shown.other is not None
    qtbot.keyClick(demo.bench.light_table.thumbs, Qt.Key.Key_A, Qt.KeyboardModifier.ShiftModifier)
    settle()
    assert demo.workspace.shown.held is None
    assert not demo.bench.header.other_value.isVisible()
    assert demo.bench.header.value.text() == "83.0 %"


def test_what_is_held_is_found_again(held: MainWindow, qtbot: QtBot, settle: Settle, demo_study: Path) -> None:
    shown = held.workspace.shown
    shown.choose(OutcomeOfBoth(frozenset({"fixed"}), shown.held_other))
    settle()
    path = held.workspace.path
    held.close_study()
    settle()
    held.open_study(path)
    qtbot.waitUntil(lambda: held.workspace.is_open and held.workspace.shown.other is not None, timeout=20000)
    settle()
    assert held.workspace.shown.conditions == (OutcomeOfBoth(frozenset({"fixed"}), shown.held_other),)
    assert len(held.workspace.shown.images) == 48
    # on other images the same other model is held
    spring = next(r for r in held.workspace.runs if (r.image_set, r.model) == ("spring-check", "grain-net-1"))
    held.show_run(spring.id)
    settle()
    now = held.workspace.shown.held
    assert now is not None
    assert (now.b.record.info.model, now.b.record.info.image_set) == ("grain-net-2", "spring-check")
    assert held.workspace.shown.conditions == ()
    held.show_run(shown.record.info.id)
    settle()
    # the run held is shown itself: nothing is held against it any more; shown again, nothing is either
    run = other_run(held)
    held.show_run(run.id)
    settle()
    assert held.workspace.shown.held is None
    assert held.workspace.shown.conditions == ()
    with Study.open(path, again=True) as study:
        place = json.loads(load_setting(study, f"place of run {run.id}") or "{}")
    assert place.get("held") is None


def small_study(folder: Path, seeds: tuple[int, ...], images: int, more: tuple[str, ...] = ()) -> Path:
    """A study of models with one file name on one set."""
    folder.mkdir()
    classes = ["birch", "alder", "hazel", *more]
    image_set = read_image_set(write_set(folder / "set", images, classes=classes), classes)
    with Study.create(folder / "s.mivrat", classes) as study:
        for seed in seeds:
            place = folder / f"model {seed}"
            place.mkdir()
            model = loaded(classifier(seed=seed, classes=len(classes)), place / "net.onnx", len(classes))
            for _ in Evaluation(model, image_set, study).run():
                pass
    return folder / "s.mivrat"


def test_two_studies_one_after_the_other_and_models_of_one_name(
    window: MainWindow, qtbot: QtBot, settle: Settle, tmp_path: Path
) -> None:
    """Nothing held in one study is held in the next, though rows, names of models and sets are the same there."""
    first, second = small_study(tmp_path / "a", (1, 2), 4), small_study(tmp_path / "b", (3, 4, 5), 6, ("pine",))
    window.workspace.allow(tmp_path)
    seen = []
    for path in (first, second, first):
        window.open_study(path)
        qtbot.waitUntil(lambda path=path: window.workspace.study_path == path, timeout=20000)
        settle()
        shown = window.workspace.shown
        if seen and path == second:
            assert shown.held is None
            assert shown.compared is None
            assert window.bench.header.held.choose.text() == "compare with ▾"
        window.bench.show_step(COMPARE)
        window.bench.comparer.hold(other_run(window))
        settle()
        assert shown.held is not None and shown.compared is not None  # noqa: PT018
        assert shown.held.b.record.model_path.parent.parent == path.parent
        assert shown.held.names.a != shown.held.names.b  # both are called net
        right = shown.held.b.judged.right
        assert shown.compared.found.either.top1.b == pytest.approx(right.mean())
        seen.append(shown.held.b.record.model_sha256)
        for page in (1, 2, 3, 0):  # one study's pages, looked at, then the next one's
            window.bench.compare.choose(page)
            settle()
            if page == 2:
                assert len(window.bench.compare.confusions.a._matrix) == len(shown.classes)
        window.bench.compare.choose(2)
    assert seen[0] == seen[2] != seen[1]
    # of three runs on these images all are compared at once
    window.open_study(second)
    qtbot.waitUntil(lambda: window.workspace.study_path == second, timeout=20000)
    settle()
    page = window.bench.compare.difference
    window.bench.compare.choose(0)
    settle()
    qtbot.mouseClick(page.all_runs, LEFT)
    settle()
    assert len(page.runs.lines) == 3
    assert "takes it from 3" in page.runs_told.text()


def test_a_table_without_scores_and_images_without_labels(
    window: MainWindow, qtbot: QtBot, settle: Settle, tmp_path: Path
) -> None:
    """A table of predictions is held; some images are answered by one only, none has a heat of the table."""
    path = small_study(tmp_path / "s", (1,), 8)
    listed = sorted((tmp_path / "s" / "set").rglob("*.png"))
    rows = "".join(f"{one},{one.parent.name}\n" for one in listed[:-3])
    (tmp_path / "s" / "elsewhere.csv").write_text(f"path,predicted\n{rows}")
    classes = ["birch", "alder", "hazel"]
    from mivrat.core.models.kinds import load_model

    with Study.open(path) as study:
        image_set = read_image_set(tmp_path / "s" / "set", classes)
        for _ in Evaluation(load_model(tmp_path / "s" / "elsewhere.csv", classes), image_set, study).run():
            pass
    window.workspace.allow(tmp_path)
    window.open_study(path)
    qtbot.waitUntil(lambda: window.workspace.study_path == path, timeout=20000)
    settle()
    window.bench.show_step(COMPARE)
    window.bench.comparer.hold(other_run(window))
    settle()
    page, shown = window.bench.compare.difference, window.workspace.shown
    assert {line.cells[0].text for line in page.figures.lines} == {"top-1 accuracy", "balanced accuracy", "macro F1"}
    assert page.square.alone.text() == "answered by one only: 3"
    qtbot.mouseClick(page.square.alone, LEFT)
    assert len(shown.images) == 3
    shown.clear()
    shown.focus.look_at(0)
    window.bench.look_closely()
    settle()
    assert "ONNX model" in window.bench.close_look.other_heat.panels[0].message
    window.bench.compare.choose(3)
    settle()
    assert window.bench.compare.sets.same_images.isVisible()


def test_a_training_log_is_kept_for_its_model(demo: MainWindow, qtbot: QtBot, settle: Settle, tmp_path: Path) -> None:
    rng = np.random.default_rng(0)
    fell = 0.3 + 1.5 * np.exp(-np.arange(50) / 10)
    gap = 0.1 + 0.03 * np.maximum(0, np.arange(50) - 20)
    lines = [
        f"{i},{a:.4f},{a + g + e:.4f},{90 - 40 * np.exp(-i / 9):.2f}"
        for i, (a, g, e) in enumerate(zip(fell, gap, rng.normal(0, 0.01, 50), strict=True))
    ]
    log = tmp_path / "log.csv"
    log.write_text("epoch,loss,val_loss,held out right\n" + "\n".join(lines) + "\n")
    demo.bench.show_step(COMPARE)
    demo.bench.compare.choose(4)
    page = demo.bench.compare.training
    page.logs.read(log)
    settle()
    assert "From 2" in page.told.text() and "no longer improved" in page.told.text()  # noqa: PT018
    assert page.roles["validation_loss"].currentText() == "val_loss"
    page.roles["validation_accuracy"].setCurrentText("held out right")
    page.roles["validation_accuracy"].activated.emit(0)
    page.smoothing.setCurrentIndex(2)
    settle()
    assert "read as percentages" in page.legend.text()
    assert "mean of 5 points" in page.legend.text()
    page.diagram.setFocus()
    qtbot.keyClick(page.diagram, Qt.Key.Key_Right)
    assert page.diagram.describe(page.diagram.cursor).startswith("at 0\n")
    # another model has none; the first one has it still
    first, other = demo.workspace.shown.record.info.id, other_run(demo).id
    demo.show_run(other)
    settle()
    assert page.logs.log is None
    assert page.empty.isVisible()
    demo.show_run(first)
    settle()
    assert page.logs.log is not None
    assert page.logs.roles.validation_accuracy == "held out right"
    page.logs.read(tmp_path / "none.csv")
    settle()
    assert page.problem.isVisible()
    qtbot.mouseClick(page.off, LEFT)
    settle()
    assert page.empty.isVisible()
