"""The Prepare step by clicks and keys: labels paired, families, subsets, moved folders, recipes edited, a first try."""

from __future__ import annotations

import csv
import shutil
from collections.abc import Callable
from pathlib import Path

import pytest
from PySide6.QtCore import QPoint, Qt
from PySide6.QtWidgets import QApplication, QLabel, QLineEdit, QPushButton, QWidget
from pytestqt.qtbot import QtBot

from mivrat.core.figures.families import family_accuracy
from mivrat.core.pictures.image_sets import list_images, match_labels
from mivrat.core.pictures.prepare import geometry
from mivrat.core.pictures.recipe import Crop, Recipe, Resize, recipe_to_toml
from mivrat.core.running.evaluation import Evaluation
from mivrat.core.selecting.selection import Labelled
from mivrat.core.study.class_list import load_pairing
from mivrat.core.study.file import Study
from mivrat.ui.bench import MEASURE, PREPARE
from mivrat.ui.measure.headline_lines import headline_lines
from mivrat.ui.prepare.inputs import _Entry, _SubsetForm
from mivrat.ui.prepare.recipe_form import numbers_in
from mivrat.ui.prepare.step import CLASSES as CLASS_TAB
from mivrat.ui.prepare.step import INPUTS, RECIPE, TRY_OUT
from mivrat.ui.window import BENCH, MainWindow
from mivrat.workspace import study_edits
from tests.support.networks import classifier, recipe_for, saved
from tests.support.sets import CLASSES, write_classes, write_set

Settle = Callable[[], None]
LEFT = Qt.MouseButton.LeftButton


@pytest.fixture
def folder(tmp_path: Path) -> Path:
    """A model, its recipe, and held-out folders of which two are called other than their classes."""
    network = classifier()
    saved(network, tmp_path / "net.onnx")
    (tmp_path / "recipe.toml").write_text(recipe_to_toml(recipe_for(network)))
    write_set(tmp_path / "held", per_class=6, classes=["birch", "alder", "Hassel", "oak"])
    return tmp_path


@pytest.fixture
def study(qtbot: QtBot, window: MainWindow, settle: Settle, folder: Path) -> MainWindow:
    """The window on a scored study of that folder, at its Prepare step."""
    from mivrat.core.models.kinds import load_model
    from mivrat.core.pictures.recipe import read_recipe

    made = Study.create(folder / "s.mivrat", CLASSES)
    images = match_labels(list_images(folder / "held"), CLASSES).image_set
    for _ in Evaluation(
        load_model(folder / "net.onnx", CLASSES, read_recipe(folder / "recipe.toml")), images, made
    ).run():  # type: ignore[arg-type]
        pass
    made.close()
    window.open_study(folder / "s.mivrat")
    qtbot.waitUntil(lambda: window.pages.currentIndex() == BENCH, timeout=10000)
    settle()
    qtbot.mouseClick(window.bench.rail.steps[PREPARE], LEFT)
    return window


def visible_text(widget: QWidget) -> str:
    return "\n".join(one.text() for one in widget.findChildren(QLabel) if one.isVisible())


def click(qtbot: QtBot, widget: QWidget, text: str) -> None:
    """Click the visible button of this text."""
    found = [one for one in widget.findChildren(QPushButton) if one.text() == text and one.isVisible()]
    assert found, (text, [one.text() for one in widget.findChildren(QPushButton) if one.isVisible()])
    qtbot.mouseClick(found[0], LEFT)


def total(window: MainWindow) -> int:
    return window.workspace.shown.snapshot.figures.total


