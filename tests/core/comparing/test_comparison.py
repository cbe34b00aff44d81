"""Runs matched by content and name, laid on each other, and what may be claimed of them."""

from __future__ import annotations

import numpy as np
import pytest

from mivrat.core.answers.answers import Answers
from mivrat.core.answers.judged import EvaluatedRun
from mivrat.core.answers.judging import judge
from mivrat.core.answers.other import ONE_ONLY, SAME_WRONG, align
from mivrat.core.comparing.claims import claims, not_worse, standing_of
from mivrat.core.comparing.comparison import Comparison, Names, OnSameImages, OnTwoSets, better_classes, worse_classes
from mivrat.core.comparing.groups import by_cause, by_group
from mivrat.core.comparing.matching import match_classes, match_contents
from mivrat.core.figures.differences import Difference
from mivrat.core.figures.two_sets import largest_mix_up
from mivrat.core.figures.units import Units
from mivrat.core.pictures.image_names import ImageNames
from mivrat.core.pictures.image_sets import ImageItem
from mivrat.core.selecting.kept import from_data
from mivrat.core.selecting.selection import OtherAnswers, OutcomeOfBoth
from mivrat.core.study.reviews import Cause, Review, Reviews

CLASSES = ["birch", "alder", "hazel", "pine"]


def run(
    labels: np.ndarray,
    predicted: np.ndarray,
    classes: int = 4,
    units: Units | None = None,
    answered: np.ndarray | None = None,
) -> EvaluatedRun:
    """A run with these predictions, each with confidence 0.7."""
    answers = Answers(len(labels), classes, "probabilities", classes)
    answers.rows[:] = 0.3 / (classes - 1)
    answers.rows[np.arange(len(labels)), predicted] = 0.7
    answers.state[:] = 1 if answered is None else answered
    return judge(answers, [None if k < 0 else int(k) for k in labels], units)


def items(*paths: str) -> list[ImageItem]:
    return [ImageItem(path, None) for path in paths]


def test_images_are_matched_by_content_wherever_they_lie() -> None:
    here = items("a.png", "copy of a.png", "b.png", "c.png", "never read.png")
    there = items("b.png", "x/c.png", "copy of a.png", "a.png", "never read.png")
    found = match_contents(here, {0: b"A", 1: b"A", 2: b"B", 3: b"C"}, there, {0: b"other", 1: b"C", 2: b"A", 3: b"A"})
    # b.png holds another picture there; the two copies go by their paths; what nobody has read is matched with nothing
    assert found.tolist() == [3, 2, -1, 1, -1]
    assert match_contents(here, {0: b"A", 1: b"A"}, there, {2: b"A"}).tolist() == [-1, 2, -1, -1, -1]


def test_classes_are_matched_by_name_in_any_order() -> None:
    both, places = match_classes(CLASSES, ["Pine", "yew", "birch"])
    assert both == [*CLASSES, "yew"]
    assert places.tolist() == [3, 4, 0]


def test_another_order_of_classes_changes_no_figure() -> None:
    rng = np.random.default_rng(1)
    labels, said = rng.integers(0, 4, 60), rng.integers(0, 4, 60)
    a = run(labels, rng.integers(0, 4, 60))
    plain = align(a, run(labels, said), np.arange(60))
    order = np.array([2, 0, 3, 1])  # the other list: hazel, birch, pine, alder
    place = np.argsort(order)
    turned = align(a, run(place[labels], place[said]), np.arange(60), order)
    for name in ("predicted", "confidence", "own", "squares", "codes"):
        assert np.array_equal(getattr(plain, name), getattr(turned, name), equal_nan=True), name
    # labels of the other run are of no account: an image it labels otherwise is judged by the label here
    relabelled = align(a, run(np.roll(labels, 1), said), np.arange(60))
    assert np.allclose(relabelled.own, plain.own)
    assert np.array_equal(relabelled.rank, plain.rank)


