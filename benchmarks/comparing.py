"""Simulated studies in which the truth is known: how often the intervals of a comparison hold it, how often tests raise a false
alarm where there is no difference, and how often they see one of three points."""

from __future__ import annotations

import sys
from collections import defaultdict
from collections.abc import Callable
from functools import partial

import numpy as np
from numpy.typing import NDArray

from mivrat.core.figures.outcomes import Outcomes
from mivrat.core.figures.paired import paired, with_intervals
from mivrat.core.figures.several import cochran
from mivrat.core.figures.shift_test import unlike
from mivrat.core.figures.two_sets import two_sets
from mivrat.core.figures.two_sets import with_intervals as sets_with_intervals
from mivrat.core.figures.uncertain_differences import figures_in_means
from tests.support.two_runs import two_runs

CLASSES = 4
# Strengths at which accuracies are three points apart.
THREE_POINTS = (2.3, 2.512)
Unit = NDArray[np.int64] | None


def truth(make: Callable[[np.random.Generator, int], tuple[Outcomes, ...]], parts: int = 10) -> dict[str, float]:
    """The differences of a million images."""
    rng, found = np.random.default_rng(99), defaultdict(list)
    for _ in range(parts):
        a, b = make(rng, 100_000)[:2]
        one, other = figures_in_means(a, CLASSES), figures_in_means(b, CLASSES)
        for name in one:
            found[name].append(other[name] - one[name])
        right = [f.predicted == f.labels for f in (a, b)]
        found["top1"].append(right[1].mean() - right[0].mean())
        for k in range(CLASSES):
            found[f"recall {k}"].append(right[1][b.labels == k].mean() - right[0][a.labels == k].mean())
            found[f"precision {k}"].append(right[1][b.predicted == k].mean() - right[0][a.predicted == k].mean())
        found["balanced_accuracy"].append(float(np.mean([found[f"recall {k}"][-1] for k in range(CLASSES)])))
        rates = [[r[f.labels == k].mean() for k in range(CLASSES)] for r, f in zip(right, (a, b), strict=True)]
        shares = [[(f.labels == k).mean() for k in range(CLASSES)] for f in (a, b)]
        w, w2, r, r2 = (np.array(x) for x in (*shares, *rates))
        found["class_mix"].append(float(((w2 - w) * (r2 + r) / 2).sum()))
        found["within"].append(float(((r2 - r) * (w2 + w) / 2).sum()))
    return {name: float(np.mean(values)) for name, values in found.items()}


def covered(studies: int, sizes: tuple[int, ...]) -> None:
    print("coverage of nominal 95 % intervals of paired differences, and false alarms where both models are as good")
    settings = [
        ("strong, alike", (3.2, 3.5), 0.8, 0),
        ("weak, unlike", (1.2, 1.5), 0.2, 0),
        ("equal", (2.5, 2.5), 0.6, 0),
        ("over 30 units", (2.2, 2.6), 0.5, 30),
    ]
    for name, strength, alike, units in settings:
        target = truth(lambda rng, n, s=strength, c=alike, u=units: two_runs(rng, n, CLASSES, s, c, 3000 if u else 0))
        for size in sizes:
            inside, missing, alarms = (
                defaultdict[str, list[bool]](list),
                defaultdict[str, int](int),
                defaultdict[str, int](int),
            )
            for seed in range(studies):
                a, b, unit = two_runs(np.random.default_rng(seed), size, CLASSES, strength, alike, units)
                found = with_intervals(paired(a, b, CLASSES, (1,), unit), a, b, CLASSES, unit, seed)
                assert found is not None
                told = {"top1": found.top1, **found.means}
                told |= {f"recall {k}": c.recall for k, c in enumerate(found.classes)}
                told |= {f"precision {k}": c.precision for k, c in enumerate(found.classes)}
                for what, one in told.items():
                    if one.low is None or one.high is None:
                        missing[what.split()[0]] += 1
                    else:
                        inside[what.split()[0]].append(one.low <= target[what] <= one.high)
                if strength[0] == strength[1]:
                    alarms["McNemar"] += (found.top1.p or 1) < 0.05
                    alarms["any class, Holm"] += any(c.p_holm < 0.05 for c in found.classes)
            line = "  ".join(f"{what} {100 * np.mean(hits):.1f}" for what, hits in inside.items())
            line += "   none: " + ", ".join(f"{w} {n}" for w, n in missing.items()) if missing else ""
            line += (
                "   alarms: " + ", ".join(f"{w} {100 * n / studies:.1f}" for w, n in alarms.items()) if alarms else ""
            )
            print(f"{name:16} N = {size:5}  {line}", flush=True)


