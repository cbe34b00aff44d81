"""The slow figures against loops, hand-worked cases, simulation and published values."""

from __future__ import annotations

import math
from itertools import pairwise

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy.optimize import minimize_scalar
from scipy.stats import binomtest, fisher_exact

from mivrat.core.figures import (
    bootstrap,
    calibration,
    confusion,
    decision,
    groups,
    ranked,
    selective,
    significance,
    temperature,
)
from mivrat.core.figures.outcomes import Outcomes, outcomes
from mivrat.core.figures.summary import figures_of, summarise
from mivrat.core.figures.tally import Tally


def softmax(scores: np.ndarray) -> np.ndarray:
    p = np.exp(scores - scores.max(axis=1, keepdims=True))
    return p / p.sum(axis=1, keepdims=True)


def drawn(images: int, classes: int, seed: int, sharp: float = 1.0) -> tuple[np.ndarray, np.ndarray]:
    """Logits, and labels drawn from their probabilities once divided by ``sharp``: a model too sure by that factor."""
    rng = np.random.default_rng(seed)
    scores = rng.normal(0, 2, (images, classes))
    cumulated = softmax(scores / sharp).cumsum(axis=1)
    return scores, np.minimum((rng.random((images, 1)) > cumulated).sum(axis=1), classes - 1)


@settings(max_examples=40, deadline=None)
@given(st.integers(1, 40), st.integers(2, 5), st.lists(st.integers(0, 40), max_size=5), st.integers(0, 99))
def test_a_tally_does_not_depend_on_the_split(images: int, classes: int, cuts: list[int], seed: int) -> None:
    scores, labels = drawn(images, classes, seed)
    whole = outcomes(scores, softmax(scores), labels)
    edges = [0, *sorted(min(c, images) for c in cuts), images]
    parts = [Outcomes(*(value[a:b] for value in vars(whole).values())) for a, b in pairwise(edges)]
    tallies = [Tally.of(part, classes) for part in reversed(parts)]
    added = tallies[0]
    for one in tallies[1:]:
        added = added + one
    found, expected = figures_of(added, [1, 2]), summarise(whole, classes, [1, 2])
    assert (found.matrix == expected.matrix).all()
    for name in ("total", "ties", "top_k", "classes", "averages", "log_loss", "brier", "calibration"):
        assert getattr(found, name) == getattr(expected, name)


@settings(max_examples=40, deadline=None)
@given(st.integers(1, 30), st.integers(2, 4), st.integers(0, 99))
def test_classwise_ece_and_curves_by_loops(images: int, classes: int, seed: int) -> None:
    scores, labels = drawn(images, classes, seed)
    p = np.round(softmax(scores), 2)
    gaps = []
    for k in range(classes):
        gap = 0.0
        for m in range(15):
            inside = [
                i for i in range(images) if (m / 15 < p[i, k] or (m == 0 and p[i, k] == 0)) and p[i, k] <= (m + 1) / 15
            ]
            gap += abs(sum(labels[i] == k for i in inside) - math.fsum(p[i, k] for i in inside)) / images
        gaps.append(gap)
        positive = labels == k
        points = ranked.curves(p[:, k], positive)
        if 0 < positive.sum() < images:
            area = np.trapezoid(np.append(0, points.recall), np.append(0, points.false_positive_rate))
            assert area == pytest.approx(ranked.auroc(p[:, k], positive))
            steps = np.diff(points.recall, prepend=0) * points.precision
            assert steps.sum() == pytest.approx(ranked.average_precision(p[:, k], positive))
        else:
            assert not len(points.recall)
    assert ranked.one_versus_rest(p.T, labels).classwise_ece == pytest.approx(np.mean(gaps), abs=1e-12)


def test_long_curves_keep_their_shape() -> None:
    rng = np.random.default_rng(0)
    positive = rng.random(20000) < 0.3
    scores = rng.normal(positive * 1.0, 1)
    points = ranked.curves(scores, positive)
    assert len(points.recall) < 1000
    area = np.trapezoid(points.recall, points.false_positive_rate)
    assert area == pytest.approx(ranked.auroc(scores, positive), abs=2e-3)


