"""The Examine step by clicks and keys: the review run and its way back, causes, groups, labels, two classes, handing back."""

from __future__ import annotations

import csv
from collections import Counter
from collections.abc import Callable
from pathlib import Path

import numpy as np
import pytest
from PySide6.QtCore import QPoint, QPointF, QRectF, QSettings, Qt
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QPushButton
from pytestqt.qtbot import QtBot

from mivrat.core.likeness.search import nearest
from mivrat.core.pictures.image_sets import list_images, match_labels
from mivrat.core.reporting.image_lists import list_of_images, relabel_list
from mivrat.core.running.evaluation import Evaluation
from mivrat.core.selecting.selection import Caused, Labelled, Outcome, Picked, Predicted
from mivrat.core.study.file import Study
from mivrat.core.study.reviews import Review, load_reviews
from mivrat.demo.study import demo_study_path
from mivrat.ui.bench import EXAMINE, MEASURE
from mivrat.ui.close_look.view import WAYS
from mivrat.ui.window import BENCH, MainWindow
from tests.support.demo import CLASSES
from tests.support.networks import classifier, loaded
from tests.support.sets import CLASSES as THREE
from tests.support.sets import write_set

Settle = Callable[[], None]
LEFT = Qt.MouseButton.LeftButton
RAGWEED, PLANTAIN = CLASSES.index("ragweed"), CLASSES.index("plantain")


def key(window: MainWindow, key: Qt.Key, modifiers: Qt.KeyboardModifier = Qt.KeyboardModifier.NoModifier) -> None:
    """A key where the focus is."""
    target = window.focusWidget()
    assert target is not None
    QTest.keyClick(target, key, modifiers)


def reviews_on_disk(window: MainWindow) -> dict[int, Review]:
    window.workspace.writing.wait()
    study = Study.open(demo_study_path(), again=True)
    try:
        return load_reviews(study, window.workspace.shown.snapshot.record.info.set_id).by_position
    finally:
        study.close()


def test_a_review_run_with_keys_alone_and_back_after_a_restart(
    qtbot: QtBot, demo: MainWindow, settle: Settle, settings: QSettings
) -> None:
    workspace = demo.workspace
    demo.bench.show_step(EXAMINE)
    demo.bench.light_table.thumbs.setFocus()
    workspace.shown.choose(Labelled(frozenset({PLANTAIN})), Predicted(frozenset({RAGWEED})))
    demo.bench.light_table.thumbs.setFocus()
    seen = []
    for number in (Qt.Key.Key_6, Qt.Key.Key_2, Qt.Key.Key_6):
        key(demo, Qt.Key.Key_N)
        seen.append(workspace.shown.focus.current)
        key(demo, number)
    assert demo.bench.right.currentWidget() is demo.bench.close_look
    assert seen == workspace.shown.images[:3].tolist()
    first, second, third = (int(i) for i in workspace.shown.images[:3])
    assert demo.bench.close_look.review.progress.text() == "3 of 25 mistakes reviewed"
    assert demo.bench.close_look.review.chips[6].isChecked()
    assert {i: sorted(one.causes) for i, one in reviews_on_disk(demo).items()} == {first: [6], second: [2], third: [6]}

    key(demo, Qt.Key.Key_E)  # a note: digits and letters are text while it is written
    QTest.keyClicks(demo.focusWidget(), "dot no 7, R and N")
    key(demo, Qt.Key.Key_Return)
    assert workspace.shown.reviews[third] == Review(frozenset({6}), "dot no 7, R and N", True)
    key(demo, Qt.Key.Key_Z, Qt.KeyboardModifier.ControlModifier)
    key(demo, Qt.Key.Key_Z, Qt.KeyboardModifier.ControlModifier)
    assert third not in workspace.shown.reviews.by_position
    assert third not in reviews_on_disk(demo)
    key(demo, Qt.Key.Key_Z, Qt.KeyboardModifier.ControlModifier | Qt.KeyboardModifier.ShiftModifier)
    assert workspace.shown.reviews[third] == Review(frozenset({6}), "", True)
    key(demo, Qt.Key.Key_R)
    assert not workspace.shown.reviews[third].reviewed
    key(demo, Qt.Key.Key_N)
    assert workspace.shown.focus.current == int(
        workspace.shown.images[3]
    )  # the third is still to come, but further on first
    workspace.shown.set_order("least confident first")
    where, order = workspace.shown.focus.current, workspace.shown.images.tolist()

    reviews = dict(workspace.shown.reviews.by_position)
    demo.close()
    again = MainWindow(settings)
    again.show()
    qtbot.addWidget(again)
    again.open_demo()
    qtbot.waitUntil(lambda: again.pages.currentIndex() == BENCH, timeout=30000)
    qtbot.waitUntil(lambda: again.workspace.shown.focus.current == where, timeout=10000)
    assert [one.kind for one in again.workspace.shown.conditions] == ["labelled", "predicted"]
    assert again.workspace.shown.images.tolist() == order
    assert again.bench.figures.currentIndex() == EXAMINE
    assert again.bench.right.currentWidget() is again.bench.close_look
    assert again.workspace.shown.reviews.by_position == reviews
    assert again.bench.close_look.review.progress.text() == "2 of 25 mistakes reviewed"


