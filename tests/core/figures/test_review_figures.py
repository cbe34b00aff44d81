"""Suspected labels against loops and planted ones, cause counts by hand, figures as corrected against judging anew."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from mivrat.core.answers.answers import SCORED, Answers
from mivrat.core.answers.judged import EvaluatedRun
from mivrat.core.answers.judging import judge
from mivrat.core.figures.causes import count_causes
from mivrat.core.models.scores import Kind


def judged(images: int, classes: int, seed: int, kind: Kind = "logits") -> EvaluatedRun:
    rng = np.random.default_rng(seed)
    labels = rng.integers(0, classes, images)
    rows = rng.normal(0, 1, (images, classes))
    rows[np.arange(images), labels] += 1.5
    answers = Answers(images, classes, kind)
    answers.rows[:], answers.state[:] = rows, SCORED
    return judge(answers, [None if i % 11 == 10 else int(k) for i, k in enumerate(labels)])


@given(st.integers(1, 60), st.integers(2, 5), st.integers(0, 99))
def test_suspected_labels_by_loops(images: int, classes: int, seed: int) -> None:
    one = judged(images, classes, seed)
    p, known = one.probabilities(np.arange(images)), [i for i in range(images) if one.labels[i] >= 0]
    thresholds = {}
    for k in range(classes):
        own = [p[i, k] for i in known if one.labels[i] == k]
        if own:
            thresholds[k] = np.mean(own)
    expected = []
    for i in known:
        y = int(one.labels[i])
        above = [k for k in thresholds if k != y and p[i, k] >= thresholds[k]]
        if above and p[i, y] < thresholds[y]:
            margin = p[i, y] - max(p[i, k] for k in range(classes) if k != y)
            expected.append((margin, i, max(above, key=lambda k: p[i, k])))
    expected.sort()
    found = one.suspected_labels()
    assert found.positions.tolist() == [i for _, i, _ in expected]
    assert found.likely.tolist() == [k for _, _, k in expected]
    assert found.margins == pytest.approx([m for m, _, _ in expected])


def test_flipped_labels_come_first() -> None:
    rng = np.random.default_rng(5)
    truth = rng.integers(0, 4, 400)
    rows = rng.normal(0, 0.5, (400, 4))
    rows[np.arange(400), truth] += 5
    said = truth.copy()
    said[:20] = (said[:20] + 1) % 4
    answers = Answers(400, 4, "logits")
    answers.rows[:], answers.state[:] = rows, SCORED
    found = judge(answers, said.tolist()).suspected_labels()
    assert set(found.positions[:20].tolist()) == set(range(20))
    assert (found.likely[:20] == truth[found.positions[:20]]).all()


@given(st.integers(1, 40), st.integers(2, 4), st.integers(0, 50))
def test_margins_by_sorting(images: int, classes: int, seed: int) -> None:
    one = judged(images, classes, seed)
    best = np.sort(one.probabilities(np.arange(images)), axis=1)
    assert one.margins == pytest.approx(best[:, -1] - best[:, -2])


@given(
    st.integers(1, 40), st.integers(2, 4), st.integers(0, 50), st.dictionaries(st.integers(0, 39), st.integers(0, 1))
)
def test_figures_as_corrected_are_those_of_the_other_labels(
    images: int, classes: int, seed: int, changes: dict[int, int]
) -> None:
    one = judged(images, classes, seed)
    changes = {i: k for i, k in changes.items() if i < images}
    labels = [changes.get(i, int(k)) for i, k in enumerate(one.labels)]
    answers = Answers(images, classes, "logits")
    answers.rows, answers.state = one.rows, one.state
    anew, found = judge(answers, [None if k < 0 else k for k in labels]), one.relabelled(changes)
    for name in ("labels", "predicted", "rank", "evaluated", "right"):
        np.testing.assert_array_equal(getattr(found, name), getattr(anew, name))
    assert found.own == pytest.approx(anew.own, nan_ok=True)


def test_causes_are_counted_by_group() -> None:
    causes = [frozenset({1}), frozenset({1, 2}), frozenset(), frozenset({2}), frozenset({1})]
    found = count_causes(causes, ["a", "a", "a", "b", "b"])
    assert [(one.group, one.cause, one.share.hits, one.share.total) for one in found] == [
        ("a", 1, 2, 3),
        ("a", 2, 1, 3),
        ("a", None, 1, 3),
        ("b", 2, 1, 2),
        ("b", 1, 1, 2),
    ]
    assert count_causes([], []) == []
