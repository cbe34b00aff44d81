"""Prediction sets by clicks: level and score, sizes and classes that select, the same threshold on a set held, and saving it."""

from __future__ import annotations

import json
from collections import Counter
from collections.abc import Callable
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st
from PySide6.QtCore import Qt
from PySide6.QtTest import QTest
from pytestqt.qtbot import QtBot

from mivrat.ui.bench import MEASURE
from mivrat.ui.measure.sets_view import SetsView, sizes_in_ranges
from mivrat.ui.window import BENCH, MainWindow
from tests.support.studies import scored_study

Settle = Callable[[], None]
LEFT = Qt.MouseButton.LeftButton


def shown(window: MainWindow, settle: Settle) -> SetsView:
    window.bench.show_step(MEASURE)
    window.bench.measure.go_to("confidence")
    window.bench.measure.reliability.view.setCurrentText("prediction sets")
    settle()
    return window.bench.measure.reliability.sets


def test_coverage_sizes_and_a_set_held(demo: MainWindow, settle: Settle, tmp_path: Path) -> None:
    workspace = demo.workspace
    runs = {(one.image_set, one.model): one for one in workspace.runs}
    demo.show_run(runs["spring-check", "grain-net-1"].id)
    view = shown(demo, settle)
    assert view.told.text().startswith("90.2 % (86.9 – 92.8) of sets hold the label, N = 400.")
    assert not view.elsewhere.isVisible()
    demo.bench.comparer.hold(runs["late-summer-field", "grain-net-1"])
    settle()
    assert "late-summer-field, at the same threshold: 64.7 %" in view.elsewhere.text()
    assert "less often than the 90 % wanted, beyond chance" in view.elsewhere.text()
    demo.bench.comparer.let_go()
    settle()
    found = view.found
    assert found is not None
    own = found.own
    item = view.sizes.item(0, 0)
    assert item is not None
    assert item.text() == "none"
    QTest.mouseClick(view.sizes.viewport(), LEFT, pos=view.sizes.visualItemRect(item).center())
    settle()
    assert len(workspace.shown.images) == (own.sizes == 0).sum()
    QTest.mouseClick(view.missed, LEFT)
    settle()
    assert len(workspace.shown.images) == 400 - own.coverage.hits
    # By a column; a row selects what its sets leave out.
    view.by.setCurrentText("station")
    view.by.activated.emit(1)
    settle()
    assert view.found is not None
    assert view.found.column == "station"
    assert sum(one.coverage.total for one in view.found.parts) == 400
    view.classes.cellActivated.emit(0, 0)
    settle()
    worst = view._worst()[0]
    assert len(workspace.shown.images) == worst.coverage.total - worst.coverage.hits
    # A higher level takes larger sets.
    view.level.setValue(99)
    settle()
    assert view.found is not None
    assert (view.found.own.mean_size or 0) > (own.mean_size or 9)
    view.score.setCurrentIndex(1)
    view.score.activated.emit(1)
    view.by_class.setCurrentIndex(1)
    view.by_class.activated.emit(1)
    settle()
    assert view.found.own.plan.kind == "adaptive"
    assert "have too few labelled images, and are in every set" in view.told.text()  # 50 of each, 99 %
    view.save_to(tmp_path / "sets.json")
    told = json.loads((tmp_path / "sets.json").read_text())
    assert (told["level"], told["score"], told["by_class"]) == (0.99, "adaptive", True)
    assert len(told["threshold"]) == 8
    assert view.as_table()[0][0] == "classes in the set"


@pytest.mark.parametrize("images", [4, 40])
def test_few_images_and_an_untrained_model(
    qtbot: QtBot, window: MainWindow, settle: Settle, tmp_path: Path, images: int
) -> None:
    window.open_study(scored_study(tmp_path / "study", 3, {"one": [images] * 3}, 1))
    qtbot.waitUntil(lambda: window.pages.currentIndex() == BENCH, timeout=30000)
    settle()
    view = shown(window, settle)
    if images == 4:
        assert "at least 20 labelled images with an answer, there are 12" in view.problem.text()
        assert not view.sizes.isVisible()
    else:
        assert view.found is not None
        assert view.found.own.coverage.total == 120


@given(st.lists(st.integers(0, 60), min_size=1, max_size=300))
def test_many_sizes_stand_in_ranges_and_none_is_lost(sizes: list[int]) -> None:
    counted = sorted(Counter(sizes).items())
    by_size = [(size, number, number - 1, max(0, number - 2)) for size, number in counted]
    found = sizes_in_ranges(by_size)
    assert len(found) <= 15
    assert [sum(column) for column in zip(*(one[2:] for one in found), strict=True)] == [
        sum(column) for column in zip(*(one[1:] for one in by_size), strict=True)
    ]
    ends = [end for low, high, *_ in found for end in (low, high)]
    assert ends == sorted(ends)
    for low, high, number, *_ in found:
        assert number == sum(low <= one <= high for one in sizes)
    if len(by_size) <= 12:
        assert [one[:2] for one in found] == [(size, size) for size, _ in counted]
