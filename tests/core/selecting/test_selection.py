"""Selections by loops over images, their history, and the orders of the light table."""

from __future__ import annotations

import numpy as np

from mivrat.core.answers.answers import PENDING, SCORED, UNREADABLE, Answers
from mivrat.core.answers.judged import EvaluatedRun
from mivrat.core.answers.judging import judge
from mivrat.core.pictures.image_sets import ImageItem
from mivrat.core.selecting.ordering import ToArrange
from mivrat.core.selecting.selection import (
    Confidence,
    InGroup,
    Labelled,
    MatrixCells,
    Outcome,
    Picked,
    Predicted,
    Selection,
)
from mivrat.core.study.reviews import Cause, Review, Reviews

NAMES = ["birch", "alder", "hazel"]


def judged() -> EvaluatedRun:
    """Seven images: right, wrong, wrong, right, unlabelled, unreadable, pending."""
    labels = np.array([0, 0, 1, 2, -1, 1, 2])
    predicted = np.array([0, 1, 0, 2, 2, -1, -1])
    confidence = np.array([0.9, 0.6, 0.8, 0.5, 0.7, np.nan, np.nan])
    state = np.array([SCORED] * 5 + [UNREADABLE, PENDING], np.int8)
    unknown, rows = np.full(7, np.nan), np.zeros((7, 3), np.float32)
    none = np.zeros(7, int)
    return EvaluatedRun(
        labels, state, predicted, confidence, none, unknown, unknown, none.astype(bool), rows, "logits", 3
    )


def picked(selection: Selection) -> list[int]:
    return np.flatnonzero(selection.mask(judged())).tolist()


def test_conditions_stand_together() -> None:
    selection = Selection()
    assert picked(selection) == [0, 1, 2, 3, 4, 5, 6]
    selection.choose(Labelled(frozenset({0})))
    assert picked(selection) == [0, 1]
    selection.choose(Outcome(frozenset({"wrong"})), beside=True)
    assert picked(selection) == [1]
    selection.choose(Labelled(frozenset({1})))  # a figure shows its own images, whatever was in force
    assert picked(selection) == [2, 5]
    selection.choose(Outcome(frozenset({"wrong"})), beside=True)
    assert picked(selection) == [2]
    selection.choose(Labelled(frozenset({0})), beside=True)
    assert picked(selection) == [1, 2]
    selection.remove(Outcome(frozenset({"wrong"})))
    assert picked(selection) == [0, 1, 2, 5]
    selection.choose(Labelled(frozenset({0, 1})))  # in force by itself already: taken away
    assert selection.conditions == ()
    selection.back()
    assert [c.words(NAMES) for c in selection.conditions] == [("labelled", "birch or alder")]


def test_cells_ranges_and_outcomes() -> None:
    selection = Selection()
    selection.choose(Labelled(frozenset({0})), Predicted(frozenset({1})))
    assert picked(selection) == [1]
    selection.choose(MatrixCells(frozenset({(0, 1), (1, 0)})))  # says it another way, so the two are gone
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
    selection.choose(Outcome(frozenset({"wrong"})), beside=True)
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


def to_arrange(names: list[str], reviews: Reviews | None = None, **columns: list[str]) -> ToArrange:
    items = [ImageItem(name, None, {key: values[i] for key, values in columns.items()}) for i, name in enumerate(names)]
    return ToArrange(judged(), items, NAMES, {0: "catkins", 1: "catkins"}, reviews or Reviews())


def test_orders() -> None:
    images = to_arrange(
        ["b10.png", "b9.png", "A1.png", "c.png", "a02.png", "z", "b1/x"], slide=["9", "10", "9", "", "x", "9", "8"]
    )
    for order, expected in {
        "confident mistakes": [2, 1, 0, 4, 3, 5, 6],
        "least confident first": [3, 1, 4, 2, 0, 5, 6],
        "name": [2, 4, 6, 1, 0, 3, 5],
        "as listed": [0, 1, 2, 3, 4, 5, 6],
        "column: slide": [6, 0, 2, 5, 1, 4, 3],
    }.items():
        assert images.arranged(order).positions.tolist() == expected


