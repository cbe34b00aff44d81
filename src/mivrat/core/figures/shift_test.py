"""How unlike two sets of images are to a model: a test on its features, and the images unlike anything in the other set."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from mivrat.core.base.job import current_stop
from mivrat.core.figures.uncertainty import LEAST_UNITS

# So many images of each set are looked at, and so often they are dealt anew.
MOST, PERMUTATIONS = 2_000, 999
# The distance to the k-th nearest tells how far off an image is: the first alone would fall for a chance neighbour.
NEIGHBOURS = 10
LEAST = 10

Vectors = NDArray[np.floating]
Unit = NDArray[np.integer] | None


@dataclass(frozen=True)
class Unlike:
    """``mmd`` is the squared maximum mean discrepancy, ``p`` the probability of so large a one, were images dealt to the two sets at
    random; ``used`` how many of each were looked at; ``within_classes`` whether classes were held apart; ``units`` how many units
    were dealt whole (None: single images); ``p`` is None where those are too few."""

    mmd: float
    p: float | None
    used: tuple[int, int]
    within_classes: bool = False
    units: int | None = None


def unlike(
    a: Vectors,
    b: Vectors,
    classes: tuple[NDArray[np.integer], NDArray[np.integer]] | None = None,
    unit_a: Unit = None,
    unit_b: Unit = None,
    seed: int = 0,
) -> Unlike | None:
    """Maximum mean discrepancy of two sets of feature vectors (N x D and M x D, finite; Gretton 2012), Gaussian kernel as wide as
    the median distance, at most MOST images of each, drawn with the seed; the probability by dealing images anew.

    With ``classes`` (of a's and of b's images) every class is compared with itself, and dealt within it: another mix of classes is
    then not taken for other pictures. With units whole ones are dealt. None with fewer than LEAST images, or stopped.
    """
    rng = np.random.default_rng(seed)
    at_a, at_b = (np.sort(rng.permutation(len(one))[:MOST]) for one in (a, b))
    if classes is not None:  # of classes that both have
        known = np.intersect1d(classes[0][at_a], classes[1][at_b])
        at_a, at_b = at_a[np.isin(classes[0][at_a], known)], at_b[np.isin(classes[1][at_b], known)]
    n, m = len(at_a), len(at_b)
    if min(n, m) < LEAST:
        return None
    kernel = gaussian(np.concatenate([a[at_a], b[at_b]]))
    group = np.zeros(n + m, np.int64) if classes is None else np.concatenate([classes[0][at_a], classes[1][at_b]])
    held, unit = _one_class_each(kernel, group), None
    if unit_a is not None or unit_b is not None:
        first = at_a if unit_a is None else unit_a[at_a]
        second = at_b if unit_b is None else unit_b[at_b]
        unit = np.concatenate([first, second + (int(first.max()) + 1)])
    seen = _discrepancies(held, group, (np.arange(n + m) < n).astype(np.float32)[:, None])[0]
    units = None if unit is None else len(np.unique(unit))
    if current_stop().stopped:
        return None
    p: float | None = None
    if units is None or units >= LEAST_UNITS:
        higher = 0
        for _ in range(0, PERMUTATIONS, 111):
            if current_stop().stopped:
                return None
            dealt = np.stack([_dealt(rng, n, m, group, unit) for _ in range(111)], axis=1)
            higher += int((_discrepancies(held, group, dealt) >= seen - 1e-9).sum())
        p = (1 + higher) / (PERMUTATIONS + 1)
    return Unlike(float(seen), p, (n, m), classes is not None, units)


def gaussian(vectors: Vectors) -> NDArray[np.float32]:
    """exp(-d² / 2w²) of all pairs, w the median distance of pairs that differ. ``vectors`` is N × D; returns N × N."""
    x = vectors.astype(np.float32)
    squares = np.einsum("nd,nd->n", x, x)
    apart = np.maximum(0.0, squares[:, None] + squares[None, :] - 2 * (x @ x.T))
    np.fill_diagonal(apart, 0.0)
    some = apart[:: max(1, len(x) // 1000)]
    width = float(np.median(some[some > 1e-12])) if (some > 1e-12).any() else 1.0
    found: NDArray[np.float32] = np.exp(-apart / (2 * width))
    np.fill_diagonal(found, 0.0)
    return found


def _one_class_each(kernel: NDArray[np.float32], group: NDArray[np.integer]) -> NDArray[np.float32]:
    return kernel if (group == group[0]).all() else np.where(group[:, None] == group[None, :], kernel, np.float32(0.0))


def _discrepancies(
    kernel: NDArray[np.float32], group: NDArray[np.integer], first: NDArray[np.float32]
) -> NDArray[np.float64]:
    """The unbiased squared discrepancy, for each way of dealing (images x ways, 1 for the first set): the mean over classes of it,
    weighted by the class's images."""
    _, which = np.unique(group, return_inverse=True)
    count = int(which.max()) + 1
    other = 1 - first
    to_first, to_other = kernel @ first, kernel @ other
    inside = np.zeros((3, count, first.shape[1]))
    for row, part in enumerate((first * to_first, other * to_other, first * to_other)):
        np.add.at(inside[row], which, part)
    n, m = np.zeros((2, count, first.shape[1]))
    np.add.at(n, which, first)
    np.add.at(m, which, other)
    with np.errstate(divide="ignore", invalid="ignore"):
        by_class = inside[0] / (n * (n - 1)) + inside[1] / (m * (m - 1)) - 2 * inside[2] / (n * m)
    told = (n > 1) & (m > 1)
    weight = np.where(told, np.minimum(n, m), 0.0)
    total = weight.sum(axis=0)
    found: NDArray[np.float64] = np.where(told, by_class, 0.0)
    return np.asarray((found * weight).sum(axis=0) / np.maximum(1e-12, total))


