"""What nobody foresaw: the window says so, decides nothing on what may be half of two runs, and shows the study again or closes it."""

from __future__ import annotations

from collections.abc import Callable

import pytest
from PySide6.QtCore import Qt
from pytestqt.qtbot import QtBot

from mivrat.core.selecting.selection import Outcome
from mivrat.core.study.file import Study
from mivrat.core.study.reviews import load_reviews
from mivrat.ui.window import BENCH, START, MainWindow


def break_down(window: MainWindow) -> None:
    """A listener that fails once, in the middle of a change, as a mistake of ours would."""

    def fail() -> None:
        stop()
        raise IndexError("index 300 is out of bounds")

    stop = window.workspace.topics.selection.connect(fail)
    with pytest.raises(IndexError):
        window.workspace.shown.choose(Outcome(frozenset({"wrong"})))
    window.show_failure("IndexError: index 300 is out of bounds", True)


def test_after_a_failure_nothing_is_decided_until_the_study_is_shown_again(
    qtbot: QtBot, demo: MainWindow, settle: Callable[[], None]
) -> None:
    workspace = demo.workspace
    workspace.shown.focus.step(1)
    demo.bench.light_table.thumbs.setFocus()
    before, run = workspace.shown, workspace.shown.record.key
    break_down(demo)
    assert "Something went wrong inside Mivrat" in demo.foot.problem.full_text
    assert "(IndexError: index 300 is out of bounds)" in demo.foot.problem.full_text
    qtbot.keyClick(demo.bench.light_table.thumbs, Qt.Key.Key_1)
    assert workspace.edits.last is None
    with Study.open(workspace.path, again=True) as study:
        assert not load_reviews(study, before.record.info.set_id).by_position
    qtbot.waitUntil(lambda: workspace.shown is not before, timeout=10000)
    qtbot.waitUntil(lambda: not workspace.in_doubt, timeout=10000)
    settle()
    assert (demo.pages.currentIndex(), workspace.shown.record.key) == (BENCH, run)
    assert workspace.shown.conditions == ()
    assert len(workspace.shown.images) == 400
    assert "is shown again" in demo.foot.problem.full_text
    workspace.shown.focus.step(1)
    qtbot.keyClick(demo.bench.light_table.thumbs, Qt.Key.Key_1)
    assert workspace.edits.last is not None
    settle()


def test_what_fails_again_at_once_closes_the_study(qtbot: QtBot, demo: MainWindow, settle: Callable[[], None]) -> None:
    break_down(demo)
    demo.show_failure("IndexError: again", True)
    assert demo.pages.currentIndex() == START
    assert not demo.workspace.is_open
    assert "the study was closed" in demo.foot.problem.full_text
    settle()
    assert not demo.workspace.in_doubt
    demo.open_demo()
    qtbot.waitUntil(lambda: demo.pages.currentIndex() == BENCH, timeout=20000)
    settle()
    demo.show_failure("what fails in a worker never came back from it")
    assert demo.workspace.is_open
    assert not demo.workspace.in_doubt
