"""Every figure against a second way to get it, written as plainly as can be (loops, whole fractions, decimals, SciPy): the worst
difference of each over many random runs and tables, relative to the figure or to 0.001, whichever is larger (log loss: to itself)."""

from __future__ import annotations

import csv
import math
import sys
import tempfile
from collections.abc import Iterator
from decimal import Decimal, localcontext
from fractions import Fraction
from pathlib import Path

import numpy as np
from scipy.optimize import minimize_scalar
from scipy.stats import binomtest, norm

from mivrat.core.answers.answers import SCORED, Answers
from mivrat.core.answers.judged import EvaluatedRun
from mivrat.core.answers.judging import judge
from mivrat.core.figures import significance
from mivrat.core.figures.intervals import Proportion, proportion
from mivrat.core.models.prediction_table import PredictionTable
from mivrat.core.pictures.image_sets import ImageItem, ImageSet
from mivrat.core.running.evaluation import Evaluation
from mivrat.core.running.slow_figures import slow_figures

RUNS = 300
TABLES = 12
FLOOR = 1e-3
Pair = tuple[str, float | None, float | None]
CLASSES = (2, 3, 7, 20, 60, 200)


def made_up(rng: np.random.Generator) -> tuple[np.ndarray, list[int]]:
    """Logits and labels of one run: sometimes a handful of images, sometimes tied scores, sometimes nearly all right."""
    images, classes = int(rng.integers(1, 90)), int(rng.integers(2, 7))
    rows = rng.normal(0, 2, (images, classes))
    labels = rng.integers(0, classes, images)
    rows[np.arange(images), labels] += rng.choice([0.0, 1.0, 4.0])
    if rng.random() < 0.3:
        rows = np.round(rows)
    return rows.astype(np.float32), labels.tolist()


def wilson(hits: int, total: int) -> tuple[float, float]:
    found = binomtest(hits, total).proportion_ci(0.95, "wilson")
    return float(found.low), float(found.high)


def share_pairs(name: str, found: Proportion, hits: int, total: int) -> Iterator[Pair]:
    if not total:
        yield name, found.value, None
        return
    low, high = wilson(hits, total)
    yield name, found.value, hits / total
    yield f"{name}, interval", found.low, low
    yield f"{name}, interval", found.high, high


def ratio(above: Fraction, below: Fraction) -> Fraction:
    return above / below if below else Fraction(0)


Odds = list[list[Decimal]]


def softmax(rows: list[list[float]]) -> tuple[list[list[float]], Odds, list[list[float]]]:
    """Probabilities, log-odds and -ln p of logits, in 60 digits; of the log-odds 30 are kept, so that what ties does tie."""
    probabilities, odds, losses = [], [], []
    with localcontext() as context:
        context.prec = 60
        for line in rows:
            z = [Decimal(v) for v in line]
            raised = [(v - max(z)).exp() for v in z]
            whole = sum(raised, Decimal(0))
            probabilities.append([float(one / whole) for one in raised])
            # The sum of the others is added up, as taking one away from the whole would lose what is left of it.
            before, after = [Decimal(0)], [Decimal(0)]
            for one, last in zip(raised[:-1], reversed(raised[1:]), strict=True):
                before.append(before[-1] + one)
                after.append(after[-1] + last)
            rest = [a + b for a, b in zip(before, reversed(after), strict=True)]
            odds.append([round(a.ln() - b.ln(), 30) for a, b in zip(raised, rest, strict=True)])
            losses.append([float((1 + b / a).ln()) for a, b in zip(raised, rest, strict=True)])
    return probabilities, odds, losses


