"""The Measure step by clicks and keys: figures of the selection, claim and criteria, groups, coverage, taking figures away."""

from __future__ import annotations

import csv
import io
import math
import statistics
from collections import Counter
from collections.abc import Callable
from pathlib import Path

import numpy as np
import pytest
from PySide6.QtCore import QPoint, QPointF, Qt
from PySide6.QtGui import QGuiApplication, QImage
from PySide6.QtWidgets import QHBoxLayout, QLabel, QWidget
from pytestqt.qtbot import QtBot

from mivrat.core.base.numbers import bounds, percent, with_bounds
from mivrat.core.figures.calibration import calibration
from mivrat.core.figures.groups import group_figures
from mivrat.core.figures.intervals import proportion
from mivrat.core.figures.units import share
from mivrat.core.pictures.image_sets import read_image_set
from mivrat.core.running.evaluation import Evaluation
from mivrat.core.selecting.selection import Confidence, InGroup, Labelled
from mivrat.core.study.file import Study
from mivrat.core.study.settings import load_claim, load_criteria
from mivrat.ui.bench import MEASURE, PREPARE
from mivrat.ui.measure.headline_lines import headline_lines
from mivrat.ui.parts.interval_rows import IntervalRow, IntervalRows
from mivrat.ui.parts.widgets import Choice
from mivrat.ui.window import MainWindow
from tests.support.demo import CLASSES
from tests.support.kept_window import KeptWindow
from tests.support.networks import classifier, loaded
from tests.support.sets import write_set

Settle = Callable[[], None]
LEFT = Qt.MouseButton.LeftButton
PLANTAIN = CLASSES.index("plantain")


def lines(window: MainWindow) -> dict[str, tuple[str, str, int]]:
    return {one.name: (one.value, one.interval, one.total) for one in headline_lines(window.workspace)}


def test_figures_follow_the_selection_when_asked(demo: MainWindow, settle: Settle) -> None:
    whole = lines(demo)
    assert whole["macro F1"][1]
    assert whole["log loss"][1]
    assert whole["top-1 accuracy"][2] == 399
    demo.workspace.shown.choose(Labelled(frozenset({PLANTAIN})))
    settle()
    assert lines(demo) == whole
    demo.bench.measure.scope.setCurrentIndex(1)
    settle()
    some = lines(demo)
    assert some["top-1 accuracy"][2] == 50
    share = demo.workspace.shown.accuracy()
    assert some["top-1 accuracy"][0] == f"{100 * (share.value or 0):.1f} %"
    assert demo.workspace.shown.results.measured is not None
    assert (
        demo.workspace.shown.results.measured.figures.matrix.sum()
        == demo.workspace.shown.results.measured.figures.matrix[PLANTAIN].sum()
        == 50
    )
    demo.workspace.shown.clear()
    settle()
    assert lines(demo) == whole
    demo.bench.measure.scope.setCurrentIndex(0)


def test_a_claim_is_tested_and_criteria_pass_fail_or_cannot_be_told(
    qtbot: QtBot, demo: MainWindow, settle: Settle
) -> None:
    criteria = demo.bench.measure.headline.criteria
    criteria.claim.setFocus()
    qtbot.keyClicks(criteria.claim, "95")
    qtbot.keyClick(criteria.claim, Qt.Key.Key_Return)
    settle()
    assert "significantly below the claim" in criteria.verdict.text()
    for text in ("low(top1) >= 0.5", "95 % of all", "macro_f1 >= 0.83", "worth >= 1"):
        criteria.new.setFocus()
        qtbot.keyClicks(criteria.new, text)
        qtbot.keyClick(criteria.new, Qt.Key.Key_Return)
        settle()
    assert "unknown figure 'worth'" in criteria.problem.text()
    shown = [one.text() for one in criteria.findChildren(QLabel) if one.isVisibleTo(criteria)]
    for text, verdict in (
        ("Top-1 accuracy, lower end of its interval, at least 50 %", "met"),
        ("Top-1 accuracy at least 95 %", "missed"),
        ("Macro F1 at least 83 %", "inconclusive"),
    ):
        assert shown[shown.index(text) + 1] == verdict
    assert demo.bench.header.verdict.text() == "1 of 3 criteria missed"
    assert demo.workspace.study_path is not None
    kept = Study.open(demo.workspace.study_path)
    assert load_criteria(kept, 1) == ("low(top1) >= 0.5", "top1 >= 0.95", "macro_f1 >= 0.83")
    assert load_claim(kept, 1) == 0.95
    kept.close()
    later = next(
        one.id for one in demo.workspace.runs if one.model_id == 2 and one.set_id == demo.workspace.runs[0].set_id
    )
    demo.show_run(later)
    settle()
    assert criteria.claim.text() == ""
    assert criteria.title.text().endswith("grain-net-2")
    assert not demo.bench.header.verdict.text()
    qtbot.mouseClick(criteria.take_over, Qt.MouseButton.LeftButton)
    settle()
    assert criteria.claim.text() == ""  # what was claimed of the other model was not claimed of this one
    assert [one.outcome.text for one in demo.workspace.shown.results.criteria] == [
        "low(top1) >= 0.5",
        "top1 >= 0.95",
        "macro_f1 >= 0.83",
    ]
    demo.workspace.edits.undo()
    settle()
    assert not demo.workspace.shown.results.criteria
    demo.show_run(1)
    settle()
    assert criteria.claim.text() == "95"
    for _ in range(4):
        demo.workspace.edits.undo()
        settle()
    kept = Study.open(demo.workspace.study_path)
    assert (load_criteria(kept, 1), load_claim(kept, 1)) == ((), None)
    kept.close()


