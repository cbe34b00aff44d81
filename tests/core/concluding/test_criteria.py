"""Criteria: what they may name, when they are met, missed or open, and what it would take."""

from __future__ import annotations

import json
from collections.abc import Callable

import pytest
from hypothesis import given
from hypothesis import strategies as st

from mivrat.core.base.errors import InputError
from mivrat.core.base.text import count
from mivrat.core.concluding.criteria import criteria_of, outcome_of
from mivrat.core.concluding.evaluation_context import reference_of
from mivrat.core.concluding.requirements import parse_criterion, parse_requirement, with_reference
from mivrat.core.figures.intervals import wilson
from mivrat.core.figures.sample_size import to_decide
from mivrat.core.running.set_valued import PredictionSets, SetPlan, own_sets
from mivrat.core.selecting.measures import Measures
from tests.support.grounds import CLASSES, ground

# 100 birch (90 right), 40 ragweed (20 right), 10 hazel (all right); every second image is from the roof.
LABELS = [0] * 100 + [1] * 40 + [2] * 10
SAID = [0] * 90 + [1] * 10 + [1] * 20 + [0] * 20 + [2] * 10
PLACE = ["roof" if i % 2 else "field" for i in range(150)]
FAMILIES = {0: "trees", 2: "trees", 1: "herbs"}
RUN = ground(LABELS, SAID, columns={"place": PLACE, "a = b": PLACE}, families=FAMILIES)


@pytest.mark.parametrize(
    ("text", "hits", "total"),
    [
        ("top1 >= 0.5", 120, 150),
        ('recall["ragweed"] >= 0.8', 20, 40),
        ('precision["birch"] >= 0.8', 90, 110),
        ('recall[family = "trees"] >= 0.8', 100, 110),
        ('precision[family = "trees"] >= 0.8', 100, 120),
        ('recall[family = "herbs", place = "roof"] >= 0.8', 10, 20),
        ('top1[place = "roof"] >= 0.8', 60, 75),
        ("top1['a = b' = 'roof'] >= 0.8", 60, 75),
        ('recall["birch", place = "field"] >= 0.8', 45, 50),
        ("family_accuracy >= 0.8", 120, 150),
    ],
)
def test_figures_of_classes_families_and_groups(text: str, hits: int, total: int) -> None:
    found = outcome_of(text, RUN)
    assert not found.problem
    assert found.value == pytest.approx(hits / total)
    assert found.images == total
    low, high = wilson(hits / total, total)
    assert (found.low, found.high) == pytest.approx((low, high))
    limit = float(text.rpartition(">=")[2])
    assert found.verdict == ("met" if low >= limit else "missed" if high < limit else "inconclusive")
    assert found.holds == (hits / total >= limit)


def test_met_missed_and_cannot_tell_with_what_it_takes() -> None:
    texts = ["top1 >= 0.7", 'recall["ragweed"] >= 0.8', 'recall["hazel"] >= 0.9', "top1 >= 0.8", "top1 >= 0.78"]
    texts += ['low(recall["birch"]) >= 0.8', 'support["hazel"] >= 30', "mce <= 0.9", "ece <= 0.2"]
    found = criteria_of(texts, RUN)
    assert [one.outcome.verdict for one in found] == [
        "met",
        "missed",
        *["inconclusive"] * 3,
        "met",
        "missed",
        "inconclusive",
        "met",
    ]
    assert [bool(one.more) for one in found[:2]] == [False, False]
    wanted = to_decide(1.0, 0.9)
    assert wanted is not None
    assert (
        found[2].more
        == f"{wanted - 10} more images labelled hazel would be enough, with a chance of 80 %, if it stays at this figure. Decide once, at that number: looking again as they come in makes false verdicts more frequent."
    )
    assert found[3].more.startswith("It stands just on the limit")
    wanted = to_decide(0.8, 0.78)
    assert wanted is not None
    assert found[4].more.startswith(f"{count(wanted - 150)} more images mixed as these are")
    assert found[7].more.startswith("This figure has no interval")


@pytest.mark.parametrize(
    ("text", "told"),
    [
        ('recall[family = "shrubs"] >= 0.8', "do not include 'shrubs'"),
        ('top1[place = "cellar"] >= 0.8', "no image has place = 'cellar'"),
        ('top1[station = "x"] >= 0.8', "no column 'station'"),
        ('recall["oak"] >= 0.8', "not a class"),
        ("top9 >= 0.8", "only 3 classes"),
    ],
)
def test_what_cannot_be_asked_says_why_and_is_neither_met_nor_missed(text: str, told: str) -> None:
    found = outcome_of(text, RUN)
    assert told in found.problem
    assert (found.verdict, found.holds, found.value) == ("inconclusive", False, None)


