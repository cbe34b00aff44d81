"""Selections by loops over images, their history, and the orders of the light table."""

from __future__ import annotations

import numpy as np

from mivrat.core.pictures.image_sets import ImageItem
from mivrat.core.running.answers import PENDING, SCORED, UNREADABLE, Judged
from mivrat.core.study.ordering import ordered
from mivrat.core.study.selection import Cells, Confidence, InGroup, Labelled, Outcome, Picked, Predicted, Selection

NAMES = ["birch", "alder", "hazel"]


def judged() -> Judged:
    """Seven images: right, wrong, wrong, right, unlabelled, unreadable, pending."""
    labels = np.array([0, 0, 1, 2, -1, 1, 2])
    predicted = np.array([0, 1, 0, 2, 2, -1, -1])
    confidence = np.array([0.9, 0.6, 0.8, 0.5, 0.7, np.nan, np.nan])
    state = np.array([SCORED] * 5 + [UNREADABLE, PENDING], np.int8)
    unknown, rows = np.full(7, np.nan), np.zeros((7, 3), np.float32)
    none = np.zeros(7, int)
    return Judged(labels, state, predicted, confidence, none, unknown, unknown, none.astype(bool), rows, "logits", 3)


def picked(selection: Selection) -> list[int]:
    return np.flatnonzero(selection.mask(judged())).tolist()


def test_conditions_stand_together() -> None:
    selection = Selection()
    assert picked(selection) == [0, 1, 2, 3, 4, 5, 6]
    selection.choose(Labelled(frozenset({0})))
    assert picked(selection) == [0, 1]
    selection.choose(Outcome(frozenset({"wrong"})))
    assert picked(selection) == [1]
    selection.choose(Labelled(frozenset({1})))  # in place of the other label
    assert picked(selection) == [2]
    selection.choose(Labelled(frozenset({0})), beside=True)
    assert picked(selection) == [1, 2]
    selection.choose(Outcome(frozenset({"wrong"})))  # again: taken away
    assert picked(selection) == [0, 1, 2, 5]
    assert [c.words(NAMES) for c in selection.conditions] == [("labelled", "birch or alder")]


def test_cells_ranges_and_outcomes() -> None:
    selection = Selection()
    selection.choose(Labelled(frozenset({0})), Predicted(frozenset({1})))
    assert picked(selection) == [1]
    selection.choose(Cells(frozenset({(0, 1), (1, 0)})))  # says it another way, so the two are gone
    assert picked(selection) == [1, 2]
    assert selection.conditions[0].words(NAMES) == ("confusion", "birch → alder or alder → birch")
    selection.replace(Confidence(frozenset({(0.5, 0.7)})))
    assert picked(selection) == [1, 4]  # 0.5 itself belongs below
    selection.choose(Confidence(frozenset({(0.0, 0.5)})), beside=True)
    assert picked(selection) == [1, 3, 4]
    for which, found in (("unlabelled", [4]), ("unreadable", [5]), ("right", [0, 3]), ("wrong", [1, 2])):
        selection.replace(Outcome(frozenset({which})))
        assert picked(selection) == found


def test_history() -> None:
    selection = Selection()
    selection.choose(Labelled(frozenset({0})))
    selection.choose(Outcome(frozenset({"wrong"})))
    selection.remove_last()
    assert picked(selection) == [0, 1]
    selection.back()
    assert picked(selection) == [1]
    selection.back()
    selection.back()
    assert selection.conditions == ()
    assert not selection.can_go_back
    selection.forward()
    assert picked(selection) == [0, 1]
    selection.clear()
    assert not selection.can_go_forward
    selection.clear()
    selection.back()
    assert picked(selection) == [0, 1]


def test_orders() -> None:
    items = [ImageItem(name, None) for name in ("b10.png", "b9.png", "A1.png", "c.png", "a02.png", "z", "b1/x")]
    everything = np.ones(7, bool)
    assert ordered(judged(), items, everything, "surest mistake first").tolist() == [2, 1, 0, 4, 3, 5, 6]
    assert ordered(judged(), items, everything, "least sure first").tolist() == [3, 1, 4, 2, 0, 5, 6]
    assert ordered(judged(), items, everything, "name").tolist() == [2, 4, 6, 1, 0, 3, 5]


def test_lists_and_groups_pick_their_images_and_are_forgotten() -> None:
    selection = Selection()
    copies, gone = Picked("copies", (4, 0, 99)), Picked("files gone", (5,))
    selection.choose(copies)
    assert picked(selection) == [0, 4]
    assert copies.words(NAMES) == ("picked by", "copies")
    selection.choose(gone, beside=True)
    assert picked(selection) == [0, 4, 5]
    assert selection.conditions[0].words(NAMES)[1] == "copies or files gone"
    selection.choose(Outcome(frozenset({"right"})))
    assert picked(selection) == [0]
    south = InGroup("station", frozenset({("south", (0, 1, 2))}))
    selection.choose(south)
    selection.choose(InGroup("station", frozenset({("north", (3,))})), beside=True)
    assert selection.conditions[-1].words(NAMES) == ("station", "north or south")
    selection.choose(InGroup("month", frozenset({("2031-05", (0, 3))})))
    assert len(selection.conditions) == 4  # groups of two columns stand together
    selection.forget(Picked)
    assert picked(selection) == [0, 3]
    while selection.can_go_back:
        selection.back()
        assert not any(isinstance(one, Picked) for one in selection.conditions)


def test_images_that_were_listed_keep_their_order() -> None:
    items = [ImageItem(f"{i}.png", 0) for i in range(7)]
    chosen = np.array([True, True, False, True, True, True, True])
    assert ordered(judged(), items, chosen, "as listed", (4, 2, 0, 99)).tolist() == [4, 0]
    assert ordered(judged(), items, chosen, "as listed").tolist() == [0, 1, 3, 4, 5, 6]
