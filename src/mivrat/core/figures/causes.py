"""How often mistakes are put down to each cause, in all and by group of images."""

from __future__ import annotations

from collections import Counter
from collections.abc import Hashable, Sequence
from dataclasses import dataclass
from typing import Generic, TypeVar

from mivrat.core.figures.intervals import Proportion, proportion

G = TypeVar("G", bound=Hashable)


@dataclass(frozen=True)
class CauseCount(Generic[G]):
    """Of the reviewed mistakes of a group, the share put down to a cause (None: to none); an image may have several."""

    group: G
    cause: int | None
    share: Proportion


def count_causes(causes: Sequence[frozenset[int]], groups: Sequence[G]) -> list[CauseCount[G]]:
    """Count the causes of N reviewed mistakes, group by group; the most frequent first, equal ones in order of appearance.

    Wilson intervals, 95 %.
    """
    totals = Counter(groups)
    found: Counter[tuple[G, int | None]] = Counter()
    for named, group in zip(causes, groups, strict=True):
        which: list[int | None] = [*sorted(named)] or [None]
        found.update((group, cause) for cause in which)
    return [CauseCount(group, cause, proportion(n, totals[group])) for (group, cause), n in found.most_common()]