def test_labels_are_paired_with_classes_by_hand(qtbot: QtBot, study: MainWindow, settle: Settle, folder: Path) -> None:
    assert total(study) == 12
    assert study.bench.rail.steps[PREPARE].state == "look"
    assert "12 images have a label that is not in the class list" in visible_text(study.bench.prepare.inputs)
    click(qtbot, study.bench.prepare.inputs, "Match labels to classes")
    pairing = study.bench.prepare.class_page.pairing
    assert [pairing.labels.item(i).text() for i in range(2)] == ["Hassel   6", "oak   6"]
    assert pairing.classes.currentItem().text().startswith("hazel")  # the likeliest, and the only one without images
    qtbot.keyClick(pairing.labels, Qt.Key.Key_Return)
    settle()
    assert total(study) == 18
    assert "Hassel  means hazel" in visible_text(pairing)
    click(qtbot, pairing, "Not a class")
    settle()
    assert study.workspace.contents is not None
    assert study.workspace.contents.unmatched == {}
    assert study.bench.rail.steps[PREPARE].state == "fine"
    qtbot.keyClick(study, Qt.Key.Key_Z, Qt.KeyboardModifier.ControlModifier)
    settle()
    assert list(study.workspace.contents.unmatched) == ["oak"]
    qtbot.keyClick(study, Qt.Key.Key_Z, Qt.KeyboardModifier.ControlModifier)
    settle()
    assert total(study) == 12
    qtbot.keyClick(study, Qt.Key.Key_Z, Qt.KeyboardModifier.ControlModifier | Qt.KeyboardModifier.ShiftModifier)
    settle()
    assert total(study) == 18
    kept = Study.open(folder / "s.mivrat")
    assert load_pairing(kept) == {"Hassel": 2}
    kept.close()


