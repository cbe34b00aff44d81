"""Maps put together: several layers, several classes, many images."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from mivrat.core.heatmaps.hottest import laid_over
from mivrat.core.heatmaps.maps import Map
from mivrat.core.heatmaps.overlay import normalised


def combined(maps: Sequence[Map], weights: Sequence[float] | None = None) -> Map:
    """The mean of maps, each divided by its largest absolute value, on the finest of their grids; weighted where asked.

    A map that is all zero takes part as zeros. Maps are h × w each, of any size; returns one of the largest h × w, from -1 to
    1.
    """
    size = max(m.shape[0] for m in maps), max(m.shape[1] for m in maps)
    laid = [normalised(m if m.shape == size else laid_over(m, *size)) for m in maps]
    return np.average(laid, axis=0, weights=weights).astype(np.float32)


@dataclass(frozen=True)
class MeanMap:
    """The mean of N maps each divided by its peak; ``zero`` of them are all zero and take part as zeros."""

    heat: Map
    total: int
    zero: int


def mean_map(maps: Sequence[Map]) -> MeanMap:
    """The mean map of one or more images. Maps are h × w each, of any size."""
    return MeanMap(combined(maps), len(maps), sum(not m.any() for m in maps))


def spread_of(maps: Sequence[Map], most: int = 12) -> NDArray[np.float32]:
    """Where each map's evidence lies: N unit vectors whose products tell how far two maps lie in the same places.

    A map's positive part on a grid of at most ``most`` cells a side is a distribution; the root of it is a unit vector, and the
    product of two is the overlap of the distributions (Bhattacharyya 1943). A map without evidence gives a row of zeros.
    """
    size = min(most, max(m.shape[0] for m in maps)), min(most, max(m.shape[1] for m in maps))
    found = np.zeros((len(maps), size[0] * size[1]), np.float32)
    for i, heat in enumerate(maps):
        inside = _pooled(np.maximum(heat, 0.0), size).ravel()
        if inside.any():
            found[i] = np.sqrt(inside / inside.sum())
    return found


def _pooled(heat: Map, size: tuple[int, int]) -> NDArray[np.float64]:
    """A map on a coarser grid: each cell the mean of what it covers."""
    if heat.shape == size:
        return heat.astype(np.float64)
    along = []
    for before, after in zip(heat.shape, size, strict=True):
        edges = np.linspace(0, before, after + 1)
        cells = np.arange(before)
        share = np.minimum(edges[1:, None], cells + 1) - np.maximum(edges[:-1, None], cells)
        along.append(np.maximum(share, 0.0) * after / before)
    pooled: NDArray[np.float64] = along[0] @ heat.astype(np.float64) @ along[1].T
    return pooled
