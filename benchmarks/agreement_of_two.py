"""Every figure of a comparison against a second way to get it (loops, whole fractions, SciPy): the worst difference of each over many
made-up pairs of runs and of sets, relative to the figure or to 0.001, whichever is larger."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterator
from fractions import Fraction
from math import log, sqrt

import numpy as np
from scipy.stats import binomtest, chi2, fisher_exact

from mivrat.core.figures.confusion import averages
from mivrat.core.figures.outcomes import Outcomes
from mivrat.core.figures.paired import paired
from mivrat.core.figures.several import cochran
from mivrat.core.figures.shift_test import unlike
from mivrat.core.figures.two_sets import two_sets
from tests.support.two_runs import two_runs

RUNS, FLOOR = 200, 1e-3
Pair = tuple[str, float | None, float | None]


def wilson(hits: int, total: int) -> tuple[float, float]:
    found = binomtest(hits, total).proportion_ci(0.95, "wilson")
    return float(found.low), float(found.high)


def newcombe_paired(both: int, fixed: int, broken: int, neither: int) -> tuple[float, float]:
    """Newcombe 1998, paired data, method 10, step by step."""
    n = both + fixed + broken + neither
    p1, p2 = (both + fixed) / n, (both + broken) / n
    (l1, u1), (l2, u2) = wilson(both + fixed, n), wilson(both + broken, n)
    sides = (both + fixed) * (broken + neither) * (both + broken) * (fixed + neither)
    cross = both * neither - fixed * broken
    phi = (max(cross - n / 2, 0) if cross > 0 else cross) / sqrt(sides) if sides else 0.0
    low = p1 - p2 - sqrt(max(0.0, (p1 - l1) ** 2 - 2 * phi * (p1 - l1) * (u2 - p2) + (u2 - p2) ** 2))
    high = p1 - p2 + sqrt(max(0.0, (u1 - p1) ** 2 - 2 * phi * (u1 - p1) * (p2 - l2) + (p2 - l2) ** 2))
    return max(-1.0, low), min(1.0, high)


def loss(found: Outcomes) -> float:
    return sum(-log(min(1.0, max(2.0**-52, p))) for p in found.own.tolist()) / len(found.own)


def brier(found: Outcomes) -> float:
    return sum(max(0.0, s - 2 * p + 1) for s, p in zip(found.squares.tolist(), found.own.tolist(), strict=True)) / len(
        found.own
    )


def ece(found: Outcomes) -> float:
    bins: dict[int, list[tuple[float, bool]]] = defaultdict(list)
    for sure, right in zip(found.confidence.tolist(), (found.predicted == found.labels).tolist(), strict=True):
        m = next(m for m in range(15) if sure <= (m + 1) / 15 or m == 14)
        bins[m].append((sure, right))
    return sum(abs(sum(r for _, r in some) - sum(c for c, _ in some)) for some in bins.values()) / len(found.labels)


def of_pairs(rng: np.random.Generator) -> Iterator[Pair]:
    classes, total = int(rng.integers(2, 7)), int(rng.integers(2, 200))
    a, b, _ = two_runs(rng, total, classes, tuple(rng.uniform(0, 4, 2)), float(rng.random()))  # type: ignore[arg-type]
    found = paired(a, b, classes, (1, 2))
    right = [[p == k for p, k in zip(f.predicted.tolist(), f.labels.tolist(), strict=True)] for f in (a, b)]
    told = list(zip(*right, strict=True))

    def four(some: list[int]) -> list[int]:
        return [
            sum(told[i] == one for i in some) for one in ((True, True), (False, True), (True, False), (False, False))
        ]

    everyone = list(range(total))
    both, fixed, broken, neither = four(everyone)
    yield "top-1, difference", found.top1.value, float(Fraction(fixed - broken, total))
    for mine, other in zip(
        (found.top1.low, found.top1.high), newcombe_paired(both, fixed, broken, neither), strict=True
    ):
        yield "top-1, interval", mine, other
    yield "McNemar", found.top1.p, float(binomtest(fixed, fixed + broken).pvalue) if fixed + broken else 1.0
    for k, one in enumerate(found.classes):
        some = [i for i in everyone if a.labels[i] == k]
        if some:
            counts = four(some)
            yield "recall, difference", one.recall.value, (counts[1] - counts[2]) / len(some)
            for mine, other in zip((one.recall.low, one.recall.high), newcombe_paired(*counts), strict=True):
                yield "recall, interval", mine, other
        called = [[i for i in everyone if f.predicted[i] == k] for f in (a, b)]
        if all(called):
            shares = [Fraction(sum(r[i] for i in c), len(c)) for r, c in zip(right, called, strict=True)]
            yield "precision, difference", one.precision.value, float(shares[1] - shares[0])
            leads = [{i: (r[i] - s) / len(c) for i in c} for r, s, c in zip(right, shares, called, strict=True)]
            joint = sum(leads[0][i] * leads[1][i] for i in set(called[0]) & set(called[1]))
            spread = [sum(v * v for v in one_side.values()) for one_side in leads]
            phi = float(joint) / sqrt(float(spread[0]) * float(spread[1])) if all(spread) else 0.0
            (_l1, u1), (l2, _u2) = (wilson(sum(r[i] for i in c), len(c)) for r, c in zip(right, called, strict=True))
            p1, p2 = map(float, shares)
            low = p2 - p1 - sqrt(max(0.0, (p2 - l2) ** 2 - 2 * phi * (p2 - l2) * (u1 - p1) + (u1 - p1) ** 2))
            yield "precision, interval", one.precision.low, max(-1.0, low)
    for name, plain in (("log_loss", loss), ("brier", brier), ("ece", ece)):
        yield name, found.means[name].value, plain(b) - plain(a)
    for name in ("macro_f1", "balanced_accuracy"):
        one_side, other_side = (getattr(averages(m), name) for m in (found.matrix_a, found.matrix_b))
        yield name, found.means[name].value, other_side - one_side
    third = two_runs(rng, total, classes, (2.0, 2.0), labels=a.labels)[0]
    answers = np.array([*right, (third.predicted == third.labels).tolist()])
    rows, columns = answers.sum(axis=1).tolist(), answers.sum(axis=0).tolist()
    below = 3 * sum(rows) - sum(c * c for c in columns)
    q = 2 * (3 * sum(r * r for r in rows) - sum(rows) ** 2) / below if below else 0.0
    yield "Cochran's Q", cochran(answers)[0], q
    yield "Cochran's Q, p", cochran(answers)[1], float(chi2.sf(q, 2)) if below else 1.0


def of_sets(rng: np.random.Generator) -> Iterator[Pair]:
    classes = int(rng.integers(2, 6))
    a, b = (two_runs(rng, int(rng.integers(5, 200)), classes, (float(rng.uniform(0, 4)),) * 2)[0] for _ in range(2))
    found = two_sets(a, b, classes)
    hits, totals = [int((f.predicted == f.labels).sum()) for f in (a, b)], [len(a.labels), len(b.labels)]
    p1, p2 = (Fraction(h, n) for h, n in zip(hits, totals, strict=True))
    yield "two sets, top-1", found.top1.value, float(p2 - p1)
    (l1, u1), (l2, u2) = (wilson(h, n) for h, n in zip(hits, totals, strict=True))
    yield "two sets, interval", found.top1.low, float(p2 - p1) - sqrt((float(p2) - l2) ** 2 + (u1 - float(p1)) ** 2)
    yield "two sets, interval", found.top1.high, float(p2 - p1) + sqrt((u2 - float(p2)) ** 2 + (float(p1) - l1) ** 2)
    table = [[h, n - h] for h, n in zip(hits, totals, strict=True)]
    yield "Fisher", found.top1.p, float(fisher_exact(table).pvalue)
    mix = within = Fraction(0)
    for k in range(classes):
        n = [int((f.labels == k).sum()) for f in (a, b)]
        r = [int(((f.labels == k) & (f.predicted == k)).sum()) for f in (a, b)]
        w, w2 = Fraction(n[0], totals[0]), Fraction(n[1], totals[1])
        rate = Fraction(r[0], n[0]) if n[0] else Fraction(r[1], n[1]) if n[1] else Fraction(0)
        rate2 = Fraction(r[1], n[1]) if n[1] else rate
        mix += (w2 - w) * (rate2 + rate) / 2
        within += (rate2 - rate) * (w2 + w) / 2
    yield "drop, class mix", found.drop.class_mix, float(mix)
    yield "drop, within", found.drop.within, float(within)
    yield "drop, by pair", sum(one.part for one in found.drop.pairs), float(within)


def of_features(rng: np.random.Generator) -> Iterator[Pair]:
    n, m = int(rng.integers(10, 25)), int(rng.integers(10, 25))
    made = rng.normal(0, 1, (n + m, 5))
    made /= np.linalg.norm(made, axis=1, keepdims=True)
    found = unlike(made[:n].astype(np.float32), made[n:].astype(np.float32), seed=1)
    apart = np.array([[float(((x - y) ** 2).sum()) for y in made] for x in made])
    width = float(np.median(apart[apart > 1e-12]))
    kernel = np.exp(-apart / (2 * width))
    inside = (kernel[:n, :n].sum() - n) / (n * (n - 1)) + (kernel[n:, n:].sum() - m) / (m * (m - 1))
    yield "discrepancy (32 bits)", found.mmd if found is not None else None, float(inside - 2 * kernel[:n, n:].mean())


def main() -> None:
    worst, asked = defaultdict[str, float](float), defaultdict[str, int](int)
    for seed in range(RUNS):
        rng = np.random.default_rng(seed)
        for name, mine, other in (*of_pairs(rng), *of_sets(rng), *of_features(rng)):
            asked[name] += 1
            if (mine is None) != (other is None):
                worst[name] = float("inf")
            elif mine is not None and other is not None:
                worst[name] = max(worst[name], abs(mine - other) / max(abs(other), FLOOR))
    for name, value in sorted(worst.items(), key=lambda item: -item[1]):
        print(f"{name:26} {value:.1e}   ({asked[name]} compared)")


if __name__ == "__main__":
    main()
