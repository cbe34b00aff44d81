"""Groups images by where the evidence in them lies, typical ones first."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

from mivrat.core.heatmaps.combining import spread_of
from mivrat.core.heatmaps.maps import Map
from mivrat.core.likeness.grouping import LikeGroup, group_by_likeness


def group_by_place(maps: Sequence[Map], number: int | None = None, seed: int = 0) -> list[LikeGroup]:
    """Groups of maps whose evidence lies in the same places, the largest first; the same for the same seed.

    Members are positions in ``maps``; a map without evidence is in no group.
    """
    if not maps:
        return []
    spread = spread_of(maps)
    telling: NDArray[np.int64] = np.flatnonzero(spread.any(axis=1))
    groups = group_by_likeness(spread[telling], number, seed)
    return [LikeGroup(telling[group.members], group.tightness) for group in groups]
