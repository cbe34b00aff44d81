"""How often 95 % intervals hold the true value, how often tests raise a false alarm, and how far ECE is off, by simulation.

Data are drawn from a model whose truth is known: logits at random, labels from their probabilities sharpened or flattened.
"""

from __future__ import annotations

import sys

import numpy as np

from mivrat.core.figures.bootstrap import bootstrap
from mivrat.core.figures.calibration import calibration, ece_if_calibrated
from mivrat.core.figures.groups import group_figures
from mivrat.core.figures.outcomes import Outcomes, outcomes
from mivrat.core.figures.significance import against_claim, even_split
from mivrat.core.figures.summary import Figures, summarise

CLASSES, TRUTH = 5, 400_000


def softmax(scores: np.ndarray) -> np.ndarray:
    p = np.exp(scores - scores.max(axis=1, keepdims=True))
    return p / p.sum(axis=1, keepdims=True)


def drawn(images: int, rng: np.random.Generator, sharp: float) -> Outcomes:
    scores = rng.normal(0, 1.8, (images, CLASSES))
    cumulated = softmax(scores / sharp).cumsum(axis=1)
    labels = np.minimum((rng.random((images, 1)) > cumulated).sum(axis=1), CLASSES - 1)
    return outcomes(scores, softmax(scores), labels)


def true_values(figures: Figures) -> dict[str, float]:
    assert figures.log_loss is not None
    found = {
        "top1": figures.top_k[1].value, "recall of a class": figures.classes[0].recall.value,
        "precision of a class": figures.classes[0].precision.value, "balanced_accuracy": figures.averages.balanced_accuracy,
        "macro_f1": figures.averages.macro_f1, "cohen_kappa": figures.averages.cohen_kappa, "mcc": figures.averages.mcc,
        "log_loss": figures.log_loss.value, "brier": figures.brier, "ece": figures.calibration.ece,
        "signed_gap": figures.calibration.signed_gap,
    }  # fmt: skip
    return {name: float(value or 0) for name, value in found.items()}


def main() -> None:
    runs, draws = (100, 200) if "--quick" in sys.argv else (400, 500)
    rng = np.random.default_rng(0)
    truth = true_values(summarise(drawn(TRUTH, rng, 1.6), CLASSES, [1]))
    for images in (20, 100, 1000):
        inside, told = dict.fromkeys(truth, 0), dict.fromkeys(truth, 0)
        for run in range(runs):
            found = drawn(images, rng, 1.6)
            figures = summarise(found, CLASSES, [1])
            first = figures.classes[0]
            bounds = {
                "top1": figures.top_k[1],
                "recall of a class": first.recall,
                "precision of a class": first.precision,
            }
            ends = {name: (one.low, one.high) for name, one in bounds.items() if one.low is not None}
            sampled = bootstrap(found, CLASSES, draws=draws, seed=run)
            ends |= {
                name: (one.low, one.high) for name, one in (sampled.of if sampled else {}).items() if name not in ends
            }
            for name, (low, high) in ends.items():
                if name in truth:
                    told[name] += 1
                    inside[name] += (low or 0) <= truth[name] <= (high or 0)
        shares = ", ".join(f"{name} {100 * inside[name] / max(1, told[name]):.1f}" for name in truth)
        print(f"N = {images}: intervals holding the truth, % of {runs}: {shares}")
    alarms = {"claim": 0, "direction": 0, "groups": 0}
    for _ in range(2000):
        hits = int(rng.binomial(200, 0.8))
        alarms["claim"] += against_claim(hits, 200, 0.8) < 0.05
        one = int(rng.binomial(30, 0.5))
        alarms["direction"] += even_split(one, 30 - one) < 0.05
        names = [f"g{k}" for k in rng.integers(0, 8, 300)]
        groups = group_figures(names, rng.random(300) < 0.8, np.full(300, 0.8), np.ones(300, bool))
        alarms["groups"] += any(group.p < 0.05 for group in groups)
    print("false alarms at 5 %: " + ", ".join(f"{name} {n / 20:.1f} %" for name, n in alarms.items()))
    for images in (20, 100, 1000):
        eces, chances, beyond = [], [], 0
        for run in range(200):
            found = drawn(images, rng, 1.0)
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
