"""One model on two sets of images: every figure's difference b - a, and what part of the drop is another class mix and what
part the same classes recognised worse."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from mivrat.core.base.job import current_stop
from mivrat.core.figures.confusion import Counts
from mivrat.core.figures.differences import ClassShares, Difference, mean_difference, of_shares
from mivrat.core.figures.exact import splits
from mivrat.core.figures.intervals import Proportion
from mivrat.core.figures.outcomes import Outcomes
from mivrat.core.figures.paired import MOST_PAIRS, largest, means_of
from mivrat.core.figures.resampling import weights_drawn
from mivrat.core.figures.significance import holm
from mivrat.core.figures.summary import Figures, figures_of
from mivrat.core.figures.tally import Tally
from mivrat.core.figures.uncertain_differences import Ends, unpaired_ends, with_ends
from mivrat.core.figures.uncertainty import LEAST_UNITS
from mivrat.core.figures.units import figures_over_units

_PERMUTATIONS, DRAWS = 1_999, 2_000


@dataclass(frozen=True)
class SetClass:
    """One class in both sets: how many images, the differences of recall and precision, ``p_holm`` of recall over the classes."""

    support_a: int
    support_b: int
    recall: Difference
    precision: Difference
    p_holm: float


@dataclass(frozen=True)
class DropPart:
    """What a class adds to the difference in accuracy: by its share of the images, and by being recognised better or worse."""

    class_mix: float
    within: float


@dataclass(frozen=True)
class DropPair:
    """What images of ``label`` being called ``predicted`` more or less often adds to the difference; the counts in both sets."""

    label: int
    predicted: int
    a: int
    b: int
    part: float


@dataclass(frozen=True)
class Drop:
    """The difference in accuracy split exactly: ``total`` = ``class_mix`` + ``within``; both are sums over ``classes``, and what
    is within classes is the sum over ``pairs``, the largest part first. Intervals are there once they are worked out."""

    total: float
    class_mix: float
    within: float
    classes: list[DropPart]
    pairs: list[DropPair]
    intervals: dict[str, Ends] | None = None


@dataclass(frozen=True)
class TwoSets:
    """Everything about one model (or two) on two different sets of images, b against a."""

    total_a: int
    total_b: int
    top_k: dict[int, Difference]
    means: dict[str, Difference]
    classes: list[SetClass]
    matrix_a: Counts
    matrix_b: Counts
    drop: Drop
    with_intervals: bool = False

    @property
    def top1(self) -> Difference:
        return self.top_k[1]


Unit = NDArray[np.integer] | None


def two_sets(
    a: Outcomes, b: Outcomes, classes: int, ks: Sequence[int] = (1,), unit_a: Unit = None, unit_b: Unit = None
) -> TwoSets:
    """All figures of labelled images of two sets; intervals by Newcombe 1998 from those of each set, which are over units where
    images belong together. Those of figures that are no shares come with ``with_intervals``."""
    ks = [k for k in ks if k == 1 or (a.complete and b.complete)]
    one, other = (_figures(found, classes, ks, unit) for found, unit in ((a, unit_a), (b, unit_b)))
    right = [found.predicted == found.labels for found in (a, b)]
    hits = [(found.rank >= 1) for found in (a, b)]
    top_k = {}
    for k in ks:
        here = right if k == 1 else [one_hit & (f.rank <= k) for one_hit, f in zip(hits, (a, b), strict=True)]
        p = _p_by_group(here, [np.zeros(len(h), np.int64) for h in here], 1, unit_a, unit_b)[0]
        top_k[k] = difference(one.top_k[k], other.top_k[k], float(p))
    p = _p_by_group(right, [a.labels, b.labels], classes, unit_a, unit_b)
    asked = [k for k in range(classes) if one.classes[k].support and other.classes[k].support]
    corrected = np.ones(classes)
    corrected[asked] = holm(p[asked].tolist())
    lines = [
        SetClass(
            one.classes[k].support,
            other.classes[k].support,
            difference(one.classes[k].recall, other.classes[k].recall, float(p[k])),
            difference(one.classes[k].precision, other.classes[k].precision),
            float(corrected[k]),
        )
        for k in range(classes)
    ]
    recalls = [line.recall for line in lines if line.support_a and line.support_b]
    means = {"balanced_accuracy": mean_difference(recalls), **means_of(a, b, classes)}
    return TwoSets(
        len(a.labels), len(b.labels), top_k, means, lines, one.matrix, other.matrix, drop(one.matrix, other.matrix)
    )


def with_intervals(
    found: TwoSets,
    a: Outcomes,
    b: Outcomes,
    classes: int,
    unit_a: Unit = None,
    unit_b: Unit = None,
    seed: int = 0,
) -> TwoSets | None:
    """The same with the intervals of the figures that are no shares, and of the parts of the drop; None where it was stopped."""
    ends = unpaired_ends(a, b, classes, unit_a, unit_b, seed)
    largest = largest_mix_up(found.drop)
    pair = largest[:2] if largest is not None else None
    parts = drop_intervals(a, b, classes, unit_a, unit_b, pair, seed=seed)
    if ends is None or parts is None:
        return None
    means = with_ends(found.means, ends)
    return replace(found, means=means, drop=replace(found.drop, intervals=parts), with_intervals=True)


def _figures(found: Outcomes, classes: int, ks: Sequence[int], unit: Unit) -> Figures:
    figures = figures_of(Tally.of(found, classes), ks)
    return figures if unit is None else figures_over_units(figures, found, unit)


def difference(a: Proportion, b: Proportion, p: float | None = None) -> Difference:
    """The difference of two independent shares with Newcombe's interval (1998, method 10) from the two intervals."""
    if a.value is None or b.value is None:
        return Difference(a.value, b.value, None)
    value = b.value - a.value
    if a.low is None or a.high is None or b.low is None or b.high is None:
        return Difference(a.value, b.value, value, p=p)
    ends = of_shares(*(ClassShares(*map(np.float64, (one.value, one.low, one.high))) for one in (a, b)))  # type: ignore[arg-type]
    return Difference(a.value, b.value, value, float(ends[0]), float(ends[1]), p, (a.low, a.high), (b.low, b.high))


