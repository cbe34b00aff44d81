"""Two runs on the same images: the four outcomes, and every figure's difference b - a with its interval."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from mivrat.core.figures.confusion import Counts, confusion_matrix
from mivrat.core.figures.differences import (
    ClassShares,
    Difference,
    Square,
    effective,
    even_splits,
    mean_difference,
    of_shares,
    paired_shares,
    shares_by_class,
)
from mivrat.core.figures.intervals import Z95
from mivrat.core.figures.outcomes import Outcomes
from mivrat.core.figures.significance import even_split, holm
from mivrat.core.figures.sums import ordered_sums
from mivrat.core.figures.uncertain_differences import figures_in_means, paired_ends, with_ends
from mivrat.core.figures.units import direction

# The code of each image's outcome under both runs, in the order in which they are told.
NO_OUTCOME, BOTH_RIGHT, FIXED, BROKEN, BOTH_WRONG = range(5)
# Of very many classes only so many changed pairs are listed.
MOST_PAIRS = 1_000
OUTCOMES = ("", "both right", "fixed", "broken", "both wrong")


@dataclass(frozen=True)
class FourOutcomes:
    """How many images came out how; ``same_wrong`` are those of ``both_wrong`` with one and the same wrong answer."""

    both_right: int
    fixed: int
    broken: int
    both_wrong: int
    same_wrong: int

    @property
    def total(self) -> int:
        return self.both_right + self.fixed + self.broken + self.both_wrong

    @property
    def changed(self) -> int:
        """Images that are right under one run only."""
        return self.fixed + self.broken


@dataclass(frozen=True)
class ClassDifference:
    """One class: its images, those called so by either, and the differences in recall (``p`` exact, ``p_holm`` corrected over the
    classes) and precision."""

    support: int
    called_a: int
    called_b: int
    recall: Difference
    precision: Difference
    p_holm: float


@dataclass(frozen=True)
class ChangedPair:
    """One pair of label and prediction: how many images under a and under b."""

    label: int
    predicted: int
    a: int
    b: int


@dataclass(frozen=True)
class Paired:
    """Everything about two runs on the same N images. ``top_k`` by k; ``means`` by name (balanced_accuracy, macro_f1,
    log_loss, brier, ece): with intervals once these are worked out. ``units`` is their number where images belong
    together. ``pairs`` are those that changed, the largest change first."""

    total: int
    four: FourOutcomes
    top_k: dict[int, Difference]
    means: dict[str, Difference]
    classes: list[ClassDifference]
    matrix_a: Counts
    matrix_b: Counts
    pairs: list[ChangedPair]
    units: int | None = None
    with_intervals: bool = False

    @property
    def top1(self) -> Difference:
        return self.top_k[1]


def outcome_codes(right_a: NDArray[np.bool_], right_b: NDArray[np.bool_]) -> NDArray[np.int8]:
    """The code of each image's outcome. Both are N, image by image; returns N."""
    return np.where(right_a, np.where(right_b, BOTH_RIGHT, BROKEN), np.where(right_b, FIXED, BOTH_WRONG)).astype(
        np.int8
    )


def paired(
    a: Outcomes, b: Outcomes, classes: int, ks: Sequence[int] = (1,), unit: NDArray[np.integer] | None = None
) -> Paired:
    """All figures of two runs on the same N labelled images, b against a; those that are no shares without intervals.

    ``unit`` numbers what belongs together, from 0 without gaps: every interval and test is then over whole units. The labels
    of both are the same.
    """
    right_a, right_b = a.predicted == a.labels, b.predicted == b.labels
    codes = outcome_codes(right_a, right_b)
    count = np.bincount(codes, minlength=5).tolist()
    same = int(((codes == BOTH_WRONG) & (a.predicted == b.predicted)).sum())
    four = FourOutcomes(count[BOTH_RIGHT], count[FIXED], count[BROKEN], count[BOTH_WRONG], same)
    top_k = {
        k: share_difference(_within(a, k), _within(b, k), unit) for k in ks if k == 1 or (a.complete and b.complete)
    }
    matrix_a, matrix_b = (confusion_matrix(one.labels, one.predicted, classes) for one in (a, b))
    lines = _by_class(a, b, classes, unit)
    return Paired(
        len(codes),
        four,
        top_k,
        {"balanced_accuracy": mean_difference([one.recall for one in lines]), **means_of(a, b, classes)},
        lines,
        matrix_a,
        matrix_b,
        changed_pairs(matrix_a, matrix_b),
        None if unit is None else int(unit.max()) + 1 if len(unit) else 0,
    )