def test_causes_are_edited_and_counted(qtbot: QtBot, demo: MainWindow, settle: Settle) -> None:
    workspace, snapshot = demo.workspace, demo.workspace.shown.snapshot
    judged, page = snapshot.judged, demo.bench.examine.review
    demo.bench.show_step(EXAMINE)
    page.name.setText("ink dot")
    qtbot.keyClick(page.name, Qt.Key.Key_Return)
    assert workspace.shown.reviews.causes[-1].name == "ink dot"
    while page.causes.currentRow():
        qtbot.mouseClick(page.up, LEFT)
    assert demo.bench.close_look.review.chips[workspace.shown.reviews.causes[0].id].text() == "1  ink dot"
    page.causes.setCurrentCell(1, 0)
    page.name.setText("mislabelled")
    qtbot.mouseClick(page.rename, LEFT)
    assert workspace.shown.reviews.causes[1].name == "mislabelled"
    wrong = np.flatnonzero(judged.wrong)
    demo.bench.light_table.thumbs.setFocus()
    workspace.shown.focus.look_at(int(wrong[0]), frozenset(wrong[:9].tolist()))
    key(demo, Qt.Key.Key_1)  # all nine at once
    workspace.shown.focus.look_at(int(wrong[4]))
    key(demo, Qt.Key.Key_2)
    workspace.shown.focus.look_at(int(wrong[9]))
    key(demo, Qt.Key.Key_R)
    dot, mislabelled = (workspace.shown.reviews.causes[i].id for i in (0, 1))
    assert workspace.shown.reviews[int(wrong[4])].causes == {dot, mislabelled}
    demo.bench.examine.tabs.choose(1)
    counts = demo.bench.examine.causes
    assert counts.table.as_lines()[1:] == [
        ["ink dot", "all", "9 of 10", "90.0 %", "59.6 – 98.2"],
        ["mislabelled", "all", "1 of 10", "10.0 %", "1.8 – 40.4"],
        ["no cause", "all", "1 of 10", "10.0 %", "1.8 – 40.4"],
    ]
    counts.by.setCurrentText("pair")
    counts.refresh()
    expected = Counter((CLASSES[judged.labels[i]], CLASSES[judged.predicted[i]]) for i in wrong[:9])
    totals = Counter((CLASSES[judged.labels[i]], CLASSES[judged.predicted[i]]) for i in wrong[:10])
    lines = {tuple(line[1].split(" → ")): line[2] for line in counts.table.as_lines()[1:] if line[0] == "ink dot"}
    assert lines == {pair: f"{n} of {totals[pair]}" for pair, n in expected.items()}
    line = next(i for i, one in enumerate(counts.found) if one.cause == dot)
    at = counts.table.visualItemRect(counts.table.item(line, 0)).center()
    qtbot.mouseClick(counts.table.viewport(), LEFT, pos=at)
    assert len(workspace.shown.images) == counts.found[line].share.hits
    demo.bench.examine.tabs.choose(0)
    page.causes.setCurrentCell(0, 0)
    qtbot.mouseClick(page.take_out, LEFT)
    assert workspace.shown.reviews.names(int(wrong[0])) == []
    demo.undo()
    assert workspace.shown.reviews.names(int(wrong[0])) == ["ink dot"]
    demo.redo()
    assert workspace.shown.reviews.names(int(wrong[0])) == []


