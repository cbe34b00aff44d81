"""Result files: whole or not at all, undefined as null, no formula for a spreadsheet to run; requirements by loops."""

from __future__ import annotations

import json
import operator
import os
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from mivrat.core.answers.answers import FAILED, SCORED, UNREADABLE, Answers
from mivrat.core.answers.judged import EvaluatedRun
from mivrat.core.answers.judging import judge
from mivrat.core.answers.scoring import ScoredBatch
from mivrat.core.base.errors import InputError
from mivrat.core.base.files import sha256_of, write_whole, write_whole_with
from mivrat.core.base.text import safe_cell
from mivrat.core.concluding.requirements import parse_requirement
from mivrat.core.figures.outcomes import outcomes
from mivrat.core.figures.ranked import auroc_ends, average_precision_ends, one_versus_rest
from mivrat.core.figures.summary import Figures, summarise
from mivrat.core.figures.uncertainty import Interval, Intervals
from mivrat.core.pictures.image_sets import ImageItem, ImageSet
from mivrat.core.reporting.results import RunResults, metrics, write_results

NO_SET = ImageSet("", Path(), [])
CLASSES = ["birch", 'odd "name", with, commas', "=hazel"]


def figures(labels: list[int], scores: list[list[float]]) -> Figures:
    array = np.array(scores, float).reshape(-1, 3)
    p = np.exp(array) / np.exp(array).sum(axis=1, keepdims=True)
    found = outcomes(array, p, np.array(labels, int))
    return summarise(found, 3, [1, 2], one_versus_rest(p.T, found.labels))


@given(st.text(max_size=12))
def test_no_cell_begins_like_a_formula(text: str) -> None:
    cell = safe_cell(text)
    assert not cell.startswith(("=", "+", "-", "@", "\t", "\r", "\n"))
    assert cell.removeprefix("'") == text.removeprefix("'") or cell == text


def test_undefined_is_null_and_everything_is_json(tmp_path: Path) -> None:
    found = metrics(RunResults(judged([]), NO_SET, CLASSES, figures([], [])))
    assert found["top_k"]["1"] == {"value": None, "low": None, "high": None}
    assert found["macro_f1"] is found["log_loss"] is found["calibration"]["ece"] is None
    one = metrics(RunResults(judged([SCORED]), NO_SET, CLASSES, figures([0], [[2, 1, 0]])))
    assert one["classes"][1]["recall"] == {"value": None, "low": None, "high": None}
    assert one["classes"][1]["precision"]["value"] is None
    assert one["classes"][1]["auroc"] is None
    assert one["mcc"] is None
    json.dumps([found, one], allow_nan=False)


def test_a_requirement_on_an_areas_interval_and_none_over_units() -> None:
    rng = np.random.default_rng(2)
    labels = rng.integers(0, 3, 90)
    found = figures(labels.tolist(), (rng.normal(size=(90, 3)) + 1.5 * np.eye(3)[labels]).tolist())
    number = int((labels == 0).sum())
    ends = {
        "auroc": auroc_ends(found.auroc[0], found.spread[0], number, 90 - number),
        "average_precision": average_precision_ends(found.average_precision[0], number, 90 - number),
    }
    for name, (low, high) in ends.items():  # type: ignore[misc]
        for limit, verdict in ((low - 0.01, "met"), ((low + high) / 2, "inconclusive"), (high + 0.01, "missed")):
            one = parse_requirement(f'{name}["birch"] >= {limit}', CLASSES).against(found)
            assert (one.low, one.high, one.verdict) == (low, high, verdict)
        assert parse_requirement(f'low({name}["birch"]) >= 0', CLASSES).against(found).value == low
        over = [replace(c, recall=replace(c.recall, units=8)) for c in found.classes]
        one = parse_requirement(f'{name}["birch"] >= 0.1', CLASSES).against(replace(found, classes=over))
        assert (one.low, one.verdict) == (None, "inconclusive")


def judged(states: list[int]) -> EvaluatedRun:
    answers = Answers(len(states), 3, "logits")
    scored = np.flatnonzero(np.isin(states, [SCORED, FAILED]))
    rows = np.array([[3.0, 1.0, 0.0] if states[i] == SCORED else [np.nan, 0, 0] for i in scored], np.float32).reshape(
        -1, 3
    )
    answers.add(ScoredBatch(scored, rows, {i: "broken" for i, s in enumerate(states) if s == UNREADABLE}))
    return judge(answers, [None if i == 3 else i % 3 for i in range(len(states))])


def test_failed_and_unreadable_images_are_listed_apart(tmp_path: Path) -> None:
    found = judged([SCORED, FAILED, UNREADABLE, SCORED, SCORED])
    items = [ImageItem(f"{i}.png", None) for i in range(5)]
    images = ImageSet("set", tmp_path, items)
    write_results(tmp_path, RunResults(found, images, CLASSES, found.figures([1]), {2: "=broken"}))
    lines = (tmp_path / "predictions.csv").read_text().splitlines()
    assert lines[0] == 'path,label,predicted,confidence,rank,p:birch,"p:odd ""name"", with, commas",p:=hazel'
    assert [line.split(",")[0] for line in lines[1:]] == ["0.png", "1.png", "3.png", "4.png"]
    assert lines[2].endswith(",,,,,,")
    assert (tmp_path / "not_evaluated.csv").read_text().splitlines() == [
        "path,reason",
        "2.png,'=broken",
        "1.png,the scores hold NaN or infinity",
    ]
    counts = json.loads((tmp_path / "metrics.json").read_text())["counts"]
    assert counts == {"listed": 5, "evaluated": 2, "unreadable": 1, "unlabelled": 1, "failed": 1, "ties": 0}
    clean = judged([SCORED])
    write_results(tmp_path, RunResults(clean, ImageSet("set", tmp_path, items[:1]), CLASSES))
    assert sorted(p.name for p in tmp_path.iterdir()) == ["mistakes.csv", "predictions.csv"]


