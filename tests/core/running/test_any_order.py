"""Figures of a run and of a comparison are the same to the last bit, however the images are split into blocks, ordered, or repeated."""

from __future__ import annotations

import json
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from numpy.typing import NDArray

from mivrat.core.answers.answers import FAILED, SCORED, UNREADABLE, Answers
from mivrat.core.answers.judged import EvaluatedRun
from mivrat.core.answers.judging import Judging
from mivrat.core.answers.other import Other
from mivrat.core.comparing.comparison import Names, OnSameImages, OnTwoSets
from mivrat.core.figures.groups import group_figures
from mivrat.core.figures.units import Units, units_of
from mivrat.core.models.scores import Kind
from mivrat.core.pictures.image_sets import ImageItem, ImageSet
from mivrat.core.reporting.comparison import ComparisonResults, comparison
from mivrat.core.reporting.results import RunResults, metrics
from mivrat.core.running.slow_figures import slow_figures

KS = [1, 2]


@dataclass(frozen=True)
class Made:
    """What N images are: labels, states, raw rows under two models, the unit each is of (none: single images), and its site."""

    classes: int
    kind: Kind
    labels: NDArray[np.int64]
    state: NDArray[np.int8]
    rows: tuple[NDArray[Any], NDArray[Any]]
    unit: tuple[str, ...]
    site: tuple[str, ...]

    def listed(self, order: NDArray[np.int64]) -> Made:
        """The same images, listed in another order."""
        rows = self.rows[0][order], self.rows[1][order]
        unit = tuple(self.unit[i] for i in order) if self.unit else ()
        site = tuple(self.site[i] for i in order)
        return Made(self.classes, self.kind, self.labels[order], self.state[order], rows, unit, site)

    def judged(self, which: int, blocks: list[NDArray[np.int64]] | None = None) -> EvaluatedRun:
        """One model's answers, judged block by block as they would come in."""
        answers = Answers(len(self.labels), self.rows[0].shape[1], self.kind, self.classes, "recipe")
        units: Units | None = units_of(self.unit, "day") if self.unit else None
        judging = Judging(answers, self.labels, units)
        for block in [np.arange(len(self.labels))] if blocks is None else blocks:
            answers.rows[block], answers.state[block] = self.rows[which][block], self.state[block]
            judging.update(block)
        return judging.judged()


@st.composite
def images(draw: st.DrawFn) -> Made:
    number, classes = draw(st.integers(0, 90)), draw(st.sampled_from([2, 3, 7]))
    rng = np.random.default_rng(draw(st.integers(0, 2**32)))
    kind: Kind = draw(st.sampled_from(["logits", "probabilities"]))
    labels = rng.integers(-1, draw(st.integers(1, classes)), number)
    state = rng.choice(np.array([SCORED] * 12 + [UNREADABLE, FAILED], np.int8), number)
    rows = []
    for _ in range(2):
        some = rng.normal(0, draw(st.sampled_from([0.01, 1, 30])), (number, classes))
        some[np.arange(number), labels] += rng.normal(2, 1, number)
        if draw(st.booleans()):  # ties, and images alike in everything
            some = np.round(some[rng.integers(0, max(1, number // 2), number)] if number else some)
        if kind == "probabilities":
            some = np.exp(some - some.max(axis=1, keepdims=True, initial=-np.inf)) if number else some
            some /= some.sum(axis=1, keepdims=True)
        rows.append(some.astype(np.float32))
    days = ("", *(f"day {i}" for i in range(11)))  # without a day: a unit of its own
    unit = tuple(days[i] for i in rng.integers(0, 12, number)) if draw(st.booleans()) else ()
    site = tuple(f"site {i}" for i in rng.integers(0, 3, number))
    return Made(classes, kind, labels, state, (rows[0], rows[1]), unit, site)


def told(a: EvaluatedRun, b: EvaluatedRun, site: tuple[str, ...]) -> list[str]:
    """All that is said of two runs, as their files say it."""
    names = [f"class {k}" for k in range(a.classes)]
    found = []
    for one in (a, b):
        deep = slow_figures(one)
        assert deep is not None
        items = [ImageItem(str(i), None) for i in range(len(one.labels))]
        figures = one.figures(KS, ranked=deep.ranked)
        groups = group_figures(site, one.right, one.confidence, one.evaluated, one.units, one.alike)
        results = RunResults(one, ImageSet("s", Path(), items), names, figures, deep=deep, column="site", groups=groups)
        found.append(json.dumps(metrics(results)))
        found.append(repr(deep.selective.lowest_for(0.5)))
    here = np.arange(len(a.labels))
    answered = b.state == SCORED
    other = Other(a, here, answered, b.predicted, b.confidence, b.own, b.rank, b.squares, b.tied)
    for way in (OnSameImages(Names("a", "b"), names, other), OnTwoSets(Names("a", "b"), names, a, b)):
        plain = way.compare()
        deep_too = way.deepen(plain)
        found += [json.dumps(comparison(ComparisonResults(one))) for one in (plain, deep_too) if one is not None]
    return found


@given(made=images(), data=st.data())
@settings(max_examples=8, deadline=None)
@pytest.mark.filterwarnings("ignore:invalid value:RuntimeWarning")
def test_no_split_no_order_and_no_repeat_changes_a_bit(made: Made, data: st.DataObject) -> None:
    number = len(made.labels)
    whole = told(made.judged(0), made.judged(1), made.site)
    rng = np.random.default_rng(data.draw(st.integers(0, 2**32)))
    cuts = np.sort(rng.integers(0, number + 1, data.draw(st.integers(0, 6))))
    blocks = np.split(rng.permutation(number), cuts)
    blocks += [blocks[i] for i in rng.integers(0, len(blocks), 3)]  # begun again by another worker
    assert told(made.judged(0, blocks), made.judged(1, blocks), made.site) == whole
    again = made.listed(rng.permutation(number))
    assert told(again.judged(0), again.judged(1), again.site) == whole
