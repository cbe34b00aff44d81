"""Intervals for figures that are no proportions, of independent images or of whole units of related images.

Nothing is drawn again but the noise in the bins of the ECE: what leaving one image (or unit) out does to a figure tells how far it may
be off, what the figure's own bounds are tells to which side. How often they hold is in docs/intervals.md.
"""

from __future__ import annotations

from dataclasses import dataclass, field
from math import ceil, sqrt
from typing import TYPE_CHECKING

import numpy as np
from numpy.typing import NDArray

from mivrat.core.base.lazy_module import LazyModule
from mivrat.core.figures.calibration import BINS, bin_index
from mivrat.core.figures.intervals import wilson
from mivrat.core.figures.jackknife import ClassCounts, counts_of, without_one, without_units
from mivrat.core.figures.metrics import BY_KEY, COUNTED, WITH_INTERVAL
from mivrat.core.figures.outcomes import Outcomes
from mivrat.core.figures.probability import losses, squared_errors

if TYPE_CHECKING:
    from scipy import special
else:
    special = LazyModule("scipy.special")

# Draws of the noise in the bins of the ECE.
NOISE = 1000
# Fewer images than this are few for a difference of two runs; fewer than LEAST say nothing of others.
FEW, LEAST = 100, 20
# The same for units of images that belong together.
FEW_UNITS, LEAST_UNITS = 10, 5
# Averages over classes take so many images a class (the harmonic mean), the ECE so many images in all.
LEAST_A_CLASS, LEAST_FOR_ECE = 3.0, 50
# Of so few degrees of freedom such an average's spread is not known.
LEAST_DEGREES = 4.0
NAMES = tuple(one.key for one in WITH_INTERVAL)
# So many answers of which nothing is known but what the model itself expects count beside the wrong ones that were seen:
# two or three mistakes alone would tell the spread badly.
_UNSEEN_COUNTED, _UNSEEN = 3.0, 2.0

Numbers = NDArray[np.float64]
Ends = tuple[float, float]


@dataclass(frozen=True)
class Interval:
    """A 95 % interval."""

    low: float
    high: float


@dataclass(frozen=True)
class Intervals:
    """Intervals by figure, and why others have none (``missing``, a sentence each); over so many ``units`` that a ``column`` says
    belong together, or over single images."""

    of: dict[str, Interval]
    column: str = ""
    total: int = 0
    units: int | None = None
    missing: dict[str, str] = field(default_factory=dict)

    def how(self, name: str) -> str:
        """How a figure's interval was made, or why there is none, in words."""
        if name not in self.of:
            return f"No interval: {self.missing.get(name, 'the figure is not defined here')}."
        way = BY_KEY[name].interval
        of = ""
        if self.units is not None:
            way = way.replace("image at a time", "unit at a time").replace("number of images", "number of units")
            few = "; unreliable: few units" if self.units < FEW_UNITS else ""
            of = f", over {self.units} units of '{self.column}'{few}"
        return f"Interval: {way}{of}; 95 %."


def intervals(
    found: Outcomes,
    classes: int,
    unit: NDArray[np.integer] | None = None,
    column: str = "",
    seed: int = 0,
) -> Intervals | None:
    """Intervals over N outcomes; with ``unit`` (a unit's number per image) over whole units, since images of one unit are not
    independent. None where it was stopped."""
    total = len(found.labels)
    if unit is not None:
        unit = np.unique(unit, return_inverse=True)[1]
    units = None if unit is None or not total else int(unit.max()) + 1
    missing: dict[str, str] = {}
    if total < LEAST:
        missing = dict.fromkeys(NAMES, f"{total} images are too few, {LEAST} are enough")
    elif units is not None and units < LEAST_UNITS:
        missing = dict.fromkeys(NAMES, f"{units} units are too few, {LEAST_UNITS} are enough")
    if missing:
        return Intervals({}, column, total, units, missing)
    ends = _of_counts(found, classes, unit, missing)
    if ends is None:
        return None
    if found.complete:
        ends |= _of_means(found, classes, unit)
    if not np.isnan(found.confidence).any():
        ends |= _of_confidence(found, unit, seed, missing)
    return Intervals({name: Interval(*ends[name]) for name in NAMES if name in ends}, column, total, units, missing)