def _p_by_group(
    hits: list[NDArray[np.bool_]], of: list[NDArray[np.integer]], groups: int, unit_a: Unit, unit_b: Unit
) -> NDArray[np.float64]:
    """By group the two-sided probability of shares so far apart in the two sets: exact (Fisher 1935), or, where images belong
    together, with whole units dealt to the sets anew. 1 where a set has none of a group."""
    y = [np.bincount(g, h, groups) for h, g in zip(hits, of, strict=True)]
    n = [np.bincount(g, minlength=groups) for g in of]
    if unit_a is None and unit_b is None:
        return np.array([fisher(int(y[0][k]), int(n[0][k]), int(y[1][k]), int(n[1][k])) for k in range(groups)])
    tables, first = [], 0
    for h, g, unit in zip(hits, of, (unit_a, unit_b), strict=True):
        number = np.arange(len(g)) if unit is None else unit
        many = int(number.max()) + 1 if len(number) else 0
        flat = number * groups + g
        table = np.concatenate(
            [np.bincount(flat, w, many * groups).reshape(many, groups) for w in (h, np.ones(len(g)))], axis=1
        )
        # In an order that the units' counts tell, so that what is dealt does not depend on how images are listed.
        tables.append(table[np.lexsort(table.T)] if many else table)
        first = first or many
    ys, ns = np.split(np.concatenate(tables), 2, axis=1)
    if min(len(t) for t in tables) < 1 or len(ys) < LEAST_UNITS:
        return np.ones(groups)
    rng = np.random.default_rng(0)
    dealt = np.zeros((_PERMUTATIONS, len(ys)))
    for line in dealt:
        line[rng.permutation(len(ys))[:first]] = 1.0
    whole_y, whole_n = ys.sum(axis=0), ns.sum(axis=0)

    def apart(y_a: NDArray[np.float64], n_a: NDArray[np.float64]) -> NDArray[np.float64]:
        with np.errstate(divide="ignore", invalid="ignore"):
            return np.nan_to_num(np.abs(y_a / n_a - (whole_y - y_a) / (whole_n - n_a)))

    seen = apart(y[0].astype(float), n[0].astype(float))
    drawn = apart(dealt @ ys, dealt @ ns)
    found = (1 + (drawn >= seen - 1e-12).sum(axis=0)) / (_PERMUTATIONS + 1)
    return np.where((n[0] > 0) & (n[1] > 0), found, 1.0)


def fisher(hits: int, total: int, other_hits: int, other_total: int) -> float:
    """Exact two-sided probability of two shares so far apart (Fisher 1935): of all splits no likelier than this one."""
    if not total or not other_total:
        return 1.0
    ways, chance = splits(total + other_total, hits + other_hits, total)
    here = chance[hits - ways[0]]
    return float(min(1.0, chance[chance <= here * (1 + 1e-7)].sum()))


def _split(
    n_a: NDArray[np.float64], r_a: NDArray[np.float64], n_b: NDArray[np.float64], r_b: NDArray[np.float64]
) -> tuple[NDArray[np.float64], NDArray[np.float64], NDArray[np.float64]]:
    """By class what its share and its recall add, and its mean share, from images and right ones by class (... x K).

    Kitagawa 1955: (w' - w)(r' + r)/2 and (r' - r)(w' + w)/2. Of a class that one set has no images of, the recall there is
    taken to be as in the other: all it adds is by its share.
    """
    with np.errstate(divide="ignore", invalid="ignore"):
        w_a, w_b = (n / n.sum(axis=-1, keepdims=True) for n in (n_a, n_b))
        rate_a, rate_b = r_a / n_a, r_b / n_b
    rate_a, rate_b = np.where(n_a > 0, rate_a, rate_b), np.where(n_b > 0, rate_b, rate_a)
    rate_a, rate_b = np.nan_to_num(rate_a), np.nan_to_num(rate_b)
    return (w_b - w_a) * (rate_b + rate_a) / 2, (rate_b - rate_a) * (w_b + w_a) / 2, (w_b + w_a) / 2


