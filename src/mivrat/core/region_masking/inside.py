"""How much of the evidence lies in a region, over many images: in right answers against wrong ones."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from mivrat.core.heatmaps.hottest import Mask
from mivrat.core.heatmaps.maps import Map
from mivrat.core.region_masking.regions import share_inside


@dataclass(frozen=True)
class InsideShares:
    """N shares and their mean; None without any."""

    total: int
    mean: float | None


@dataclass(frozen=True)
class Inside:
    """Shares of the evidence inside a region of ``area`` (a share of the image, the mean where it differs).

    ``p``: probability of so different ranks of right and wrong answers, were they alike (Mann and Whitney 1947), two-sided; 1
    without both. ``none`` images have no evidence at all.
    """

    area: float
    right: InsideShares
    wrong: InsideShares
    p: float
    none: int


def evidence_inside(
    maps: Mapping[int, Map], masks: Mapping[int, Mask], right: NDArray[np.bool_], wrong: NDArray[np.bool_]
) -> Inside:
    """The shares over all images with both a map and a mask; ``right`` and ``wrong`` by position."""
    found: dict[bool, list[float]] = {True: [], False: []}
    none, areas = 0, []
    for image, heat in maps.items():
        if image not in masks or not (right[image] or wrong[image]):
            continue
        areas.append(float(masks[image].mean()))
        share = share_inside(heat, masks[image])
        if share is None:
            none += 1
        else:
            found[bool(right[image])].append(share)
    p = 1.0
    if found[True] and found[False] and len({*found[True], *found[False]}) > 1:
        from scipy.stats import mannwhitneyu

        p = float(mannwhitneyu(found[True], found[False]).pvalue)
    shares = [InsideShares(len(some), float(np.mean(some)) if some else None) for some in (found[True], found[False])]
    return Inside(float(np.mean(areas)) if areas else 0.0, shares[0], shares[1], p, none)
