"""Findings made on one run and checked on others: by rule, by content, in any order, on other images, and of text kept in a study."""

from __future__ import annotations

import json
from collections.abc import Sequence
from dataclasses import replace

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from mivrat.core.base.errors import InputError
from mivrat.core.concluding.checking import check_finding, finding_of, labels_claim, measure
from mivrat.core.concluding.evaluation_context import EvaluationContext, reference_of
from mivrat.core.concluding.findings import (
    Checked,
    Draft,
    Finding,
    FindingClaim,
    FindingPicture,
    Measure,
    as_text,
    checked_from,
    checked_text,
    from_text,
)
from mivrat.core.concluding.shares import looks_of, refused, written
from mivrat.core.figures.groups import group_names
from mivrat.core.selecting.selection import (
    Caused,
    Condition,
    InGroup,
    Labelled,
    MatrixCells,
    Outcome,
    Picked,
    Predicted,
)
from mivrat.core.study.reviews import Cause, Review, Reviews
from tests.support.grounds import CLASSES, ground

# 60 birch, 60 ragweed of which 30 are called birch, 20 hazel; ragweed from the roof is worst.
LABELS = [0] * 60 + [1] * 60 + [2] * 20
ONE = [0] * 60 + [0] * 30 + [1] * 30 + [2] * 20
TWO = LABELS
CONSTANT = [0] * 140
PLACE = ["roof"] * 100 + ["field"] * 40
OLD = ground(LABELS, ONE, columns={"place": PLACE})


def claim(conditions: Sequence[Condition], of: EvaluationContext = OLD) -> FindingClaim:
    return FindingClaim("share", conditions=written(conditions, of))


def measured(what: FindingClaim, of: EvaluationContext) -> Measure:
    (found,) = [one for one in measure(what, of) if isinstance(one, Measure)]
    return found


def found(what: FindingClaim, of: EvaluationContext = OLD) -> Finding:
    return finding_of(Draft("title", "sentence", what), measured(what, of), of)


def checked(finding: Finding, of: EvaluationContext) -> Checked:
    (made,) = [one for one in check_finding(finding, of) if isinstance(one, Checked)]
    return made


def group(value: str) -> InGroup:
    names = group_names(PLACE)
    at = tuple(i for i, one in enumerate(names) if one == value)
    return InGroup("place", frozenset({(value, at)}))


WRONG = Outcome(frozenset({"wrong"}))
RULES: list[tuple[list[Condition], int, int, int, int]] = [
    # conditions; images showing it, images it is of; of the others showing it, others
    ([MatrixCells(frozenset({(1, 0)}))], 30, 60, 0, 20),
    ([Labelled(frozenset({1})), Predicted(frozenset({0}))], 30, 60, 0, 20),
    ([Labelled(frozenset({1}))], 30, 60, 0, 80),
    ([Labelled(frozenset({1})), WRONG], 30, 60, 0, 80),
    ([Predicted(frozenset({0}))], 30, 90, 0, 50),
    ([WRONG], 30, 140, 0, 0),
    ([group("roof")], 30, 100, 0, 40),
    ([], 30, 140, 0, 0),
]


@pytest.mark.parametrize(("conditions", "hits", "total", "rest_hits", "rest"), RULES)
def test_what_share_a_selection_tells_of(
    conditions: list[Condition], hits: int, total: int, rest_hits: int, rest: int
) -> None:
    told = measured(claim(conditions), OLD)
    assert (told.hits, told.total) == (hits, total)
    assert (told.beside is None) == (rest == 0)
    if told.beside is not None:
        assert (told.beside.hits, told.beside.total) == (rest_hits, rest)
    assert told.value == pytest.approx(hits / total)


