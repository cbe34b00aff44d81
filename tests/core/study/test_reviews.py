"""What is written down of single images and of selections: kept, taken back, carried through other class orders and versions."""

from __future__ import annotations

import json
from pathlib import Path

import pytest

from mivrat.core.pictures.image_names import ImageNames
from mivrat.core.pictures.image_sets import ImageItem, read_image_set
from mivrat.core.selecting import kept
from mivrat.core.selecting.selection import (
    About,
    Caused,
    Condition,
    Confidence,
    InGroup,
    Labelled,
    MatrixCells,
    Outcome,
    Picked,
    Predicted,
    Reviewed,
)
from mivrat.core.study.class_list import save_class_order
from mivrat.core.study.file import Study
from mivrat.core.study.image_sets import add_image_set, list_image_sets, remove_image_set
from mivrat.core.study.removing import put_back
from mivrat.core.study.reviews import NOTHING, Cause, Review, Reviews, load_reviews, save_causes, save_reviews
from mivrat.core.study.schema import USUAL_CAUSES
from tests.support.sets import CLASSES, write_set


@pytest.fixture
def study(tmp_path: Path) -> Study:
    made = Study.create(tmp_path / "s.mivrat", CLASSES)
    add_image_set(made, read_image_set(write_set(tmp_path / "set", 2), CLASSES))
    return made


def test_reviews_are_kept_and_forgotten(study: Study) -> None:
    (one,) = list_image_sets(study)
    assert [cause.name for cause in load_reviews(study, one.id).causes] == list(USUAL_CAUSES)
    full = Review(frozenset({2, 5}), 'two grains; "left" one counts\n', True, 2, True)
    save_reviews(study, one.id, {0: full, 4: Review(note="x"), 5: Review(reviewed=True)})
    save_reviews(study, one.id, {4: NOTHING, 5: Review(frozenset({1}), reviewed=True)})
    found = load_reviews(study, one.id)
    assert found.by_position == {0: full, 5: Review(frozenset({1}), reviewed=True)}
    assert found[4] == NOTHING
    assert found.names(0) == [USUAL_CAUSES[1], USUAL_CAUSES[4]]
    assert found.proposed() == {0: 2}
    expected = {"reviewed": [0, 5], "not reviewed": [1, 2, 3, 4], "note": [0], "another label": [0], "cause": [0, 5]}
    for which, positions in expected.items():
        assert found.mask(6, which).nonzero()[0].tolist() == positions
    assert found.with_causes(6, frozenset({5, 1})).nonzero()[0].tolist() == [0, 5]
    save_causes(study, [Cause(9, "mould"), *found.causes[:1]])
    changed = load_reviews(study, one.id)
    assert [cause.name for cause in changed.causes] == ["mould", USUAL_CAUSES[0]]
    assert changed.names(0) == []  # its causes are not in the list any more, but not forgotten
    assert changed[0] == full


def test_a_proposed_label_stays_with_its_name_and_goes_with_its_set(study: Study) -> None:
    (one,) = list_image_sets(study)
    save_reviews(study, one.id, {3: Review(label=0)})
    save_class_order(study, CLASSES[::-1])
    assert load_reviews(study, one.id)[3].label == 2
    removed = remove_image_set(study, one.id)
    assert load_reviews(study, one.id).by_position == {}
    put_back(study, removed)
    assert load_reviews(study, one.id)[3].label == 2


def test_selections_are_kept_by_name_of_their_classes(study: Study) -> None:
    (one,) = list_image_sets(study)
    reviews = Reviews()
    items = [ImageItem(f"{i}.png", 0, {"station": "north" if i % 2 else "south"}) for i in range(6)]
    names = ImageNames(items, {4: b"four"})
    conditions: tuple[Condition, ...] = (
        Labelled(frozenset({0, 2})),
        Predicted(frozenset({1})),
        About(frozenset({1})),
        MatrixCells(frozenset({(0, 1), (2, 2)})),
        Outcome(frozenset({"wrong", "failed"})),
        Confidence(frozenset({(0.25, 0.5), (0.9, 1.0)})),
        Picked("near copies", (4, 1)),
        InGroup("station", frozenset({("north", (1, 3, 5))})),
        Caused(frozenset({3}), reviews),
        Reviewed(frozenset({"note"}), reviews),
    )
    kept.save_kept(study, one.id, [kept.KeptSelection("a mix", kept.to_text(conditions, CLASSES, names))])
    (found,) = kept.load_kept(study, one.id)
    assert found.name == "a mix"
    back = kept.from_text(found.conditions, CLASSES, items, names, reviews)
    assert back == conditions
    assert [one.reviews is reviews for one in back or () if isinstance(one, Caused | Reviewed)] == [True, True]
    turned = kept.from_text(found.conditions, CLASSES[::-1], items, names, reviews)
    assert turned is not None
    assert turned[0] == Labelled(frozenset({0, 2}))
    assert turned[3] == MatrixCells(frozenset({(2, 1), (0, 0)}))
    assert kept.from_text(found.conditions, ["other"], items, names, reviews) is None
    assert kept.from_text("[{}]", CLASSES, items, names, reviews) is None
    assert (
        kept.from_text(
            json.dumps([{"kind": "group", "column": "station", "groups": ["east"]}]), CLASSES, items, names, reviews
        )
        is None
    )