def test_classes_that_only_one_list_has_are_left_out_and_counted() -> None:
    labels = np.array([0, 0, 1, 1, 2, 3])
    a = run(labels, labels)
    both, places = match_classes(CLASSES, ["alder", "birch", "yew"])
    know = np.array([True, True, False, False, False])
    b = run(np.array([1, 1, 0, 0, -1, -1]), np.array([1, 2, 0, 0, 0, 2]), 3)
    found = OnSameImages(Names("a", "b"), both, align(a, b, np.arange(6), places), both_know=know).compare()
    assert found.paired is not None
    assert (found.shared.both, found.shared.other_class, found.known) == (4, 2, 2)
    assert found.paired.four.broken == 1  # birch called yew, which a does not know
    assert found.paired.matrix_b[0, 4] == 1


def test_outcomes_of_images_and_those_of_one_side_only() -> None:
    labels = np.array([0, 0, 0, 0, 0, -1, 0])
    a = run(labels, np.array([0, 1, 0, 1, 1, 1, 0]), answered=np.array([1, 1, 1, 1, 1, 1, 0]))
    other = align(a, run(labels, np.array([0, 0, 1, 1, 2, 1, 0])), np.arange(7))
    states = ("both right", "fixed", "broken", "both wrong", SAME_WRONG, ONE_ONLY)
    assert {state: np.flatnonzero(other.mask(state)).tolist() for state in states} == {
        "both right": [0],
        "fixed": [1],
        "broken": [2],
        "both wrong": [3, 4],
        SAME_WRONG: [3],
        ONE_ONLY: [6],
    }
    assert other.gain[:3] == pytest.approx([0, 0.6, -0.6], abs=1e-6)
    found = OnSameImages(Names("a", "b"), CLASSES, other, only_b=2).compare()
    assert (found.shared.both, found.shared.only_a, found.shared.only_b) == (5, 0, 3)
    some = OnSameImages(Names("a", "b"), CLASSES, other).compare(np.arange(7) < 2)
    assert some.paired is not None
    assert (some.paired.total, some.paired.top1.value) == (2, 0.5)


def told(
    right_a: list[int], right_b: list[int], sizes: list[int], margin: float = 0.01
) -> tuple[Comparison, list[str], list[bool]]:
    """What is claimed of two runs of so many right by class; b's right ones among a's as far as can be."""
    labels = np.repeat(np.arange(len(sizes)), sizes)
    sides = []
    for right in (right_a, right_b):
        hit = np.concatenate([np.arange(size) < r for size, r in zip(sizes, right, strict=True)])
        sides.append(run(labels, np.where(hit, labels, (labels + 1) % len(sizes)), len(sizes)))
    found = OnSameImages(
        Names("net 1", "net 2"), CLASSES[: len(sizes)], align(*sides, np.arange(len(labels)))
    ).compare()
    made = claims(found, margin)
    return found, [one.text for one in made], [one.holds for one in made]


def test_nothing_is_claimed_of_two_equal_runs() -> None:
    found, text, holds = told([40, 40, 40], [40, 40, 40], [50, 50, 50])
    assert text[0].endswith("exactly the same probabilities. On these images they are the same model.")
    assert text[1].startswith("No significant difference on the same 150 images: net 2 may be up to ")
    assert "no image is answered differently" in text[1]
    assert text[2] == "No class is significantly better or worse."
    assert (holds[0], any(holds[1:])) == (True, False)
    assert standing_of(found, 0.05) == "met"
    # with very many images the same says that they are alike
    _, text, holds = told([20_000, 20_000], [20_000, 20_000], [25_000, 25_000])
    assert text[1].startswith("net 2 and net 1 are alike to within 1.0 point on the same 50\u202f000 images")
    assert text[-1] == "A loss of more than 1.0 point of recall can be ruled out in every class."
    assert holds[1]


def test_a_difference_too_small_to_tell_is_not_claimed() -> None:
    found, text, holds = told([30, 30], [32, 33], [50, 50])
    assert found.either.top1.p == pytest.approx(0.0625)
    assert text[0].startswith("No significant difference")
    assert "5 of 100 images are answered differently" in text[0]
    assert not holds[0]
    assert standing_of(found, 0.01) in ("met", "inconclusive")


def test_one_class_worse_while_the_whole_is_better() -> None:
    found, text, holds = told([20, 60, 90], [90, 80, 60], [100, 100, 100])
    assert text[0].startswith("net 2 is better than net 1 by 20.0 points (")
    assert text[1] == "By recall birch and alder are significantly better, but hazel is significantly worse."
    assert text[2] == "60 fewer wrong answers in all; birch and alder confused with each other: 70 fewer."
    assert holds[:2] == [True, True]
    assert better_classes(found) == [0, 1]
    assert worse_classes(found) == [2]
    assert "cannot be ruled out" not in " ".join(text)