@pytest.mark.parametrize("rule", RULES[:6])
def test_the_same_holds_the_mended_is_gone_the_constant_says_nothing(
    rule: tuple[list[Condition], int, int, int, int],
) -> None:
    one = found(claim(rule[0]))
    assert checked(one, OLD).state == "holds"
    order = np.random.default_rng(3).permutation(140).tolist()
    again = ground(LABELS, ONE, columns={"place": PLACE}, order=order)
    assert (again.images, again.model) == (OLD.images, OLD.model)
    assert checked(one, again).state == "holds"  # the list in another order, under other file names
    fixed = checked(one, ground(LABELS, TWO, model="two", columns={"place": PLACE}))
    assert fixed.state == "gone"
    assert checked(one, ground(LABELS, CONSTANT, model="c", columns={"place": PLACE})).state in (
        "worse",
        "inconclusive",
    )
    worse = [0] * 120 + [2] * 20
    assert checked(one, ground(LABELS, worse, model="w", columns={"place": PLACE})).state == "worse"


def test_a_criterion_counts_where_its_figure_is_a_share() -> None:
    judged = OLD.snapshot.judged
    (share,) = [one for one in measure(FindingClaim("criterion", "top1 >= 0.5"), OLD) if isinstance(one, Measure)]
    assert (share.hits, share.total) == (int(judged.right.sum()), int(judged.evaluated.sum()))
    assert share.value == judged.right.sum() / judged.evaluated.sum()
    (mean,) = [one for one in measure(FindingClaim("criterion", "macro_f1 >= 0.5"), OLD) if isinstance(one, Measure)]
    assert (mean.hits, mean.total, mean.bad) == (None, None, -1)
    (gap,) = [one for one in measure(FindingClaim("criterion", "ece <= 0.5"), OLD) if isinstance(one, Measure)]
    assert gap.bad == 1


def test_images_model_and_set_are_told_by_content() -> None:
    other_set, namesake = ground(LABELS, ONE, images="other"), ground(LABELS, ONE, model="two")
    assert len({OLD.images, other_set.images}) == 2
    assert OLD.images == namesake.images
    assert len({OLD.model, namesake.model}) == 2
    assert OLD.model == other_set.model
    relabelled = ground([1, *LABELS[1:]], ONE)
    assert relabelled.images != OLD.images
    one = found(claim([MatrixCells(frozenset({(1, 0)}))]))
    on_others = checked(one, other_set)
    assert (on_others.state, on_others.images, on_others.model) == ("holds", other_set.images, OLD.model)


def test_a_rule_that_does_not_fit_says_so() -> None:
    one = found(claim([group("roof")]))
    assert "rule does not fit" in checked(one, ground(LABELS, TWO)).after.problem
    gone = found(claim([Labelled(frozenset({1}))]))
    other = ground([0] * 30 + [1] * 30, [0] * 60, classes=["birch", "oak"])
    assert checked(gone, other).state == "inconclusive"
    empty = ground([0] * 30 + [2] * 30, [0] * 60)
    assert "no images" in checked(gone, empty).why
    few = checked(found(claim([Labelled(frozenset({1}))])), ground([1] * 2 + [0] * 20, [1, 1] + [0] * 20, model="t"))
    assert few.state == "inconclusive"
    assert refused([Picked(frozenset({1, 2}), "hand")])
    assert not refused([WRONG])


def test_a_cause_given_by_hand_is_a_rule() -> None:
    reviews = Reviews((Cause(1, "ink dot"),), {i: Review(frozenset({1})) for i in range(60, 80)})
    old = ground(LABELS, ONE, reviews=reviews)
    one = found(claim([Caused(frozenset({1}), reviews)], old), old)
    assert (one.before.hits, one.before.total) == (20, 20)
    assert checked(one, ground(LABELS, TWO, model="two", reviews=reviews)).state == "gone"