def test_mistakes_are_grouped_named_and_found_again(qtbot: QtBot, demo: MainWindow, settle: Settle) -> None:
    workspace, snapshot = demo.workspace, demo.workspace.shown.snapshot
    demo.bench.show_step(EXAMINE)
    demo.bench.examine.go_to("groups")
    page = demo.bench.examine.groups
    if workspace.shown.results.vectors is None:
        qtbot.mouseClick(page.begin, LEFT)
    settle()
    assert workspace.shown.results.vectors is not None
    assert sum(len(card.members) for card in page.cards) == int(snapshot.judged.wrong.sum())
    dotted = page.cards[0]  # the largest: plantain with the ink dot, taken for ragweed
    shared = {(one.about, one.value) for one in dotted.shared}
    assert {("labelled", "plantain"), ("predicted", "ragweed")} <= shared
    qtbot.mouseClick(dotted.see, LEFT)
    assert workspace.shown.images.tolist() == dotted.members
    settle()
    assert page.cards[0] is dotted  # looking at a group does not group anew
    qtbot.keyClicks(dotted.name, "ink dot on plantain")
    qtbot.keyClick(dotted.name, Qt.Key.Key_Return)
    assert [one.name for one in workspace.shown.kept] == ["ink dot on plantain"]
    members = dotted.members
    demo.undo()
    assert workspace.shown.kept == ()
    demo.redo()
    workspace.shown.clear()
    demo.bench.examine.tabs.choose(0)
    settle()
    named = next(b for b in demo.bench.examine.review.findChildren(QPushButton) if b.text() == "ink dot on plantain")
    qtbot.mouseClick(named, LEFT)
    assert workspace.shown.images.tolist() == members
    demo.bench.light_table.thumbs.setFocus()
    workspace.shown.focus.look_at(members[0])
    key(demo, Qt.Key.Key_S)
    expected = nearest(workspace.shown.results.vectors, [members[0]], 60)[0].tolist()
    assert workspace.shown.images.tolist() == [members[0], *expected]
    workspace.shown.focus.look_at(members[0])
    demo.bench.look_closely()
    settle()
    assert demo.bench.close_look.similar.images == expected[:8]
    qtbot.mouseClick(demo.bench.close_look.similar, LEFT, pos=demo.bench.close_look.similar._rect(1).center())
    assert workspace.shown.focus.current == expected[1]


def test_suspected_labels_are_confirmed_or_dismissed_and_figures_corrected(
    qtbot: QtBot, demo: MainWindow, settle: Settle
) -> None:
    workspace, snapshot = demo.workspace, demo.workspace.shown.snapshot
    demo.bench.show_step(EXAMINE)
    demo.bench.examine.go_to("labels")
    settle()
    page = demo.bench.examine.labels
    with open(Path(snapshot.record.image_set.root) / "planted.csv", encoding="utf-8") as file:
        planted = {line["path"] for line in csv.DictReader(file) if line["planted"].startswith("wrong label")}
    items = snapshot.record.image_set.items
    assert page.found is not None
    suspects = page.found.positions.tolist()
    wrong = {i for i, item in enumerate(items) if item.path in planted}
    assert len(wrong) == 8
    assert len(wrong & set(suspects[:8])) >= 7  # beside one image of two grains, which looks the same
    page.table.setFocus()
    page.table.setCurrentCell(0, 0)
    assert workspace.shown.images.tolist() == suspects
    for one in (Qt.Key.Key_C, Qt.Key.Key_C, Qt.Key.Key_D):
        qtbot.keyClick(page.table, one)
    assert workspace.shown.focus.current == suspects[3]
    assert [page.table.item(i, 4).text() for i in range(4)] == ["label proposed"] * 2 + ["dismissed", "suspected"]
    assert workspace.shown.reviews.proposed() == dict(zip(suspects[:2], page.found.likely[:2].tolist(), strict=True))
    workspace.shown.clear()
    demo.bench.examine.tabs.choose(0)
    settle()
    review = demo.bench.examine.review
    after = snapshot.judged.relabelled(workspace.shown.reviews.proposed()).figures([1, 3, 5])
    lines = {name: values for name, *values in review.corrected_lines(snapshot.figures, after)}
    hits = int(snapshot.judged.right.sum())
    assert lines["top-1 accuracy"][0].startswith(f"{100 * hits / 399:.1f} %")
    assert lines["top-1 accuracy"][1].startswith(f"{100 * (hits + 2) / 399:.1f} %")
    assert review.corrected_note.text().startswith("2 images judged by the label proposed")
    assert review.corrected.itemAtPosition(1, 2).widget().text() == lines["top-1 accuracy"][1]  # type: ignore[attr-defined]
    assert snapshot.judged.labels[suspects[0]] == items[suspects[0]].label  # the label itself stays