def test_groups_select_their_images(qtbot: QtBot, demo: MainWindow, settle: Settle) -> None:
    demo.bench.measure.tabs.choose(4)
    table, snapshot = demo.bench.measure.groups, demo.workspace.shown.snapshot
    table.column.setCurrentText("station")
    table.column.activated.emit(table.column.currentIndex())
    settle()
    names = [item.columns["station"] for item in snapshot.record.image_set.items]
    judged = snapshot.judged
    expected = group_figures(names, judged.right, judged.confidence, judged.evaluated)
    assert [table.table.item(i, 0).text() for i in range(len(expected))] == [one.name for one in expected]
    assert table.table.item(0, 2).text() == f"{100 * (expected[0].accuracy.value or 0):.1f} %"
    qtbot.mouseClick(table.table.viewport(), LEFT, pos=table.table.visualItemRect(table.table.item(0, 0)).center())
    assert isinstance(demo.workspace.shown.conditions[0], InGroup)
    assert len(demo.workspace.shown.images) == names.count(expected[0].name)
    assert demo.workspace.shown.conditions[0].words(CLASSES) == ("station", expected[0].name)
    demo.workspace.shown.clear()


def test_a_dragged_threshold_reads_out_coverage_and_accuracy(qtbot: QtBot, demo: MainWindow, settle: Settle) -> None:
    demo.bench.measure.tabs.choose(3)
    view = demo.bench.measure.reliability
    assert "by chance" in view.summary.text()
    assert view.further.text().startswith("Temperature ")
    view.view.setCurrentIndex(1)
    counts = [one.count for one in view.diagram.bins()]
    assert max(counts) - min(counts) <= 1
    judged_all = demo.workspace.shown.snapshot.judged
    use = np.flatnonzero(judged_all.evaluated)
    view.view.setCurrentIndex(0)
    view.one_class.setCurrentIndex(1 + PLANTAIN)
    view.one_class.activated.emit(1 + PLANTAIN)
    settle()
    own = calibration(judged_all.column(PLANTAIN, use), judged_all.labels[use] == PLANTAIN)
    assert view.diagram.bins() == own.bins
    assert f"mean gap {100 * (own.ece or 0):.1f} %" in view.summary.text()
    view.one_class.setCurrentIndex(0)
    view.one_class.activated.emit(0)
    view.view.setCurrentIndex(4)
    settle()
    coverage = view.coverage
    plot = coverage.curve.area()
    qtbot.mouseClick(
        coverage.curve.viewport(), LEFT, pos=QPointF(plot.left() + 0.6 * plot.width(), plot.center().y()).toPoint()
    )
    snapshot = demo.workspace.shown.snapshot
    judged = snapshot.judged
    inside = judged.evaluated & (judged.confidence >= coverage.threshold)
    share = proportion(int((judged.right & inside).sum()), int(inside.sum()))
    assert inside.sum() / 399 == pytest.approx(0.6, abs=0.02)
    assert f"right {100 * (share.value or 0):.1f} %" in coverage.reading.text()
    before = coverage.threshold
    qtbot.keyClick(coverage.curve, Qt.Key.Key_Left)
    assert coverage.threshold == pytest.approx(min(1.0, before + 0.01))
    qtbot.mouseClick(coverage.pick, LEFT)
    assert isinstance(demo.workspace.shown.conditions[0], Confidence)
    assert len(demo.workspace.shown.images) == int((judged.confidence < coverage.threshold).sum())
    demo.workspace.shown.clear()
    view.view.setCurrentIndex(0)