def test_families_are_typed_or_read_and_measured(qtbot: QtBot, study: MainWindow, settle: Settle, folder: Path) -> None:
    study.bench.prepare.tabs.choose(CLASS_TAB)
    page = study.bench.prepare.class_page.table
    assert [page.table.item(k, 1).text() for k in range(3)] == ["6", "6", "0"]
    page.table.selectRow(0)
    qtbot.keyClicks(page.family, "trees")
    qtbot.keyClick(page.family, Qt.Key.Key_Return)
    settle()
    assert page.table.item(0, 2).text() == "trees"
    (folder / "families.csv").write_text("class,family\nbirch,trees\nalder,trees\nhazel,shrubs\n")
    page.read(folder / "families.csv")
    settle()
    snapshot = study.workspace.shown.snapshot
    assert snapshot.record.families == {0: "trees", 1: "trees", 2: "shrubs"}
    line = next(one for one in headline_lines(study.workspace) if one.name == "accuracy within family")
    expected = family_accuracy(snapshot.figures.matrix, snapshot.record.families)
    assert line.value == f"{100 * (expected.value or 0):.1f} %"
    assert line.total == 12
    study.bench.show_step(MEASURE)
    study.bench.measure.tabs.choose(1)
    classes, rows = study.bench.measure.classes_page, study.bench.measure.class_table.rows
    assert classes.families.isVisible()
    qtbot.mouseClick(classes.families, LEFT, pos=QPoint(8, classes.families.height() // 2))
    assert [(rows.name(i), rows.figures(i).support) for i in range(rows.rowCount())] == [("trees", 12), ("shrubs", 0)]
    assert rows.figures(0).true_positive == expected.hits
    qtbot.mouseClick(study.bench.measure.class_table.viewport(), LEFT, pos=QPoint(20, 20))
    assert study.workspace.shown.conditions == (Labelled(frozenset({0, 1})),)
    study.workspace.shown.clear()
    qtbot.mouseClick(classes.families, LEFT, pos=QPoint(8, classes.families.height() // 2))
    assert rows.rowCount() == 3
    study.bench.show_step(PREPARE)
    (folder / "families.csv").write_text("class,family\nelm,trees\n")
    page.read(folder / "families.csv")
    assert "'elm' is not in the class list" in study.foot.problem.full_text
    assert page.table.item(2, 2).text() == "shrubs"


def test_a_subset_is_drawn_begun_and_scored(qtbot: QtBot, study: MainWindow, settle: Settle) -> None:
    inputs = study.bench.prepare.inputs
    assert study.workspace.contents is not None
    inputs._start_drawing(study.workspace.contents.sets[0])
    form = inputs.findChildren(_SubsetForm)[0]
    form.number.setValue(2)
    qtbot.mouseClick(form.act, LEFT)
    settle()
    drawn = study.workspace.contents.sets[1]
    assert (drawn.images, drawn.drawn) == (4, "2 per class, seed 0, of 24 in held")
    click(qtbot, inputs, "Score")  # which begins: no second button has to be found
    settle()
    qtbot.waitUntil(lambda: study.workspace.jobs.going_on is None, timeout=10000)
    settle()
    assert study.workspace.shown.snapshot.counts.evaluated == 4
    qtbot.keyClick(study, Qt.Key.Key_Z, Qt.KeyboardModifier.ControlModifier)
    settle()
    assert len(study.workspace.runs) == 1
    assert total(study) == 12


def test_a_table_of_predictions_measures_what_it_can(
    qtbot: QtBot, study: MainWindow, settle: Settle, folder: Path
) -> None:
    paths = (
        [item.path for item in study.workspace.shown.snapshot.record.image_set.items]
        if study.workspace.shown.snapshot
        else []
    )
    with (folder / "told.csv").open("w", newline="") as file:
        csv.writer(file).writerows([["path", "predicted", "confidence"], *((p, "birch", "0.75") for p in paths)])
    before = study.workspace.shown.record.key
    study.bench.prepare.inputs.add_model(folder / "told.csv")
    settle()
    assert study.workspace.shown.record.key == before  # what is looked at stays
    assert "under Runs" in study.foot.notice.full_text
    study.show_run(study.workspace.runs[-1].id)
    settle()
    snapshot = study.workspace.shown.snapshot
    assert snapshot.record.kind.name == "table"
    assert snapshot.figures.top_k[1].hits == 6
    dashes = {line.name: line.how for line in headline_lines(study.workspace) if line.value == "–" and line.total == 0}
    assert set(dashes) == {"top-5 accuracy", "log loss", "Brier score"}
    assert "a table of predictions" in study.bench.header.facts.full_text
    study.bench.prepare.tabs.choose(RECIPE)
    assert "so this run has no recipe" in visible_text(study.bench.prepare.recipe_page)
    study.workspace.shown.focus.step(0)
    study.bench.look_closely()
    settle()
    assert "needs the ONNX model" in study.bench.close_look.heat_predicted.message
    study.bench.leave_close_look()
    (folder / "other.csv").write_text("path,predicted\nelsewhere.png,birch\n")
    study.bench.prepare.inputs.add_model(folder / "other.csv")
    settle()
    assert "lists none of the images" in study.foot.problem.full_text
    assert study.workspace.contents is not None
    assert [one.name for one in study.workspace.contents.models] == ["net", "told"]


def test_moved_images_are_found_again(qtbot: QtBot, study: MainWindow, settle: Settle, folder: Path) -> None:
    shutil.move(folder / "held", folder / "moved")
    study.open_study(folder / "s.mivrat")
    settle()
    inputs = study.bench.prepare.inputs
    assert study.bench.rail.steps[PREPARE].state == "stop"
    assert "The folder is not there." in visible_text(inputs)
    assert study.workspace.contents is not None
    lost = study.workspace.contents.sets[0]
    inputs.relocate(lost, folder)
    settle()
    assert "holds none of the images of held" in study.foot.problem.full_text
    inputs.relocate(lost, folder / "moved")
    settle()
    assert study.bench.rail.steps[PREPARE].state == "look"
    assert study.workspace.shown.snapshot.record.image_set.root == folder / "moved"
    assert total(study) == 12


def test_sets_and_roles_can_be_changed_and_taken_back(
    qtbot: QtBot, study: MainWindow, settle: Settle, folder: Path
) -> None:
    inputs = study.bench.prepare.inputs
    write_set(folder / "atlas", per_class=1)
    inputs.add_images(folder / "atlas", "reference")
    settle()
    assert set(study.workspace.references) == {0, 1, 2}
    assert study.workspace.contents is not None
    held, atlas = study.workspace.contents.sets
    inputs._change_role(atlas, "training")
    settle()
    assert study.workspace.references == {}
    menu = inputs.findChildren(_Entry)[1]
    assert menu.isVisible()
    study.workspace.edits.undo()
    settle()
    assert set(study.workspace.references) == {0, 1, 2}

    study.workspace.edits.take(study_edits.remove_set(held))
    settle()
    assert "every run of this study is on this set" in study.foot.problem.full_text
    study.workspace.edits.take(study_edits.remove_set(atlas))
    settle()
    assert study.workspace.references == {}
    study.workspace.edits.undo()
    settle()
    assert set(study.workspace.references) == {0, 1, 2}


def test_the_recipe_editor_shows_undoes_saves_and_adopts(
    qtbot: QtBot, study: MainWindow, settle: Settle, folder: Path
) -> None:
    study.bench.prepare.tabs.choose(RECIPE)
    settle()
    page = study.bench.prepare.recipe_page
    form, draft = page.form, page.draft
    assert draft is not None
    before = draft.recipe
    assert not page.adopt.isEnabled()
    study.workspace.shown.focus.look_at(5)  # 16 x 21 pixels
    settle()
    form.rule.setFocus()
    qtbot.keyClick(form.rule, Qt.Key.Key_Home)
    assert draft.recipe.resize.rule == "none"
    qtbot.keyClick(form.rule, Qt.Key.Key_Down)
    form.height_box.setValue(12)
    qtbot.mouseClick(form.crop, LEFT, pos=QPoint(8, form.crop.height() // 2))
    form.crop_width.setValue(8)
    settle()
    assert draft.recipe.resize == Resize(
        rule="shorter-side", size=12, filter=before.resize.filter, antialias=before.resize.antialias
    )
    assert draft.recipe.crop == Crop(size=(12, 8))
    assert page.original.place == geometry(16, 21, draft.recipe)
    picture, seen = page.original.rects()
    assert seen.width() / picture.width() == pytest.approx(8 / 15, rel=0.01)
    assert "of the picture is not seen" in page.told.text()
    form.mean.setFocus()
    form.mean.selectAll()
    qtbot.keyClicks(form.mean, "0.1, much")
    qtbot.keyClick(form.mean, Qt.Key.Key_Return)
    assert "values.mean" in page.problem.text()
    assert draft.recipe.values == before.values
    form.mean.selectAll()
    qtbot.keyClicks(form.mean, "1/2")
    qtbot.keyClick(form.mean, Qt.Key.Key_Return)
    settle()
    assert draft.recipe.values.mean == [0.5]
    assert not page.problem.isVisible()
    low, high = draft.recipe.value_ranges()[0]
    assert page.bars.channels[0].bounds == (low, high)
    assert low <= page.bars.channels[0].lowest <= page.bars.channels[0].highest <= high
    study.setFocus()
    edited = draft.recipe
    qtbot.keyClick(study, Qt.Key.Key_Z, Qt.KeyboardModifier.ControlModifier)
    assert draft.recipe.values == before.values
    qtbot.keyClick(study, Qt.Key.Key_Z, Qt.KeyboardModifier.ControlModifier | Qt.KeyboardModifier.ShiftModifier)
    assert draft.recipe == edited
    page.save_to(folder / "mine.toml")
    page.put(Recipe())
    page.load_from(folder / "mine.toml")
    assert draft.recipe == edited
    page.load_from(folder / "net.onnx")
    assert "not UTF-8 text" in page.problem.text()
    form.crop_width.setValue(12)
    settle()
    qtbot.mouseClick(page.adopt, LEFT)
    settle()
    snapshot = study.workspace.shown.snapshot
    assert study.foot.problem.full_text == ""
    assert (snapshot.record.recipe.crop, snapshot.counts.pending) == (Crop(size=(12, 12)), 24)
    assert study.bench.prepare.tabs.current == TRY_OUT
    assert len(study.workspace.runs) == 2
    assert study.workspace.contents is not None
    names = {study.workspace.contents.model_name(run.model_id) for run in study.workspace.runs}
    assert len(names) == 2
    study.bench.prepare.tabs.choose(INPUTS)
    study.workspace.edits.undo()
    settle()
    assert len(study.workspace.runs) == 1
    assert total(study) == 12


def test_a_recipe_that_does_not_fit_the_model_is_refused(qtbot: QtBot, study: MainWindow, settle: Settle) -> None:
    study.bench.prepare.tabs.choose(RECIPE)
    settle()
    page = study.bench.prepare.recipe_page
    page.form.order.setCurrentIndex(1)
    page.form.order.activated.emit(1)
    qtbot.mouseClick(page.adopt, LEFT)
    settle()
    assert "net.onnx" in study.foot.problem.full_text
    assert len(study.workspace.runs) == 1


@pytest.mark.parametrize(
    ("text", "numbers"),
    [
        ("0.5", [0.5]),
        ("1/255, 2", [1 / 255, 2.0]),
        (" 1;2 3 ", [1.0, 2.0, 3.0]),
        ("−1", [-1.0]),
        ("x", None),
        ("1/0", None),
    ],
)
def test_numbers_as_they_are_typed(text: str, numbers: list[float] | None) -> None:
    assert numbers_in(text) == numbers


def test_twelve_images_are_tried_before_the_full_run(
    qtbot: QtBot, window: MainWindow, settle: Settle, folder: Path
) -> None:
    window.new_study()
    page = window.new_page
    classes = write_classes(folder / "classes.txt")
    page.drop([folder / "net.onnx", folder / "recipe.toml", folder / "held", classes])
    qtbot.waitUntil(page.few.isEnabled, timeout=10000)
    assert "Not in the class list: 'Hassel', 'oak'; match these labels by hand" in page.message.text()
    qtbot.mouseClick(page.few, LEFT)
    qtbot.waitUntil(
        lambda: window.pages.currentIndex() == BENCH and window.workspace.jobs.going_on is None, timeout=10000
    )
    settle()
    assert window.bench.figures.currentIndex() == PREPARE
    try_out = window.bench.prepare.try_out
    assert try_out.isVisible()
    snapshot = window.workspace.shown.snapshot
    assert snapshot.counts.pending == 12
    assert len(try_out.cards.images) == 12
    assert (snapshot.judged.state[try_out.cards.images] == 1).all()
    lines = [text for image in try_out.cards.images for text, _, _ in try_out.cards._lines(image)]
    assert "labelled alder" in lines
    assert "oak: no class" in lines
    try_out.cards.setFocus()
    qtbot.keyClick(try_out.cards, Qt.Key.Key_Right)
    qtbot.keyClick(try_out.cards, Qt.Key.Key_Return)
    settle()
    assert window.bench.close_look.isVisible()
    assert window.workspace.shown.focus.current == try_out.cards.images[1]
    window.bench.leave_close_look()
    qtbot.mouseClick(try_out.others, LEFT)
    assert "seed 1" in try_out.told.text()
    qtbot.mouseClick(try_out.full, LEFT)
    qtbot.waitUntil(lambda: window.workspace.jobs.going_on is None, timeout=10000)
    settle()
    assert window.workspace.shown.snapshot.counts.pending == 0
    assert not try_out.full.isVisible()
    assert QApplication.focusWidget() is not None


def test_models_and_sets_are_renamed_and_stay_what_they_are(
    qtbot: QtBot, study: MainWindow, settle: Settle, folder: Path
) -> None:
    inputs, before = study.bench.prepare.inputs, study.workspace.shown.record.key
    contents = study.workspace.contents
    assert contents is not None
    for one, name in ((contents.models[0], "net & <b>"), (contents.sets[0], "net & <b>")):
        inputs._start_renaming(one)
        form = next(each for each in inputs.findChildren(QLineEdit) if one.name in each.accessibleName())
        form.selectAll()
        qtbot.keyClicks(form, f"  {name}")
        qtbot.keyClick(form, Qt.Key.Key_Return)
        settle()
    info = study.workspace.shown.record.info
    assert (info.model, info.image_set) == ("net & <b>", "net & <b>")
    assert study.workspace.shown.record.key == before
    assert "net & <b>" in study.bench.header.facts.full_text
    study.open_study(folder / "s.mivrat")
    settle()
    assert study.workspace.shown.record.info.model == "net & <b>"
    study.workspace.edits.take(study_edits.rename_set(study.workspace.contents.sets[0], "held"))  # type: ignore[union-attr]
    settle()
    study.workspace.edits.undo()
    settle()
    assert study.workspace.shown.record.info.image_set == "net & <b>"