def test_images_that_two_classes_fit(qtbot: QtBot, demo: MainWindow, settle: Settle) -> None:
    demo.bench.show_step(EXAMINE)
    demo.bench.examine.go_to("two classes")
    page, workspace = demo.bench.examine.two_classes, demo.workspace
    qtbot.mouseClick(page.begin, LEFT)
    settle()
    found = workspace.shown.results.two_classes
    assert found
    near = {one.image for one in found}
    assert all(workspace.shown.snapshot.judged.margins[i] < 0.6 for i in near)
    qtbot.mouseClick(page.see, LEFT)
    assert set(workspace.shown.images.tolist()) == near
    page.table.setCurrentCell(1, 0)
    assert workspace.shown.focus.current == int(workspace.shown.images[1])


def test_called_beside_labelled_in_three_bands(qtbot: QtBot, demo: MainWindow, settle: Settle) -> None:
    workspace, snapshot = demo.workspace, demo.workspace.shown.snapshot
    matrix = snapshot.figures.matrix
    demo.bench.light_table.thumbs.setFocus()
    workspace.shown.focus.look_at(
        int(np.flatnonzero((snapshot.judged.labels == PLANTAIN) & (snapshot.judged.predicted == RAGWEED))[0])
    )
    key(demo, Qt.Key.Key_B)
    right = int(matrix[RAGWEED, RAGWEED])
    called, labelled = int(matrix[:, RAGWEED].sum()), int(matrix[RAGWEED].sum())
    assert [band.stop - band.start for band in workspace.shown.bands] == [right, called - right, labelled - right]
    assert workspace.shown.bands[0].accuracy.value == 1
    workspace.shown.clear()
    assert workspace.shown.bands == []


def test_images_are_marked_as_in_a_list_of_files(qtbot: QtBot, demo: MainWindow, settle: Settle) -> None:
    workspace, thumbs = demo.workspace, demo.bench.light_table.thumbs
    workspace.shown.choose(Labelled(frozenset({PLANTAIN})), Outcome(frozenset({"wrong"})))
    workspace.shown.set_bands("prediction")
    shown = workspace.shown.images.tolist()

    def click(position: int, modifier: Qt.KeyboardModifier = Qt.KeyboardModifier.NoModifier) -> None:
        qtbot.mouseClick(thumbs.viewport(), LEFT, modifier, thumbs.cell_rect(position).center())

    click(1)
    click(3, Qt.KeyboardModifier.ShiftModifier)
    assert workspace.shown.focus.acted_on == shown[1:4]
    click(2, Qt.KeyboardModifier.ControlModifier)
    assert workspace.shown.focus.acted_on == [shown[1], shown[3]]
    assert demo.bench.light_table.count.text() == "2 marked"
    click(0)
    assert workspace.shown.focus.marked == {shown[0]}
    for _ in range(2):
        QTest.keyClick(thumbs, Qt.Key.Key_Right, Qt.KeyboardModifier.ShiftModifier)
    assert workspace.shown.focus.acted_on == shown[:3]
    QTest.keyClick(thumbs, Qt.Key.Key_Escape)
    assert workspace.shown.focus.marked == {shown[2]}
    QTest.keyClick(thumbs, Qt.Key.Key_A, Qt.KeyboardModifier.ControlModifier)
    assert workspace.shown.focus.acted_on == shown
    # Down the bands in the first column, and up again: every row once, no way lost.
    QTest.keyClick(thumbs, Qt.Key.Key_Home)
    way = [workspace.shown.focus.position]
    while True:
        QTest.keyClick(thumbs, Qt.Key.Key_Down)
        if workspace.shown.focus.position == way[-1]:
            break
        way.append(workspace.shown.focus.position)
    assert {band.start for band in workspace.shown.bands} <= set(way)
    assert way == sorted(way)
    back = [workspace.shown.focus.position]
    for _ in way[1:]:
        QTest.keyClick(thumbs, Qt.Key.Key_Up)
        back.append(workspace.shown.focus.position)
    assert back == way[::-1]
    click(0)
    click(2, Qt.KeyboardModifier.ControlModifier)
    QTest.keyClick(thumbs, Qt.Key.Key_K)
    assert workspace.shown.images.tolist() == [shown[0], shown[2]]
    assert isinstance(workspace.shown.conditions[0], Picked)