def _dealt(
    rng: np.random.Generator, n: int, m: int, group: NDArray[np.integer], unit: NDArray[np.integer] | None
) -> NDArray[np.float32]:
    """Which images fall to the first set, dealt anew: within classes, or whole units."""
    first = (np.arange(n + m) < n).astype(np.float32)
    if unit is not None:
        of_first = np.unique(unit[:n])
        every = np.unique(unit)
        return np.isin(unit, rng.permutation(every)[: len(of_first)]).astype(np.float32)
    by_class = np.argsort(group, kind="stable")
    shuffled = np.lexsort((rng.random(n + m), group))
    dealt = np.empty_like(first)
    dealt[by_class] = first[shuffled]
    return dealt


@dataclass(frozen=True)
class FarImages:
    """How far each image of one set is from the other (``distance``, to its NEIGHBOURS-th nearest there), and the share of the
    other set's own images that are nearer to the rest of theirs (``percentile``, 0 to 1); NaN where it has no features."""

    distance: NDArray[np.float64]
    percentile: NDArray[np.float64]


def far_images(of: Vectors, to: Vectors, k: int = NEIGHBOURS, seed: int = 0, most: int = 10 * MOST) -> FarImages:
    """How far each image of a set lies from another (Sun 2022), by unit feature vectors (rows with NaN are left out)."""
    known = np.flatnonzero(~np.isnan(of).any(axis=1)) if len(of) else np.zeros(0, int)
    base = to[~np.isnan(to).any(axis=1)] if len(to) else to
    distance, percentile = np.full(len(of), np.nan), np.full(len(of), np.nan)
    if len(base) > most:
        base = base[np.sort(np.random.default_rng(seed).permutation(len(base))[:most])]
    if len(base) < 2 or not len(known):
        return FarImages(distance, percentile)
    own = np.sort(_kth(base, base, min(k, len(base) - 1) + 1))  # the nearest of its own set is each image itself
    distance[known] = _kth(of[known], base, min(k, len(base)))
    percentile[known] = np.searchsorted(own, distance[known], side="left") / len(own)
    return FarImages(distance, percentile)


def _kth(of: Vectors, to: Vectors, k: int) -> NDArray[np.float64]:
    """The Euclidean distance of each vector to the k-th nearest."""
    squares = np.einsum("nd,nd->n", to, to)
    step, found = max(1, (1 << 24) // len(to)), np.empty(len(of))
    for first in range(0, len(of), step):
        some = of[first : first + step]
        apart = np.einsum("nd,nd->n", some, some)[:, None] + squares[None, :] - 2 * (some @ to.T)
        found[first : first + step] = np.partition(apart, k - 1, axis=1)[:, k - 1]
    return np.sqrt(np.maximum(0.0, found))
