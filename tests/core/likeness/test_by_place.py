"""Groups by where the evidence lies against planted ones."""

from __future__ import annotations

import numpy as np

from mivrat.core.likeness.by_place import group_by_place


def test_groups_by_where_the_evidence_lies() -> None:
    """Three planted places are found as three groups, the most typical map first, and maps without evidence in none."""
    rng, maps, places = np.random.default_rng(2), [], rng_places()
    for i in range(31):
        heat = rng.uniform(0, 0.05, (12, 12)).astype(np.float32)
        row, column = places[i % 3]
        heat[row : row + 3, column : column + 3] += 1 if i > 5 else 0.4
        maps.append(heat)
    maps.append(np.zeros((12, 12), np.float32))
    groups = group_by_place(maps)
    assert [sorted(g.members.tolist()) for g in groups] == [list(range(k, 31, 3)) for k in range(3)]
    assert all(g.members[0] > 5 for g in groups)  # a weak one is not typical
    assert [g.members.tolist() for g in group_by_place(maps)] == [g.members.tolist() for g in groups]


def rng_places() -> list[tuple[int, int]]:
    return [(0, 0), (8, 8), (1, 8)]