def test_files_are_written_whole_or_not_at_all(tmp_path: Path) -> None:
    target = tmp_path / "new folder" / "a.txt"
    write_whole(target, "ü")
    assert target.read_bytes() == "ü".encode()
    assert len(sha256_of(target)) == 64
    umask = os.umask(0)
    os.umask(umask)
    assert target.stat().st_mode & 0o777 == 0o666 & ~umask

    def fails(part: Path) -> None:
        part.write_text("half")
        raise OSError(28, "No space left on device")

    with pytest.raises(InputError, match="No space left"):
        write_whole_with(target, fails)
    assert target.read_text() == "ü"
    assert [p.name for p in target.parent.iterdir()] == ["a.txt"]
    with pytest.raises(InputError, match="cannot be written"):
        write_whole(target / "below a file", "x")


@given(
    st.sampled_from(
        [
            "top1",
            "top2",
            "macro_f1",
            "ece",
            "log_loss",
            'recall["birch"]',
            "f1['birch']",
            "low(top1)",
            "high(precision['birch'])",
        ]
    ),
    st.sampled_from([">=", "<=", ">", "<", "=="]),
    st.floats(-2, 2).map(lambda x: round(x, 3)),
)
def test_requirements_compare_the_figure_they_name(name: str, op: str, limit: float) -> None:
    found = figures([0, 0, 1, 2], [[3, 1, 0], [0, 2, 1], [0, 2, 1], [0, 2, 1]])
    values = {
        "top1": 0.5,
        "top2": found.top_k[2].value,
        "macro_f1": found.averages["macro_f1"],
        "ece": found.calibration.ece,
        "log_loss": found.log_loss.value if found.log_loss else None,
        'recall["birch"]': 0.5,
        "f1['birch']": 2 / 3,
        "low(top1)": found.top_k[1].low,
        "high(precision['birch'])": found.classes[0].precision.high,
    }
    compare = {">=": operator.ge, "<=": operator.le, ">": operator.gt, "<": operator.lt, "==": operator.eq}[op]
    outcome = parse_requirement(f" {name}{op} {limit}", CLASSES).against(found)
    assert outcome.value == pytest.approx(values[name])
    assert outcome.holds == compare(outcome.value, limit)


def test_an_undefined_figure_holds_nothing() -> None:
    found = figures([0], [[3, 1, 0]])
    for text in ('recall["=hazel"] >= 0', 'recall["=hazel"] <= 1', "mcc >= -1"):
        outcome = parse_requirement(text, CLASSES).against(found)
        assert not outcome.holds
        assert "undefined" in outcome.sentence()


@pytest.mark.parametrize(
    ("text", "hits", "verdict"),
    [
        ("top1 >= 0.5", 90, "met"),
        ("top1 >= 0.92", 90, "inconclusive"),
        ("top1 >= 0.99", 90, "missed"),
        ("top1 <= 0.5", 90, "missed"),
        ("low(top1) >= 0.8", 90, "met"),
        ("low(top1) >= 0.9", 90, "missed"),
        ("high(top1) <= 0.96", 90, "met"),
        ("evaluated >= 100", 90, "met"),
        ('support["birch"] > 100', 90, "missed"),
        ("macro_f1 >= 0.1", 90, "inconclusive"),
    ],
)
def test_a_criterion_passes_fails_or_cannot_be_told(text: str, hits: int, verdict: str) -> None:
    """90 of 100 right: Wilson's interval is 0.826 to 0.945."""
    rows = [[3.0, 1.0, 0.0]] * hits + [[1.0, 3.0, 0.0]] * (100 - hits)
    found = parse_requirement(text, CLASSES).against(figures([0] * 100, rows))
    assert found.verdict == verdict
    if verdict != "inconclusive":
        assert found.holds == (verdict == "met")


def test_bootstrap_intervals_decide_where_there_are_any() -> None:
    found = figures([0, 0, 1, 2] * 10, [[3, 1, 0], [0, 2, 1], [0, 2, 1], [0, 2, 1]] * 10)
    known = Intervals({"macro_f1": Interval(0.2, 0.4)}, 2000, "", 40)
    for text, verdict in (
        ("macro_f1 >= 0.1", "met"),
        ("macro_f1 >= 0.3", "inconclusive"),
        ("macro_f1 >= 0.5", "missed"),
        ("low(macro_f1) >= 0.15", "met"),
        ("high(macro_f1) < 0.3", "missed"),
    ):
        assert parse_requirement(text, CLASSES).against(found, known).verdict == verdict
    assert parse_requirement("low(ece) >= 0", CLASSES).against(found, known).value is None
