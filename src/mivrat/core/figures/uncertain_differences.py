"""Intervals for differences of figures that are no shares: of two runs on the same images, or of two sets. Always b - a.

As with one run's intervals nothing is drawn again but the noise in the bins of the ECE. How often they hold is in
docs/intervals.md.
"""

from __future__ import annotations

from dataclasses import replace
from math import hypot, sqrt
from typing import TYPE_CHECKING

import numpy as np
from numpy.typing import NDArray

from mivrat.core.base.lazy_module import LazyModule
from mivrat.core.figures.differences import Difference
from mivrat.core.figures.jackknife import counts_of, without_each
from mivrat.core.figures.metrics import COUNTED
from mivrat.core.figures.outcomes import Outcomes
from mivrat.core.figures.probability import losses, squared_errors
from mivrat.core.figures.tally import Tally
from mivrat.core.figures.uncertainty import (
    LEAST,
    LEAST_A_CLASS,
    LEAST_FOR_ECE,
    LEAST_UNITS,
    as_expected,
    by_unit,
    ece_ends,
    images_a_class,
    intervals,
    score_interval,
)

if TYPE_CHECKING:
    from scipy import special
else:
    special = LazyModule("scipy.special")

Numbers = NDArray[np.float64]
Unit = NDArray[np.integer] | None
Ends = tuple[float, float]
# Means over classes whose differences are taken by a jackknife, with their places in COUNTED; that of balanced accuracy follows from
# the classes' recall.
_MEANS = tuple(
    (place, one.key)
    for place, one in enumerate(COUNTED)
    if one.compared and one.counted is not None and one.counted.over_classes and one.key != "balanced_accuracy"
)
# So many changed images more than were seen count, each as far apart as one image moves a figure.
_UNSEEN = 1.0


def figures_in_means(found: Outcomes, classes: int) -> dict[str, float]:
    """The figures that are no shares, by name; those that are not known are left out."""
    if not len(found.labels):
        return {}
    counted = counts_of(found, classes).figures()
    known: dict[str, float | None] = {key: float(counted[place]) for place, key in _MEANS}
    tally = Tally.of(found, classes)
    loss = tally.log_loss()
    if loss is not None:
        known["log_loss"], known["brier"] = loss.value, tally.brier()
    if not tally.unsure:
        known["ece"] = tally.calibration().ece
    return {name: value for name, value in known.items() if value is not None and not np.isnan(value)}


def with_ends(means: dict[str, Difference], ends: dict[str, Ends]) -> dict[str, Difference]:
    """Differences with the ends of their intervals, those that have any."""
    return {
        name: replace(one, low=ends[name][0], high=ends[name][1]) if name in ends else one
        for name, one in means.items()
    }


# --- two runs on the same images ---


def paired_ends(
    a: Outcomes,
    b: Outcomes,
    classes: int,
    unit: Unit = None,
    seed: int = 0,
) -> dict[str, Ends] | None:
    """The ends of the 95 % intervals of b - a, by figure, over images or the units that ``unit`` numbers; none where there are too few,
    or where all images came out the same. None where it was stopped."""
    total = len(a.labels)
    if unit is not None:
        unit = np.unique(unit, return_inverse=True)[1]
    if total < LEAST or (unit is not None and int(unit.max()) + 1 < LEAST_UNITS):
        return {}
    found = {}
    enough = images_a_class(counts_of(a, classes).support)[0] >= LEAST_A_CLASS
    if enough and (a.predicted != b.predicted).any():
        left = [without_each(one, classes, unit) for one in (a, b)]
        if left[0] is None or left[1] is None:
            return None
        for place, key in _MEANS:
            found[key] = _mean_over_classes(a, b, classes, unit, place, left[1][:, place] - left[0][:, place])
    if a.complete and b.complete:
        errors = [squared_errors(one.own, one.squares) for one in (a, b)]
        for name, seen in (("log_loss", losses(b.own) - losses(a.own)), ("brier", errors[1] - errors[0])):
            if seen.any():
                found[name] = _mean(seen, name, a, b, classes, unit)
    if np.array_equal(a.confidence, b.confidence) and np.array_equal(a.predicted, b.predicted):
        return found
    found |= _eces(a, b, unit, unit, seed)
    return found


