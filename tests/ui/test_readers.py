"""Several readers in one window: a name, reading blind, files merged, conflicts settled, labels given by a key; all undone again."""

from __future__ import annotations

import itertools
from collections.abc import Callable
from pathlib import Path

import pytest
from PySide6.QtCore import Qt
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication, QPushButton
from pytestqt.qtbot import QtBot

from mivrat.core.study.decisions import Decision, file_as_text
from mivrat.core.study.file import Study
from mivrat.core.study.readers import readers_here, reads_blind
from mivrat.core.study.reviews import Review, load_reviews
from mivrat.ui.bench import CONCLUDE, EXAMINE
from mivrat.ui.reader_dialog import ReaderDialog
from mivrat.ui.window import BENCH, MainWindow
from tests.support.studies import scored_study

Settle = Callable[[], None]
LEFT = Qt.MouseButton.LeftButton


@pytest.fixture
def three(qtbot: QtBot, window: MainWindow, tmp_path: Path, settle: Settle) -> MainWindow:
    """A study of three classes with two sets of unequal size, and one without labels, opened at the Review page."""
    window.open_study(scored_study(tmp_path / "one", 3, {"large": [9, 8, 7], "small": [2, 2, 1]}, 1))
    qtbot.waitUntil(lambda: window.pages.currentIndex() == BENCH, timeout=10_000)
    settle()
    show(window, settle, "large")
    window.bench.show_step(EXAMINE)
    window.bench.examine.go_to("review")
    settle()
    return window


def show(window: MainWindow, settle: Settle, image_set: str) -> None:
    window.show_run(next(one.id for one in window.workspace.runs if one.image_set == image_set))
    settle()


def named(window: MainWindow, settle: Settle, name: str, *, same: bool = False) -> None:
    """Give the dialog that has opened a name."""
    (dialog,) = [one for one in window.findChildren(ReaderDialog) if one.isVisible()]
    if same:
        dialog.same.click()
    dialog.name.setText(name)  # not every letter has a key
    QTest.keyClick(dialog.name, Qt.Key.Key_Return)
    settle()


def kept(window: MainWindow, image_set: int) -> dict[str, dict[int, str]]:
    """What the study's file says of each reader's labels."""
    window.workspace.writing.wait()
    with Study.open(window.workspace.path, again=True) as study:
        found = load_reviews(study, image_set)
        own = {i: one for i in found.by_position if (one := found.decision(i)) is not None}
        return {
            who: {i: one.label or one.label_is for i, one in some.items()}
            for who, some in {found.reader: own, **found.others}.items()
        }


def test_the_reader_is_asked_once_renamed_and_changed(three: MainWindow, settle: Settle) -> None:
    workspace, section = three.workspace, three.bench.examine.review.readers
    three.bench.reviewer.propose(1, [0])
    assert not three.foot.reader.isVisible()
    QTest.mouseClick(section.name, LEFT)
    named(three, settle, "Ada")
    assert three.foot.reader.text() == "Ada reads"
    assert kept(three, 1) == {"Ada": {0: "kind 1"}}
    QTest.mouseClick(three.foot.reader, LEFT)
    named(three, settle, "Ada B", same=True)
    assert kept(three, 1) == {"Ada B": {0: "kind 1"}}
    QTest.mouseClick(three.foot.reader, LEFT)
    named(three, settle, "Çelik ✓")
    assert workspace.shown.reviews.by_position == {}
    three.bench.reviewer.propose(2, [0])
    assert kept(three, 1) == {"Çelik ✓": {0: "kind 2"}, "Ada B": {0: "kind 1"}}
    assert workspace.shown.reviews.conflicts() == [0]
    # The smaller set has nothing of all this, and the larger one has it again.
    show(three, settle, "small")
    assert workspace.shown.reviews.others == {}
    assert section.told.text() == "Images decided: Çelik ✓: 0."
    show(three, settle, "large")
    assert workspace.shown.reviews.conflicts() == [0]
    for _ in range(4):
        three.undo()
        settle()
    assert workspace.shown.reviews.reader == ""
    assert kept(three, 1) == {"": {0: "kind 1"}}
    for _ in range(4):
        three.redo()
        settle()
    assert kept(three, 1) == {"Çelik ✓": {0: "kind 2"}, "Ada B": {0: "kind 1"}}


