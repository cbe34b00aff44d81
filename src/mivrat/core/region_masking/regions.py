"""Regions of an image: shapes drawn by hand, or the hottest part of a heatmap; and how much of the evidence lies inside."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any, Literal

import numpy as np
from numpy.typing import NDArray

from mivrat.core.base.errors import InputError
from mivrat.core.heatmaps.hottest import Mask, laid_over

Kind = Literal["rectangle", "ellipse", "lasso", "brush"]
KINDS: tuple[Kind, ...] = ("rectangle", "ellipse", "lasso", "brush")
# How many points a shape is made of, at least and at most.
_POINTS: dict[str, tuple[int, int]] = {
    "rectangle": (2, 2),
    "ellipse": (2, 2),
    "lasso": (3, 10_000),
    "brush": (1, 10_000),
}


@dataclass(frozen=True)
class Shape:
    """One shape, its points (across, down) in shares of what the network receives.

    Two opposite corners of a ``rectangle`` or of what an ``ellipse`` is inscribed in, the outline of a ``lasso``, or the path
    of a ``brush`` with its ``radius`` as a share of the shorter side.
    """

    kind: Kind
    points: tuple[tuple[float, float], ...]
    radius: float = 0.0

    def mask(self, height: int, width: int) -> Mask:
        """The pixels whose centres lie inside."""
        down, across = (np.arange(height) + 0.5) / height, (np.arange(width) + 0.5) / width
        if self.kind in ("rectangle", "ellipse"):
            (x0, x1), (y0, y1) = (sorted(p[axis] for p in self.points) for axis in (0, 1))
            if self.kind == "rectangle":
                inside: Mask = ((down > y0) & (down <= y1))[:, None] & ((across > x0) & (across <= x1))[None]
                return inside
            if x1 == x0 or y1 == y0:
                return np.zeros((height, width), bool)
            from_middle = (2 * down - y0 - y1) / (y1 - y0), (2 * across - x0 - x1) / (x1 - x0)
            return np.asarray(from_middle[0][:, None] ** 2 + from_middle[1][None] ** 2 <= 1)
        xs, ys = across[None] * np.ones((height, 1)), down[:, None] * np.ones((1, width))
        return self._lassoed(xs, ys) if self.kind == "lasso" else self._brushed(xs * width, ys * height, width, height)

    def _lassoed(self, xs: NDArray[np.float64], ys: NDArray[np.float64]) -> Mask:
        """Inside where a line to the right crosses the closed outline an odd number of times."""
        inside = np.zeros(xs.shape, bool)
        for (x0, y0), (x1, y1) in zip(self.points, (*self.points[1:], self.points[0]), strict=True):
            if y0 != y1:
                crossed = (ys < y0) != (ys < y1)
                inside ^= crossed & (xs < x0 + (ys - y0) * (x1 - x0) / (y1 - y0))
        return inside

    def _brushed(self, xs: NDArray[np.float64], ys: NDArray[np.float64], width: int, height: int) -> Mask:
        """Within the radius of the path, in pixels."""
        inside, reach = np.zeros(xs.shape, bool), self.radius * min(width, height)
        path = [(x * width, y * height) for x, y in self.points]
        for (x0, y0), (x1, y1) in zip(path, path[1:] or path, strict=False):
            length = (x1 - x0) ** 2 + (y1 - y0) ** 2
            along = np.clip(((xs - x0) * (x1 - x0) + (ys - y0) * (y1 - y0)) / length, 0, 1) if length else 0.0
            inside |= (xs - x0 - along * (x1 - x0)) ** 2 + (ys - y0 - along * (y1 - y0)) ** 2 <= reach**2
        return inside

    def as_json(self) -> dict[str, Any]:
        found: dict[str, Any] = {"kind": self.kind, "points": [[round(v, 5) for v in p] for p in self.points]}
        return found | ({"radius": round(self.radius, 5)} if self.kind == "brush" else {})

    def moved(self, across: float, down: float) -> Shape:
        return Shape(self.kind, tuple((x + across, y + down) for x, y in self.points), self.radius)

    def scaled(self, factor: float) -> Shape:
        """Larger or smaller around its middle; a brush keeps its path and gets wider."""
        if self.kind == "brush":
            return Shape(self.kind, self.points, self.radius * factor)
        mx, my = ((min(p[a] for p in self.points) + max(p[a] for p in self.points)) / 2 for a in (0, 1))
        return Shape(self.kind, tuple((mx + (x - mx) * factor, my + (y - my) * factor) for x, y in self.points))


def shape_from_json(data: Any) -> Shape:
    """A shape as ``as_json`` gives it; InputError where it is none."""
    try:
        kind, points = data["kind"], tuple((float(x), float(y)) for x, y in data["points"])
        radius = float(data.get("radius", 0.0))
    except (KeyError, TypeError, ValueError, AttributeError, OverflowError):
        kind, points, radius = "", (), 0.0
    numbers = [v for p in points for v in p] + [radius]
    known = isinstance(kind, str) and kind in KINDS
    fewest, most = _POINTS[kind] if known else (1, 0)
    if not (fewest <= len(points) <= most and np.isfinite(numbers).all() and max(np.abs(numbers)) <= 10):
        raise InputError(
            "is not a region",
            where="region",
            hint=f"give a shape: {', '.join(KINDS)}, with its points as shares; two corners for the first two",
        )
    return Shape(kind, points, radius)


def mask_of(shapes: Sequence[Shape], height: int, width: int) -> Mask:
    """What several shapes cover together."""
    found = np.zeros((height, width), bool)
    for shape in shapes:
        found |= shape.mask(height, width)
    return found


def share_inside(heat: NDArray[np.floating], mask: Mask) -> float | None:
    """The share of a map's evidence (what is above zero) that lies in a region; None where there is no evidence."""
    evidence = np.maximum(laid_over(heat, *mask.shape).astype(np.float64), 0.0)
    total = float(evidence.sum())
    return float(evidence[mask].sum()) / total if total > 0 else None