def widely_covered(studies: int) -> None:
    """Coverage over models of 2 to 30 classes, balanced and not, alike and not, of which the second is as sure as the first, or far surer
    than it should be: median, lowest and highest."""
    print("\npaired differences of 24 pairs of models, median (lowest to highest) of the share of intervals that hold")
    pairs = [
        (classes, strength, sure, alike, even)
        for classes in (2, 5, 30)
        for strength, sure in (((1.0, 1.0), 1.0), ((2.5, 2.5), 1.0), ((1.0, 1.3), 2.0), ((2.5, 2.8), 2.0))
        for alike, even in ((0.5, False), (0.95, True))
    ]
    for size in (20, 50, 100, 300, 1000):
        held = defaultdict[str, list[float]](list)
        for classes, strength, sure, alike, even in pairs:
            mix = np.ones(classes) if even else np.geomspace(1, 0.1, classes)
            sharp = max(1.0, strength[0]), sure * max(1.0, strength[1])
            make = partial(
                two_runs, classes=classes, strength=strength, alike=alike, mix=(mix / mix.sum()).tolist(), sharp=sharp
            )
            big = make(np.random.default_rng(99), 200_000)[:2]
            target = {name: one.value for name, one in paired(*big, classes).means.items()}
            inside = defaultdict[str, list[bool]](list)
            for seed in range(studies):
                a, b, _ = make(np.random.default_rng([seed, size]), size)
                found = with_intervals(paired(a, b, classes), a, b, classes, seed=seed)
                assert found is not None
                for name, one in found.means.items():
                    if one.low is not None and one.high is not None:
                        inside[name].append(one.low <= (target[name] or 0) <= one.high)
            for name, hits in inside.items():
                if len(hits) >= studies / 3:
                    held[name].append(100 * float(np.mean(hits)))
        line = "  ".join(f"{n} {np.median(v):.0f} ({min(v):.0f}–{max(v):.0f})" for n, v in held.items())
        print(f"N = {size:5}  {line}", flush=True)


def sets_covered(studies: int, sizes: tuple[int, ...]) -> None:
    print("\ncoverage of intervals of differences between two sets and of the parts of the drop")
    settings = [
        ("another mix", (2.4, 2.4), ((0.4, 0.3, 0.2, 0.1), (0.1, 0.2, 0.3, 0.4)), 0),
        ("worse", (2.6, 1.9), ((0.4, 0.3, 0.2, 0.1), (0.3, 0.3, 0.2, 0.2)), 0),
        ("over 30 units each", (2.4, 2.0), ((0.4, 0.3, 0.2, 0.1), (0.25, 0.25, 0.25, 0.25)), 30),
    ]
    for name, strength, mixes, units in settings:

        def make(
            rng: np.random.Generator, n: int, s=strength, m=mixes, u=units
        ) -> tuple[Outcomes, Outcomes, Unit, Unit]:  # type: ignore[no-untyped-def]
            sides, unit = [], []
            for one, mix in zip(s, m, strict=True):
                labels = None if u else rng.choice(CLASSES, n, p=mix)
                found, _, of = two_runs(rng, n, CLASSES, (one, one), 1.0, u, labels, mix=mix)
                sides.append(found)
                unit.append(of)
            return sides[0], sides[1], unit[0], unit[1]

        target = truth(lambda rng, n, u=units: make(rng, n, u=3000 if u else 0))
        for size in sizes:
            inside, missing = defaultdict[str, list[bool]](list), defaultdict[str, int](int)
            for seed in range(studies):
                a, b, unit_a, unit_b = make(np.random.default_rng(seed), size)
                found = sets_with_intervals(
                    two_sets(a, b, CLASSES, (1,), unit_a, unit_b), a, b, CLASSES, unit_a, unit_b, seed
                )
                assert found is not None
                told = {"top1": found.top1, **found.means}
                told |= {f"recall {k}": c.recall for k, c in enumerate(found.classes)}
                told |= {f"precision {k}": c.precision for k, c in enumerate(found.classes)}
                ends = {what: (one.low, one.high) for what, one in told.items()}
                ends |= found.drop.intervals or {"class_mix": (None, None), "within": (None, None)}
                for what, (low, high) in ends.items():
                    if low is None or high is None:
                        missing[what.split()[0]] += 1
                    else:
                        inside[what.split()[0]].append(low <= target[what] <= high)
            line = "  ".join(f"{what} {100 * np.mean(hits):.1f}" for what, hits in inside.items())
            line += "   none: " + ", ".join(f"{w} {n}" for w, n in missing.items()) if missing else ""
            print(f"{name:18} N = {size:5}  {line}", flush=True)