def test_figures_are_copied_and_drawn_into_files(
    qtbot: QtBot, demo: MainWindow, settle: Settle, tmp_path: Path
) -> None:
    assert demo.workspace.shown.results.measured is not None
    matrix = demo.workspace.shown.results.measured.figures.matrix
    for tab, first in enumerate(("figure", "class", "labelled / predicted", "scores", "group")):
        demo.bench.measure.tabs.choose(tab)
        demo.bench.measure.copy_table()
        copied = list(csv.reader(io.StringIO(QGuiApplication.clipboard().text())))
        assert copied[0][0] == first
        assert len({len(line) for line in copied}) == 1
        if tab == 2:
            assert (np.array([line[1:] for line in copied[1:]], int) == matrix).all()
        demo.bench.measure.save_picture(tmp_path / f"{tab}.png")
        picture = QImage(str(tmp_path / f"{tab}.png"))
        assert picture.width() == 2 * demo.bench.measure.pages.width()
    demo.bench.measure.tabs.choose(2)
    demo.bench.measure.save_picture(tmp_path / "matrix.svg")
    assert (tmp_path / "matrix.svg").read_text().startswith("<?xml")
    demo.bench.measure.tabs.choose(0)


def test_confused_classes_can_stand_together(qtbot: QtBot, demo: MainWindow, settle: Settle) -> None:
    demo.bench.measure.tabs.choose(2)
    page = demo.bench.measure.confusions
    matrix, ragweed = page.matrix, CLASSES.index("ragweed")
    settle()
    listed = matrix.cell_rect(PLANTAIN, ragweed)
    page.order.setCurrentIndex(2)
    settle()
    assert sorted(matrix.order.tolist()) == list(range(8))
    assert abs(matrix.place_of(PLANTAIN) - matrix.place_of(ragweed)) == 1
    moved = matrix.cell_rect(PLANTAIN, ragweed)
    qtbot.mouseClick(matrix, LEFT, pos=moved.center().toPoint())
    assert {c.kind for c in demo.workspace.shown.conditions} == {"labelled", "predicted"}
    assert demo.workspace.shown.results.measured is not None
    assert len(demo.workspace.shown.images) == demo.workspace.shown.results.measured.figures.matrix[PLANTAIN, ragweed]
    assert page.as_table()[0][1:] == [CLASSES[k] for k in matrix.order]
    counts = demo.workspace.shown.results.measured.figures.matrix
    there, back = counts[PLANTAIN, ragweed], counts[ragweed, PLANTAIN]
    assert (
        f"plantain → ragweed: {there} of 50.  ragweed → plantain: {back} of 50.  No significant direction"
        in page.told.text()
    )
    page.order.setCurrentIndex(0)
    settle()
    assert matrix.cell_rect(PLANTAIN, ragweed) == listed
    demo.workspace.shown.clear()


def test_the_worst_pairs_select_one_direction_or_both(qtbot: QtBot, demo: MainWindow, settle: Settle) -> None:
    demo.bench.measure.tabs.choose(2)
    settle()
    pairs, ragweed = demo.bench.measure.confusions.pairs, CLASSES.index("ragweed")
    assert demo.workspace.shown.results.measured is not None
    counts = demo.workspace.shown.results.measured.figures.matrix
    at = next(i for i, one in enumerate(pairs.pairs) if {one.first, one.second} == {PLANTAIN, ragweed})
    one = pairs.pairs[at]
    expected = {0: one.there + one.back, 1: counts[one.first, one.second], 2: counts[one.second, one.first]}
    for column, images in expected.items():
        pairs.scrollToItem(pairs.item(at, column))
        qtbot.mouseClick(pairs.viewport(), LEFT, pos=pairs.visualItemRect(pairs.item(at, column)).center())
        assert len(demo.workspace.shown.images) == images
        demo.workspace.shown.clear()


