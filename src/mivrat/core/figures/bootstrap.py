"""Intervals by resampling images, or whole groups of them, for figures that are no proportions."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from mivrat.core.figures.calibration import BINS, bin_index
from mivrat.core.figures.outcomes import Outcomes
from mivrat.core.figures.probability import losses, squared_errors

DRAWS = 2000
# With fewer images than this, intervals by resampling hold the true value clearly less often than 95 %.
FEW = 100
# With fewer still there are none: drawing the same handful again and again says nothing of other images.
LEAST = 20
# The same for units of images that belong together.
FEW_UNITS, LEAST_UNITS = 10, 5
NAMES = (
    "top1",
    "balanced_accuracy",
    "macro_f1",
    "weighted_f1",
    "cohen_kappa",
    "mcc",
    "log_loss",
    "brier",
    "ece",
    "signed_gap",
)


@dataclass(frozen=True)
class Interval:
    """A 95 % interval."""

    low: float
    high: float


@dataclass(frozen=True)
class Intervals:
    """Intervals by figure (only those that are defined), and how they were made: resampling images within each label, or
    whole ``units`` of images that a ``column`` says belong together. They are percentiles of the draws; for the ECE, which is
    biased upward, the percentiles are mirrored at the figure (basic bootstrap, Davison 1997)."""

    of: dict[str, Interval]
    draws: int
    column: str = ""
    total: int = 0
    units: int | None = None

    def how(self) -> str:
        """How they were made, in words."""
        what = "images are drawn within each label"
        if self.units is not None:
            what = f"whole units of '{self.column}' are drawn ({self.units} of them)"
        few = " With so few images it is too narrow." if self.total < FEW else ""
        if self.units is not None and self.units < FEW_UNITS:
            few = " So few units tell little: it is too narrow."
        return f"Interval: bootstrap, {self.draws} draws, {what}; 95 %.{few}"


def bootstrap(
    found: Outcomes,
    classes: int,
    groups: NDArray[np.integer] | None = None,
    column: str = "",
    draws: int = DRAWS,
    seed: int = 0,
    stopped: Callable[[], bool] = lambda: False,
) -> Intervals | None:
    """Intervals over N outcomes (Efron 1979). With ``groups`` (a unit's number per image) whole units are drawn, because
    images of one unit are not independent. None where it was stopped, or there are fewer than LEAST images or LEAST_UNITS."""
    total = len(found.labels)
    units = len(np.unique(groups)) if groups is not None else None
    if total < LEAST or (units is not None and units < LEAST_UNITS):
        return None
    rng, weigh = np.random.default_rng(seed), _Weighed(found, classes)
    by_label = np.argsort(found.labels, kind="stable")
    size = np.bincount(found.labels, minlength=classes)
    start = np.concatenate([[0], np.cumsum(size)[:-1]])
    first, many = start[found.labels[by_label]], size[found.labels[by_label]]
    drawn = np.empty((draws, len(NAMES)))
    for i in range(draws):
        if i % 50 == 0 and stopped():
            return None
        if groups is None:
            picked = by_label[first + (rng.random(total) * many).astype(np.int64)]
            weights = np.bincount(picked, minlength=total)
        else:
            number = int(groups.max()) + 1
            weights = np.bincount(rng.integers(0, number, number), minlength=number)[groups]
        drawn[i] = weigh.figures(weights)
    kept, plain = {}, weigh.figures(np.ones(total, np.int64))
    for j, name in enumerate(NAMES):
        if not np.isnan(drawn[:, j]).any():
            low, high = (float(bound) for bound in np.quantile(drawn[:, j], [0.025, 0.975]))
            if name == "ece":
                # Drawing again adds to the bias that the ECE has already; taken the other way round it is taken off.
                here = plain[j]
                low, high = max(0.0, 2 * here - high), max(0.0, min(1.0, 2 * here - low))
            # Draws that are all alike say nothing of how far off the figure may be.
            if low < high:
                kept[name] = Interval(low, high)
    return Intervals(kept, draws, column, total, units)


class _Weighed:
    """The figures in NAMES over images that count several times or not at all."""

    def __init__(self, found: Outcomes, classes: int) -> None:
        self.labels, self.predicted, self.classes = found.labels, found.predicted, classes
        self.right = (found.predicted == found.labels).astype(float)
        self.loss = losses(found.own) if found.complete else None
        self.error = squared_errors(found.own, found.squares) if found.complete else None
        sure = not np.isnan(found.confidence).any()
        self.where = bin_index(found.confidence, BINS) if sure else None
        self.lead = found.confidence - self.right

    def figures(self, weights: NDArray[np.integer]) -> list[float]:
        total, k = float(weights.sum()), self.classes
        if not total:
            return [np.nan] * len(NAMES)
        support = np.bincount(self.labels, weights, k)
        predicted = np.bincount(self.predicted, weights, k)
        hits = np.bincount(self.labels, weights * self.right, k)
        there = support > 0
        f1 = 2 * hits / np.maximum(support + predicted, 1e-300)
        agreed, by_chance = hits.sum() / total, float(support @ predicted) / total**2
        spread = (total**2 - float(predicted @ predicted)) * (total**2 - float(support @ support))
        ece = gap = np.nan
        if self.where is not None:
            sums = np.bincount(self.where, weights * self.lead, BINS)
            ece, gap = float(np.abs(sums).sum() / total), float(sums.sum() / total)
        return [
            agreed,
            float((hits[there] / support[there]).mean()),
            float(f1[there].mean()),
            float(f1 @ support / total),
            (agreed - by_chance) / (1 - by_chance) if by_chance < 1 else np.nan,
            (hits.sum() * total - float(support @ predicted)) / np.sqrt(spread) if spread > 0 else np.nan,
            float(weights @ self.loss / total) if self.loss is not None else np.nan,
            float(weights @ self.error / total) if self.error is not None else np.nan,
            ece,
            gap,
        ]
