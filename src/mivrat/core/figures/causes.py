"""How often mistakes are put down to each cause, in all and by group of images."""

from __future__ import annotations

from collections import Counter
from collections.abc import Hashable, Sequence
from dataclasses import dataclass
from typing import Generic, TypeVar

import numpy as np
from numpy.typing import NDArray

from mivrat.core.figures.intervals import Proportion, proportion
from mivrat.core.figures.units import share

G = TypeVar("G", bound=Hashable)


@dataclass(frozen=True)
class CauseCount(Generic[G]):
    """Of the reviewed mistakes of a group, the share put down to a cause (None: to none); an image may have several."""

    group: G
    cause: int | None
    share: Proportion


def count_causes(
    causes: Sequence[frozenset[int]], groups: Sequence[G], unit: NDArray[np.int64] | None = None
) -> list[CauseCount[G]]:
    """Count the causes of N reviewed mistakes, group by group; the most frequent first, equal ones in order of appearance.

    Intervals of 95 %: Wilson's, or over units where images belong together.
    """
    totals = Counter(groups)
    found: Counter[tuple[G, int | None]] = Counter()
    for named, group in zip(causes, groups, strict=True):
        which: list[int | None] = [*sorted(named)] or [None]
        found.update((group, cause) for cause in which)
    if unit is None:
        return [CauseCount(group, cause, proportion(n, totals[group])) for (group, cause), n in found.most_common()]

    def over_units(group: G, cause: int | None) -> Proportion:
        inside = np.array([one == group for one in groups])
        hits = np.array([cause in named if cause is not None else not named for named in causes])
        return share(hits[inside], unit[inside])

    return [CauseCount(group, cause, over_units(group, cause)) for (group, cause), _ in found.most_common()]
