"""Criteria in plain words: told so that a reader need not know formulas, read back as what was meant, and asked of every class."""

from __future__ import annotations

from math import inf

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from mivrat.core.base.errors import InputError
from mivrat.core.concluding.criteria import criteria_of, outcome_of
from mivrat.core.concluding.criterion_words import criterion_of, figure_in_words, in_plain_words, read_criterion
from mivrat.core.concluding.requirements import parse_criterion
from mivrat.core.figures.intervals import lowest_of, proportion
from mivrat.core.selecting.measures import Measures
from mivrat.core.selecting.ranges import InRange
from mivrat.core.selecting.selection import InGroup, Labelled, Predicted
from tests.support.grounds import ground

NAMES = ["ragweed", "oak of 7", "class 7", "Recall of 9 %"]


@pytest.mark.parametrize(
    ("typed", "formula", "told"),
    [
        ("95 % of all", "top1 >= 0.95", "Top-1 accuracy at least 95 %"),
        ("at least 95% right", "top1 >= 0.95", "Top-1 accuracy at least 95 %"),
        ("recall of ragweed 90 %", 'recall["ragweed"] >= 0.9', "Recall of ragweed at least 90 %"),
        ("Ragweed recall ≥ 90", 'recall["ragweed"] >= 0.9', "Recall of ragweed at least 90 %"),
        ("recall of oak of 7 above 0.8", 'recall["oak of 7"] > 0.8', "Recall of oak of 7 above 80 %"),
        ("precision of class 7 80 percent", 'precision["class 7"] >= 0.8', "Precision of class 7 at least 80 %"),
        ("recall of Recall of 9 % 70 %", 'recall["Recall of 9 %"] >= 0.7', "Recall of Recall of 9 % at least 70 %"),
        ("every class at least 82.5 %", "every(recall) >= 0.825", "Recall of every class at least 82.5 %"),
        ("precision of every class 70%", "every(precision) >= 0.7", "Precision of every class at least 70 %"),
        ("top-3 accuracy 99,5 %", "top3 >= 0.995", "Top-3 accuracy at least 99.5 %"),
        ("ECE 5 %", "ece <= 0.05", "Expected calibration error at most 5 %"),
        ("log loss at most 1.2", "log_loss <= 1.2", "Log loss at most 1.2"),
        (
            "number of images of ragweed at least 2000",
            'support["ragweed"] >= 2000',
            "Number of images of ragweed at least 2\u202f000",
        ),
        ('low(recall["ragweed"]) >= 0.8', None, "Recall of ragweed, lower end of its interval, at least 80 %"),
        ('recall[family = "trees"] >= 0.8', None, "Recall of the family trees at least 80 %"),
        (
            "coverage of 90 % at least 85 %",
            "coverage(0.9) >= 0.85",
            "Coverage of prediction sets of 90 % at least 85 %",
        ),
        (
            "Coverage of prediction sets of 99.5 % at least 99 %",
            "coverage(0.995) >= 0.99",
            "Coverage of prediction sets of 99.5 % at least 99 %",
        ),
        (
            'recall["ragweed", station = "north", "mean size" > 2, "mean size" <= 10.5] >= 0.8',
            None,
            "Recall of ragweed where station is north and mean size is above 2 up to 10.5 at least 80 %",
        ),
        ('top1[station = "north"] >= 0.8', None, "Top-1 accuracy where station is north at least 80 %"),
        (
            'low(difference(top1, "net#0123456789abcdef")) >= -0.01',
            None,
            "Difference in top-1 accuracy to net, lower end of its interval, at least −1 point",
        ),
    ],
)
def test_what_is_typed_is_read_and_told(typed: str, formula: str | None, told: str) -> None:
    read = read_criterion(typed, NAMES)
    assert read == (formula or typed)
    assert in_plain_words(parse_criterion(read, NAMES), NAMES).replace("\u00a0", "\u202f") == told


@given(st.sampled_from(NAMES), st.integers(1, 1000), st.sampled_from(["recall", "precision", "f1", "specificity"]))
def test_what_is_told_is_read_as_the_same(name: str, tenths: int, figure: str) -> None:
    """A sentence of ours that somebody types again means what it meant."""
    wanted = parse_criterion(read_criterion(f"{figure} of {name} {tenths / 10:g} %", NAMES), NAMES)
    assert (wanted.figure, wanted.class_index, wanted.limit) == (
        figure,
        NAMES.index(name),
        pytest.approx(tenths / 1000),
    )
    again = parse_criterion(read_criterion(in_plain_words(wanted, NAMES), NAMES), NAMES)
    assert (again.figure, again.class_index, again.compare) == (wanted.figure, wanted.class_index, wanted.compare)
    assert again.limit == pytest.approx(wanted.limit)