def alarms(studies: int) -> None:
    """How often each test is below 5 % where there is no difference, and where the true one is three points."""
    print(
        f"\nfalse alarms of every test where there is no difference (5 % ± {196 * np.sqrt(0.05 * 0.95 / studies):.1f})"
    )
    for size in (50, 200, 1000):
        told = defaultdict[str, list[bool]](list)
        for seed in range(studies):
            rng = np.random.default_rng(seed)
            a, b, _ = two_runs(rng, size, CLASSES, (2.3, 2.3), 0.6)
            found = paired(a, b, CLASSES)
            told["McNemar"].append((found.top1.p or 1) < 0.05)
            told["any class of four, Holm"].append(any(c.p_holm < 0.05 for c in found.classes))
            a, b, unit = two_runs(rng, size, CLASSES, (2.3, 2.3), 0.6, 30)
            found = paired(a, b, CLASSES, (1,), unit)
            told["signs of 30 units"].append((found.top1.p or 1) < 0.05)
            one, other, _ = two_runs(rng, size, CLASSES, (2.3, 2.3), 0.6)
            third = two_runs(rng, size, CLASSES, (2.3, 2.3), 0.6, labels=one.labels)[0]
            right = np.stack([x.predicted == x.labels for x in (one, other, third)])
            told["Cochran's Q of three"].append(cochran(right)[1] < 0.05)
            a, b = two_runs(rng, size, CLASSES)[0], two_runs(rng, size, CLASSES)[0]
            sets = two_sets(a, b, CLASSES)
            told["Fisher, two sets"].append((sets.top1.p or 1) < 0.05)
            told["any class of two sets, Holm"].append(any(c.p_holm < 0.05 for c in sets.classes))
            if size < 1000:
                (a, _, unit_a), (b, _, unit_b) = (two_runs(rng, size, CLASSES, units=20) for _ in range(2))
                told["units dealt anew"].append((two_sets(a, b, CLASSES, (1,), unit_a, unit_b).top1.p or 1) < 0.05)
            if seed < min(studies, 200) and size < 1000:
                made = rng.normal(0, 1, (2 * size, 16)).astype(np.float32)
                made /= np.linalg.norm(made, axis=1, keepdims=True)
                apart = unlike(made[:size], made[size:], seed=seed)
                told["discrepancy, one set dealt in two"].append(
                    apart is not None and apart.p is not None and apart.p < 0.05
                )
        print(
            f"N = {size:5}  " + ", ".join(f"{what} {100 * np.mean(hits):.1f}" for what, hits in told.items()),
            flush=True,
        )
    print("\npower at a true difference of three points in accuracy")
    for size in (50, 200, 1000):
        told = defaultdict[str, list[bool]](list)
        for seed in range(studies):
            rng = np.random.default_rng(seed)
            for alike in (0.2, 0.8):
                a, b, _ = two_runs(rng, size, CLASSES, THREE_POINTS, alike)
                told[f"McNemar, {'alike' if alike > 0.5 else 'unlike'} models"].append(
                    (paired(a, b, CLASSES).top1.p or 1) < 0.05
                )
            a, b = (two_runs(rng, size, CLASSES, (one, one), 1.0)[0] for one in THREE_POINTS)
            told["Fisher, two sets"].append((two_sets(a, b, CLASSES).top1.p or 1) < 0.05)
        print(
            f"N = {size:5}  " + ", ".join(f"{what} {100 * np.mean(hits):.1f}" for what, hits in told.items()),
            flush=True,
        )


def main() -> None:
    studies = int(sys.argv[1]) if len(sys.argv) > 1 else 500
    told = truth(lambda rng, n: two_runs(rng, n, CLASSES, THREE_POINTS, 0.5))
    print(f"{studies} studies each; the models three points apart really are {100 * told['top1']:.2f} points apart\n")
    sizes = (50, 200, 1000)
    covered(studies, sizes)
    widely_covered(studies // 2)
    sets_covered(studies, sizes)
    alarms(studies)


if __name__ == "__main__":
    main()