def simple_pairs(
    judged: EvaluatedRun,
    p: list[list[float]],
    odds: Odds | list[list[float]],
    losses: list[list[float]],
    labels: list[int],
    order: list[list[int]],
) -> Iterator[Pair]:
    """The figures that are counts or sums over images."""
    total, classes = len(labels), len(p[0])
    images = range(total)
    figures = judged.figures([1, 2])
    called = [line[0] for line in order]
    for k in (1, 2):
        hits = sum(labels[i] in order[i][:k] for i in images)
        yield from share_pairs(f"top-{k} accuracy", figures.top_k[k], hits, total)
    support = [labels.count(k) for k in range(classes)]
    predicted = [called.count(k) for k in range(classes)]
    hit = [sum(labels[i] == called[i] == k for i in images) for k in range(classes)]
    for k, one in enumerate(figures.classes):
        yield from share_pairs("precision", one.precision, hit[k], predicted[k])
        yield from share_pairs("recall", one.recall, hit[k], support[k])
        others = total - support[k] - predicted[k] + hit[k]
        yield from share_pairs("specificity", one.specificity, others, total - support[k])
        both = support[k] + predicted[k]
        yield "F1", one.f1, 2 * hit[k] / both if both else None
    known = [k for k in range(classes) if support[k]]
    recalls = [Fraction(hit[k], support[k]) for k in known]
    f1 = [ratio(Fraction(2 * hit[k]), Fraction(support[k] + predicted[k])) for k in known]
    means = figures.averages
    yield "balanced accuracy", means.balanced_accuracy, float(sum(recalls) / len(known))
    precisions = [ratio(Fraction(hit[k]), Fraction(predicted[k])) for k in known]
    yield "macro precision", means.macro_precision, float(sum(precisions) / len(known))
    yield "macro F1", means.macro_f1, float(sum(f1) / len(known))
    weighted = sum(f * support[k] for f, k in zip(f1, known, strict=True)) / total
    yield "weighted F1", means.weighted_f1, float(weighted)
    agreed = Fraction(sum(hit), total)
    chance = sum(Fraction(support[k] * predicted[k], total * total) for k in range(classes))
    yield "Cohen's kappa", means.cohen_kappa, None if chance == 1 else float((agreed - chance) / (1 - chance))
    x, y = np.eye(classes)[labels], np.eye(classes)[called]
    x, y = x - x.mean(axis=0), y - y.mean(axis=0)
    spread = math.sqrt((x * x).sum() * (y * y).sum())
    yield "MCC", means.mcc, float((x * y).sum() / spread) if spread > 1e-12 else None
    lost = [min(52 * math.log(2), losses[i][labels[i]]) for i in images]
    yield "log loss", figures.log_loss.value if figures.log_loss else None, math.fsum(lost) / total
    squares = [math.fsum((p[i][k] - (labels[i] == k)) ** 2 for k in range(classes)) for i in images]
    yield "Brier score", figures.brier, math.fsum(squares) / total
    sure, right = [p[i][called[i]] for i in images], [labels[i] == called[i] for i in images]
    gaps, gap_of = binned(sure, right), figures.calibration
    yield "ECE", gap_of.ece, math.fsum(n * gap for n, gap in gaps) / total
    yield "MCE", gap_of.mce, max(gap for _, gap in gaps)
    yield "signed gap", gap_of.signed_gap, math.fsum(sure) / total - sum(right) / total
    each = []
    for k in range(classes):
        column, positive = [line[k] for line in odds], [label == k for label in labels]
        each.append(math.fsum(n * gap for n, gap in binned([line[k] for line in p], positive)) / total)
        yield "AUROC", figures.auroc[k], area_under_roc(column, positive)
        yield "average precision", figures.average_precision[k], mean_precision(column, positive)
    yield "class-wise ECE", figures.classwise_ece, math.fsum(each) / classes


def binned(values: list[float], hits: list[bool], bins: int = 15) -> list[tuple[int, float]]:
    """For each bin that holds any: how many, and the gap between mean value and share of hits."""
    found = []
    for m in range(bins):
        inside = [i for i, v in enumerate(values) if (m / bins < v or (m == 0 and v == 0)) and v <= (m + 1) / bins]
        if inside:
            mean = math.fsum(values[i] for i in inside) / len(inside)
            found.append((len(inside), abs(mean - sum(hits[i] for i in inside) / len(inside))))
    return found


def area_under_roc(column: list[Decimal] | list[float], positive: list[bool]) -> float | None:
    """By counting pairs."""
    ours = [v for v, yes in zip(column, positive, strict=True) if yes]
    others = [v for v, yes in zip(column, positive, strict=True) if not yes]
    if not ours or not others:
        return None
    halves = sum(2 if a > b else a == b for a in ours for b in others)
    return halves / (2 * len(ours) * len(others))