@pytest.mark.parametrize(
    ("typed", "what"),
    [
        ("recall of nobody 90 %", "'nobody', which is not a class"),
        ("good enough", "is not a requirement"),
        ("every(f1) >= 0.5", "cannot be asked of every class"),
        ("low(every(recall)) >= 0.5", "cannot be asked of every class"),
        ("every(recall) <= 0.5", "cannot be asked of every class"),
    ],
)
def test_what_cannot_be_read_is_said(typed: str, what: str) -> None:
    with pytest.raises(InputError, match=what):
        read_criterion(typed, NAMES)


def test_every_class_is_met_missed_or_open() -> None:
    """100 of 100, 36 of 40 and 10 of 10: met at what the lowest lower end allows, missed only beyond what many looks explain."""
    labels, said = [0] * 100 + [1] * 40 + [2] * 10, [0] * 100 + [1] * 36 + [0] * 4 + [2] * 10
    run = ground(labels, said)
    shares = [proportion(100, 100), proportion(36, 40), proportion(10, 10)]
    found = outcome_of("every(recall) >= 0.9", run)
    assert (found.value, found.images, found.lowest) == (0.9, 40, 1)
    assert found.low == min(one.low or 0 for one in shares) == shares[2].low
    assert shares[1].high < (found.high or 0) < 1  # type: ignore[operator]
    assert found.verdict == "inconclusive"
    (told,) = criteria_of(["every(recall) >= 0.93"], run)
    assert told.more.startswith("About ")
    assert "labelled ragweed" in told.more
    assert outcome_of("every(recall) >= 0.7", run).verdict == "met"
    assert outcome_of("every(recall) >= 0.995", run).verdict == "missed"
    words = figure_in_words(parse_criterion(found.text, run.classes), found, run.classes)
    assert words.startswith("90.0 % (")
    assert "N = 40 (ragweed, the lowest)" in words
    none = outcome_of("every(recall) >= 0.1", ground(labels, said, classes=["birch", "ragweed", "hazel", "never"]))
    assert (none.verdict, none.value) == ("inconclusive", None)
    assert "no labelled image" in none.problem
    never = outcome_of("every(precision) >= 0.1", ground([0, 1] * 30, [0] * 60, classes=["birch", "ragweed"]))
    assert "never predicted" in never.problem


@pytest.mark.parametrize("classes", [2, 20, pytest.param(200, marks=pytest.mark.slow)])
def test_every_class_is_called_missed_or_met_wrongly_once_in_forty_at_most(classes: int) -> None:
    """All classes just at the limit: *missed* would be wrong. One class just below it: *met* would be wrong."""
    rng, limit, size, draws = np.random.default_rng(classes), 0.8, 60, 1500
    at_limit = rng.binomial(size, limit, (draws, classes))
    one_below = rng.binomial(size, np.r_[limit - 1e-9, np.full(classes - 1, 0.995)], (draws, classes))
    known = [proportion(hits, size) for hits in range(size + 1)]

    def rate(hits: np.ndarray, met: bool) -> float:
        ends = [lowest_of([known[k] for k in line]) for line in hits]
        return float(np.mean([(low or 0) >= limit if met else (high or 1) < limit for _, low, high in ends]))

    assert rate(at_limit, met=False) <= 0.04
    assert rate(one_below, met=True) <= 0.04


def test_a_weak_spot_is_written_as_a_criterion_of_its_images() -> None:
    measures = Measures()
    of_range = InRange("sharpness", frozenset({(-inf, 5.25)}), measures)
    between = InRange('mean "size"', frozenset({(0.1, 0.30000000000000004)}), measures)
    north = InGroup("station", frozenset({("north", (1, 2))}))
    for conditions, text in (
        ((of_range,), 'top1["sharpness" <= 5.25] >= 0.8'),
        (
            (Labelled(frozenset({NAMES.index("ragweed")})), between),
            'recall["ragweed", "mean \\"size\\"" > 0.1, "mean \\"size\\"" <= 0.30000000000000004] >= 0.8',
        ),
        ((north, Predicted(frozenset({NAMES.index("ragweed")}))), 'precision["ragweed", "station" = "north"] >= 0.8'),
        ((Labelled(frozenset({0, 1})),), None),
        ((InRange("x", frozenset({(0.0, 1.0), (2.0, 3.0)}), measures),), None),
        ((Labelled(frozenset({1})), Predicted(frozenset({1}))), None),
    ):
        assert criterion_of(conditions, NAMES, 0.8) == text
        if text is not None:
            again = parse_criterion(text, NAMES)
            ranges = {(one.name, *ends) for one in conditions if isinstance(one, InRange) for ends in one.ranges}
            assert set(again.ranges) == ranges, "to the last bit"
            assert again.limit == 0.8