def test_orders_by_scores() -> None:
    rows = np.log(np.array([[0.5, 0.3, 0.2], [0.45, 0.4, 0.15], [0.1, 0.1, 0.8], [0.6, 0.25, 0.15]], np.float32))
    answers = Answers(5, 3, "logits")
    answers.rows[:4], answers.state[:] = rows, [SCORED] * 4 + [PENDING]
    images = ToArrange(judge(answers, [0, 2, 2, 1, 0]), [ImageItem(str(i), 0) for i in range(5)], NAMES, {}, Reviews())
    assert images.arranged("narrowest margin").positions.tolist() == [1, 0, 3, 2, 4]
    assert images.arranged("worst rank of the label").positions.tolist() == [1, 3, 0, 2, 4]
    # Thresholds 0.5, 0.25, 0.475: of the second image no other class reaches its own, of the fourth the first does.
    assert images.arranged("likeliest wrong label").positions.tolist() == [1, 3, 0, 2, 4]


def test_bands_hold_every_image_once_with_their_accuracy() -> None:
    reviews = Reviews((Cause(1, "hidden"), Cause(2, "two objects")), {1: Review(frozenset({2, 1}), reviewed=True)})
    reviews.put({2: Review(reviewed=True)})
    images = to_arrange([str(i) for i in range(7)], reviews, slide=["b", "a", "b", "", "a", "b", "a"])
    everything = np.ones(7, bool)

    def bands(by: str, about: int | None = None) -> list[tuple[str, list[int], int, int]]:
        shown, found = images.arranged("as listed", by, about).shown(everything, judged())
        assert sorted(shown.tolist()) == list(range(7))
        return [(b.name, shown[b.start : b.stop].tolist(), b.accuracy.hits, b.accuracy.total) for b in found]

    assert bands("prediction") == [
        ("birch", [0, 2], 1, 2),
        ("alder", [1], 0, 1),
        ("hazel", [3, 4], 1, 1),
        ("no answer", [5, 6], 0, 0),
    ]
    assert bands("family") == [("catkins", [0, 1, 2, 5], 1, 3), ("hazel", [3, 6], 1, 1), ("no label", [4], 0, 0)]
    assert bands("column: slide") == [("a", [1, 4, 6], 0, 1), ("b", [0, 2, 5], 1, 2), ("(none)", [3], 1, 1)]
    assert [one[:2] for one in bands("cause")] == [
        ("hidden + two objects", [1]),
        ("not reviewed", [0, 3, 4, 5, 6]),
        ("reviewed, no cause", [2]),
    ]
    assert [one[1] for one in bands("called and labelled", 0)] == [[0], [2], [1], [3, 4, 5, 6]]


def test_lists_and_groups_pick_their_images_and_are_forgotten() -> None:
    selection = Selection()
    copies, gone = Picked("copies", (4, 0, 99)), Picked("files gone", (5,))
    selection.choose(copies)
    assert picked(selection) == [0, 4]
    assert copies.words(NAMES) == ("picked by", "copies")
    selection.choose(gone, beside=True)
    assert picked(selection) == [0, 4, 5]
    assert selection.conditions[0].words(NAMES)[1] == "copies or files gone"
    selection.choose(Outcome(frozenset({"right"})), beside=True)
    assert picked(selection) == [0]
    south = InGroup("station", frozenset({("south", (0, 1, 2))}))
    selection.choose(south, beside=True)
    selection.choose(InGroup("station", frozenset({("north", (3,))})), beside=True)
    assert selection.conditions[-1].words(NAMES) == ("station", "north or south")
    selection.choose(InGroup("month", frozenset({("2031-05", (0, 3))})), beside=True)
    assert len(selection.conditions) == 4  # groups of two columns stand together
    selection.forget(Picked)
    assert picked(selection) == [0, 3]
    while selection.can_go_back:
        selection.back()
        assert not any(isinstance(one, Picked) for one in selection.conditions)
