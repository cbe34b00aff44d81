"""How far several readers of the same images agree: raw share, and kappa, which is free of what chance alone would give."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from mivrat.core.figures.intervals import Z95, Proportion, proportion

# Below so many images both have decided, kappa has no interval.
LEAST = 20


@dataclass(frozen=True)
class Agreement:
    """Of images that all have decided: the share on which all agree, and kappa with its 95 % interval; None where it is not defined (all
    said the same), or has no interval."""

    share: Proportion
    kappa: float | None
    low: float | None = None
    high: float | None = None


def agreement_of_two(first: Sequence[str], second: Sequence[str]) -> Agreement:
    """Two readers' answers to the same N images: Cohen's kappa (1960) with the standard error of Fleiss, Cohen and Everitt (1969).

    >>> round(agreement_of_two(["a"] * 9 + ["b"], ["a"] * 8 + ["b"] * 2).kappa, 3)
    0.615
    """
    kinds = {name: k for k, name in enumerate(sorted({*first, *second}))}
    total = len(first)
    share = proportion(sum(a == b for a, b in zip(first, second, strict=True)), total)
    if not total:
        return Agreement(share, None)
    counts = np.zeros((len(kinds), len(kinds)))
    for a, b in zip(first, second, strict=True):
        counts[kinds[a], kinds[b]] += 1
    p = counts / total
    rows, columns = p.sum(axis=1), p.sum(axis=0)
    seen, chance = float(np.trace(p)), float(rows @ columns)
    if chance > 1 - 1e-12:
        return Agreement(share, None)
    kappa = (seen - chance) / (1 - chance)
    if total < LEAST:
        return Agreement(share, kappa)
    along = float((np.diag(p) * ((1 - chance) - (rows + columns) * (1 - seen)) ** 2).sum())
    across = (columns[:, None] + rows[None, :]) ** 2 * p
    off = (1 - seen) ** 2 * float(across.sum() - np.trace(across))
    variance = max(0.0, along + off - (seen * chance - 2 * chance + seen) ** 2) / (1 - chance) ** 4 / total
    if seen == 1:
        # All alike: as if one further image were otherwise, so that no certainty comes of few.
        return Agreement(share, kappa, max(-1.0, 1 - (1 - (share.low or 0.0)) / (1 - chance)), 1.0)
    half = Z95 * math.sqrt(variance)
    return Agreement(share, kappa, max(-1.0, kappa - half), min(1.0, kappa + half))


def agreement_of_several(counts: NDArray[np.integer]) -> Agreement:
    """N images × answers, how many of the readers gave each; every image has as many readers: Fleiss' kappa (1971), with the standard
    error of his second paper for no agreement beyond chance left out, since it is not one of this figure."""
    total, readers = len(counts), int(counts[0].sum()) if len(counts) else 0
    share = proportion(int((counts.max(axis=1) == readers).sum()) if total else 0, total)
    if total == 0 or readers < 2:
        return Agreement(share, None)
    of_image = (np.square(counts).sum(axis=1) - readers) / (readers * (readers - 1))
    shares = counts.sum(axis=0) / (total * readers)
    chance = float((shares**2).sum())
    return Agreement(share, None if chance > 1 - 1e-12 else (float(of_image.mean()) - chance) / (1 - chance))
