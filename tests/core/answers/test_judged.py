"""Judged answers of every kind of scores against the plain way: columns, logits, ranking, slow figures, thresholds."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from decimal import Decimal, getcontext
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from mivrat.core.answers.answers import FAILED, SCORED, UNREADABLE, Answers
from mivrat.core.answers.judged import EvaluatedRun
from mivrat.core.answers.judging import judge
from mivrat.core.base.job import stopped_by
from mivrat.core.figures import ranked
from mivrat.core.figures.calibration import calibration
from mivrat.core.figures.units import units_of
from mivrat.core.models.scores import Kind
from mivrat.core.pictures.image_sets import ImageSet
from mivrat.core.reporting.results import RunResults, metrics
from mivrat.core.running.slow_figures import slow_figures
from tests.support.stopping import StopsAfter

Made = Callable[[Kind, int], tuple[EvaluatedRun, np.ndarray]]


def made(kind: Kind, classes: int, images: int = 90) -> tuple[EvaluatedRun, np.ndarray]:
    """Judged answers of a kind with one unreadable, one failed and one unlabelled image; and their probabilities."""
    rng = np.random.default_rng(4)
    scores = rng.normal(0, 2, (images, classes)).astype(np.float32)
    p = np.exp(scores.astype(float) - scores.max(axis=1, keepdims=True))
    p /= p.sum(axis=1, keepdims=True)
    rows = scores
    if kind == "probabilities":
        rows = p.astype(np.float32)
        p = rows.astype(float)
    elif kind == "sigmoid":
        rows = p[:, 1:].astype(np.float32)
        p = np.stack([1 - rows[:, 0].astype(float), rows[:, 0].astype(float)], axis=1)
    labels = [int(k) for k in rng.integers(0, classes, images)]
    answers = Answers(images, rows.shape[1], kind, classes)
    answers.rows[:], answers.state[:] = rows, SCORED
    answers.state[3], answers.state[5], answers.rows[5, 0] = UNREADABLE, FAILED, np.nan
    return judge(answers, [None if i == 7 else k for i, k in enumerate(labels)]), p


@pytest.mark.parametrize(("kind", "classes"), [("logits", 21), ("logits", 2), ("probabilities", 4), ("sigmoid", 2)])
def test_every_kind_of_scores_is_ranked_alike(kind: Kind, classes: int) -> None:
    judged, p = made(kind, classes)
    use = np.flatnonzero(judged.evaluated)
    assert sorted(set(range(90)) - set(use.tolist())) == [3, 5, 7]
    plain = ranked.one_versus_rest(p[use].T, judged.labels[use])
    found = judged.one_versus_rest(use)
    assert found.auroc == pytest.approx(plain.auroc)
    assert found.average_precision == pytest.approx(plain.average_precision)
    assert found.gap == pytest.approx(plain.gap)
    for k in range(classes):
        assert judged.column(k, use) == pytest.approx(p[use, k])
    logits = judged.logits(use)
    back = np.exp(logits - logits.max(axis=1, keepdims=True))
    assert back / back.sum(axis=1, keepdims=True) == pytest.approx(p[use], abs=1e-6)


def test_scores_of_a_coarse_grid_tie_whatever_order_they_are_summed_in() -> None:
    rng = np.random.default_rng(1)
    line = np.round(rng.normal(0, 3, 9), 1).astype(np.float32)
    answers = Answers(40, 9, "logits")
    for i in range(40):  # the same scores, the others' in other places
        answers.rows[i] = np.append(line[0], rng.permutation(line[1:]))
    answers.state[:] = SCORED
    judged = judge(answers, [i % 9 for i in range(40)])
    assert judged.one_versus_rest(np.arange(40)).auroc[0] == 0.5


def test_slow_figures_are_those_of_the_images_marked() -> None:
    plain, p = made("logits", 4)
    judged = replace(plain, units=units_of([f"slide {i // 10}" for i in range(90)], "slide"))
    among = np.zeros(90, bool)
    among[:60] = True
    found = slow_figures(judged, among)
    assert found is not None
    use = np.flatnonzero(judged.evaluated & among)
    assert found.total == len(use) == 57
    right = p[use].argmax(axis=1) == judged.labels[use]
    assert found.adaptive.signed_gap == pytest.approx(calibration(p[use].max(axis=1), right).signed_gap)
    assert found.selective.total == 57
    assert found.selective.at(0.0).hits == right.sum()
    assert found.intervals is not None
    assert found.intervals.column == "slide"
    assert found.temperature is not None
    assert found.temperature.log_loss_before == pytest.approx(-np.log(p[use, judged.labels[use]]).mean())
    again = slow_figures(judged, among)
    assert again is not None
    assert again.intervals == found.intervals
    assert again.temperature == found.temperature
    for questions in range(3):
        with stopped_by(StopsAfter(questions)):
            assert slow_figures(judged) is None


@pytest.mark.parametrize("threshold", [0.0, 0.2, 0.5, 0.9, 1.0])
def test_a_threshold_is_followed_by_every_figure(threshold: float) -> None:
    judged, p = made("sigmoid", 2)
    found = judged.at_threshold(threshold)
    use = np.flatnonzero(judged.evaluated)
    called = (p[use, 1] >= threshold).astype(int)
    assert (found.predicted[use] == called).all()
    assert found.confidence[use] == pytest.approx(p[use, called])
    assert (found.rank[use] == np.where(called == judged.labels[use], 1, 2)).all()
    figures = found.figures([1])
    assert figures.top_k[1].hits == int((called == judged.labels[use]).sum())
    assert figures.matrix.sum() == len(use)
    assert figures.auroc == judged.figures([1]).auroc
    assert found.counts() == judged.counts()
    alarms, missed = (
        int(((called == 1) & (judged.labels[use] == 0)).sum()),
        int(((called == 0) & (judged.labels[use] == 1)).sum()),
    )
    told = judged.costs(2.0, 3.0)
    assert told.at(threshold) == pytest.approx((2 * alarms + 3 * missed) / len(use))
    assert (told.false_alarms[told.place(threshold)], told.missed[told.place(threshold)]) == (alarms, missed)
    with pytest.raises(ValueError, match="two classes"):
        made("logits", 4)[0].at_threshold(threshold)


@settings(max_examples=20)
@given(st.integers(0, 10_000), st.sampled_from(["logits", "probabilities"]), st.integers(2, 5), st.booleans())
def test_no_figure_depends_on_the_order_of_the_images(seed: int, kind: Kind, classes: int, together: bool) -> None:
    rng = np.random.default_rng(seed)
    total = int(rng.integers(1, 60))
    # A coarse grid, so that confidences, scores and whole rows tie.
    rows = rng.integers(0, 4, (total, classes)).astype(np.float32)
    if kind == "probabilities":
        rows = (rows + 1) / (rows + 1).sum(axis=1, keepdims=True)
    labels, units = rng.integers(0, classes, total), [f"u{k}" for k in rng.integers(0, 9, total)]
    told = []
    for order in (np.arange(total), rng.permutation(total)):
        answers = Answers(total, classes, kind)
        answers.rows[:], answers.state[:] = rows[order], SCORED
        some = units_of([units[i] for i in order], "unit") if together else None
        judged = judge(answers, labels[order].tolist(), some)
        deep = slow_figures(judged)
        assert deep is not None
        names = [str(k) for k in range(classes)]
        nowhere = ImageSet("", Path(), [])
        told.append(metrics(RunResults(judged, nowhere, names, judged.figures([1, 2]), deep=deep)))
        told[-1]["threshold for 80 %"] = deep.selective.lowest_for(0.8)
    assert _flat(told[0]) == pytest.approx(_flat(told[1]), rel=1e-9, abs=1e-12)


def _flat(told: Any) -> list[float]:
    if isinstance(told, dict):
        return [v for key in sorted(told) for v in _flat(told[key])]
    if isinstance(told, list | tuple):
        return [v for one in told for v in _flat(one)]
    return [float(told)] if isinstance(told, int | float) else [-1.0] if told is None else []


@pytest.mark.parametrize(("spread", "classes"), [(30, 3), (30, 2), (1e5, 3), (1e5, 2), (1e-9, 40)])
def test_log_odds_tell_apart_what_would_round_to_the_same_probability(spread: float, classes: int) -> None:
    """AUROC and average precision of very sure, far too sure and barely differing scores, some tied, by decimals of 80 digits."""
    rng = np.random.default_rng(3)
    fine, coarse = rng.normal(0, spread, (60, classes)), rng.integers(-60, 60, (40, classes)) * (spread / 30)
    rows = np.concatenate([7.3 + fine, coarse, np.roll(coarse[:10], 1, axis=1)])
    labels = rng.integers(0, classes, len(rows))
    answers = Answers(len(rows), classes, "logits")
    answers.rows, answers.state[:] = rows, SCORED
    found = judge(answers, labels.tolist()).one_versus_rest(np.arange(len(rows)))
    getcontext().prec = 80
    raised = [[Decimal(float(v)).exp() for v in line] for line in rows]
    for k in range(classes):
        odds = [one[k].ln() - sum(one[:k] + one[k + 1 :], Decimal(0)).ln() for one in raised]
        inside = [odds[i] for i in range(len(rows)) if labels[i] == k]
        outside = [odds[i] for i in range(len(rows)) if labels[i] != k]
        if not inside:
            assert found.auroc[k] is None
            continue

        def as_high(a: Decimal, b: Decimal) -> bool:  # but for what double precision cannot tell apart
            return a > b - Decimal(2) ** -47 * max(1, abs(b))

        wins = sum(0.5 * (as_high(a, b) + (not as_high(b, a))) for a in inside for b in outside)
        assert found.auroc[k] == pytest.approx(wins / len(inside) / len(outside), abs=1e-12)
        kept = [(sum(as_high(a, one) for a in inside), sum(as_high(a, one) for a in odds)) for one in inside]
        assert found.average_precision[k] == pytest.approx(sum(a / b for a, b in kept) / len(inside), abs=1e-12)


def test_a_log_loss_near_nothing_is_no_nothing_and_large_temperatures_are_found() -> None:
    answers = Answers(40, 2, "logits")
    answers.rows[:], answers.state[:] = [[32.0, 0.0]], SCORED
    figures = judge(answers, [0] * 40).figures([1])
    assert figures.log_loss is not None
    assert figures.log_loss.value == pytest.approx(np.log1p(np.exp(-32.0)), rel=1e-2)
    rng = np.random.default_rng(0)
    answers = Answers(400, 3, "logits")
    answers.rows[:], answers.state[:] = 50_000 * rng.normal(0, 1, (400, 3)), SCORED
    p = np.exp(answers.rows / 50_000)
    labels = [int(rng.choice(3, p=line / line.sum())) for line in p]
    deep = slow_figures(judge(answers, labels))
    assert deep is not None
    assert deep.temperature is not None
    assert deep.temperature.identifiable
    assert deep.temperature.value == pytest.approx(50_000, rel=0.3)


def test_how_many_labels_would_be_suspected_if_none_were_wrong() -> None:
    """Against labels drawn from the very probabilities, image by image: as many are suspected as is told, and more where some are wrong."""
    rng = np.random.default_rng(8)
    rows = rng.normal(0, 2.2, (600, 5)).astype(np.float32)
    p = np.exp(rows) / np.exp(rows).sum(axis=1, keepdims=True)

    def suspected(labels: list[int]) -> EvaluatedRun:
        answers = Answers(600, 5, "logits")
        answers.rows[:], answers.state[:] = rows, SCORED
        return judge(answers, labels)

    clean = [[int(rng.choice(5, p=one / one.sum())) for one in p.astype(float)] for _ in range(8)]
    found = [suspected(labels) for labels in clean]
    told = found[0].expected_suspects()
    assert told is not None
    seen = [len(one.suspected_labels().positions) for one in found]
    assert told == pytest.approx(np.mean(seen), rel=0.15)
    assert told > 10
    wrong = [(k + 1) % 5 if i % 5 == 0 else k for i, k in enumerate(clean[0])]
    assert len(suspected(wrong).suspected_labels().positions) > 1.5 * told