def test_a_file_is_merged_conflicts_are_settled_and_both_are_undone(
    three: MainWindow, settle: Settle, tmp_path: Path
) -> None:
    workspace, section = three.workspace, three.bench.examine.review.readers
    names = workspace.shown.record.names
    theirs = [
        Decision(
            content=names[i].content,
            path=names[i].path,
            label_is="wrong" if i < 3 else "right",
            label="kind 2" if i < 3 else None,
        )
        for i in range(6)
    ]
    source = tmp_path / "ben.json"
    source.write_text(file_as_text("Ben", theirs))
    three.bench.reviewer.propose(2, [0])
    three.bench.reviewer.propose(1, [1])
    three.bench.reviewer.propose(None, [2, 3])
    section.merge_from(source)
    settle()
    assert (
        section.differ.text() == "2 images to settle"
    )  # one agrees, one calls it another class, one says the label is right
    lines = section.agreement.as_lines()
    assert lines[1][:2] == ["label is right or wrong", "4"]
    QTest.mouseClick(section.differ, LEFT)
    settle()
    assert workspace.shown.images.tolist() == [1, 2]
    workspace.shown.focus.look_at(1)
    three.bench.look_closely()
    settle()
    panel = three.bench.close_look.review.others
    assert panel.told.text() == "this study: it is kind 1; label is wrong\nBen: it is kind 2"
    ways = {one.text(): one for one in panel.findChildren(QPushButton) if one.isVisible()}
    assert sorted(ways) == ["Agree: it is kind 1", "Agree: it is kind 2"]
    QTest.mouseClick(ways["Agree: it is kind 2"], LEFT)
    settle()
    assert workspace.shown.reviews.proposed() == {0: 2, 1: 2}
    assert workspace.shown.reviews.conflicts() == [2]
    # What each of them decided stays as it was.
    assert kept(three, 1)[""] == {0: "kind 2", 1: "kind 1", 2: "right", 3: "right"}
    assert kept(three, 1)["Ben"][1] == "kind 2"
    with Study.open(workspace.path, again=True) as study:
        assert load_reviews(study, 1).agreed[1].readers == ["", "Ben"]
    three.undo()
    settle()
    assert workspace.shown.reviews.conflicts() == [1, 2]
    three.redo()
    settle()
    section.merge_from(source)  # twice changes nothing
    settle()
    assert workspace.shown.reviews.conflicts() == [2]
    three.undo()
    settle()
    assert workspace.shown.reviews.conflicts() == [2]
    for _ in range(2):
        three.undo()
        settle()
    assert workspace.shown.reviews.others == {}
    assert workspace.shown.reviews.agreed == {}
    # Files that are none, or of other images, change nothing and say so.
    source.write_text("{}")
    section.merge_from(source)
    settle()
    assert "is not a file of reviews" in three.foot.problem.full_text
    assert workspace.shown.reviews.others == {}


def test_who_reads_blind_sees_no_answer(three: MainWindow, settle: Settle) -> None:
    workspace, bench = three.workspace, three.bench
    table = bench.light_table
    assert bench.light_table.order.currentText() == "confident mistakes"
    predicted = f"predicted {workspace.shown.classes[int(workspace.shown.judged.predicted[3])]}"
    assert predicted in table.thumbs.describe(3)
    QTest.keyClick(table.thumbs, Qt.Key.Key_B, Qt.KeyboardModifier.ShiftModifier)
    settle()
    assert three.foot.reader.text() == "reading blind"
    assert "predicted" not in table.thumbs.describe(3)
    assert workspace.shown.images.tolist() == list(range(24)), "the order tells which are wrong"
    offered = {table.order.itemText(i) for i in range(table.order.count())}
    assert "confident mistakes" not in offered
    assert "name" in offered
    assert "correct" not in bench.line.summary.text()
    assert bench.reviewer.progress().total == 24, "how many are mistakes is not told"
    workspace.shown.focus.look_at(3)
    bench.look_closely()
    settle()
    look = bench.blind_look
    assert bench.right.currentWidget() is look
    assert look.sentence.text() == "Labelled kind 0. Is that right?"
    QTest.keyClick(look, Qt.Key.Key_R)
    settle()
    assert look.sentence.text() == "Labelled kind 0. Is that right? You said: it is."
    QTest.keyClick(look, Qt.Key.Key_1)  # a cause, as everywhere
    settle()
    assert look.sentence.text() == "Labelled kind 0. Is that right? You said: the label is wrong."
    assert bench.reviewer.workspace.shown.reviews[3].label is None
    QTest.keyClick(look, Qt.Key.Key_Right)
    assert workspace.shown.focus.current == 4
    # The study remembers it; answers are shown again when asked for.
    workspace.writing.wait()
    with Study.open(workspace.path, again=True) as study:
        assert reads_blind(study)
    path = workspace.path
    three.close_study()
    settle()
    three.open_study(path)
    settle()
    while three.pages.currentIndex() != BENCH:
        settle()
    assert workspace.shown.blind
    QTest.mouseClick(look.answers, LEFT) if look.isVisible() else bench.toggle_blind()
    settle()
    assert not workspace.shown.blind
    assert table.order.currentText() == "confident mistakes"
    assert "correct" in bench.line.summary.text()


