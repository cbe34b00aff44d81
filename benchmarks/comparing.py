"""Simulated studies in which the truth is known: how often the intervals of a comparison hold it, how often tests raise a false
alarm where there is no difference, and how often they see one of three points."""

from __future__ import annotations

import sys
from collections import defaultdict
from collections.abc import Callable

import numpy as np

from mivrat.core.figures.outcomes import Outcomes
from mivrat.core.figures.paired import paired, with_intervals
from mivrat.core.figures.resampling import Sums
from tests.support.two_runs import two_runs

CLASSES = 4


def truth(make: Callable[[np.random.Generator, int], tuple[Outcomes, ...]], parts: int = 10) -> dict[str, float]:
    """The differences of a million images."""
    rng, found = np.random.default_rng(99), defaultdict(list)
    for _ in range(parts):
        a, b = make(rng, 100_000)[:2]
        one, other = Sums.of(a, CLASSES).figures(), Sums.of(b, CLASSES).figures()
        for name in one:
            found[name].append((other[name] or 0) - (one[name] or 0))
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


def main() -> None:
    studies = int(sys.argv[1]) if len(sys.argv) > 1 else 500
    covered(studies, (50, 200, 1000))


if __name__ == "__main__":
    main()