def test_a_difference_names_its_model_by_content_not_by_name() -> None:
    better = [1 if a == 1 else b for a, b in zip(LABELS, SAID, strict=True)]
    new, old = ground(LABELS, better, model="two"), RUN
    namesake = ground(LABELS, LABELS, model="another")
    reference = reference_of(old.snapshot.record)
    text = with_reference("low(difference(top1)) >= 0.05", reference)
    assert with_reference(text, "other#0123456789abcdef") == text
    asked: list[str] = []

    def other(wanted: str) -> object:
        asked.append(wanted)
        return next((one.snapshot for one in (old, namesake) if one.is_model(wanted)), None)

    new.other = other  # type: ignore[assignment]
    found = outcome_of(text, new)
    assert found.verdict == "met"
    assert outcome_of(with_reference("difference(top1) >= 0", reference), new).value == pytest.approx(20 / 150)
    assert asked[0] == reference
    assert "this very model" in outcome_of(text, old).problem
    gone = with_reference("difference(top1) >= 0", "grain-net#00000000000000ff")
    assert "has no run on these images" in outcome_of(gone, new).problem
    with pytest.raises(InputError, match="does not say which model"):
        parse_criterion("difference(top1) >= 0", CLASSES)
    with pytest.raises(InputError, match="only one run"):
        parse_requirement("difference(top1) >= 0", CLASSES)


@given(st.text(min_size=1, max_size=12), st.text(min_size=1, max_size=12))
def test_any_name_of_a_group_and_a_model_can_be_written(column: str, value: str) -> None:
    quoted = f"top1[{json.dumps(column)} = {json.dumps(value, ensure_ascii=False)}] >= 0.5"
    assert parse_criterion(quoted, CLASSES).groups == ((column, value),)
    text = with_reference("difference(macro_f1) >= -0.01", f"{value}#0123456789abcdef")
    assert parse_criterion(text, CLASSES).against_model == f"{value}#0123456789abcdef"


def test_a_class_without_a_single_image_meets_nothing_over_classes() -> None:
    labels, answers = [0] * 60 + [1] * 40, [0] * 58 + [1] * 42
    there = ground(labels, answers)
    for text in ("low(balanced_accuracy) >= 0.9", "balanced_accuracy >= 0.5", "macro_f1 >= 0.5", "macro_recall >= 0.5"):
        (found,) = criteria_of([text], there)
        assert (found.outcome.verdict, found.outcome.holds) == ("inconclusive", False)
        assert "no labelled image" in found.outcome.problem
    assert criteria_of(["top1 >= 0.9", "cohen_kappa >= 0.5"], there)[0].outcome.verdict == "met"
    assert there.intervals is not None
    assert "balanced_accuracy" not in there.intervals.of
    assert "no labelled image" in there.intervals.missing["balanced_accuracy"]


SIZES = [f"{i}" if i % 10 else "" for i in range(150)]
SIZED = ground(LABELS, SAID, columns={"size": SIZES, "place": PLACE})
SIZED.measured = lambda: Measures(SIZED.snapshot.record.image_set.items)


@pytest.mark.parametrize(
    ("inside", "holds"),
    [
        ("size <= 100", lambda i: i <= 100),
        ("size > 100", lambda i: i > 100),
        ("size > 80, size <= 120", lambda i: 80 < i <= 120),
        ('"size" > 80, place = "roof"', lambda i: i > 80 and i % 2),
    ],
)
def test_a_criterion_of_a_range_of_numbers(inside: str, holds: Callable[[int], bool]) -> None:
    use = [i for i in range(150) if i % 10 and holds(i)]
    hits = sum(LABELS[i] == SAID[i] for i in use)
    found = outcome_of(f"top1[{inside}] >= 0.8", SIZED)
    assert (found.value, found.images) == (pytest.approx(hits / len(use)), len(use))
    of_class = [i for i in use if LABELS[i] == 1]
    if of_class:
        found = outcome_of(f'recall["ragweed", {inside}] >= 0.8', SIZED)
        assert found.value == pytest.approx(sum(SAID[i] == 1 for i in of_class) / len(of_class))


def test_ranges_that_cannot_be_asked_for() -> None:
    assert outcome_of("top1[sharpness <= 5] >= 0.8", SIZED).problem == "sharpness was not measured in these photos"
    assert (
        outcome_of("top1[colour <= 5] >= 0.8", SIZED).problem == "nothing called 'colour' is a number of these images"
    )
    for text in ("top1[size <= 5, size > 5] >= 0.8", "top1[size = 5] >= 0.8", "top1[size >= 5] >= 0.8"):
        with pytest.raises(InputError):
            parse_requirement(text, CLASSES)
    # A difference is of all images: groups and ranges are refused, not left out.
    for inside in ('place = "roof"', "size <= 5"):
        with pytest.raises(InputError, match="a difference is of all images"):
            parse_criterion(f'difference(top1[{inside}], "net#0123456789abcdef") >= 0', CLASSES)


def test_coverage_is_that_of_sets_whose_threshold_other_images_gave() -> None:
    found = outcome_of("coverage(0.9) >= 0.5", RUN)
    record, judged = RUN.snapshot.record, RUN.snapshot.judged
    (whole,) = [one for one in own_sets(record, judged, SetPlan(0.9)) if isinstance(one, PredictionSets)]
    assert (found.value, found.images, found.verdict) == (whole.coverage.value, 150, "met")
    assert (found.low, found.high) == (whole.coverage.low, whole.coverage.high)
    assert outcome_of("low(coverage(0.9)) >= 0.999", RUN).verdict == "missed"
    few = ground([0, 1, 2], [0, 1, 2])
    assert "at least 20 labelled images" in outcome_of("coverage(0.9) >= 0.5", few).problem
    for text in (
        "coverage(1) >= 0.5",
        "coverage(x) >= 0.5",
        "coverage >= 0.5",
        "coverage() >= 1",
        "every(coverage(0.9)) >= 1",
    ):
        with pytest.raises(InputError):
            parse_requirement(text, CLASSES)