def drop(matrix_a: Counts, matrix_b: Counts) -> Drop:
    """The difference in accuracy between two confusion matrices split by class and by pair; both hold images."""
    n_a, n_b = matrix_a.sum(axis=1).astype(float), matrix_b.sum(axis=1).astype(float)
    r_a, r_b = np.diagonal(matrix_a).astype(float), np.diagonal(matrix_b).astype(float)
    if not n_a.sum() or not n_b.sum():
        return Drop(0.0, 0.0, 0.0, [DropPart(0.0, 0.0) for _ in n_a], [])
    mix, within, weight = _split(n_a, r_a, n_b, r_b)
    pairs = []
    with np.errstate(divide="ignore", invalid="ignore"):
        part = -(matrix_b / n_b[:, None] - matrix_a / n_a[:, None]) * weight[:, None]
    part[(n_a == 0) | (n_b == 0)] = 0.0
    np.fill_diagonal(part, 0.0)
    flat = part.ravel()
    for i in largest(flat, MOST_PAIRS).tolist():
        label, predicted = divmod(i, len(part))
        pairs.append(
            DropPair(label, predicted, int(matrix_a[label, predicted]), int(matrix_b[label, predicted]), float(flat[i]))
        )
    total = float(r_b.sum() / n_b.sum() - r_a.sum() / n_a.sum())
    parts = [DropPart(float(m), float(w)) for m, w in zip(mix, within, strict=True)]
    return Drop(total, float(mix.sum()), float(within.sum()), parts, pairs)


def largest_mix_up(found: Drop) -> tuple[int, int, float] | None:
    """The two classes whose being confused with each other adds most to the drop, both ways together; None where none adds to it."""
    return largest_pair({(one.label, one.predicted): one.part for one in found.pairs}, -1 if found.within < 0 else 1)


def largest_pair(parts: dict[tuple[int, int], float], sign: int) -> tuple[int, int, float] | None:
    """The two classes whose pairs, both ways together, add most of this sign; None where none does."""
    both: dict[tuple[int, int], float] = {}
    for (label, predicted), part in parts.items():
        key = (min(label, predicted), max(label, predicted))
        both[key] = both.get(key, 0.0) + part
    if not both:
        return None
    (first, second), part = max(both.items(), key=lambda item: (sign * item[1], item[0]))
    return (first, second, part) if sign * part > 0 else None


def drop_intervals(
    a: Outcomes,
    b: Outcomes,
    classes: int,
    unit_a: Unit = None,
    unit_b: Unit = None,
    pair: tuple[int, int] | None = None,
    draws: int = DRAWS,
    seed: int = 0,
) -> dict[str, Ends] | None:
    """95 % intervals of the two parts of the drop (``class_mix``, ``within``), and of what two classes confused with each other add
    (``largest_pair``), images or units of each set drawn again; empty with too few, None where it was stopped."""
    rng, sides = np.random.default_rng(seed), []
    first, second = pair if pair is not None else (-1, -1)
    for found, unit in ((a, unit_a), (b, unit_b)):
        right = found.predicted == found.labels
        # Of each class the images answered otherwise, right, and as the other class of the pair.
        as_other = ((found.labels == first) & (found.predicted == second)) | (
            (found.labels == second) & (found.predicted == first)
        )
        cell = found.labels * 3 + right + 2 * as_other
        if unit is None:
            share = np.bincount(cell, minlength=3 * classes) / max(1, len(cell))
            if len(cell) < LEAST_UNITS:
                return {}
            drawn = rng.multinomial(len(cell), share, size=draws).astype(float)
        else:
            units = int(unit.max()) + 1 if len(unit) else 0
            if units < LEAST_UNITS:
                return {}
            table = np.bincount(unit * (3 * classes) + cell, minlength=units * 3 * classes).reshape(units, -1)
            drawn = np.concatenate([weights_drawn(rng, units, 100) @ table for _ in range(draws // 100)])
        if current_stop().stopped:
            return None
        sides.append((drawn[:, ::3] + drawn[:, 1::3] + drawn[:, 2::3], drawn[:, 1::3], drawn[:, 2::3]))
    (n_a, right_a, other_a), (n_b, right_b, other_b) = sides
    mix, within, weight = _split(n_a, right_a, n_b, right_b)
    ends = {}
    told = {"class_mix": mix.sum(axis=1), "within": within.sum(axis=1)}
    if pair is not None:
        with np.errstate(divide="ignore", invalid="ignore"):
            part = np.where((n_a > 0) & (n_b > 0), -(other_b / n_b - other_a / n_a) * weight, 0.0)
        told["largest_pair"] = part.sum(axis=1)
    for name, values in told.items():
        low, high = np.quantile(values, [0.025, 0.975])
        ends[name] = float(low), float(high)
    return ends
