"""A board of one image's maps: layers down, targets across, cell by cell as they are computed."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from mivrat.core.gradients.layers import Layer
from mivrat.core.heatmaps.combining import combined
from mivrat.core.heatmaps.maps import Map, MapMaker, Target
from mivrat.core.heatmaps.methods import BY_GRADIENT, Method


@dataclass(frozen=True)
class Row:
    """One layer, or several whose maps are put together; none for a method that looks at no layer."""

    name: str
    layers: tuple[Layer, ...]


@dataclass(frozen=True)
class BoardColumn:
    """One target, or several whose maps are put together, weighted where ``weights`` are given."""

    name: str
    targets: tuple[Target, ...]
    weights: tuple[float, ...] | None = None


@dataclass(frozen=True)
class BoardMap:
    """One map of the board; ``peak`` is its largest absolute value."""

    row: int
    column: int
    heat: Map

    @property
    def peak(self) -> float:
        return float(np.abs(self.heat).max(initial=0.0))


def board_cells(
    maker: MapMaker,
    tensor: NDArray[Any],
    rows: Sequence[Row],
    columns: Sequence[BoardColumn],
    method: Method = "gradient",
    seed: int = 0,
) -> Iterator[BoardMap]:
    """The cells of a board for one prepared image, each as soon as all its maps are known; no map is made twice.

    ``tensor`` is C × H × W, or H × W × C. InputError where a layer cannot give a map.
    """
    targets = list(dict.fromkeys(t for column in columns for t in column.targets))
    known: dict[tuple[str, Target], Map] = {}
    left = [(r, c) for r in range(len(rows)) for c in range(len(columns))]
    layers: list[Layer | None] = list(dict.fromkeys(layer for row in rows for layer in row.layers))
    for layer in layers or [None]:
        name = layer.tensor if layer is not None else ""
        # The gradients of several targets share a batch; other methods take so long that each is told of on its own.
        for some in [targets] if method in BY_GRADIENT else [[t] for t in targets]:
            batch = np.repeat(tensor[None], len(some), axis=0)
            found = maker.laid_maps(batch, some, [layer] if layer is not None else [], method, seed)[0]
            known.update(((name, target), heat) for target, heat in zip(some, found, strict=True))
            for r, c in list(left):
                names = [one.tensor for one in rows[r].layers] or [""]
                wanted = [(one, target) for one in names for target in columns[c].targets]
                if all(one in known for one in wanted):
                    left.remove((r, c))
                    yield BoardMap(r, c, _cell([known[one] for one in wanted], len(names), columns[c]))


def _cell(maps: Sequence[Map], layers: int, column: BoardColumn) -> Map:
    if len(maps) == 1:
        return maps[0]
    per_class = len(column.targets)
    by_target = [[maps[at * per_class + t] for at in range(layers)] for t in range(per_class)]
    each = [combined(some) if layers > 1 else some[0] for some in by_target]
    return combined(each, column.weights) if per_class > 1 else each[0]