# --- figures made of counts: averages over classes, kappa, correlation ---


def _of_counts(
    found: Outcomes,
    classes: int,
    unit: NDArray[np.integer] | None,
    missing: dict[str, str],
) -> dict[str, Ends] | None:
    """Jackknife (Quenouille 1956, Tukey 1958) for bias and variance; where mistakes are few, the variance leans on what as many
    independent trials would have. That variance as an effective number of trials, Wilson's interval at it (Korn and Graubard 1998), with
    Student's t by Satterthwaite's degrees of freedom (1946)."""
    labels, predicted, total = found.labels, found.predicted, len(found.labels)
    right = predicted == labels
    counts = counts_of(found, classes)
    support, called = counts.support, counts.called
    plain = counts.figures()
    if unit is None:
        cells, number = np.unique(labels * classes + predicted, return_counts=True)
        left, weights = without_one(counts, cells // classes, cells % classes), number.astype(float)
        many, wrong, together = float(total), float(total - right.sum()), 1.0
    else:
        units = int(unit.max()) + 1
        left_out = without_units(counts, found, classes, unit, units)
        if left_out is None:
            return None
        left, weights, many = left_out, np.ones(units), float(units)
        mistakes = np.bincount(unit[~right], minlength=units).astype(float)
        wrong = float((mistakes > 0).sum())
        # Unless they were seen to vary more, all mistakes of a unit are taken to have come together.
        together = float((mistakes @ mistakes) / mistakes.sum()) if wrong else total / units
    harmonic, even = images_a_class(support)
    there = support > 0
    chance = float(support @ called) / total**2
    ends = {}
    for j, one in enumerate(COUNTED):
        name, how = one.key, one.counted
        assert how is not None
        of_classes = how.over_classes
        degrees = many - 1
        if of_classes and (absent := int((~there).sum())):
            missing[name] = without_images(absent, classes)
            continue
        if of_classes:
            degrees = min(degrees, _satterthwaite(counts, called if how.by_predicted else support))
            short = max(LEAST_A_CLASS / harmonic, LEAST_DEGREES / min(degrees, even))
            if short > 1:
                missing[name] = (
                    f"some classes have too few images, some {ceil(total * short)} images like these are enough"
                )
                continue
            if how.by_predicted and (there & (called == 0)).any():
                missing[name] = "a class that has images is never predicted, so nothing is known of its precision"
                continue
        known = np.isfinite(left[:, j])
        if not np.isfinite(plain[j]) or weights[known].sum() < many / 2:
            continue
        mean = float((weights[known] * left[known, j]).sum() / weights[known].sum())
        variance = (many - 1) / many * float((weights[known] * (left[known, j] - mean) ** 2).sum())
        value = float(plain[j]) * many - (many - 1) * mean
        # Kappa and the correlation are accuracies measured from chance on.
        low = chance if how.from_chance and chance < 1 else 0.0
        centre = min(1.0, max(0.0, low + (1 - low) * value))
        here = min(1.0, max(0.0, low + (1 - low) * float(plain[j])))
        trials = max(1.0, (min(total, even) if of_classes else float(total)) / together)
        expected = max(here * (1 - here), 1e-12) / trials
        spread = (wrong * variance * (1 - low) ** 2 + _UNSEEN_COUNTED * expected) / (wrong + _UNSEEN_COUNTED)
        if of_classes:
            spread = max(spread, _least_spread(counts, called if how.by_predicted else support))
        effective = min(float(total), centre * (1 - centre) / spread) if 0 < centre < 1 else trials
        first, last = wilson(centre, max(1.0, effective), float(special.stdtrit(max(1.0, degrees), 0.975)))
        ends[name] = (first - low) / (1 - low), (last - low) / (1 - low)
    return ends


def without_images(absent: int, classes: int) -> str:
    """Why an average over classes has no interval, and meets no criterion, where so many classes of the list have no labelled image."""
    return (
        f"{absent} of the {classes} classes of the list {'has' if absent == 1 else 'have'} no labelled image, so nothing is known of "
        f"{'it' if absent == 1 else 'them'}. Add images of {'it' if absent == 1 else 'them'}, or ask for single classes or a family"
    )


def images_a_class(support: Numbers) -> tuple[float, float]:
    """The harmonic mean of images a class, and of how many trials an average over classes is made, were all classes equally hard."""
    number = float((support > 0).sum())
    harmonic = number / float((1 / support[support > 0]).sum())
    return harmonic, number * harmonic


def _least_spread(counts: ClassCounts, number: Numbers) -> float:
    """The variance of a mean of shares over classes that have so many images each, where half a mistake more might have been seen in
    each: a class without any would say that there are none."""
    there = number > 0
    n = number[there]
    share = (counts.right[there] + 0.25) / (n + 0.5)
    return float((share * (1 - share) / n).sum() / len(n) ** 2)


def _satterthwaite(counts: ClassCounts, number: Numbers) -> float:
    """Degrees of freedom of a mean of shares over classes that have so many images each (Satterthwaite 1946)."""
    there = number > 0
    n = number[there]
    share = (counts.right[there] + counts.right.sum() / counts.support.sum()) / (n + 1)
    part = np.maximum(share * (1 - share), 1e-6) / n
    return float(part.sum() ** 2 / (part**2 / np.maximum(n - 1, 0.5)).sum())


# --- means over images ---


def _of_means(found: Outcomes, classes: int, unit: NDArray[np.integer] | None) -> dict[str, Ends]:
    """Score intervals of log loss and Brier score: the variance is taken to change with the mean as the skewness tells (Johnson 1978),
    with Student's t by the degrees of freedom that the kurtosis leaves. Where mistakes are few, both lean on what the model itself
    expects of its mistakes."""
    confidence, right = found.confidence, found.predicted == found.labels
    slip = np.clip(1 - confidence, 1e-12, None)
    ends = {}
    for name, seen in (("log_loss", losses(found.own)), ("brier", squared_errors(found.own, found.squares))):
        if_right, if_wrong = as_expected(name, confidence, classes)
        mean = float(seen.mean())
        values, wrong, variance, slope = seen, float((~right).sum()), 0.0, 0.0
        if unit is None:
            first = float((confidence * if_right + slip * if_wrong).mean())
            second = float((confidence * if_right**2 + slip * if_wrong**2).mean())
            variance, slope = second - first**2, second / max(first, 1e-300)
        else:
            values = by_unit(seen, unit)
            wrong = float(len(np.unique(unit[~right])))
        low, high = score_interval(values, mean, wrong, variance, slope, unit is not None)
        ends[name] = max(0.0, low), high
    return ends


def by_unit(seen: Numbers, unit: NDArray[np.integer]) -> Numbers:
    """A value for each unit whose plain mean is that over images, and which vary as the units do: linearisation of a ratio, its
    variance freed of the bias that units of unequal size give it (``unit_bias``). ``seen`` is N values (or N × F, F figures),
    ``unit`` the unit of each, N; returns U values (U × F)."""
    mean = float(seen.mean())
    sums, sizes = np.bincount(unit, seen), np.bincount(unit).astype(float)
    units = len(sizes)
    wider = sqrt((1 - 1 / units) / unit_bias(*(float((sizes**power).sum()) for power in (1, 2, 3))))
    found: Numbers = mean + wider * (sums - mean * sizes) * units / sizes.sum()
    return found


def unit_bias(sizes: float, squares: float, cubes: float) -> float:
    """Of what part of its true value the sum of squared residuals of a ratio over units is on average, from Σn, Σn² and Σn³ of the units'
    sizes: residuals are taken from the ratio itself, and large units pull it to them. Bias-reduced linearisation (Bell and McCaffrey
    2002) where images of a unit share their luck; for U units of one size 1 − 1/U."""
    return max(1 - 2 * cubes / (sizes * squares) + squares / sizes**2, 1e-3)


def as_expected(name: str, confidence: Numbers, classes: int) -> tuple[Numbers, Numbers]:
    """What each answer adds to log loss or Brier score if it is right, and if not: then the label has what is left, shared out."""
    slip = np.clip(1 - confidence, 1e-12, None)
    if name == "log_loss":
        return -np.log(confidence), -np.log(slip / sqrt(max(1.0, classes - 1.0)))
    return slip**2 * 1.5, confidence**2 + confidence**2


def score_interval(
    values: Numbers, mean: float, wrong: float, variance: float, slope: float, of_units: bool = False
) -> Ends:
    """The interval of a mean: every true mean from which this one is no further than chance, where the variance is that of the values at
    their mean, and grows with the true mean by third moment over variance. ``variance`` and ``slope`` are what the model expects
    of both. ``of_units``: the values are of whole units, some of which may make most of the variance."""
    n = len(values)
    away = values - mean
    square, third, fourth = (float((away**power).mean()) for power in (2, 3, 4))
    seen = square * n / (n - 1)
    own = third / square if square > 0 else 0.0
    v = (wrong * seen + _UNSEEN * max(variance, seen)) / (wrong + _UNSEEN)
    g = (wrong * own + _UNSEEN * max(slope, own)) / (wrong + _UNSEEN)
    # So many degrees of freedom a variance has that is worked out from values of such a kurtosis.
    degrees = n - 1.0
    if square > 0:
        degrees = min(
            degrees, effective_degrees(away) if of_units else max(2.0, 2 * n / max(fourth / square**2 - 1, 0.5))
        )
    a = float(special.stdtrit(degrees, 0.975)) ** 2 / n
    half = sqrt((a * g) ** 2 + 4 * a * v)
    return mean + (a * g - half) / 2, mean + (a * g + half) / 2


def effective_degrees(residuals: Numbers) -> float:
    """The degrees of freedom of a sum of squares, of which a few units may make the most: (Σe²)² / Σe⁴ (Satterthwaite 1946, each e² by
    itself taken for its expected value), between 2 and their number less one."""
    squares = residuals**2
    return min(len(residuals) - 1.0, max(2.0, float(squares.sum() ** 2 / max(1e-300, (squares**2).sum()))))


# --- confidence against correctness ---


def _of_confidence(
    found: Outcomes, unit: NDArray[np.integer] | None, seed: int, missing: dict[str, str]
) -> dict[str, Ends]:
    confidence, right = found.confidence, (found.predicted == found.labels).astype(float)
    n, ends = len(right), dict[str, Ends]()
    if 0 < right.sum() < n:
        ends["signed_gap"] = _gap(confidence, right) if unit is None else _gap_over_units(confidence - right, unit)
    else:
        all_of = "wrong" if right.sum() else "right"
        missing["signed_gap"] = f"no answer is {all_of}, so it is unknown how often one is; more images are needed"
    if n < LEAST_FOR_ECE:
        missing["ece"] = f"{n} images are too few, {LEAST_FOR_ECE} are enough"
    else:
        low, _, high = ece_ends(confidence, right, unit, np.random.default_rng(seed))
        ends["ece"] = low, high
    return ends


def _gap(confidence: Numbers, right: Numbers) -> Ends:
    """Mean confidence less accuracy: Wilson's interval of the accuracy, at the effective number of images that its variance beside
    the confidence leaves, joined with the interval of the mean confidence (Zou and Donner 2008)."""
    n = len(right)
    mean, accuracy = float(confidence.mean()), float(right.mean())
    few = min(float(right.sum()), n - float(right.sum()))
    spread = float(confidence.std())
    slope = float(np.mean((confidence - mean) * (right - accuracy))) / spread**2 if spread > 0 else 0.0
    slope = min(1.5, max(0.0, few * slope / (few + _UNSEEN)))
    beside = float(np.mean((right - accuracy - slope * (confidence - mean)) ** 2)) * n / (n - 1)
    expected = max(float((confidence * (1 - confidence)).mean()), beside)
    variance = max((few * beside + _UNSEEN * expected) / (few + _UNSEEN), 1e-12)
    effective = max(1.0, min(3.0 * n, n * accuracy * (1 - accuracy) / variance))
    z = float(special.stdtrit(min(n - 1.0, max(3.0, 2 * (few + 1))), 0.975))
    low, high = wilson(accuracy, effective, z)
    of_mean = z * abs(1 - slope) * spread / sqrt(n)
    gap = mean - accuracy
    return gap - sqrt((high - accuracy) ** 2 + of_mean**2), gap + sqrt((accuracy - low) ** 2 + of_mean**2)


def _gap_over_units(lead: Numbers, unit: NDArray[np.integer]) -> Ends:
    """The mean of confidence less correctness over units: the variance of a ratio without its bias, and Student's t at the effective
    number of units."""
    gap, values = float(lead.mean()), by_unit(lead, unit)
    away = values - gap
    units = len(values)
    half = float(special.stdtrit(effective_degrees(away), 0.975)) * sqrt(float((away**2).sum()) / (units - 1) / units)
    return max(-1.0, gap - half), min(1.0, gap + half)


# True gaps are tried as so many times those seen.
_TRIED = np.concatenate([np.linspace(0, 2, 41), np.linspace(2.2, 6, 20)])


def ece_ends(
    confidence: Numbers, right: Numbers, unit: NDArray[np.integer] | None, rng: np.random.Generator
) -> tuple[float, float, float]:
    """The ECEs whose true gaps, in proportion to those seen, would with the noise of this N show so large an ECE neither too rarely
    nor too often (a test turned into an interval, along one line of gaps): the lowest, the one in whose middle the ECE shown lies,
    and the highest. 0 is in it wherever perfect calibration is no surprise. ``unit`` numbers units from 0 without gaps."""
    n, where = len(right), bin_index(confidence, BINS)
    lead = np.bincount(where, confidence - right, BINS)
    if unit is None:
        size = np.bincount(where, minlength=BINS).astype(float)
        expected = np.bincount(where, confidence * (1 - confidence), BINS) / np.maximum(size, 1)
        seen = np.bincount(where, (confidence - right) ** 2, BINS) - lead**2 / n
        share = (np.bincount(where, right, BINS) + 0.25) / (size + 0.5)  # half a mistake more might have been seen
        variance = np.where(size > 0, (seen + expected) * size / (size + 1), 0.0) * n / (n - 1)
        variance = np.maximum(variance, size * share * (1 - share))
        noise = rng.normal(size=(NOISE, BINS)) * np.sqrt(np.maximum(0.0, variance))
    else:
        units = int(unit.max()) + 1
        of_units = np.bincount(unit * BINS + where, confidence - right, units * BINS).reshape(units, BINS)
        sizes = np.bincount(unit).astype(float)
        away = of_units - sizes[:, None] * lead / n
        noise = rng.normal(size=(NOISE, units)) @ away * sqrt(units / (units - 1))
        # Few units, or few that make most of the noise, tell its size badly (Satterthwaite 1946).
        each = (away**2).sum(axis=1)
        degrees = min(units - 1.0, max(2.0, float(each.sum() ** 2 / max(1e-300, (each**2).sum()))))
        noise *= np.sqrt(degrees / rng.chisquare(degrees, NOISE))[:, None]
    shown = float(np.abs(lead).sum()) / n
    if shown == 0:
        return 0.0, 0.0, float(np.quantile(np.abs(noise).sum(axis=1) / n, 0.975))
    drawn = np.abs(_TRIED[:, None, None] * lead + noise).sum(axis=2) / n
    often, middle, rarely = (np.maximum.accumulate(one) for one in np.quantile(drawn, [0.025, 0.5, 0.975], axis=1))
    low, between = (
        0.0 if one[0] >= shown else float(np.interp(shown, one, _TRIED)) * shown for one in (rarely, middle)
    )
    high = float(np.interp(shown, often, _TRIED)) * shown if often[0] < shown else 0.0
    if unit is not None:
        # The noise of units is alike over the bins: it can hide gaps that are no line of those seen. But together they are an ECE at least.
        gap = _gap_over_units(confidence - right, unit)
        high = max(high, -gap[0], gap[1])
    return min(1.0, low), min(1.0, max(low, between)), min(1.0, max(low, between, high))