def with_intervals(
    found: Paired,
    a: Outcomes,
    b: Outcomes,
    classes: int,
    unit: NDArray[np.integer] | None = None,
    seed: int = 0,
) -> Paired | None:
    """The same with the intervals of the figures that are no shares, over images (or units); None where it was stopped. ``a``
    and ``b`` are of the same N images in one order; ``unit`` is the unit of each, N."""
    ends = paired_ends(a, b, classes, unit, seed)
    return None if ends is None else replace(found, means=with_ends(found.means, ends), with_intervals=True)


def _within(found: Outcomes, k: int) -> NDArray[np.bool_]:
    return found.predicted == found.labels if k == 1 else (found.rank >= 1) & (found.rank <= k)


def share_difference(
    right_a: NDArray[np.bool_], right_b: NDArray[np.bool_], unit: NDArray[np.integer] | None
) -> Difference:
    """The difference of the shares right, with McNemar's exact test; over units, whole units at a time.

    Both are N, image by image, and so is ``unit``. The difference is that of b less a, as a share.
    """
    total = len(right_a)
    if not total:
        return Difference(None, None, None)
    of = np.zeros(total, np.int64)
    four, z = _squares(right_a, right_b, of, 1, unit)
    a, b = float(right_a.mean()), float(right_b.mean())
    _, _, low, high = paired_shares(four, z)
    fixed, broken = right_b & ~right_a, right_a & ~right_b
    p = even_split(int(fixed.sum()), int(broken.sum())) if unit is None else direction(fixed, broken, unit)
    if np.isnan(low[0]):
        return Difference(a, b, b - a, None, None, p)
    return Difference(a, b, b - a, float(low[0]), float(high[0]), p)


def _squares(
    right_a: NDArray[np.bool_],
    right_b: NDArray[np.bool_],
    of: NDArray[np.integer],
    classes: int,
    unit: NDArray[np.integer] | None,
) -> tuple[Square, NDArray[np.float64] | float]:
    """The four outcomes by class as counts, shrunk to what they are worth where images belong together; and the point that the
    interval goes by."""
    by_code = (
        np.bincount(of * 5 + outcome_codes(right_a, right_b), minlength=5 * classes).reshape(classes, 5).astype(float)
    )
    z: NDArray[np.float64] | float = Z95
    if unit is not None:
        worth = effective(right_b.astype(float) - right_a, unit, of, classes)
        # The shares themselves may be less certain than their difference: the interval goes by the least sure.
        with np.errstate(divide="ignore", invalid="ignore"):
            by_code *= (worth.total / by_code.sum(axis=1))[:, None]
        z = worth.z
    return Square(by_code[:, BOTH_RIGHT], by_code[:, FIXED], by_code[:, BROKEN], by_code[:, BOTH_WRONG]), z


def _by_class(a: Outcomes, b: Outcomes, classes: int, unit: NDArray[np.integer] | None) -> list[ClassDifference]:
    right_a, right_b, labels = a.predicted == a.labels, b.predicted == b.labels, a.labels
    four, z = _squares(right_a, right_b, labels, classes, unit)
    with np.errstate(invalid="ignore"):
        _, _, low, high = paired_shares(four, z)
    recall_a, recall_b = (shares_by_class(hit, labels, classes, unit) for hit in (right_a, right_b))
    support = np.bincount(labels, minlength=classes)
    fixed, broken = right_b & ~right_a, right_a & ~right_b
    if unit is None:
        counts = (np.bincount(labels[one], minlength=classes) for one in (fixed, broken))
        p = even_splits(*counts)
    else:
        p = np.array(
            [
                direction(fixed[labels == k], broken[labels == k], np.unique(unit[labels == k], return_inverse=True)[1])
                if support[k] and (fixed | broken)[labels == k].any()
                else 1.0
                for k in range(classes)
            ]
        )
    asked = np.flatnonzero(support)
    corrected = np.ones(classes)
    corrected[asked] = holm(p[asked].tolist())
    precision = _precision(a, b, classes, unit)
    recalls = _differences(recall_a, recall_b, low, high, p)
    called = [np.bincount(one.predicted, minlength=classes) for one in (a, b)]
    return [
        ClassDifference(
            int(support[k]), int(called[0][k]), int(called[1][k]), recalls[k], precision[k], float(corrected[k])
        )
        for k in range(classes)
    ]


