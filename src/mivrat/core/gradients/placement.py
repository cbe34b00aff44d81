"""Where in the image the cells of a layer lie, and a map laid over the whole image by that."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

# A cell may be so many cells from where equal steps would have it, before its row or column is no line of equal steps.
UNEVEN = 0.75
# Nor is anything so slight (a share of the side), as where resampling goes on beyond the edge with the last value.
SLIGHT = 0.02
# Maps whose edges are no further from those of the image than this (a share of its side) are taken as they are.
CLOSE = 0.01
# Others are laid out in so many steps a cell, and at most so many along a side (never fewer than they have cells).
_STEPS, _MOST = 4, 56


@dataclass(frozen=True)
class Placement:
    """The outer edges of a layer's cells, as shares of what the network receives; where rows run upwards ``top`` is below
    ``bottom``, and beyond 0 and 1 lies padding. ``swapped``: its first axis runs across and its second down."""

    top: float = 0.0
    left: float = 0.0
    bottom: float = 1.0
    right: float = 1.0
    swapped: bool = False

    @property
    def even(self) -> bool:
        """Whether the cells are spread evenly over the whole image, as nearly as can be seen."""
        edges = np.array([self.top, self.left, self.bottom - 1, self.right - 1])
        return not self.swapped and bool((np.abs(edges) <= CLOSE).all())

    def laid(self, heat: NDArray[np.float32]) -> NDArray[np.float32]:
        """A map (... x rows x columns, the layer's own) as one of the whole image, upright; 0 further than a cell from its middle
        cells' centres, where the layer does not look."""
        if self.even:
            return heat
        upright = np.swapaxes(heat, -2, -1) if self.swapped else heat
        for axis, first, last in ((-2, self.top, self.bottom), (-1, self.left, self.right)):
            upright = _along(upright, axis, first, last)
        return np.ascontiguousarray(upright, np.float32)


def _along(values: NDArray[np.float32], axis: int, first: float, last: float) -> NDArray[np.float32]:
    """One axis resampled, linearly between the cells' centres, to equal steps over the whole side."""
    cells = values.shape[axis]
    size = max(cells, min(_MOST, round(_STEPS * cells / abs(last - first))))
    at = ((np.arange(size) + 0.5) / size - first) / (last - first) * cells - 0.5
    near = np.clip(at, 0, cells - 1)
    low = np.minimum(near.astype(int), max(cells - 2, 0))
    high = np.minimum(low + 1, cells - 1)
    share = (near - low).astype(np.float32)
    seen = (np.abs(at - near) <= 1).astype(np.float32)
    shape = (-1, 1) if axis == -2 else (-1,)
    taken_low, taken_high = np.take(values, low, axis=axis), np.take(values, high, axis=axis)
    return np.asarray((taken_low + share.reshape(shape) * (taken_high - taken_low)) * seen.reshape(shape))


def placement_of(places: NDArray[np.floating]) -> Placement | None:
    """The placement of cells whose places (rows x columns x (down, across), NaN for one in the padding) are known; None where these
    make no grid of equal steps."""
    for swapped in (False, True):
        edges = []
        for axis in (0, 1):
            part = places[..., 1 - axis if swapped else axis]
            known = ~np.isnan(part)
            counts = known.sum(axis=1 - axis)
            if not counts.any():
                return None
            line = np.where(counts > 0, np.where(known, part, 0).sum(axis=1 - axis) / np.maximum(counts, 1), np.nan)
            apart = np.abs(part - np.expand_dims(line, 1 - axis))[known]
            found = _edges(line)
            if found is None or apart.max() > UNEVEN * abs(found[1] - found[0]) / len(line):
                break
            edges.append(found)
        if len(edges) == 2:
            (top, bottom), (left, right) = edges[::-1] if swapped else edges
            return Placement(top, left, bottom, right, swapped)
    return None


def _edges(line: NDArray[np.floating]) -> tuple[float, float] | None:
    """The outer edges of cells from their centres; None where these are not in equal steps. A single one takes the whole side."""
    known = np.flatnonzero(~np.isnan(line))
    if len(line) == 1:
        return float(line[0]) - 0.5, float(line[0]) + 0.5
    if len(known) < 2:
        return None
    step, start = np.polyfit(known, line[known], 1)
    # Neighbours may share a place, where each has been taken several times.
    edges = np.flatnonzero(np.abs(np.diff(line[known])) > 0.1 * abs(step))
    longest = int(np.diff(np.concatenate([[-1], edges, [len(known) - 1]])).max())
    allowed = max(UNEVEN * longest * abs(step), SLIGHT)
    if abs(step) < 1e-6 or np.abs(line[known] - start - step * known).max() > allowed:
        return None
    if (np.diff(line[known]) * np.sign(step)).min() < -0.1 * abs(step):
        return None  # forwards and backwards
    return float(start - step / 2), float(start + step * (len(line) - 0.5))
