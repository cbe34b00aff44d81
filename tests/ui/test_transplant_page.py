"""The transplant test by clicks and keys: what is pasted, kept, done again on another model and on another set, and when it cannot be."""

from __future__ import annotations

import json
from collections.abc import Callable
from pathlib import Path

from PySide6.QtCore import Qt
from PySide6.QtTest import QTest
from pytestqt.qtbot import QtBot

from mivrat.core.base.job import Progress
from mivrat.core.region_masking.transplant import transplant_from_text
from mivrat.core.reporting import transplant_report
from mivrat.core.selecting.selection import Labelled, Predicted
from mivrat.core.study.file import Study
from mivrat.core.study.kept_evidence import load_tests
from mivrat.demo.study import demo_study_path
from mivrat.ui.bench import EXPLAIN
from mivrat.ui.explain.step import COVER, TRANSPLANT
from mivrat.ui.window import MainWindow
from tests.support.demo import CLASSES

Settle = Callable[[], None]
LEFT = Qt.MouseButton.LeftButton
RAGWEED, PLANTAIN = CLASSES.index("ragweed"), CLASSES.index("plantain")


def show(window: MainWindow, settle: Settle, image_set: str, model: str) -> None:
    runs = window.workspace.runs
    window.show_run(next(one.id for one in runs if (one.image_set, one.model) == (image_set, model)))
    settle()


def pasted(qtbot: QtBot, window: MainWindow, settle: Settle) -> None:
    qtbot.waitUntil(lambda: window.workspace.jobs.going_on is None, timeout=120000)
    settle()


def test_the_hot_piece_is_enough_under_the_first_model_only(
    qtbot: QtBot, demo: MainWindow, settle: Settle, tmp_path: Path
) -> None:
    show(demo, settle, "late-summer-field", "grain-net-1")
    page, workspace = demo.bench.explain.transplant, demo.workspace
    demo.bench.show_step(EXPLAIN)
    demo.bench.explain.tabs.choose(TRANSPLANT)
    settle()
    assert not page.begin.isEnabled()  # all images give, none is left
    assert page.why_not.isVisible()
    workspace.shown.choose(Labelled(frozenset({PLANTAIN})), Predicted(frozenset({RAGWEED})))
    workspace.shown.focus.step(0)
    for box, text in ((page.form.label, "plantain"), (page.form.edge, "soft edge")):
        box.setCurrentText(text)
        box.activated.emit(box.currentIndex())
    settle()
    one = page.preview.one
    assert one is not None
    assert one.pasted is not None
    assert one.pasted.answers is not None
    assert page.preview.answers.cells[1][2].full_text == CLASSES[one.pasted.answers.predicted[1]]
    assert page.begin.text() == "Paste from 25 images onto 25 images"
    QTest.mouseClick(page.begin, LEFT)
    pasted(qtbot, demo, settle)
    test = page.transplanter.test
    assert test is not None
    assert (test.need.total, test.enough.donors) == (25, 17)
    assert test.enough.piece.became.hits >= 14
    assert test.enough.control.became.hits == 0
    assert "more often than the control" in page.result.sentence.text()
    assert f"N = {test.enough.total}" in page.result.heading.text()
    # Kept, in the study and among its kind only; another name than given is asked for nowhere else.
    page.result.keep_name.setFocus()
    QTest.keyClicks(page.result.keep_name, "hot piece")
    QTest.keyClick(page.result.keep_name, Qt.Key.Key_Return)
    assert workspace.shown.results.tests_kept == 1
    workspace.writing.wait()
    with Study.open(demo_study_path(), again=True) as study:
        (kept,) = load_tests(study)
    assert kept.kind == "transplant"
    assert transplant_from_text(kept.plan, workspace.shown.record.names) == test.plan
    assert transplant_report.results_from_text(kept.outcome)[:2] == (test.enough, test.need)
    demo.bench.explain.tabs.choose(COVER)
    settle()
    assert not demo.bench.explain.cover.kept_tests.isVisible()
    demo.bench.explain.tabs.choose(TRANSPLANT)
    settle()
    page.kept_tests.table.setCurrentCell(0, 0)
    page.kept_tests.save(tmp_path)
    assert json.loads((tmp_path / "transplant.json").read_text())["format"] == "mivrat-transplant/1"
    assert len((tmp_path / "transplant-images.txt").read_text().split()) == 25
    # The same on the later model: the places the first one looked at carry nothing over.
    show(demo, settle, "late-summer-field", "grain-net-2")
    assert page.transplanter.test is None
    page.kept_tests.table.setCurrentCell(0, 0)
    page.kept_tests.choose(0)  # as a click does
    assert "not on grain-net-2" in page.result.of_model.text()
    page.kept_tests.do_again()
    pasted(qtbot, demo, settle)
    again = page.transplanter.test
    assert again is not None
    assert again.plan == test.plan
    assert "not significantly more often" in page.result.sentence.text()
    # Another set lists none of these images: the test is not of it.
    show(demo, settle, "spring-check", "grain-net-1")
    assert page.kept_tests.table.rowCount() == 0
    assert page.result.found() is None
    show(demo, settle, "late-summer-field", "grain-net-1")
    page.kept_tests.table.setCurrentCell(0, 0)
    page.kept_tests.take_away()
    assert demo.bench.explain.explainer.tests == ()
    demo.undo()
    assert [one.name for one in demo.bench.explain.explainer.tests] == ["hot piece"]


def test_images_carried_over_are_a_selection_and_a_stop_loses_nothing(
    qtbot: QtBot, demo: MainWindow, settle: Settle
) -> None:
    show(demo, settle, "late-summer-field", "grain-net-1")
    page, workspace = demo.bench.explain.transplant, demo.workspace
    workspace.shown.choose(Labelled(frozenset({PLANTAIN})), Predicted(frozenset({RAGWEED})))
    workspace.shown.focus.step(0)
    demo.bench.show_step(EXPLAIN)
    demo.bench.explain.tabs.choose(TRANSPLANT)
    page.form.donors.setCurrentIndex(0)
    page.form.where.setCurrentIndex(1)
    page.form.most.setValue(12)
    for box in (page.form.donors, page.form.where):
        box.activated.emit(box.currentIndex())
    settle()
    assert page.form.across.isVisible()
    assert page.begin.text() == "Paste from 1 image onto 12 images"
    QTest.mouseClick(page.begin, LEFT)
    pasted(qtbot, demo, settle)
    test = page.transplanter.test
    assert test is not None
    assert test.plan.at == (0.5, 0.5)
    assert "that piece alone" in page.result.sentence.text()
    carried = [one.image for one in test.found if not one.problem and one.became[0]]
    page.result.changed_button.click()
    settle()
    assert not carried or sorted(workspace.shown.images.tolist()) == sorted(carried)
    page.form.most.setValue(300)
    settle()
    QTest.mouseClick(page.begin, LEFT)
    done: list[int] = []
    # The window outlives this test: of other jobs' progress nothing is wanted.
    workspace.jobs.progress.connect(lambda event: done.append(event.done) if isinstance(event, Progress) else None)
    qtbot.waitUntil(lambda: bool(done) and done[-1] > 3, timeout=30000)
    workspace.jobs.stop()
    pasted(qtbot, demo, settle)
    cut = page.transplanter.test
    assert cut is not None
    assert 0 < len(cut.found) < 300