def test_reliability_is_drawn_with_temperature_too(qtbot: QtBot, demo: MainWindow, settle: Settle) -> None:
    demo.bench.measure.tabs.choose(3)
    view = demo.bench.measure.reliability
    view.view.setCurrentIndex(2)
    settle()
    after, measured = view.diagram.after(), demo.workspace.shown.results.measured
    assert after is not None
    assert measured is not None
    assert sum(one.count for one in after.bins) == measured.figures.total
    assert measured.deep is not None
    assert measured.deep.temperature is not None
    assert after.ece == measured.deep.temperature.ece_after
    assert {line[0] for line in view.as_table()[1:]} == {"as it is", "with temperature"}
    assert "Rings" in view.further.text()
    view.view.setCurrentIndex(0)
    assert view.diagram.after() is None


def test_a_class_is_found_and_its_curves_are_drawn(qtbot: QtBot, demo: MainWindow, settle: Settle) -> None:
    demo.bench.measure.tabs.choose(1)
    page, snapshot = demo.bench.measure.classes_page, demo.workspace.shown.snapshot
    qtbot.keyClicks(page.search, "PLAN")
    shown = [line for line in range(8) if not page.table.isRowHidden(line)]
    assert [page.table.rows.members(line) for line in shown] == [frozenset({PLANTAIN})]
    cell = page.table.visualRect(page.table.model().index(shown[0], 0)).center()
    qtbot.mouseClick(page.table.viewport(), LEFT, pos=cell)
    settle()
    found = page.story.curves.found
    assert found is not None
    judged = snapshot.judged
    figures = judged.figures([1])
    assert (found.k, found.images, found.total) == (PLANTAIN, 50, 399)
    assert found.auroc == pytest.approx(figures.auroc[PLANTAIN])
    assert found.average_precision == pytest.approx(figures.average_precision[PLANTAIN])
    assert found.recall == figures.classes[PLANTAIN].recall.value
    assert found.precision == figures.classes[PLANTAIN].precision.value
    assert f"AUROC {found.auroc:.3f}" in page.story.told.text()
    page.search.clear()
    demo.workspace.shown.choose(Confidence(frozenset({(0.0, 0.9)})), beside=True)
    demo.bench.measure.scope.setCurrentIndex(1)
    settle()
    found, low = page.story.curves.found, judged.evaluated & (judged.confidence <= 0.9)
    assert found is not None
    assert (found.total, found.of_selection) == (int(low.sum()), True)
    assert found.auroc == pytest.approx(judged.figures([1], low).auroc[PLANTAIN])
    demo.bench.measure.scope.setCurrentIndex(0)
    demo.workspace.shown.clear()
    settle()
    assert not page.story.isVisible()


def test_the_story_of_a_class_by_loops_and_its_parts_select(qtbot: QtBot, demo: MainWindow, settle: Settle) -> None:
    shown, page = demo.workspace.shown, demo.bench.measure.classes_page
    judged, ragweed = shown.judged, CLASSES.index("ragweed")
    demo.bench.measure.tabs.choose(1)
    shown.choose(Labelled(frozenset({PLANTAIN})))
    settle()
    story = page.story.found
    assert story is not None
    labels, called = judged.labels.tolist(), judged.predicted.tolist()
    pairs = [(a, b) for a, b, ok in zip(labels, called, judged.evaluated, strict=True) if ok and a != b]
    for found, number in (
        ({j: one.hits for j, one in story.taken_for}, Counter(b for a, b in pairs if a == PLANTAIN)),
        ({j: one.hits for j, one in story.taken_for_it}, Counter(a for a, b in pairs if b == PLANTAIN)),
    ):
        assert found == dict(number.most_common(4))
    assert (story.images, story.called) == (50, sum(b == PLANTAIN for b in called))
    for some, right in ((story.typical, True), (story.mistaken, False)):
        of_it = [i for i, a in enumerate(labels) if a == PLANTAIN and (called[i] == a) is right]
        assert list(some) == sorted(of_it, key=lambda i: (-judged.confidence[i], i))[:12]
    counted = page.story.spread.found
    assert counted is not None
    assert (counted.right.sum(), counted.wrong.sum()) == (22, 28)
    # A confusion of it is part of its story; so is an image of it looked at.
    bars = page.story.taken_for_it.bars
    qtbot.mouseClick(bars.viewport(), LEFT, pos=bars.mark_rect(0).center().toPoint())
    settle()
    assert (shown.shown_mask() == ((judged.labels == ragweed) & (judged.predicted == PLANTAIN))).all()
    assert page.story.isVisible()
    assert page.selected() == PLANTAIN
    qtbot.mouseClick(page.story.mistaken, LEFT, pos=QPoint(10, 10))
    assert demo.bench.looks_closely
    assert shown.focus.current == story.mistaken[0]
    demo.bench.leave_close_look()
    shown.clear()
    settle()
    assert not page.story.isVisible()


