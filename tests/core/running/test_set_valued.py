"""The prediction sets of a run: coverage out of fold, by class and group, on another set, and whatever the order of the list."""

from __future__ import annotations

import json
from collections.abc import Iterator
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest
from numpy.typing import NDArray

from mivrat import cli
from mivrat.core.answers.judged import EvaluatedRun
from mivrat.core.answers.judging import judge
from mivrat.core.base.errors import InputError
from mivrat.core.base.job import Progress
from mivrat.core.figures.prediction_sets import set_scores
from mivrat.core.running.content_folds import content_folds
from mivrat.core.running.set_valued import PredictionSets, SetPlan, coverage_by, members, own_sets, sets_at
from mivrat.core.study.records import RunRecord
from mivrat.demo.study import DATA
from tests.support.grounds import ground


def run(
    n: int, seed: int, *, lean: float = 0.0, unlabelled: int = 0, unit: bool = False
) -> tuple[RunRecord, EvaluatedRun]:
    """A run of made-up scores; ragweed is recognised worse where it leans."""
    rng = np.random.default_rng(seed)
    labels: list[int | None] = rng.integers(0, 3, n).tolist()
    z = rng.normal(0, 1, (n, 3))
    z[np.arange(n), [k or 0 for k in labels]] += 2
    z[:, 1] -= lean
    for i in range(unlabelled):
        labels[i] = None
    columns = {"site": [f"s{i % 3}" for i in range(n)], "slide": [f"slide {i // 5}" for i in range(n)]}
    made = ground(labels, [0] * n, columns=columns, unit_column="slide" if unit else "", images=f"set {seed}")
    record = made.snapshot.record
    record.answers.rows[:] = z
    return record, judge(record.answers, record.image_set.labels, made.snapshot.judged.units)


def last(events: Iterator[Progress | PredictionSets]) -> PredictionSets:
    *before, found = list(events)
    assert all(isinstance(one, Progress) for one in before)
    assert isinstance(found, PredictionSets)
    return found


@pytest.mark.parametrize("plan", [SetPlan(), SetPlan(0.8, "adaptive"), SetPlan(0.8, by_class=True)])
@pytest.mark.parametrize("unit", [False, True])
def test_every_image_is_judged_by_other_images_alone(plan: SetPlan, unit: bool) -> None:
    record, judged = run(150, 0, lean=0.5, unlabelled=10, unit=unit)
    found = last(own_sets(record, judged, plan))
    use = np.flatnonzero(judged.evaluated)
    fold = content_folds(record, judged, use, 5, "prediction sets")
    scores = set_scores(judged.probabilities(np.arange(150)), plan.kind)
    own = scores[use, judged.labels[use]]
    for at, i in enumerate(use.tolist()):
        others = fold != fold[at]
        if unit:
            slides = {record.image_set.items[j].columns["slide"] for j in use[others]}
            assert record.image_set.items[i].columns["slide"] not in slides
        size = 0
        for k in range(3):
            some = own[others & (judged.labels[use] == k)] if plan.by_class else own[others]
            place = int(np.ceil((len(some) + 1) * plan.level - 1e-9))
            inside = place > len(some) or scores[i, k] <= np.sort(some)[place - 1]
            size += inside
            if k == judged.labels[i]:
                assert found.covers[i] == inside
        assert found.sizes[i] == size
    assert (found.images, found.coverage.total) == (150, 140)
    assert found.coverage.hits == found.covers.sum()
    assert sum(images for _, images, _, _ in found.by_size()) == 150
    assert found.mean_size == pytest.approx(found.sizes.mean())
    told = members(judged, found, np.arange(10))
    assert [len(one) for one in told] == found.sizes[:10].tolist()  # without a label: at the threshold from all
    by_site = coverage_by(record, judged, found, "site")
    assert sum(one.coverage.total for one in by_site) == 140


def test_where_a_class_falls_short_and_on_another_set() -> None:
    record, judged = run(600, 1, lean=2.0)
    found = last(own_sets(record, judged, SetPlan()))
    assert [one.name for one in found.classes if one.short] == ["ragweed"]
    by_class = last(own_sets(record, judged, SetPlan(by_class=True)))
    assert not any(one.short for one in by_class.classes)
    # The same threshold where ragweed is recognised worse still.
    there = run(600, 2, lean=4.0)
    moved = last(sets_at(*there, SetPlan(), found.threshold))
    assert not moved.own
    assert moved.coverage.high is not None
    assert moved.coverage.high < 0.9
    assert found.coverage.low is not None
    assert found.coverage.low < 0.9 < (found.coverage.high or 0)


def test_the_order_of_the_list_changes_nothing() -> None:
    record, judged = run(200, 3)
    found = last(own_sets(record, judged, SetPlan()))
    order = np.random.default_rng(0).permutation(200)
    items, contents = record.image_set.items, record.answers.contents
    turned = replace(
        record,
        image_set=replace(record.image_set, items=[items[i] for i in order]),
        answers=record.answers,
    )
    rows: NDArray[np.floating] = record.answers.rows[order].copy()
    turned.answers.rows[:] = rows
    turned.answers.contents = {at: contents[i] for at, i in enumerate(order.tolist())}
    again = last(own_sets(turned, judge(turned.answers, turned.image_set.labels), SetPlan()))
    assert again.sizes.tolist() == found.sizes[order].tolist()
    assert again.covers.tolist() == found.covers[order].tolist()
    assert again.coverage == found.coverage


def test_what_cannot_be_done_says_why() -> None:
    record, judged = run(15, 4)
    with pytest.raises(InputError, match="at least 20 labelled images"):
        last(own_sets(record, judged, SetPlan()))
    with pytest.raises(InputError, match="need the score of every class"):
        last(own_sets(record, replace(judged, kind="prediction"), SetPlan()))
    many = run(100, 5)
    limit = last(own_sets(*many, SetPlan())).threshold
    with pytest.raises(InputError, match="for 2 classes, this run has 3"):
        last(sets_at(*many, SetPlan(), replace(limit, of_class=limit.of_class[:2])))


def test_the_command_shows_that_coverage_drops_in_late_summer(
    tmp_path: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    given = {
        "model": DATA / "grain-net-1.onnx",
        "recipe": DATA / "recipe.toml",
        "classes": DATA / "classes.txt",
        "images": DATA / "spring-check.csv",
        "on": DATA / "late-summer-field.csv",
        "out": tmp_path / "sets",
        "group": "station",
    }
    assert cli._code_of(["sets", *(part for name, value in given.items() for part in (f"--{name}", str(value)))]) == 0
    told = json.loads((tmp_path / "sets" / "sets.json").read_text())
    assert (told["format"], told["level"], told["score"], told["by_class"]) == ("mivrat-sets/1", 0.9, "least", False)
    assert told["coverage"]["low"] < 0.9 < told["coverage"]["high"]
    assert told["on"]["coverage"]["high"] < 0.75
    assert told["on"]["threshold"] == told["threshold"]
    assert {one["name"] for one in told["groups"]}
    out = capsys.readouterr().out
    assert "late-summer-field: the sets hold the label less often than wanted, beyond chance" in out
    lines = (tmp_path / "sets" / "sets.csv").read_text().splitlines()
    assert len(lines) == 401
    assert lines[0] == "path,label,predicted,set,size,label_in_set"
    assert (
        cli._code_of(
            [
                "sets",
                "--level",
                "1",
                *(p for n in ("model", "classes", "images", "out") for p in (f"--{n}", str(given[n]))),
            ]
        )
        == 2
    )
    assert "is not between 0 and 1" in capsys.readouterr().err
