"""Where a model is weak: conditions, alone and two together, searched on one part of the images and confirmed on another."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from mivrat.core.base.job import current_stop
from mivrat.core.figures.significance import below_rest, holm
from mivrat.core.figures.units import below_rest as below_rest_over_units

Mask = NDArray[np.bool_]
# A spot has at least so many images where it is searched for; at most so many are carried over.
LEAST_IMAGES, MOST_CARRIED = 20, 10
# So many conditions are tried in pairs: those with the most mistakes.
MOST_PAIRED = 300
# Spots that share more of their images than this (Jaccard index) are one.
_SAME = 0.5
# A pair is worth its second condition only where it stands out from either by so many standard errors.
_MORE_THAN_ONE = 1.64
_AT_ONCE = 20_000


@dataclass(frozen=True)
class Candidate:
    """One condition, or two together, by their numbers, and by how many standard errors the share right falls below the rest's."""

    conditions: tuple[int, ...]
    below: float


def search(conditions: NDArray[np.bool_], kinds: NDArray[np.integer], right: Mask) -> list[Candidate]:
    """The weakest spots among N images, the surest first, at most ``MOST_CARRIED``.

    ``conditions`` (S × N) tells which images meet which, ``kinds`` (S) what each is about: two about the same are not put together.
    A spot has at least ``LEAST_IMAGES`` and leaves as many out; of spots of much the same images the surest is kept (Chung 2019
    searches alike, by slices of one and two conditions). Ends early when stopped.
    """
    total = conditions.shape[1]
    if not len(conditions) or total < 2 * LEAST_IMAGES:
        return []
    wrong = ~right
    sizes, mistakes = conditions.sum(axis=1), conditions[:, wrong].sum(axis=1)
    alone = _below(sizes, mistakes, total, int(wrong.sum()))
    found = [Candidate((i,), float(alone[i])) for i in np.flatnonzero(alone > 0).tolist()]
    big = np.flatnonzero(sizes >= LEAST_IMAGES)
    paired = np.sort(big[np.argsort(-mistakes[big], kind="stable")[:MOST_PAIRED]])
    both, both_wrong = _together(conditions, paired, wrong)
    z = _below(both, both_wrong, total, int(wrong.sum()))
    first, second = paired[:, None], paired[None, :]
    of_each = []
    for single in (first, second):
        of_each.append(_below(both, both_wrong, sizes[single], mistakes[single]))
    worth = (first < second) & (kinds[first] != kinds[second]) & (z > 0)
    worth &= (of_each[0] > _MORE_THAN_ONE) & (of_each[1] > _MORE_THAN_ONE)
    for a, b in np.argwhere(worth).tolist():
        found.append(Candidate((int(paired[a]), int(paired[b])), float(z[a, b])))
    found.sort(key=lambda one: (-one.below, len(one.conditions), one.conditions))
    kept: list[Candidate] = []
    masks: list[Mask] = []
    for one in found:
        if len(kept) == MOST_CARRIED or current_stop().stopped:
            break
        mask = spot_mask(conditions, one.conditions)
        if not any((mask & other).sum() > _SAME * (mask | other).sum() for other in masks):
            kept.append(one)
            masks.append(mask)
    return kept


def spot_mask(conditions: NDArray[np.bool_], which: tuple[int, ...]) -> Mask:
    """The images that meet all of some conditions."""
    return np.logical_and.reduce(conditions[list(which)])


def _below(
    sizes: NDArray[np.integer],
    mistakes: NDArray[np.integer],
    total: NDArray[np.integer] | int,
    wrong: NDArray[np.integer] | int,
) -> NDArray[np.float64]:
    """By how many standard errors (pooled) the share right of a part falls below that of what else there is; -inf for a part too small,
    or that leaves too few out."""
    rest, rest_wrong = total - sizes, wrong - mistakes
    with np.errstate(invalid="ignore", divide="ignore"):
        share = np.asarray(wrong) / total
        error = np.sqrt(share * (1 - share) * (1 / sizes + 1 / rest))
        z = (mistakes / sizes - rest_wrong / rest) / error
    enough = (sizes >= LEAST_IMAGES) & (rest >= LEAST_IMAGES) & np.isfinite(z)
    return np.where(enough, z, -np.inf)


def _together(
    conditions: NDArray[np.bool_], paired: NDArray[np.integer], wrong: Mask
) -> tuple[NDArray[np.int64], NDArray[np.int64]]:
    """How many images meet two conditions at once, and how many of those are wrong, for all pairs (P × P)."""
    both = np.zeros((len(paired), len(paired)))
    both_wrong = np.zeros_like(both)
    for start in range(0, conditions.shape[1], _AT_ONCE):
        if current_stop().stopped:
            break
        some = conditions[paired, start : start + _AT_ONCE].astype(np.float32)
        both += some @ some.T
        missed = some[:, wrong[start : start + _AT_ONCE]]
        both_wrong += missed @ missed.T
    return both.astype(np.int64), both_wrong.astype(np.int64)


def confirmed(spots: list[Mask], right: Mask, unit: NDArray[np.int64] | None = None) -> list[float]:
    """For each spot (a mask of N images that were not searched) the one-sided probability of so few right in it against the rest, exact
    (Fisher 1935), or over whole units; corrected for their number (Holm 1979): split and test as in Cox 1975."""
    found = []
    for mask in spots:
        hits, size, whole = int((right & mask).sum()), int(mask.sum()), int(right.sum())
        if unit is None or not 0 < size < len(mask):
            found.append(below_rest(hits, size, whole - hits, len(mask) - size))
        else:
            found.append(below_rest_over_units(right, mask.astype(np.int64), unit)[1])
    return holm(found)
