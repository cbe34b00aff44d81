"""What hiding a part of images did to their answers, against the same area hidden elsewhere."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from mivrat.core.figures.intervals import Proportion
from mivrat.core.figures.significance import even_split
from mivrat.core.figures.units import direction, share


@dataclass(frozen=True)
class Effect:
    """Of N images: the share whose prediction changed; of the labelled ones how many became right (``fixed``) and wrong
    (``broken``), with the exact paired probability of so uneven a split (McNemar 1947); the mean fall of p(target)."""

    changed: Proportion
    fixed: int
    broken: int
    p_paired: float
    mean_drop: float


@dataclass(frozen=True)
class SecondControl:
    """Of the N images that have a second control, its effect; ``only_region`` images changed their prediction under the region and
    not under this control, ``only_control`` the other way round; ``p`` is the exact probability of so uneven a split, were the
    region like any part that is hot in another image."""

    total: int
    effect: Effect
    only_region: int
    only_control: int
    p: float


@dataclass(frozen=True)
class CoverResult:
    """The effect of hiding the region and that of the control. ``only_region`` images changed their prediction under the
    region and not under the control, ``only_control`` the other way round; ``p`` is the exact probability of so uneven a
    split, were the region like any other place of its size. ``hot_elsewhere`` compares with what is hot in other images, where
    that is known."""

    total: int
    region: Effect
    control: Effect
    only_region: int
    only_control: int
    p: float
    hot_elsewhere: SecondControl | None = None


def _effect(
    labels: NDArray[np.integer],
    before: NDArray[np.integer],
    after: NDArray[np.integer],
    drop: NDArray[np.float64],
    unit: NDArray[np.integer] | None,
) -> Effect:
    known = labels >= 0
    fixed = known & (before != labels) & (after == labels)
    broken = known & (before == labels) & (after != labels)
    p, mean = _uneven(fixed, broken, unit), float(drop.mean()) if len(drop) else 0.0
    return Effect(share(before != after, unit), int(fixed.sum()), int(broken.sum()), p, mean)


def _uneven(one: NDArray[np.bool_], other: NDArray[np.bool_], unit: NDArray[np.integer] | None) -> float:
    """The probability of so uneven a split between two kinds of images, whole units at a time where there are any."""
    if unit is None:
        return even_split(int(one.sum()), int(other.sum()))
    return direction(one, other, unit)


def _split(
    before: NDArray[np.integer],
    covered: NDArray[np.integer],
    control: NDArray[np.integer],
    unit: NDArray[np.integer] | None,
) -> tuple[int, int, float]:
    """How many predictions change under the region alone, how many under the control alone, and the probability of so uneven a split."""
    by_region, by_control = covered != before, control != before
    one, other = by_region & ~by_control, by_control & ~by_region
    return int(one.sum()), int(other.sum()), _uneven(one, other, unit)


def cover_result(
    labels: NDArray[np.integer],
    before: NDArray[np.integer],
    covered: NDArray[np.integer],
    control: NDArray[np.integer],
    drop: NDArray[np.float64],
    control_drop: NDArray[np.float64],
    unit: NDArray[np.integer] | None = None,
    second: NDArray[np.integer] | None = None,
    second_drop: NDArray[np.float64] | None = None,
) -> CoverResult:
    """The result over N images: labels (-1: none), predictions before, with the region hidden, with the control hidden, and
    with the second control hidden (-1: there is none); how far p(target) fell under each; where images belong together, the
    ``unit`` each is of."""
    return CoverResult(
        len(before),
        _effect(labels, before, covered, drop, unit),
        _effect(labels, before, control, control_drop, unit),
        *_split(before, covered, control, unit),
        _second_control(labels, before, covered, second, second_drop, unit),
    )


def _second_control(
    labels: NDArray[np.integer],
    before: NDArray[np.integer],
    covered: NDArray[np.integer],
    second: NDArray[np.integer] | None,
    drop: NDArray[np.float64] | None,
    unit: NDArray[np.integer] | None,
) -> SecondControl | None:
    if second is None or drop is None or not (second >= 0).any():
        return None
    there = second >= 0
    unit = unit[there] if unit is not None else None
    effect = _effect(labels[there], before[there], second[there], drop[there], unit)
    return SecondControl(int(there.sum()), effect, *_split(before[there], covered[there], second[there], unit))
