"""The evidence sheet by clicks and keys: what the model looks at for ragweed, and a group hidden and pasted under both models."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
from PySide6.QtCore import Qt
from PySide6.QtTest import QTest
from pytestqt.qtbot import QtBot

from mivrat.core.base.job import Progress
from mivrat.core.selecting.selection import Labelled, Outcome, Predicted
from mivrat.ui.bench import EXPLAIN
from mivrat.ui.explain.step import COVER, SHEET, TRANSPLANT
from mivrat.ui.window import MainWindow
from tests.support.demo import CLASSES, planted

Settle = Callable[[], None]
LEFT = Qt.MouseButton.LeftButton
RAGWEED = CLASSES.index("ragweed")


def show(window: MainWindow, settle: Settle, image_set: str, model: str) -> None:
    runs = window.workspace.runs
    window.show_run(next(one.id for one in runs if (one.image_set, one.model) == (image_set, model)))
    window.bench.show_step(EXPLAIN)
    window.bench.explain.tabs.choose(SHEET)
    settle()


def done(qtbot: QtBot, window: MainWindow, settle: Settle) -> None:
    qtbot.waitUntil(lambda: window.workspace.jobs.going_on is None, timeout=120000)
    settle()


def test_spines_in_one_group_and_dots_in_another_which_alone_carry_plantain_over(
    qtbot: QtBot, demo: MainWindow, settle: Settle
) -> None:
    show(demo, settle, "late-summer-field", "grain-net-1")
    page, workspace = demo.bench.explain.sheet, demo.workspace
    workspace.shown.choose(Predicted(frozenset({RAGWEED})))
    settle()
    assert page.begin.text() == "Cut out the pieces of 51 images"
    QTest.mouseClick(page.begin, LEFT)
    done(qtbot, demo, settle)
    found = page.maker.found
    assert found is not None
    dotted = {
        i for i, item in enumerate(workspace.shown.record.image_set.items) if "ink dot" in planted().get(item.path, [])
    }
    spines, dots = found.sheet.groups
    assert (spines.right.hits, spines.right.total) == (25, 26)
    assert (dots.right.hits, dots.right.total) == (0, 25)
    assert set(dots.images) <= dotted
    assert "correct: 0 of 25" in page.cards[1].right.text()
    # A piece is looked at with the keys; its group is the selection, the sheet stays.
    strip = page.cards[1].strip
    strip.setFocus()
    QTest.keyClick(strip, Qt.Key.Key_Right)
    QTest.keyClick(strip, Qt.Key.Key_Return)
    settle()
    assert workspace.shown.focus.current == strip.pieces[1].image
    assert set(workspace.shown.images.tolist()) == set(dots.images)
    assert page.maker.found is found
    demo.bench.leave_close_look()
    page.onto.setCurrentText("plantain")
    QTest.mouseClick(page.cards[1].paste, LEFT)
    done(qtbot, demo, settle)
    assert demo.bench.explain.pages.currentIndex() == TRANSPLANT
    test = demo.bench.explain.transplant.transplanter.test
    assert test is not None
    assert set(test.plan.donors) == set(dots.images)
    assert test.enough.piece.became.hits >= 14
    assert test.enough.control.became.hits == 0
    demo.bench.explain.tabs.choose(SHEET)
    QTest.mouseClick(page.cards[1].cover, LEFT)
    done(qtbot, demo, settle)
    assert demo.bench.explain.pages.currentIndex() == COVER
    covered = demo.bench.explain.explainer.test
    assert covered is not None
    assert covered.result.only_region >= 20
    # The same pieces under the later model: its own sheet is another one, the kept test repeated carries nothing.
    demo.bench.explain.transplant.transplanter.keep(test, "dots")
    settle()
    show(demo, settle, "late-summer-field", "grain-net-2")
    assert page.maker.found is None
    assert page.cards == []
    demo.bench.explain.tabs.choose(TRANSPLANT)
    demo.bench.explain.transplant.kept_tests.table.setCurrentCell(0, 0)
    demo.bench.explain.transplant.kept_tests.do_again()
    done(qtbot, demo, settle)
    again = demo.bench.explain.transplant.transplanter.test
    assert again is not None
    assert again.plan.donors == test.plan.donors
    assert again.enough.piece.became.hits <= 1


def test_a_sheet_is_grouped_anew_stopped_and_empty_ones_say_so(qtbot: QtBot, demo: MainWindow, settle: Settle) -> None:
    show(demo, settle, "spring-check", "grain-net-1")
    page, workspace = demo.bench.explain.sheet, demo.workspace
    workspace.shown.choose(Labelled(frozenset({RAGWEED})))
    settle()
    QTest.mouseClick(page.begin, LEFT)
    done(qtbot, demo, settle)
    assert page.maker.found is not None
    pieces = page.maker.found.sheet.pieces
    page.number.setCurrentIndex(3)
    page.number.activated.emit(3)
    settle()
    assert len(page.cards) == 4
    assert page.maker.found.sheet.pieces == pieces
    lines = page.as_table()
    assert len(lines) == 1 + len(pieces)
    assert {line[0] for line in lines[1:]} == {"1", "2", "3", "4"}
    page.number.setCurrentIndex(0)
    page.number.activated.emit(0)
    workspace.shown.replace(Labelled(frozenset({RAGWEED})), Outcome(frozenset({"wrong"})))
    settle()
    number = len(workspace.shown.images)
    assert number < 10
    QTest.mouseClick(page.begin, LEFT)
    done(qtbot, demo, settle)
    assert page.maker.found.sheet.images == number
    workspace.shown.clear()
    settle()
    done_by_now: list[int] = []
    # The window outlives this test: of other jobs' progress nothing is wanted.
    workspace.jobs.progress.connect(
        lambda event: done_by_now.append(event.done) if isinstance(event, Progress) else None
    )
    QTest.mouseClick(page.begin, LEFT)
    qtbot.waitUntil(lambda: bool(done_by_now) and done_by_now[-1] >= 5, timeout=60000)
    workspace.jobs.stop()
    done(qtbot, demo, settle)
    assert 5 <= page.maker.found.sheet.images < len(workspace.shown.images)
    assert np.isfinite([one.evidence for one in page.maker.found.sheet.pieces]).all()
