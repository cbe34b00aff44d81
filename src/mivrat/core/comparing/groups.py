"""The difference of two runs by group of images: which station, month or cause gains and which loses."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from mivrat.core.answers.other import Other
from mivrat.core.figures.differences import Difference
from mivrat.core.figures.paired import BROKEN, FIXED, share_difference
from mivrat.core.figures.significance import holm
from mivrat.core.study.reviews import Reviews


@dataclass(frozen=True)
class GroupDifference:
    """One group: its images, those fixed and broken, how many were wrong before, the difference in accuracy; ``p_holm`` is
    McNemar's corrected over the groups."""

    name: str
    total: int
    fixed: int
    broken: int
    wrong_before: int
    top1: Difference
    p_holm: float


def by_group(names: Sequence[str], other: Other, among: NDArray[np.bool_] | None = None) -> list[GroupDifference]:
    """The difference in every group of N images, each of them in one, the surest change first."""
    groups: dict[str, list[int]] = {}
    use = other.both if among is None else other.both & among
    for i in np.flatnonzero(use).tolist():
        groups.setdefault(names[i], []).append(i)
    return _differences({name: np.array(some) for name, some in groups.items()}, other)


def by_cause(reviews: Reviews, other: Other, among: NDArray[np.bool_] | None = None) -> list[GroupDifference]:
    """The same by cause; an image may have several. ``among`` is N, of all listed images."""
    use = other.both if among is None else other.both & among
    masks = {one.name: reviews.with_causes(len(use), frozenset({one.id})) & use for one in reviews.causes}
    return _differences({name: np.flatnonzero(mask) for name, mask in masks.items() if mask.any()}, other)


def _differences(groups: dict[str, NDArray[np.int64]], other: Other) -> list[GroupDifference]:
    judged, found = other.judged, []
    for name, some in groups.items():
        unit = judged.units.of(some) if judged.units is not None else None
        right_b = other.predicted[some] == judged.labels[some]
        one = share_difference(judged.right[some], right_b, unit)
        codes = other.codes[some]
        wrong = int((~judged.right[some]).sum())
        found.append((name, len(some), int((codes == FIXED).sum()), int((codes == BROKEN).sum()), wrong, one))
    corrected = holm([one.p or 0.0 for *_, one in found])
    told = [GroupDifference(*one, p) for one, p in zip(found, corrected, strict=True)]
    return sorted(told, key=lambda one: (one.p_holm, -one.total, one.name))
