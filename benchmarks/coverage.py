"""How often 95 % intervals hold the true value, and how often tests raise a false alarm, by simulation.

Models are made up whose truth is known: weak and strong, balanced and lopsided, calibrated, over- and underconfident; of 2 to 100
classes; images alone, and in units that share their difficulty. ``--quick`` for a tenth of the draws, ``--doc`` for the tables of
docs/intervals.md.
"""

from __future__ import annotations

import sys
from collections import defaultdict
from collections.abc import Iterator
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from mivrat.core.figures.calibration import calibration, ece_if_calibrated
from mivrat.core.figures.confusion import f1_of
from mivrat.core.figures.groups import group_figures
from mivrat.core.figures.intervals import proportion
from mivrat.core.figures.outcomes import Outcomes, outcomes
from mivrat.core.figures.ranked import OfClass, auroc_ends, average_precision_ends, of_class
from mivrat.core.figures.significance import even_split
from mivrat.core.figures.summary import Figures, summarise
from mivrat.core.figures.uncertainty import COUNTED, NAMES, intervals
from mivrat.core.figures.units import alike_of, share

TRUTH, SIZES = 200_000, (20, 50, 100, 300, 1000)


def softmax(scores: NDArray[np.float64]) -> NDArray[np.float64]:
    p = np.exp(scores - scores.max(axis=1, keepdims=True))
    return p / p.sum(axis=1, keepdims=True)


@dataclass(frozen=True)
class Made:
    """A made-up model on made-up images: how far the labelled class's score stands out, by how much scores are sharper than they
    should be (below 1: flatter), whether classes are lopsided (1 to 10), and of units how much their images share."""

    classes: int
    strength: float
    sharp: float
    lopsided: bool
    shared: float = 0.0

    @property
    def name(self) -> str:
        kind = {0.7: "underconfident", 1.0: "calibrated", 1.8: "overconfident"}[self.sharp]
        return (
            f"{self.classes} classes, {'lopsided' if self.lopsided else 'balanced'}, strength {self.strength}, {kind}"
        )

    def draw(
        self, images: int, rng: np.random.Generator, units: int = 0, uneven: bool = False
    ) -> tuple[Outcomes, NDArray[np.int64] | None, OfClass]:
        """So many images, the units they are of, all of about one size or ``uneven`` (log-normal, sd 1), and how the first class ranks."""
        share = np.geomspace(1, 0.1, self.classes) if self.lopsided else np.ones(self.classes)
        share = share / share.sum()
        sizes = rng.lognormal(0, 1, units) if uneven else np.ones(units)
        unit = np.sort(rng.choice(units, images, p=sizes / sizes.sum())) if units else None
        meant = rng.choice(self.classes, images, p=share)
        scores = rng.normal(0, 1, (images, self.classes))
        lead = np.full(images, self.strength)
        if unit is not None:
            lead = lead + self.shared * rng.normal(0, 1, units)[unit]
        scores[np.arange(images), meant] += lead
        scores = scores * max(1.0, self.strength) + np.log(share)
        cumulated = softmax(scores / self.sharp).cumsum(axis=1)
        labels = np.minimum((rng.random((images, 1)) > cumulated).sum(axis=1), self.classes - 1)
        probabilities = softmax(scores)
        return (
            outcomes(scores, probabilities, labels),
            unit,
            of_class(probabilities[:, 0], np.flatnonzero(labels == 0), 1),
        )


MODELS = tuple(
    Made(classes, strength, sharp, lopsided)
    for classes in (2, 3, 10, 100)
    for strength in (0.8, 2.0, 3.2)
    for sharp in (0.7, 1.0, 1.8)
    for lopsided in (False, True)
)
UNITED = tuple(Made(classes, strength, 1.8, False, 1.0) for classes in (2, 5) for strength in (0.8, 2.0))


def truth_of(figures: Figures) -> dict[str, float]:
    assert figures.log_loss is not None
    found = {name: getattr(figures.averages, name) for name in COUNTED} | {
        "log_loss": figures.log_loss.value,
        "brier": figures.brier,
        "ece": figures.calibration.ece,
        "signed_gap": figures.calibration.signed_gap,
        "top1": figures.top_k[1].value,
        "recall": figures.classes[0].recall.value,
        "precision": figures.classes[0].precision.value,
        "f1": figures.classes[0].f1,
    }
    return {name: float(value or 0) for name, value in found.items()}


def ranking_of(ranked: OfClass) -> dict[str, float]:
    return {"auroc": float(ranked.auroc or 0), "average_precision": float(ranked.average_precision or 0)}