@settings(max_examples=40, deadline=None)
@given(st.lists(st.tuples(st.sampled_from([0.1, 0.4, 0.5, 0.77, 1.0]), st.booleans()), min_size=1, max_size=40))
def test_bins_of_equal_count(pairs: list[tuple[float, bool]]) -> None:
    confidence, right = np.array([c for c, _ in pairs]), np.array([r for _, r in pairs])
    found = calibration.adaptive_calibration(confidence, right)
    sizes = [one.count for one in found.bins]
    assert sum(sizes) == len(pairs)
    if len({c for c, _ in pairs}) == len(pairs):
        assert max(sizes) - min(sizes) <= 1
    for at, one in enumerate(found.bins):  # equal confidences are never parted
        last = at == len(found.bins) - 1
        assert one.count == sum(one.low <= c < one.high or (last and c == one.high) for c, _ in pairs)
    turned = calibration.adaptive_calibration(confidence[::-1], right[::-1])
    assert (turned.ece, turned.mce) == pytest.approx((found.ece, found.mce))
    ordered = sorted(pairs, key=lambda one: one[0])
    at, expected = 0, 0.0
    for size, one in zip(sizes, found.bins, strict=True):
        inside = sorted(ordered[at : at + size])
        assert one.confidence == pytest.approx(sum(c for c, _ in inside) / size)
        assert one.low <= inside[0][0] <= inside[-1][0] <= one.high
        expected += size / len(pairs) * abs(one.accuracy.hits / size - (one.confidence or 0))
        at += size
    assert found.ece == pytest.approx(expected)


def test_ece_by_chance_is_that_of_labels_drawn_anew() -> None:
    scores, _ = drawn(150, 4, 1)
    p = softmax(scores)
    confidence, predicted, rng = p.max(axis=1), p.argmax(axis=1), np.random.default_rng(7)
    eces = []
    for _ in range(1500):
        labels = np.minimum((rng.random((150, 1)) > p.cumsum(axis=1)).sum(axis=1), 3)
        eces.append(calibration.calibration(confidence, labels == predicted).ece)
    found = calibration.ece_if_calibrated(confidence)
    assert found is not None
    assert found.median == pytest.approx(np.median(np.array(eces, float)), rel=0.03)
    assert found.high == pytest.approx(np.quantile(np.array(eces, float), 0.95), rel=0.05)
    assert calibration.ece_if_calibrated(np.zeros(0)) is None
    assert calibration.ece_if_calibrated(np.ones(20)) == calibration.ChanceEce(0.0, 0.0)


def fitted(scores: np.ndarray, labels: np.ndarray, exact: bool = True) -> temperature.Temperature:
    p = softmax(scores)
    return temperature.scale(
        lambda some: scores[some],
        labels,
        scores.argmax(axis=1) == labels,
        p[np.arange(len(p)), labels],
        p.max(axis=1),
        scores.shape[1],
        exact=temperature.EXACT if exact else 700,
    )


def test_temperature_against_a_general_minimiser_and_out_of_fold_by_hand() -> None:
    scores, labels = drawn(400, 5, 3, sharp=2.5)
    found = fitted(scores, labels)

    def loss(inverse: float, some: np.ndarray) -> float:
        return float(-np.log(softmax(scores[some] * inverse)[np.arange(len(some)), labels[some]]).mean())

    def best(some: np.ndarray) -> float:
        return float(
            minimize_scalar(lambda b: loss(b, some), bounds=(0.01, 10), method="bounded", options={"xatol": 1e-10}).x
        )

    everyone = np.arange(400)
    assert found.value == pytest.approx(1 / best(everyone), rel=1e-5)
    assert 2.0 < found.value < 3.1
    assert found.log_loss_before == pytest.approx(loss(1.0, everyone))
    fold = temperature.folds(labels, 5, 0)
    outside = [loss(best(everyone[fold != f]), everyone[fold == f]) * (fold == f).sum() for f in range(5)]
    assert found.log_loss_after == pytest.approx(sum(outside) / 400, rel=1e-6)
    assert found.log_loss_after is not None
    assert found.log_loss_after < 0.9 * (found.log_loss_before or 0)
    assert (found.ece_after or 1) < 0.5 * (found.ece_before or 0)
    quick = fitted(scores, labels, exact=False)
    assert quick.log_loss_after == pytest.approx(found.log_loss_after, rel=1e-4)
    counts = np.array([[np.sum((labels == k) & (fold == f)) for f in range(5)] for k in range(5)])
    assert (counts.max(axis=1) - counts.min(axis=1) <= 1).all()


@pytest.mark.parametrize("case", ["all right", "one class", "few"])
def test_temperature_says_where_it_cannot_be_told(case: str) -> None:
    scores, labels = drawn(60 if case != "few" else 6, 3, 0)
    if case == "all right":
        labels = scores.argmax(axis=1)
    if case == "one class":
        labels = np.zeros(60, int)
    found = fitted(scores, labels)
    assert (found.identifiable, found.value, found.log_loss_after) == (False, 1.0, None)
    assert found.log_loss_before is not None