def test_a_click_on_a_name_beside_longer_rows_is_that_names(
    qtbot: QtBot, demo: MainWindow, settle: Settle, kept_window: KeptWindow
) -> None:
    """Two lists of unequal length stand side by side: the shorter one's names and bars keep to their lines."""
    rows = {
        length: [
            IntervalRow(f"class {k}", k / 8, None, None, conditions=(Labelled(frozenset({k})),)) for k in range(length)
        ]
        for length in (1, 4, 2)
    }
    beside = QWidget()
    layout = QHBoxLayout(beside)
    kept_window.spoil()  # they listen to its workspace
    long, short = (IntervalRows(demo.workspace, name, names=100) for name in ("long", "short"))
    layout.addWidget(long)
    layout.addWidget(short)
    qtbot.addWidget(beside)
    beside.resize(700, 300)
    beside.show()
    for lengths in ((4, 1), (4, 2), (1, 4), (2, 4), (4, 4)):
        long.show_rows(rows[lengths[0]], (0.0, 1.0))
        short.show_rows(rows[lengths[1]], (0.0, 1.0))
        settle()
        for part, length in ((long, lengths[0]), (short, lengths[1])):
            for k in range(length):
                name = part._names[k]
                middle = name.mapTo(part, name.rect().center())
                assert abs(part.bars.mapTo(part, part.bars.mark_rect(k).center().toPoint()).y() - middle.y()) <= 2
                demo.workspace.shown.clear()
                qtbot.mouseClick(name, LEFT)
                assert demo.workspace.shown.conditions == (Labelled(frozenset({k})),)
    demo.workspace.shown.clear()
    settle()


def test_right_and_wrong_answers_are_two_distributions(qtbot: QtBot, demo: MainWindow, settle: Settle) -> None:
    view, shown = demo.bench.measure.reliability, demo.workspace.shown
    demo.bench.measure.tabs.choose(3)
    view.view.setCurrentIndex(3)
    settle()
    diagram, judged = view.spread, shown.judged
    found = diagram.found
    assert found is not None
    for counts, some in ((found.right, judged.evaluated & judged.right), (found.wrong, judged.wrong)):
        by_hand = [0] * 40
        for one in judged.confidence[some]:
            by_hand[max(0, math.ceil(one * 40 - 1e-12) - 1)] += 1
        assert counts.tolist() == by_hand
    assert found.medians[1] == pytest.approx(statistics.median(judged.confidence[judged.wrong]))
    assert found.logarithmic
    last = diagram.bars().index((39, False))
    qtbot.mouseClick(diagram.viewport(), LEFT, pos=diagram.mark_rect(last).center().toPoint())
    assert (shown.shown_mask() == (judged.wrong & (judged.confidence > 39 / 40))).all()
    assert diagram.describe(last) == f"wrong, confidence 0.975 – 1.000: {found.wrong[39]} of 68"
    diagram.setFocus()
    qtbot.keyClick(diagram, Qt.Key.Key_Left)
    assert diagram.accessibleDescription().startswith("right, confidence 0.975")
    assert view.as_table()[40] == ["0.975", "1.000", str(found.right[39]), str(found.wrong[39])]
    shown.clear()
    view.view.setCurrentIndex(0)