def shown(
    made: Made, images: int, runs: int, truth: dict[str, float], units: int = 0, uneven: bool = False
) -> Iterator[tuple[str, bool]]:
    """For each interval shown in so many studies whether it holds the truth."""
    rng = np.random.default_rng(
        [images, made.classes, int(made.strength * 10), int(made.sharp * 10), made.lopsided, units]
    )
    for run in range(runs):
        found, unit, ranked = made.draw(images, rng, units, uneven)
        told = intervals(found, made.classes, unit, seed=run)
        assert told is not None
        for name, one in told.of.items():
            yield name, one.low <= truth[name] <= one.high
        if unit is not None:
            unit = np.unique(unit, return_inverse=True)[1]
            top1 = share(found.predicted == found.labels, unit, alike=alike_of(found, unit))
            if top1.low is not None and top1.high is not None:
                yield "top1", top1.low <= truth["top1"] <= top1.high
        else:
            right = found.predicted == found.labels
            first, called = found.labels == 0, found.predicted == 0
            shares = {
                "top1": proportion(int(right.sum()), images),
                "recall": proportion(int((right & first).sum()), int(first.sum())),
                "precision": proportion(int((right & called).sum()), int(called.sum())),
            }
            either = int((first | called).sum())
            shares["f1"] = f1_of(proportion(int((first & called).sum()), either))
            of, others = int(first.sum()), int((~first).sum())
            for name, ends in (
                ("auroc", auroc_ends(ranked.auroc, ranked.spread, of, others)),
                ("average_precision", average_precision_ends(ranked.average_precision, of, others)),
            ):
                if ends is not None:
                    yield name, ends[0] <= truth[name] <= ends[1]
            for name, one in shares.items():
                if one.low is not None and one.high is not None:
                    yield name, one.low <= truth[name] <= one.high


def sweep(
    models: tuple[Made, ...], runs: int, units: int = 0, uneven: bool = False
) -> dict[tuple[str, int], list[float]]:
    """By figure and N, the share held in each model where the interval is shown in a third of the studies at least."""
    found: dict[tuple[str, int], list[float]] = defaultdict(list)
    for made in models:
        big, _, ranked = made.draw(TRUTH, np.random.default_rng(99), TRUTH // 20 if units else 0, uneven)
        truth = truth_of(summarise(big, made.classes, [1])) | ranking_of(ranked)
        for images in SIZES if not units else (200,):
            held: dict[str, list[bool]] = defaultdict(list)
            for name, inside in shown(made, images, runs, truth, units, uneven):
                held[name].append(inside)
            for name, each in held.items():
                if len(each) >= runs / 3:
                    share = 100 * float(np.mean(each))
                    found[name, images].append(share)
                    if share < 90 and "--doc" not in sys.argv:
                        print(f"  low: {name}, N = {images}, {made.name}: {share:.1f} %", flush=True)
    return found


def table(found: dict[tuple[str, int], list[float]], sizes: tuple[int, ...]) -> list[str]:
    lines = [f"| figure | {' | '.join(f'N = {n}' for n in sizes)} |", f"|---|{'---|' * len(sizes)}"]
    for name in ("top1", "recall", "precision", "f1", "auroc", "average_precision", *NAMES):
        cells = []
        for n in sizes:
            each = found.get((name, n))
            cells.append("none" if not each else f"{np.median(each):.0f} ({min(each):.0f}–{max(each):.0f})")
        lines.append(f"| {name.replace('_', ' ')} | {' | '.join(cells)} |")
    return lines


def main() -> None:
    runs = 40 if "--quick" in sys.argv else 150
    print(f"Independent images: median over {len(MODELS)} models (lowest to highest), % of {runs} studies each")
    print("\n".join(table(sweep(MODELS, runs), SIZES)), flush=True)
    for uneven in (False, True):
        for units in (5, 10, 20, 50):
            sizes = "log-normal sizes (sd 1)" if uneven else "about one size"
            print(f"\n200 images in {units} units of {sizes}, {len(UNITED)} models")
            print("\n".join(table(sweep(UNITED, runs, units, uneven), (200,))), flush=True)
    alarms, rng = {"claim": 0, "direction": 0, "groups": 0}, np.random.default_rng(0)
    for _ in range(2000):
        hits = int(rng.binomial(200, 0.8))
        alarms["claim"] += proportion(hits, 200).p_against(0.8) < 0.05
        one = int(rng.binomial(30, 0.5))
        alarms["direction"] += even_split(one, 30 - one) < 0.05
        names = [f"g{k}" for k in rng.integers(0, 8, 300)]
        groups = group_figures(names, rng.random(300) < 0.8, np.full(300, 0.8), np.ones(300, bool))
        alarms["groups"] += any(group.p < 0.05 for group in groups)
    print("\nfalse alarms at 5 %: " + ", ".join(f"{name} {n / 20:.1f} %" for name, n in alarms.items()))
    made = Made(5, 1.6, 1.0, False)
    for images in (20, 100, 1000):
        eces, chances, beyond = [], [], 0
        for run in range(200):
            found, _, _ = made.draw(images, rng)
            ece = calibration(found.confidence, found.predicted == found.labels).ece or 0.0
            chance = ece_if_calibrated(found.confidence, draws=300, seed=run)
            assert chance is not None
            eces.append(ece)
            chances.append(chance.median)
            beyond += ece > chance.high
        print(
            f"N = {images}, perfectly calibrated: ECE {100 * np.mean(eces):.2f} % on average, less what chance shows "
            f"{100 * (np.mean(eces) - np.mean(chances)):+.2f} points; said to be more than chance in {beyond / 2:.1f} %"
        )


if __name__ == "__main__":
    main()
