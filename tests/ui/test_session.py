"""The session and what stands behind the window: orders, decisions taken back, garbage collected where it must be."""

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
from mivrat.ui.decisions import Decision, Decisions
from mivrat.ui.garbage import MainThreadCollector
from mivrat.ui.session import Session, take_snapshot
from mivrat.ui.theme import LAMP, PAPER, theme
from mivrat.ui.widgets import restyle
from tests.ui.test_views import made_up_run


@pytest.fixture
def session(qapp: QApplication, tmp_path: Path) -> Session:
    made = Session()
    made.show(take_snapshot(made_up_run(tmp_path, 5, 80)))
    return made


@pytest.mark.parametrize("order", ORDERS)
def test_a_selection_is_in_order_whatever_was_selected_before(session: Session, order: str) -> None:
    session.set_order(order)
    assert session.snapshot is not None
    judged, everything = session.snapshot.judged, session.to_arrange().arranged(order).positions
    for conditions in ((), (Labelled(frozenset({1, 3})),), (Outcome(frozenset({"wrong"})),), ()):
        session.replace(*conditions)
        mask = session.selection.mask(judged)
        assert session.shown.tolist() == everything[mask[everything]].tolist()


def test_what_is_picked_is_shown_as_listed_and_the_order_comes_back(session: Session) -> None:
    session.set_order("least sure first")
    session.choose(Picked("copies", (9, 2, 30)))
    assert (session.order, session.shown.tolist()) == ("as listed", [9, 2, 30])
    session.set_order("name")
    assert sorted(session.shown.tolist()) == [2, 9, 30]
    session.clear()
    assert session.order == "name"
    session.choose(Picked("copies", (9, 2, 30)))
    session.clear()
    assert session.order == "name"


def test_another_set_forgets_what_was_picked_in_this_one(session: Session, tmp_path: Path) -> None:
    session.choose(Picked("copies", (1,)), Labelled(frozenset({2})))
    other = made_up_run(tmp_path, 5, 40, seed=1)
    object.__setattr__(other.info, "set_id", 2)
    object.__setattr__(other.info, "id", 2)
    session.show(take_snapshot(other))
    assert session.conditions == (Labelled(frozenset({2})),)
    assert session.current is None


def test_steps_stay_inside_and_mistakes_are_found(session: Session) -> None:
    assert session.snapshot is not None
    wrong = session.snapshot.judged.wrong
    session.set_order("name")
    session.step(0)
    assert session.position == 0
    session.step(-5)
    assert session.position == 0
    session.step(10_000)
    assert session.position == len(session.shown) - 1
    assert not session.step_mistake(1)
    found = []
    while session.step_mistake(-1):
        found.append(session.current)
    ahead = session.shown[:-1]
    assert found == ahead[wrong[ahead]][::-1].tolist()


def test_decisions_go_back_and_forth_and_a_new_one_ends_the_way_forth() -> None:
    made, decisions = [Decision(f"step {i}", lambda study: None, lambda study: None) for i in range(3)], Decisions()
    assert (decisions.last, decisions.next) == (None, None)
    for one in made[:2]:
        decisions.taken(one)
    decisions.undone()
    assert (decisions.last, decisions.next) == (made[0], made[1])
    decisions.redone()
    assert (decisions.last, decisions.next) == (made[1], None)
    decisions.undone()
    decisions.taken(made[2])
    assert (decisions.last, decisions.next) == (made[2], None)
    decisions.clear()
    assert decisions.last is None


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