@settings(max_examples=60, deadline=None)
@given(st.lists(st.tuples(st.sampled_from([0.2, 0.5, 0.7, 0.9]), st.booleans()), min_size=1, max_size=25))
def test_selective_prediction_by_loops(pairs: list[tuple[float, bool]]) -> None:
    found = selective.selective(np.array([c for c, _ in pairs]), np.array([r for _, r in pairs]))
    risks = []
    for c, _ in pairs:
        surer = [r for other, r in pairs if other >= c]
        risks.append(1 - sum(surer) / len(surer))
    assert found.aurc == pytest.approx(sum(risks) / len(pairs))
    for threshold in (0.0, 0.2, 0.6, 0.9, 0.95):
        inside = [r for c, r in pairs if c >= threshold]
        at = found.at(threshold)
        assert (at.hits, at.total) == (sum(inside), len(inside))


def test_a_threshold_for_an_accuracy_that_is_never_reached_is_seldom_offered() -> None:
    rng, offered, found_where_true = np.random.default_rng(5), 0, 0
    studies = 400
    for _ in range(studies):
        confidence = rng.uniform(0.5, 1.0, 300)
        # However sure it is, the first model is right in just 80 %; the second in 70 % to all of them.
        offered += selective.selective(confidence, rng.random(300) < 0.8).lowest_for(0.8) is not None
        reached = selective.selective(confidence, rng.random(300) < 2 * confidence - 0.9).lowest_for(0.8)
        found_where_true += reached is not None
        if reached is not None:
            at = confidence >= reached[0]
            assert reached[1].total == int(at.sum())
    assert offered <= 0.05 * studies + 2 * np.sqrt(0.05 * 0.95 * studies)
    assert found_where_true > 0.5 * studies


@pytest.mark.parametrize(("one", "other"), [(0, 0), (3, 3), (9, 1), (0, 12), (25, 10)])
def test_even_split_is_the_binomial_test(one: int, other: int) -> None:
    expected = binomtest(one, one + other).pvalue if one + other else 1.0
    assert significance.even_split(one, other) == pytest.approx(expected)


def test_other_exact_tests() -> None:
    expected = fisher_exact([[3, 7], [40, 10]], alternative="less").pvalue
    assert significance.below_rest(3, 10, 40, 50) == pytest.approx(expected)
    assert significance.against_claim(83, 100, 0.95) == pytest.approx(binomtest(83, 100, 0.95).pvalue)
    assert significance.below_rest(0, 0, 4, 5) == significance.against_claim(0, 0, 0.5) == 1.0


def test_groups_are_counted_tested_and_ordered() -> None:
    names = ["a"] * 40 + ["b"] * 40 + ["c"] * 10 + ["d"] * 3
    right = np.array([True] * 38 + [False] * 2 + [True] * 20 + [False] * 20 + [True] * 8 + [False] * 2 + [True] * 3)
    use = np.ones(93, bool)
    use[-3:] = False
    found = groups.group_figures(names, right, np.full(93, 0.9), use)
    assert [one.name for one in found] == ["b", "c", "a"]
    assert (found[0].accuracy.hits, found[0].accuracy.total, found[1].small) == (20, 40, True)
    assert found[0].gap == pytest.approx(0.4)
    assert found[0].p == pytest.approx(3 * fisher_exact([[20, 20], [46, 4]], alternative="less").pvalue)
    assert found[2].p == 1.0
    assert groups.group_names(["2031-05-02", "2031-05-30T08:00", ""]) == ["2031-05", "2031-05", "(none)"]
    assert groups.group_names(["2031-05-02", "x"]) == ["2031-05-02", "x"]


@settings(max_examples=40, deadline=None)
@given(st.lists(st.tuples(st.sampled_from([0.0, 0.3, 0.5, 0.8, 1.0]), st.integers(0, 1)), min_size=1, max_size=20))
def test_costs_by_loops(pairs: list[tuple[float, int]]) -> None:
    second, labels = np.array([p for p, _ in pairs]), np.array([y for _, y in pairs])
    found = decision.costs(second, labels, false_alarm=1.0, miss=5.0)
    for threshold, mean in zip(found.thresholds, found.mean, strict=True):
        called = decision.decide(second, threshold)
        assert mean == pytest.approx(np.where(called > labels, 1.0, np.where(called < labels, 5.0, 0.0)).mean())
    assert found.at(found.best) == found.mean.min()