def test_images_are_handed_back(qtbot: QtBot, demo: MainWindow, settle: Settle, tmp_path: Path) -> None:
    workspace = demo.workspace
    workspace.shown.choose(Labelled(frozenset({PLANTAIN})), Predicted(frozenset({RAGWEED})))
    actions = [action.text() for action in demo.bench.light_table.more.menu().actions()]
    assert sum("…" in text for text in actions) == 6
    demo.bench.exporter.comments = True
    demo.bench.exporter.write_list(tmp_path / "list.csv", list_of_images)
    settle()
    told = (tmp_path / "list.csv").read_text()
    assert "selection: labelled plantain; predicted ragweed (25 images)" in told
    demo.bench.exporter.write_folders(tmp_path / "sorted", "copies")
    settle()
    copies = sorted((tmp_path / "sorted" / "labelled plantain" / "called ragweed").iterdir())
    assert len(copies) == 25
    demo.bench.exporter.write_sheet(tmp_path / "sheet.pdf")
    settle()
    assert (tmp_path / "sheet.pdf").read_bytes().startswith(b"%PDF")
    demo.bench.exporter.write_list(tmp_path / "relabel.csv", relabel_list)
    settle()
    assert "no other label is proposed" in demo.foot.problem.full_text
    assert not (tmp_path / "relabel.csv").exists()


@pytest.mark.parametrize("which", ["one", "all"])
def test_unlabelled_images_are_reviewed_too(
    qtbot: QtBot, window: MainWindow, settle: Settle, tmp_path: Path, which: str
) -> None:
    write_set(tmp_path / "a", 4, classes=["x"])
    images = match_labels(list_images(tmp_path / "a" / "x"), THREE).image_set
    study = Study.create(tmp_path / "s.mivrat", THREE)
    for _ in Evaluation(loaded(classifier(), tmp_path / "m.onnx", 3), images, study).run():
        pass
    study.close()
    window.open_study(tmp_path / "s.mivrat")
    qtbot.waitUntil(lambda: window.pages.currentIndex() == BENCH, timeout=10000)
    settle()
    assert window.bench.reviewer.progress().sentence() == "0 of 4 images reviewed"
    window.workspace.shown.set_bands("prediction")
    assert sum(band.stop - band.start for band in window.workspace.shown.bands) == 4
    if which == "all":
        QTest.keyClick(window.bench.light_table.thumbs, Qt.Key.Key_A, Qt.KeyboardModifier.ControlModifier)
    else:
        window.bench.light_table.thumbs.setFocus()
        key(window, Qt.Key.Key_N)
    key(window, Qt.Key.Key_3)
    assert window.bench.reviewer.progress().reviewed == (4 if which == "all" else 1)
    hidden = window.workspace.shown.reviews.causes[2].id
    window.workspace.shown.replace(Caused(frozenset({hidden}), window.workspace.shown.reviews))
    assert len(window.workspace.shown.images) == window.bench.reviewer.progress().reviewed