def _differences(
    a: ClassShares,
    b: ClassShares,
    low: NDArray[np.float64],
    high: NDArray[np.float64],
    p: NDArray[np.float64] | None = None,
) -> list[Difference]:
    """Many differences from arrays in which NaN stands for what is undefined."""

    def known(value: float) -> float | None:
        return None if np.isnan(value) else float(value)

    def ends(one: ClassShares, k: int) -> tuple[float, float] | None:
        return None if np.isnan(one.low[k]) else (float(one.low[k]), float(one.high[k]))

    value = b.value - a.value
    return [
        Difference(
            known(a.value[k]),
            known(b.value[k]),
            known(value[k]),
            known(low[k]),
            known(high[k]),
            None if p is None else float(p[k]),
            ends(a, k),
            ends(b, k),
        )
        for k in range(len(value))
    ]


def _precision(a: Outcomes, b: Outcomes, classes: int, unit: NDArray[np.integer] | None) -> list[Difference]:
    """The differences of precision. Both are of different images, partly the same ones: the intervals of the two are put together
    with the correlation of their estimates, told by the images (or units) that both call so."""
    shares, leads = [], []
    for one in (a, b):
        hit = one.predicted == one.labels
        called = np.bincount(one.predicted, minlength=classes)
        shares.append(shares_by_class(hit, one.predicted, classes, unit))
        # How far each image moves the precision of the class it is called.
        leads.append((hit - shares[-1].value[one.predicted]) / called[one.predicted])
    of = np.arange(len(a.labels)) if unit is None else unit
    alike = _correlation(a.predicted, b.predicted, leads[0], leads[1], of, classes)
    low, high = of_shares(shares[0], shares[1], alike)
    return _differences(shares[0], shares[1], low, high)


def _correlation(
    called_a: NDArray[np.integer],
    called_b: NDArray[np.integer],
    lead_a: NDArray[np.float64],
    lead_b: NDArray[np.float64],
    of: NDArray[np.integer],
    classes: int,
) -> NDArray[np.float64]:
    """By class the correlation of two means from what each of their parts (``of``: images, or units) adds to either."""
    keys, which = np.unique(
        np.concatenate([of, of]).astype(np.int64) * classes + np.concatenate([called_a, called_b]), return_inverse=True
    )
    half = len(of)
    one = ordered_sums(which[:half], lead_a, len(keys))
    other = ordered_sums(which[half:], lead_b, len(keys))
    group = keys % classes
    with np.errstate(divide="ignore", invalid="ignore"):
        both, *alone = (ordered_sums(group, some, classes) for some in (one * other, one**2, other**2))
        found = both / np.sqrt(alone[0] * alone[1])
    return np.clip(np.nan_to_num(found), -1.0, 1.0)


def means_of(a: Outcomes, b: Outcomes, classes: int) -> dict[str, Difference]:
    """The figures that are no shares, without intervals; those that are not known of both are left out."""
    one, other = (figures_in_means(found, classes) for found in (a, b))
    return {name: Difference(value, other[name], other[name] - value) for name, value in one.items() if name in other}


def largest(values: NDArray[Any], most: int) -> NDArray[np.int64]:
    """The places of the values farthest from 0, at most so many and none that is 0, the farthest first, equal ones in order.
    ``values`` is of any shape; returns places in it, flattened, P of them at most."""
    some = np.flatnonzero(values)
    size = np.abs(values[some])
    if len(some) > most:  # sorting only what can be among them
        kept = size >= np.partition(size, -most)[-most]
        some, size = some[kept], size[kept]
    return some[np.argsort(-size, kind="stable")][:most]


def changed_pairs(matrix_a: Counts, matrix_b: Counts, most: int = MOST_PAIRS) -> list[ChangedPair]:
    """The pairs of label and wrong prediction whose number changed, at most so many, the largest change first, equal ones in
    class-list order."""
    change = matrix_b - matrix_a
    np.fill_diagonal(change, 0)
    flat = change.ravel()
    some = largest(flat, most)
    one, other = matrix_a.ravel(), matrix_b.ravel()
    classes = len(matrix_a)
    return [ChangedPair(int(i) // classes, int(i) % classes, int(one[i]), int(other[i])) for i in some]