def mean_precision(column: list[Decimal] | list[float], positive: list[bool]) -> float | None:
    """Threshold by threshold."""
    hits, before, found = sum(positive), 0, Fraction(0)
    if not hits:
        return None
    for threshold in sorted(set(column), reverse=True):
        above = [yes for v, yes in zip(column, positive, strict=True) if v >= threshold]
        found += Fraction(sum(above) - before, hits) * Fraction(sum(above), len(above))
        before = sum(above)
    return float(found)


def slow_pairs(judged: EvaluatedRun, rows: np.ndarray, p: list[list[float]], labels: list[int]) -> Iterator[Pair]:
    """Adaptive ECE, temperature and the area under the risk-coverage curve."""
    found = slow_figures(judged, seed=0)
    assert found is not None
    total = len(labels)
    sure, right = judged.confidence.tolist(), judged.right.tolist()
    bins = min(15, total)
    gap = 0.0
    for m in range(bins):  # each image goes where the middle one of those as sure goes
        middle = [sum(v < one for v in sure) + sum(v == one for v in sure) / 2 for one in sure]
        inside = [i for i in range(total) if int(middle[i] * bins / total) == m]
        gap += abs(math.fsum(sure[i] for i in inside) - sum(right[i] for i in inside)) / total
    yield "adaptive ECE", found.adaptive.ece, gap
    if found.temperature is not None and found.temperature.identifiable:

        def loss(log_inverse: float) -> float:
            whole = []
            for line, label in zip(rows.tolist(), labels, strict=True):
                z = [v * math.exp(log_inverse) for v in line]
                most = max(z)
                whole.append(most + math.log(math.fsum(math.exp(v - most) for v in z)) - z[label])
            return math.fsum(whole)

        near = min(range(-24, 25), key=loss)
        best = minimize_scalar(loss, bounds=(near - 1, near + 1), method="bounded", options={"xatol": 1e-12})
        yield "temperature", found.temperature.value, math.exp(-best.x)
    risks, wrong, seen = [], 0, 0
    for level in sorted(set(sure), reverse=True):
        same = [i for i in range(total) if sure[i] == level]
        wrong, seen = wrong + sum(not right[i] for i in same), seen + len(same)
        risks.append((seen, Fraction(wrong, seen)))
    before, area = 0, Fraction(0)
    for seen, risk in risks:
        area, before = area + (seen - before) * risk, seen
    yield "area under risk-coverage", found.selective.aurc, float(area / total)


def test_pairs(rng: np.random.Generator) -> Iterator[Pair]:
    """The exact tests, from whole fractions."""
    one, other = int(rng.integers(0, 30)), int(rng.integers(0, 30))
    n = one + other
    tail = sum(Fraction(math.comb(n, i), 2**n) for i in range(min(one, other) + 1))
    yield "direction test", significance.even_split(one, other), float(min(Fraction(1), 2 * tail)) if n else 1.0
    total, rest = int(rng.integers(1, 30)), int(rng.integers(1, 60))
    hits, more = int(rng.integers(0, total + 1)), int(rng.integers(0, rest + 1))
    ways = math.comb(total + rest, hits + more)
    fewer = sum(
        Fraction(math.comb(total, i) * math.comb(rest, hits + more - i), ways)
        for i in range(max(0, hits + more - rest), hits + 1)
    )
    yield "group test", significance.below_rest(hits, total, more, rest), float(fewer)
    claimed = Fraction(int(rng.integers(1, 100)), 100)
    far = abs(hits / total - float(claimed)) / math.sqrt(float(claimed * (1 - claimed)) / total)
    yield "test against a claim", proportion(hits, total).p_against(float(claimed)), 2 * float(norm.sf(far))
    values = rng.random(5).tolist()
    for i, value in enumerate(values):
        lower = [(sum(other >= one for other in values)) * one for one in values if one <= value]
        yield "Holm's correction", significance.holm(values)[i], min(1.0, max(lower))