def test_a_picture_is_looked_at_at_any_zoom(qtbot: QtBot, demo: MainWindow, settle: Settle) -> None:
    demo.workspace.shown.focus.step(0)
    demo.bench.look_closely()
    settle()
    look, zoom = demo.bench.close_look, demo.bench.close_look.zoom
    at = look.photo.picture_rect().center()
    whole = look.photo.grab().toImage()
    for _ in range(3):
        key(demo, Qt.Key.Key_Plus)
    assert zoom.factor == pytest.approx(1.5**3)
    assert zoom.part.center() == QPointF(0.5, 0.5)
    assert look.photo.grab().toImage() != whole
    corner = zoom.part.topLeft()
    qtbot.mousePress(look.photo, LEFT, pos=at.toPoint())
    qtbot.mouseMove(look.photo, at.toPoint() + QPoint(20, 0))
    qtbot.mouseRelease(look.photo, LEFT, pos=at.toPoint() + QPoint(20, 0))
    moved = 20 / look.photo.picture_rect().width() * zoom.part.width()
    assert zoom.part.left() == pytest.approx(corner.x() - moved)
    for _ in range(40):
        key(demo, Qt.Key.Key_Plus)
    assert zoom.factor == pytest.approx(32)
    key(demo, Qt.Key.Key_0)
    assert zoom.part == QRectF(0, 0, 1, 1)
    assert look.photo.grab().toImage() == whole
    key(demo, Qt.Key.Key_Plus)
    demo.workspace.shown.focus.step(1)
    assert zoom.factor == 1  # another picture is shown whole


def test_scores_are_shown_at_a_temperature_adopted(qtbot: QtBot, demo: MainWindow, settle: Settle) -> None:
    demo.bench.measure.tabs.choose(3)
    demo.bench.show_step(MEASURE)
    view = demo.bench.measure.reliability
    view.view.setCurrentIndex(2)
    settle()
    qtbot.mouseClick(view.adopt, LEFT)
    settle()
    snapshot = demo.workspace.shown.snapshot
    found = snapshot.record.temperature
    assert found == pytest.approx(view._fitted())
    demo.workspace.shown.focus.step(0)
    demo.bench.look_closely()
    settle()
    image = demo.workspace.shown.focus.current
    assert image is not None
    z = snapshot.judged.rows[image].astype(float) / found
    p = np.exp(z) / np.exp(z).sum()
    shown = demo.bench.close_look.ranking.lines
    assert [one.probability for one in shown] == pytest.approx(sorted(p, reverse=True)[: len(shown)], abs=1e-6)
    assert f"temperature {found:.2f}" in demo.bench.close_look.facts.text().replace("\u00a0", " ")
    assert "JPG, 128 × 128 px" in demo.bench.close_look.facts.text().replace("\u00a0", " ")
    demo.undo()
    settle()
    assert demo.workspace.shown.snapshot.record.temperature is None


def test_heat_is_made_in_five_ways(qtbot: QtBot, demo: MainWindow, settle: Settle) -> None:
    workspace, look = demo.workspace, demo.bench.close_look
    workspace.shown.choose(Labelled(frozenset({PLANTAIN})), Predicted(frozenset({RAGWEED})))
    workspace.shown.focus.step(0)
    demo.bench.look_closely()
    settle()
    pictures = []
    for i, method in enumerate(WAYS.values()):
        look.way.setCurrentIndex(i)
        look.way.activated.emit(i)
        settle()
        assert look.evidence is not None
        assert look.evidence.method == method
        assert look.layer.isEnabled() == (i < 3)
        assert look.scale.isVisible() == (i < 2)
        y, x = np.unravel_index(look.evidence.maps[0].argmax(), look.evidence.maps[0].shape)
        height, width = look.evidence.maps[0].shape
        assert y >= 0.7 * height  # the dot of the most confident mistake, in the lower left corner
        assert x <= 0.3 * width
        assert look.heat_predicted.image is not None
        pictures.append(look.heat_predicted.image.copy())
    assert pictures[2] == pictures[3]  # behind pooling and one linear layer the gradient is that layer's weights
    del pictures[3]
    assert all(a != b for i, a in enumerate(pictures) for b in pictures[:i])
    workspace.shown.focus.step(1)
    settle()
    assert look.evidence.method == "occlusion"  # the next image keeps the way