def test_a_threshold_with_costs_is_adopted_and_every_figure_follows(
    qtbot: QtBot, window: MainWindow, settle: Settle, tmp_path: Path
) -> None:
    two = ["birch", "alder"]
    model = loaded(classifier(classes=2), tmp_path / "m.onnx", 2)
    study = Study.create(tmp_path / "s.mivrat", two)
    for _ in Evaluation(model, read_image_set(write_set(tmp_path / "set", 8, classes=two), two), study).run():
        pass
    study.close()
    window.open_study(tmp_path / "s.mivrat")
    settle()
    window.bench.measure.tabs.choose(3)
    window.bench.measure.reliability.view.setCurrentIndex(5)
    page = window.bench.measure.reliability.threshold
    page.miss.setValue(9.0)
    qtbot.mouseClick(page.best, LEFT)
    snapshot = window.workspace.shown.snapshot
    p, labels = snapshot.judged.column(1, np.arange(16)), snapshot.judged.labels
    called = p >= page.threshold
    alarms, missed = int((called & (labels == 0)).sum()), int((~called & (labels == 1)).sum())
    assert f"{alarms} false alarms, {missed} missed" in page.reading.text()
    tried = [((p >= t) & (labels == 0)).sum() + 9 * ((p < t) & (labels == 1)).sum() for t in np.linspace(0, 1, 2001)]
    assert alarms + 9 * missed <= min(tried)
    share = snapshot.judged.share(called & (labels == 1), called)
    assert f"precision {with_bounds(share)}, N = {int(called.sum())}" in page.shares.text()
    page.typed.setFocus()
    page.typed.selectAll()
    qtbot.keyClicks(page.typed, "0.37")
    qtbot.keyClick(page.typed, Qt.Key.Key_Return)
    page.curves.setFocus()
    qtbot.keyClick(page.curves, Qt.Key.Key_Left)
    assert page.threshold == pytest.approx(0.36)
    assert page.typed.value() == pytest.approx(0.36)
    page.typed.setValue(0)
    qtbot.mouseClick(page.adopt, LEFT)
    settle()
    assert window.workspace.shown.results.measured is not None
    assert window.workspace.shown.results.measured.figures.matrix.tolist() == [[0, 8], [0, 8]]
    assert window.bench.header.value.text() == "50.0 %"
    assert "threshold 0" in window.bench.header.facts.full_text
    window.workspace.edits.undo()
    settle()
    assert window.workspace.shown.results.measured.figures.matrix.tolist() == snapshot.figures.matrix.tolist()
    window.bench.measure.reliability.view.setCurrentIndex(0)


def together(window: MainWindow, name: str) -> Choice:
    return next(
        one
        for one in window.bench.prepare.inputs.findChildren(Choice)
        if one.accessibleName() == f"which images of {name} are related"
    )


def test_the_images_that_belong_together_are_named_at_the_set(qtbot: QtBot, demo: MainWindow, settle: Settle) -> None:
    judged, items = demo.workspace.shown.snapshot.judged, demo.workspace.shown.snapshot.record.image_set.items
    days = np.unique([items[i].columns["date"] for i in np.flatnonzero(judged.evaluated)], return_inverse=True)[1]
    by_hand = share(judged.right[judged.evaluated], days)
    independent = lines(demo)
    demo.bench.show_step(PREPARE)
    settle()
    together(demo, "late-summer-field").setFocus()
    for column in ("set", "station", "date"):  # the focus comes back each time, so that keys alone get there
        qtbot.keyClick(demo.focusWidget(), Qt.Key.Key_Down)
        settle()
        chosen = demo.focusWidget()
        assert isinstance(chosen, Choice)
        assert (chosen.accessibleName(), chosen.currentText()) == (
            "which images of late-summer-field are related",
            column,
        )
        if column == "set":  # all is one unit, of which nothing can be told
            demo.bench.show_step(MEASURE)
            assert {interval for _, interval, _ in lines(demo).values()} <= {"", "no interval"}
            assert "()" not in "".join(one.text() for one in demo.findChildren(QLabel))
            assert "no interval" in demo.bench.header.detail.text()
            assert "one unit of 'set'" in demo.bench.measure.groups.note.text()
            demo.bench.show_step(PREPARE)
        if column == "station":  # two units are too few as well, and are not one
            demo.bench.show_step(MEASURE)
            said = [one.text() for one in demo.bench.measure.headline.findChildren(QLabel)]
            assert any("of 2 units of 'station'" in one for one in said)
            demo.bench.show_step(PREPARE)
    assert together(demo, "spring-check").currentText() == "none: independent"
    demo.bench.show_step(MEASURE)
    assert lines(demo)["top-1 accuracy"][:2] == (percent(by_hand.value), bounds(by_hand))
    assert lines(demo)["macro F1"][1] not in ("", independent["macro F1"][1])
    said = [one.text() for one in demo.bench.measure.headline.findChildren(QLabel)]
    assert any(f"{days.max() + 1} units of 'date'" in one for one in said)
    for _ in range(3):
        demo.workspace.edits.undo()
        settle()
    assert lines(demo) == independent