def test_bootstrap_covers_and_widens_with_groups() -> None:
    """Stratified: nominal 95 % intervals of macro F1 and log loss hold the true value about that often; whole groups of
    images that share their fate give wider intervals."""
    big_scores, big_labels = drawn(40000, 3, 99)
    truth = summarise(outcomes(big_scores, softmax(big_scores), big_labels), 3, [1])
    assert truth.log_loss is not None
    inside = {"macro_f1": 0, "log_loss": 0}
    for seed in range(60):
        scores, labels = drawn(150, 3, seed)
        found = bootstrap.bootstrap(outcomes(scores, softmax(scores), labels), 3, draws=300, seed=seed)
        assert found is not None
        for name, true in (("macro_f1", truth.averages.macro_f1), ("log_loss", truth.log_loss.value)):
            inside[name] += found.of[name].low <= (true or 0) <= found.of[name].high
    assert inside["macro_f1"] >= 52
    assert inside["log_loss"] >= 52
    predicted, labels = np.repeat([0, 1, 0, 0, 1, 1, 0, 0, 1, 0], 20), np.zeros(200, int)
    p = np.where(np.eye(2)[predicted] > 0, 0.9, 0.1)
    flat = outcomes(p, p, labels)
    alone, grouped = bootstrap.bootstrap(flat, 2), bootstrap.bootstrap(flat, 2, np.arange(200) // 20, "slide")
    assert alone is not None
    assert grouped is not None
    assert grouped.of["top1"].high - grouped.of["top1"].low > 2.5 * (alone.of["top1"].high - alone.of["top1"].low)
    assert "whole units of 'slide'" in grouped.how()
    assert bootstrap.bootstrap(flat, 2, stopped=lambda: True) is None


def test_bootstrap_figures_are_those_of_the_images_drawn() -> None:
    """With every image counted once, and with some twice, the weighed figures are the plain ones of the same images."""
    scores, labels = drawn(50, 4, 5)
    found = outcomes(scores, softmax(scores), labels)
    weigh = bootstrap._Weighed(found, 4)
    weights = np.random.default_rng(0).integers(0, 3, 50)
    repeated = np.repeat(np.arange(50), weights)
    plain = summarise(Outcomes(*(value[repeated] for value in vars(found).values())), 4, [1])
    assert plain.log_loss is not None
    expected = [
        plain.top_k[1].value, plain.averages.balanced_accuracy, plain.averages.macro_f1, plain.averages.weighted_f1,
        plain.averages.cohen_kappa, plain.averages.mcc, plain.log_loss.value, plain.brier, plain.calibration.ece,
        plain.calibration.signed_gap,
    ]  # fmt: skip
    assert weigh.figures(weights) == pytest.approx([float(v or 0) for v in expected], abs=1e-9)


@pytest.mark.parametrize(
    "case", ["one image", "all right", "all wrong", "one class said", "tied", "zero on the label", "ten"]
)
def test_degenerate_sets_give_figures_or_say_undefined(case: str) -> None:
    scores = np.random.default_rng(0).normal(0, 1, (1 if case == "one image" else 10, 3))
    labels = np.arange(len(scores)) % 3
    if case == "all right":
        labels = scores.argmax(axis=1)
    elif case == "all wrong":
        labels = (scores.argmax(axis=1) + 1) % 3
    elif case == "one class said":
        scores[:, 0] = 9
    elif case == "tied":
        scores[:] = 0
    p = softmax(scores)
    if case == "zero on the label":
        p = np.eye(3)[(labels + 1) % 3]
    found = outcomes(p, p, labels)
    figures = summarise(found, 3, [1, 2], ranked.one_versus_rest(p.T, labels))
    assert figures.total == len(scores)
    assert figures.log_loss is not None
    assert math.isfinite(figures.log_loss.value)
    assert bootstrap.bootstrap(found, 3, draws=50) is None
    many = Outcomes(*(np.repeat(value, 20) for value in vars(found).values()))
    told = bootstrap.bootstrap(many, 3, draws=50)
    assert told is not None
    for interval in told.of.values():
        assert interval.low < interval.high
    assert 0 <= (figures.classwise_ece or 0) <= 1
    assert selective.selective(found.confidence, found.predicted == labels).total == len(scores)
    assert fitted(np.log(np.clip(p, 1e-12, 1)), labels).log_loss_before is not None


def test_confused_classes_are_put_side_by_side() -> None:
    """Three hidden groups of classes that are only confused among themselves stand together; the untouched come last."""
    rng = np.random.default_rng(0)
    hidden = rng.permutation(np.repeat([0, 1, 2, 3], 3))
    matrix = np.where((hidden[:, None] == hidden) & (hidden < 3), 5, 0) + 20 * np.eye(12, dtype=int)
    order = confusion.order_by_likeness(matrix)
    assert sorted(order.tolist()) == list(range(12))
    found = hidden[order]
    assert (found[9:] == 3).all()
    assert sum(found[:-1] != found[1:]) == 3
    assert confusion.order_by_support(np.array([[1, 0], [5, 2]])).tolist() == [1, 0]
    assert confusion.order_by_likeness(np.zeros((2, 2), int)).tolist() == [0, 1]
