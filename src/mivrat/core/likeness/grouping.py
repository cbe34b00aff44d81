"""Groups images by likeness, typical ones first, and tells what the members of a group share beyond chance."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from mivrat.core.figures.exact import splits
from mivrat.core.figures.significance import holm
from mivrat.core.likeness.features import Vectors, unit

FEWEST, MOST = 2, 8
STARTS = 8
# The silhouette that picks the number of groups is taken over no more images than this.
JUDGED_ON = 1500


@dataclass(frozen=True)
class LikeGroup:
    """The members of a group as positions in what was grouped, the most typical first, and their mean cosine to its centre."""

    members: NDArray[np.int64]
    tightness: float


def group_by_likeness(vectors: Vectors, number: int | None = None, seed: int = 0) -> list[LikeGroup]:
    """Groups of N unit vectors by spherical k-means (Dhillon 2001), the largest first; the same for the same seed.

    Without a ``number`` of groups the one from 2 to 8 with the highest mean silhouette (Rousseeuw 1987) is taken.
    """
    total = len(vectors)
    if total < 2 * FEWEST:
        return [_group(vectors, np.arange(total))] if total else []
    numbers = [min(number, total)] if number is not None else range(FEWEST, min(MOST, total // 2) + 1)
    rng = np.random.default_rng(seed)
    judged_on = np.sort(rng.permutation(total)[:JUDGED_ON])
    distances = 1.0 - vectors[judged_on] @ vectors[judged_on].T
    best: tuple[float, NDArray[np.int64]] | None = None
    for k in numbers:
        where = _k_means(vectors, k, rng)
        score = silhouette(distances, where[judged_on])
        if best is None or score > best[0]:
            best = score, where
    assert best is not None
    where = best[1]
    found = [_group(vectors, np.flatnonzero(where == g)) for g in np.unique(where)]
    return sorted(found, key=lambda one: (-len(one.members), int(one.members.min())))


def _group(vectors: Vectors, members: NDArray[np.int64]) -> LikeGroup:
    cosines = vectors[members] @ unit(vectors[members].mean(axis=0, keepdims=True))[0]
    return LikeGroup(members[np.argsort(-cosines, kind="stable")], float(cosines.mean()))


def _k_means(vectors: Vectors, k: int, rng: np.random.Generator) -> NDArray[np.int64]:
    """The group of each vector: the best of several starts, each spread out as k-means++ does (Arthur 2007)."""
    best: tuple[float, NDArray[np.int64]] | None = None
    for _ in range(STARTS):
        centres = _spread_out(vectors, k, rng)
        where = np.full(len(vectors), -1)
        for _ in range(100):
            cosines = vectors @ centres.T
            moved = cosines.argmax(axis=1)
            if (moved == where).all():
                break
            where = moved
            for g in range(k):
                if (where == g).any():
                    centres[g] = unit(vectors[where == g].mean(axis=0, keepdims=True))[0]
        fit = float((vectors @ centres.T).max(axis=1).sum())
        if best is None or fit > best[0] + 1e-9:
            best = fit, where
    assert best is not None
    return best[1]


def _spread_out(vectors: Vectors, k: int, rng: np.random.Generator) -> Vectors:
    picked = [int(rng.integers(len(vectors)))]
    apart = 1.0 - vectors @ vectors[picked[0]]
    while len(picked) < k:
        weights = np.clip(apart, 0.0, None).astype(np.float64)
        total = weights.sum()
        following = int(rng.choice(len(vectors), p=weights / total)) if total > 0 else int(rng.integers(len(vectors)))
        picked.append(following)
        apart = np.minimum(apart, 1.0 - vectors @ vectors[following])
    return vectors[picked].copy()


def silhouette(distances: NDArray[np.floating], where: NDArray[np.integer]) -> float:
    """Mean silhouette of N things from their distances N x N and groups (Rousseeuw 1987); one alone in its group counts 0."""
    groups, where = np.unique(where, return_inverse=True)
    if len(groups) < 2:
        return -1.0
    inside = np.eye(len(groups))[where]
    counts, sums = inside.sum(axis=0), distances @ inside
    lines = np.arange(len(where))
    own = sums[lines, where] / np.maximum(1, counts[where] - 1)
    means = sums / counts
    means[lines, where] = np.inf
    other = means.min(axis=1)
    most = np.maximum(own, other)
    values = np.where((counts[where] > 1) & (most > 0), (other - own) / np.where(most > 0, most, 1.0), 0.0)
    return float(values.mean())


@dataclass(frozen=True)
class SharedTrait:
    """What a group shares: ``inside`` of its ``members`` have it, of ``total`` grouped images ``everywhere`` have it.

    ``p``: exact probability of so many or more, were it spread evenly (hypergeometric), corrected over all asked (Holm).
    """

    about: str
    value: str
    inside: int
    members: int
    everywhere: int
    total: int
    p: float


def shared_beyond_chance(
    groups: Sequence[LikeGroup], facts: Sequence[tuple[str, str, NDArray[np.bool_]]], level: float = 0.05
) -> list[list[SharedTrait]]:
    """For each group, which facts (what about, value, which of the N images) its members share beyond chance."""
    total = sum(len(group.members) for group in groups)
    asked = []
    for g, group in enumerate(groups):
        for about, value, holds in facts:
            inside, everywhere, size = int(holds[group.members].sum()), int(holds.sum()), len(group.members)
            ways, chance = splits(total, everywhere, size)
            p = float(min(1.0, chance[ways >= inside].sum()))
            asked.append((g, SharedTrait(about, value, inside, size, everywhere, total, p)))
    corrected = holm([one.p for _, one in asked])
    found: list[list[SharedTrait]] = [[] for _ in groups]
    for (g, one), p in zip(asked, corrected, strict=True):
        if p < level and one.inside > 1:
            found[g].append(SharedTrait(one.about, one.value, one.inside, one.members, one.everywhere, one.total, p))
    return [sorted(some, key=lambda one: (one.p, one.about, one.value)) for some in found]