def test_images_without_a_label_get_one_by_a_key(
    three: MainWindow, settle: Settle, monkeypatch: pytest.MonkeyPatch
) -> None:
    workspace, bench = three.workspace, three.bench
    show(three, settle, "bare")
    bench.show_step(CONCLUDE)
    bench.conclude.go_to("to label")
    monkeypatch.setattr("mivrat.core.concluding.labelling._LEAST_LABELS", 4)
    page = bench.conclude.to_label
    page.number.setMinimum(4)
    page.number.setValue(6)
    settle()
    assert page.drawn is not None
    listed = page.drawn.sample.listed.tolist()
    assert len(listed) == 6
    QTest.mouseClick(page.here, LEFT)
    settle()
    look = bench.blind_look
    assert workspace.shown.blind
    assert workspace.shown.images.tolist() == listed, "in the order of chance"
    assert bench.right.currentWidget() is look
    assert look.sentence.text() == "Which class is it?"
    truth = dict(zip(listed, itertools.cycle([2, 0, 1]), strict=False))
    for number, image in enumerate(listed):
        assert workspace.shown.focus.current == image
        assert page.given.text() == (
            "" if not number else f"Labelled so far: {number} of 6. The figure is shown once all of them are."
        )
        QTest.keyClicks(look, str(1 + truth[image]))
        settle()
    assert {i: one.label for i, one in workspace.shown.reviews.by_position.items()} == truth
    right = sum(int(workspace.shown.judged.predicted[i]) == k for i, k in truth.items())
    assert page.given.text().startswith("All 6 have a label. ")
    if len(page.drawn.sample.strata) == 1:
        assert f"Top-1 accuracy: {100 * right / 6:.1f} %" in page.given.text()
    # It becomes a finding, which what is on screen is (F), too.
    QTest.mouseClick(page.keep, LEFT)
    settle()
    (finding,) = bench.concluder.findings
    assert finding.title == "Estimated from labels: top-1 accuracy"
    assert finding.before.value == pytest.approx(right / 6)
    bench.conclude.go_to("to label")
    three.undo()
    settle()
    three.undo()
    settle()
    assert page.given.text().startswith("Labelled so far: 5 of 6")
    # A chip says the same as its key.
    workspace.shown.focus.look_at(listed[-1])
    QTest.mouseClick(look.chips[0], LEFT)
    settle()
    assert workspace.shown.reviews[listed[-1]].label == 0
    assert [one.text() for one in QApplication.topLevelWidgets() if isinstance(one, QPushButton)] == []


def test_many_classes_are_typed(qtbot: QtBot, window: MainWindow, tmp_path: Path, settle: Settle) -> None:
    window.open_study(scored_study(tmp_path / "many", 40, {"set": [1] * 40}, 1))
    qtbot.waitUntil(lambda: window.pages.currentIndex() == BENCH, timeout=10_000)
    settle()
    show(window, settle, "bare")
    bench, reviews = window.bench, window.workspace.shown.reviews
    bench.toggle_blind()
    window.workspace.shown.focus.look_at(0)
    bench.look_closely()
    settle()
    look = bench.blind_look
    assert not look.chips
    for typed, says in (
        ("kind 3", None),
        ("kind", "40 classes begin so"),
        ("nothing", "No class of the list is called so"),
    ):
        window.workspace.shown.focus.look_at(0)
        look.name.setText(typed)
        QTest.keyClick(look.name, Qt.Key.Key_Return)
        settle()
        if says is None:
            assert reviews[0].label == 3
            assert window.workspace.shown.focus.current == 1
        else:
            assert says in window.foot.notice.full_text
    assert reviews.by_position == {0: Review(label=3, reviewed=True)}
    with Study.open(window.workspace.path, again=True) as study:
        assert readers_here(study) == []