def test_worse_as_a_whole_and_what_cannot_be_ruled_out() -> None:
    found, text, _ = told([90, 9], [50, 9], [100, 10])
    assert text[0].startswith("net 2 is worse than net 1 by 36.4 points")
    assert text[1] == "By recall birch is significantly worse; no class is significantly better."
    assert text[-1].startswith("With 10 images of alder a loss of up to ")
    assert standing_of(found, 0.01) == "missed"


def test_nothing_to_compare_and_too_few_units() -> None:
    labels = np.array([0, 1, 0, 1])
    silent = run(labels, labels, answered=np.zeros(4, np.int8))
    nothing = OnSameImages(Names("a", "b"), CLASSES, align(run(labels, labels), silent, np.arange(4))).compare()
    assert claims(nothing)[0].text == "No labelled image has an answer of both: there is nothing to compare."
    units = Units("slide", np.array([0, 0, 1, 1]), 2)
    few = OnSameImages(
        Names("a", "b"), CLASSES, align(run(labels, labels, units=units), run(labels, labels), np.arange(4))
    )
    assert "too few units" in claims(few.compare())[1].text
    assert not_worse(Difference(0.9, 0.9, 0.0), 0.01) == "inconclusive"
    assert not_worse(Difference(0.9, 0.9, 0.0, -0.02, 0.02), 0.01) == "inconclusive"


def test_two_sets_say_where_the_drop_comes_from() -> None:
    rng = np.random.default_rng(5)
    labels = rng.integers(0, 4, 400)
    a, mixed = run(labels, labels), labels.copy()
    mixed[(labels == 1) & (rng.random(400) < 0.6)] = 2
    mixed[(labels == 2) & (rng.random(400) < 0.3)] = 1
    found = OnTwoSets(Names("spring", "summer"), CLASSES, a, run(labels, mixed), in_both=3).compare()
    text = [one.text for one in claims(found)]
    assert text[0].startswith("On summer accuracy is lower by ")
    assert "of these are alder and hazel confused with each other" in text[1]
    assert any(one.startswith("3 images are in both sets") for one in text)
    assert found.sets is not None
    first, second, part = largest_mix_up(found.sets.drop) or (0, 0, 0.0)
    assert (first, second) == (1, 2)
    assert part == pytest.approx(found.sets.drop.within)
    unlabelled = OnTwoSets(Names("a", "b"), CLASSES, a, run(np.full(400, -1), labels)).compare()
    assert "only estimates" in claims(unlabelled)[0].text


def test_groups_and_causes() -> None:
    labels = np.zeros(40, np.int64)
    a = run(labels, np.repeat([0, 1], 20))
    other = align(a, run(labels, np.repeat([0, 1, 0, 1], 10)), np.arange(40))
    names = ["coast"] * 25 + ["hill"] * 15
    found = {one.name: one for one in by_group(names, other)}
    assert (found["coast"].total, found["coast"].fixed, found["coast"].broken) == (25, 5, 10)
    assert found["hill"].top1.value == pytest.approx(5 / 15)
    dot = Reviews((Cause(1, "ink dot"), Cause(2, "never used")), {i: Review(frozenset({1})) for i in range(18, 30)})
    (cause,) = by_cause(dot, other)
    assert (cause.name, cause.total, cause.fixed, cause.wrong_before) == ("ink dot", 12, 10, 10)


def test_a_selection_saved_by_an_earlier_version_is_read() -> None:
    """It called an image *mended* that is called *fixed* now."""
    a = run(np.array([0, 0]), np.array([1, 0]))
    held = OtherAnswers(align(a, run(np.array([0, 0]), np.array([0, 0])), np.arange(2)))
    names = ImageNames(items("a", "b"), {})
    read = from_data(
        {"kind": "against", "which": ["mended", "broken"]}, CLASSES, items("a", "b"), names, Reviews(), held
    )
    assert read == OutcomeOfBoth(frozenset({"fixed", "broken"}), held)
    assert read.mask(a).tolist() == [True, False]
