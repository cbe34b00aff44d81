"""Judged answers of every kind of scores against the plain way: columns, logits, ranking, deeper figures, thresholds."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
import pytest

from mivrat.core.figures import ranked
from mivrat.core.figures.calibration import calibration
from mivrat.core.models.scores import Kind
from mivrat.core.running.answers import FAILED, SCORED, UNREADABLE, Answers, Judged, judge
from mivrat.core.running.deeper import deeper

Made = Callable[[Kind, int], tuple[Judged, np.ndarray]]


def made(kind: Kind, classes: int, images: int = 90) -> tuple[Judged, np.ndarray]:
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


def test_deeper_figures_are_those_of_the_images_marked() -> None:
    judged, p = made("logits", 4)
    among = np.zeros(90, bool)
    among[:60] = True
    found = deeper(judged, among, [f"slide {i // 10}" for i in range(90)], "slide")
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
    again = deeper(judged, among, [f"slide {i // 10}" for i in range(90)], "slide")
    assert again is not None
    assert again.intervals == found.intervals
    assert again.temperature == found.temperature
    for questions in range(3):
        asked = iter([False] * questions + [True] * 9)
        assert deeper(judged, stopped=lambda asked=asked: next(asked)) is None


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