def test_wrong_labels_are_counted_by_image_until_they_are_corrected() -> None:
    reviews = Reviews((), {i: Review(label=2) for i in (0, 1, 2, 70)})
    old = ground(LABELS, ONE, reviews=reviews)
    one = found(labels_claim([0, 1, 2, 70], old), old)
    assert (one.before.hits, one.before.total) == (4, 4)
    assert checked(one, ground(LABELS, CONSTANT, model="c")).state == "holds"  # labels are no model's doing
    fixed = [2, 2, 2, *LABELS[3:70], 2, *LABELS[71:]]
    order = np.random.default_rng(5).permutation(140).tolist()
    assert checked(one, ground(fixed, CONSTANT, model="c", order=order)).state == "gone"
    assert checked(one, ground([2, *LABELS[1:]], TWO)).state == "weaker"
    assert "none of these images" in checked(one, ground(LABELS, ONE, images="other")).why


def test_a_run_behind_another_by_its_content() -> None:
    new = ground(LABELS, TWO, model="two")
    reference = reference_of(new.snapshot.record)
    OLD.other = lambda wanted: new.snapshot if wanted == reference else None
    behind = found(FindingClaim("difference", f'difference(top1, "{reference}") >= 0'))
    assert behind.before.value == pytest.approx(-30 / 140)
    assert behind.before.points
    OLD.other = lambda wanted: None
    assert (
        checked(behind, new).state == "inconclusive"
    )  # the very model it was behind: between it and itself there is nothing
    third = ground(LABELS, ONE[:80] + LABELS[80:], model="three")
    third.other = lambda wanted: new.snapshot if wanted == reference else None
    assert checked(behind, third).state in ("weaker", "holds")
    lost = ground(LABELS, ONE, model="four")
    assert "has no run" in checked(behind, lost).why


@given(st.text(max_size=20), st.text(max_size=40), st.sampled_from(["blocks", "matters", "note"]), st.booleans())
def test_a_finding_is_kept_as_it_is(title: str, sentence: str, weight: str, aside: bool) -> None:
    one = found(claim([MatrixCells(frozenset({(1, 0)})), group("roof")]))
    pictures = (FindingPicture(OLD.names[3], True, title), FindingPicture(OLD.names[4]))
    one = replace(one, title=title, sentence=sentence, weight=weight, aside=aside, pictures=pictures)  # type: ignore[arg-type]
    assert from_text(one.id, as_text(one)) == one
    for text in ("", "[]", "{}", as_text(one)[:-9], as_text(one).replace('"share"', '"spell"')):
        with pytest.raises(InputError):
            from_text(1, text)
    assert CLASSES[1] in as_text(one)  # classes by name, not by number
    for part, name in (
        ("before", "value"),
        ("before", "low"),
        ("before", "hits"),
        ("before", "words"),
        ("made", "balanced"),
        ("made", "looks"),
    ):
        for odd in (
            "x" if name != "words" else 5,
            [1],
            10**400,
            float("nan"),
            {"a": 1},
            True if name != "words" else None,
        ):
            data = json.loads(as_text(one))
            data[part][name] = odd
            with pytest.raises(InputError):
                from_text(1, json.dumps(data))
    assert checked_from(checked_text(Checked("gone", "why", one.before))) == Checked("gone", "why", one.before)
    for text in (
        "[]",
        '{"state": "lost", "why": "", "after": {"words": "", "value": null}}',
        '{"state": "gone", "why": 5}',
    ):
        assert checked_from(text) is None


def test_a_finding_keeps_of_how_many_it_could_have_been_chosen() -> None:
    """Three classes with images, two of them predicted; a column of two groups."""
    labels, answers = [0] * 20 + [1] * 20 + [2] * 20, [0] * 30 + [1] * 30
    run = ground(labels, answers, columns={"place": ["north", "south"] * 30})
    one = frozenset({0})
    for conditions, looks in (
        ((), 1),
        ((Outcome(frozenset({"wrong"})),), 1),
        ((Labelled(one),), 3),
        ((Predicted(one),), 2),
        ((Labelled(one), Predicted(frozenset({1}))), 3),
        ((MatrixCells(frozenset({(0, 1)})),), 3),
        ((InGroup("place", frozenset({("north", (0, 2))})), Labelled(one)), 6),
    ):
        assert looks_of(conditions, run) == looks