def _mean_over_classes(a: Outcomes, b: Outcomes, classes: int, unit: Unit, place: int, lead: Numbers) -> Ends:
    """Jackknife of the difference (Tukey 1958): each image, or unit, is left out of both at once, which leaves ``lead``."""
    counts = counts_of(a, classes)
    lead = lead[np.isfinite(lead)]
    many = len(lead)
    value = float(counts_of(b, classes).figures()[place] - counts.figures()[place])
    mean = float(lead.mean())
    variance = (many - 1) / many * float(((lead - mean) ** 2).sum())
    there = counts.support > 0
    total = counts.support.sum()
    # What one image moves such a mean by, squared, on average over images.
    one = float((1 / counts.support[there]).sum()) / there.sum() ** 2 / total
    changed = (a.predicted == a.labels) != (b.predicted == b.labels)
    many_changed = float(changed.sum()) if unit is None else float(len(np.unique(unit[changed])))
    if unit is not None:
        one *= total / many
    variance += _UNSEEN * one
    half = float(special.stdtrit(min(many - 1.0, many_changed + 3.0), 0.975)) * sqrt(variance)
    centre = value * many - (many - 1) * mean
    return max(-1.0, centre - half), min(1.0, centre + half)


def _mean(seen: Numbers, name: str, a: Outcomes, b: Outcomes, classes: int, unit: Unit) -> Ends:
    """The score interval of the mean of the differences ``seen``, image by image."""
    mean = float(seen.mean())
    wrong = (a.predicted != a.labels) | (b.predicted != b.labels)
    if unit is not None:
        return score_interval(by_unit(seen, unit), mean, float(len(np.unique(unit[wrong]))), 0.0, 0.0)
    # As the models expect, the less sure one where they say the same; of images on which that is wrong, as many are told apart as were
    # seen to be, and one of two more.
    (right_a, wrong_a), (right_b, wrong_b) = (as_expected(name, one.confidence, classes) for one in (a, b))
    same = a.predicted == b.predicted
    both: Numbers = np.where(same, np.minimum(a.confidence, b.confidence), 0.0)
    apart = (np.count_nonzero(wrong & ~same) + 1) / (np.count_nonzero(wrong) + 2)
    only_a, only_b = (np.where(same, (1 - both) * apart / 2, one.confidence / 2) for one in (a, b))
    cases = (
        (both, right_b - right_a),
        (only_a, wrong_b - right_a),
        (only_b, right_b - wrong_a),
        (1 - both - only_a - only_b, wrong_b - wrong_a),
    )
    first, second, third = (float(sum((p * d**power).mean() for p, d in cases)) for power in (1, 2, 3))
    variance = max(0.0, second - first**2)
    slope = (third - 3 * first * second + 2 * first**3) / variance if variance > 0 else 0.0
    if slope < 0:  # the same from the other side
        low, high = score_interval(-seen, -mean, float(wrong.sum()), variance, -slope)
        return -high, -low
    return score_interval(seen, mean, float(wrong.sum()), variance, slope)


def _eces(a: Outcomes, b: Outcomes, unit_a: Unit, unit_b: Unit, seed: int) -> dict[str, Ends]:
    """The difference of two ECEs, each less what chance adds, where both are known and there are enough images. That both may be of the
    same images is left out of account: the noise in the bins has little in common."""
    rng, found = np.random.default_rng(seed), []
    for one, unit in ((a, unit_a), (b, unit_b)):
        if len(one.labels) < LEAST_FOR_ECE or np.isnan(one.confidence).any():
            return {}
        low, middle, high = ece_ends(one.confidence, (one.predicted == one.labels).astype(float), unit, rng)
        found.append((middle, low, high))
    low, high = _joined(found[0], found[1])
    return {"ece": (max(-1.0, low), min(1.0, high))}


def _joined(a: tuple[float, float, float], b: tuple[float, float, float]) -> Ends:
    """The interval of b - a from both values and their ends: the halves squared and added (Zou and Donner 2008)."""
    value = b[0] - a[0]
    return value - hypot(b[0] - b[1], a[2] - a[0]), value + hypot(b[2] - b[0], a[0] - a[1])


# --- two sets ---


def unpaired_ends(
    a: Outcomes,
    b: Outcomes,
    classes: int,
    unit_a: Unit = None,
    unit_b: Unit = None,
    seed: int = 0,
) -> dict[str, Ends] | None:
    """The same for two sets that have nothing to do with each other, from the intervals of both."""
    told = [intervals(one, classes, unit, seed=seed) for one, unit in ((a, unit_a), (b, unit_b))]
    if told[0] is None or told[1] is None:
        return None
    plain = [figures_in_means(one, classes) for one in (a, b)]
    found: dict[str, Ends] = {}
    for name in (*(key for _, key in _MEANS), "log_loss", "brier"):
        one, other = told[0].of.get(name), told[1].of.get(name)
        if one is not None and other is not None:
            found[name] = _joined((plain[0][name], one.low, one.high), (plain[1][name], other.low, other.high))
    if "ece" in told[0].of and "ece" in told[1].of:
        found |= _eces(a, b, unit_a, unit_b, seed)
    return found
