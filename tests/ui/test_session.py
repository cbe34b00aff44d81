"""The workspace and what stands behind the window: orders, decisions taken back, garbage collected where it must be."""

from __future__ import annotations

import gc
import threading
from pathlib import Path

import pytest
from PySide6.QtCore import QObject
from PySide6.QtWidgets import QApplication, QWidget
from pytestqt.qtbot import QtBot

from mivrat.core.figures.intervals import proportion
from mivrat.core.selecting.ordering import ORDERS
from mivrat.core.selecting.selection import Labelled, Outcome, Picked
from mivrat.ui import words
from mivrat.ui.garbage import MainThreadCollector
from mivrat.ui.parts.widgets import restyle
from mivrat.ui.theme import LAMP, PAPER, theme
from mivrat.workspace.edits import Changes, SmallEdit
from mivrat.workspace.workspace import Workspace
from tests.support.workspaces import made_up_run, opened, show


@pytest.fixture
def workspace(tmp_path: Path) -> Workspace:
    return opened(made_up_run(tmp_path, 5, 80))


@pytest.mark.parametrize("order", ORDERS)
def test_a_selection_is_in_order_whatever_was_selected_before(workspace: Workspace, order: str) -> None:
    workspace.shown.set_order(order)
    judged, everything = workspace.shown.snapshot.judged, workspace.shown.to_arrange().arranged(order).positions
    for conditions in ((), (Labelled(frozenset({1, 3})),), (Outcome(frozenset({"wrong"})),), ()):
        workspace.shown.replace(*conditions)
        mask = workspace.shown.selection.mask(judged)
        assert workspace.shown.images.tolist() == everything[mask[everything]].tolist()


def test_what_is_picked_is_shown_as_listed_and_the_order_comes_back(workspace: Workspace) -> None:
    workspace.shown.set_order("least sure first")
    workspace.shown.choose(Picked("copies", (9, 2, 30)))
    assert (workspace.shown.order, workspace.shown.images.tolist()) == ("as listed", [9, 2, 30])
    workspace.shown.set_order("name")
    assert sorted(workspace.shown.images.tolist()) == [2, 9, 30]
    workspace.shown.clear()
    assert workspace.shown.order == "name"
    workspace.shown.choose(Picked("copies", (9, 2, 30)))
    workspace.shown.clear()
    assert workspace.shown.order == "name"


def test_another_set_forgets_what_was_picked_in_this_one(workspace: Workspace, tmp_path: Path) -> None:
    workspace.shown.choose(Picked("copies", (1,)), Labelled(frozenset({2})))
    other = made_up_run(tmp_path, 5, 40, seed=1)
    object.__setattr__(other.info, "set_id", 2)
    object.__setattr__(other.info, "id", 2)
    show(workspace, other)
    assert workspace.shown.conditions == (Labelled(frozenset({2})),)
    assert workspace.shown.current is None


def test_steps_stay_inside_and_mistakes_are_found(workspace: Workspace) -> None:
    wrong = workspace.shown.snapshot.judged.wrong
    workspace.shown.set_order("name")
    workspace.shown.step(0)
    assert workspace.shown.position == 0
    workspace.shown.step(-5)
    assert workspace.shown.position == 0
    workspace.shown.step(10_000)
    assert workspace.shown.position == len(workspace.shown.images) - 1
    assert not workspace.shown.step_mistake(1)
    found = []
    while workspace.shown.step_mistake(-1):
        found.append(workspace.shown.current)
    ahead = workspace.shown.images[:-1]
    assert found == ahead[wrong[ahead]][::-1].tolist()


def test_edits_go_back_and_forth_and_a_new_one_ends_the_way_forth(workspace: Workspace) -> None:
    edits, done, told = workspace.edits, list[str](), list[str]()
    workspace.notices.said.connect(lambda sentence, place: told.append(sentence))
    workspace.topics.kept.connect(lambda: told.append("kept"))

    def edit(name: str) -> SmallEdit:
        def put(what: str) -> Changes:
            done.append(what)
            yield workspace.topics.kept

        return SmallEdit(name, lambda: put(name), lambda: put(f"not {name}"))

    made = [edit(name) for name in ("a", "b", "c")]
    assert (edits.last, edits.next) == (None, None)
    workspace.study_path = None  # nothing is kept anywhere
    for one in made[:2]:
        assert edits.take_at_once(one)
    edits.undo()
    assert (edits.last, edits.next) == (made[0], made[1])
    edits.redo()
    assert (edits.last, edits.next) == (made[1], None)
    edits.undo()
    edits.take_at_once(made[2])
    assert (edits.last, edits.next) == (made[2], None)
    assert done == ["a", "b", "not b", "b", "not b", "c"]
    assert told == ["kept"] * 3 + ["Taken back: b"] + ["kept", "Again: b", "kept", "Taken back: b", "kept"]
    edits.clear()
    assert edits.last is None


def test_widgets_in_a_cycle_are_destroyed_on_the_main_thread(qtbot: QtBot, qapp: QApplication) -> None:
    """A worker that makes much garbage collects none of it; the timer on the main thread does."""
    assert not gc.isenabled()
    where: list[str] = []

    class Told(QObject):
        def __del__(self) -> None:
            where.append(threading.current_thread().name)

    told = Told()
    told.itself = told  # type: ignore[attr-defined]
    del told

    def litter() -> None:
        for _ in range(30_000):
            loop: list[object] = []
            loop.append(loop)

    worker = threading.Thread(target=litter, name="worker")
    worker.start()
    worker.join()
    assert where == []
    collector = qapp.findChildren(MainThreadCollector)[0]
    for _ in range(60):
        collector.collect()
        if where:
            break
        litter()
    gc.collect()
    assert where == ["MainThread"]


def test_a_theme_restyles_what_is_shown_and_the_rest_when_it_is_shown(qtbot: QtBot) -> None:
    shown, hidden = QWidget(), QWidget()
    for one in (shown, hidden):
        qtbot.addWidget(one)
    theme.use("paper")
    theme.style(shown, hidden)
    shown.show()
    theme.use("lamp")
    try:
        assert LAMP.paper in shown.styleSheet()
        assert hidden.styleSheet() == ""
        hidden.show()
        assert LAMP.paper in hidden.styleSheet()
        hidden.hide()
        theme.use("paper")
        assert PAPER.paper in shown.styleSheet()
        assert LAMP.paper in hidden.styleSheet()
        hidden.show()
        assert PAPER.paper in hidden.styleSheet()
    finally:
        theme.use("paper")
    restyle(shown, "color: red")
    assert shown.styleSheet() == "color: red"


def test_figures_in_words() -> None:
    assert (words.percent(None), words.percent(0.12345)) == ("–", "12.3 %")
    assert words.bounds(proportion(0, 0)) == ""
    assert words.bounds(proportion(83, 100)) == "74.5 – 89.1"
    assert (words.count(1234567), words.images(1), words.images(2000)) == (
        "1\u202f234\u202f567",
        "1 image",
        "2\u202f000 images",
    )
    assert words.clipped("a" * 30, 11) == "aaaaa…aaaaa"
    assert words.clipped("short", 11) == "short"