def table_scores(form: str, rng: np.random.Generator, images: int, classes: int) -> list[list[str]]:
    """What stands in a table of scores of one form."""
    rows = rng.normal(0, 2, (images, classes))
    raised = np.exp(rows - rows.max(axis=1, keepdims=True))
    shares = raised / raised.sum(axis=1, keepdims=True)
    if form == "huge logits":
        return [[f"{v:.6f}" for v in line] for line in rows * 10.0 ** rng.integers(1, 6)]
    if form == "fine logits":
        return [[f"{7.3 + 1e-9 * v:.15f}" for v in line] for line in rows]
    if form == "tied logits":
        return [[str(v) for v in line] for line in rng.integers(-2, 3, (images, classes))]
    if form == "percentages":
        return [[f"{100 * v:.1f}" for v in line] for line in shares]
    digits = {"probabilities": 15, "three decimals": 3, "one decimal": 1}[form]
    return [[f"{v:.{digits}f}" for v in line] for line in shares]


FORMS = ("probabilities", "three decimals", "one decimal", "percentages", "huge logits", "fine logits", "tied logits")


def table_pairs(form: str, rng: np.random.Generator, folder: Path, classes: int) -> Iterator[Pair]:
    """All figures of one table, read as a study reads it."""
    images = int(rng.integers(5, 50))
    texts, labels = table_scores(form, rng, images, classes), rng.integers(0, classes, images).tolist()
    names = [f"class {k}" for k in range(classes)]
    path = folder / "scores.csv"
    with path.open("w", newline="") as file:
        csv.writer(file).writerows([["path", *names], *([f"{i}.png", *line] for i, line in enumerate(texts))])
    table = PredictionTable(path, names)
    kind = "logits" if "logits" in form else "probabilities"
    assert table.settled == kind, (form, classes, table.settled)
    items = [ImageItem(f"{i}.png", label, {}, names[label]) for i, label in enumerate(labels)]
    evaluation = Evaluation(table, ImageSet("made up", folder, items))
    list(evaluation.run())
    judged = evaluation.judging.judged()
    source = [[float(v) for v in line] for line in texts]
    if kind == "logits":
        p, odds, losses = softmax(source)
        yield from simple_pairs(judged, p, odds, losses, labels, ranked(source))
        yield from slow_pairs(judged, np.array(source), p, labels)
        return
    p = [[v / 100 for v in line] for line in source] if form == "percentages" else source
    losses = [[-math.log(v) if v > 0 else math.inf for v in line] for line in p]
    yield from simple_pairs(judged, p, p, losses, labels, ranked(p))


def ranked(rows: list[list[float]]) -> list[list[int]]:
    return [sorted(range(len(line)), key=lambda k: (-line[k], k)) for line in rows]


def main() -> int:
    rng, quick, worst = np.random.default_rng(0), "--quick" in sys.argv, dict[str, tuple[float, int]]()
    disagreed = 0

    def compare(pairs: Iterator[Pair], by: str = "") -> None:
        nonlocal disagreed
        for name, ours, theirs in pairs:
            if ours is None or theirs is None:
                disagreed += ours is not theirs
                continue
            off = (
                abs(ours - theirs) / (abs(theirs) or 1.0)
                if name == "log loss"
                else abs(ours - theirs) / max(abs(theirs), FLOOR)
            )
            for key in (name, by) if by else (name,):
                difference, times = worst.get(key, (0.0, 0))
                worst[key] = max(difference, off), times + 1

    for _ in range(30 if quick else RUNS):
        rows, labels = made_up(rng)
        answers = Answers(len(rows), rows.shape[1], "logits")
        answers.rows, answers.state[:] = rows, SCORED
        judged = judge(answers, labels)
        p, odds, losses = softmax(rows.tolist())
        compare(simple_pairs(judged, p, odds, losses, labels, ranked(rows.tolist())))
        compare(slow_pairs(judged, rows, p, labels))
        compare(test_pairs(rng))
    with tempfile.TemporaryDirectory() as name:
        for form in FORMS:
            for classes in CLASSES:
                for _ in range(1 if quick else TABLES):
                    compare(table_pairs(form, rng, Path(name), classes), f"tables, {form}")
    print("figure, worst relative difference, compared so often")
    for name, (difference, times) in worst.items():
        print(f"{name:28} {difference:8.1e} {times:7d}")
    print(f"undefined in one way and not in the other: {disagreed}")
    return int(disagreed > 0 or max(difference for difference, _ in worst.values()) > 1e-5)


if __name__ == "__main__":
    sys.exit(main())
