"""Blocks of confused classes: modularity by loops, planted groups found, counts by loops, cells that stand for several."""

from __future__ import annotations

from itertools import combinations

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from numpy.typing import NDArray

from mivrat.core.figures.blocks import blocks_of, farthest, groups_by_confusion, mistakes_between, pooled


def modularity(matrix: NDArray[np.int64], parts: list[list[int]]) -> float:
    """Newman's modularity of the graph of mistakes, edge by edge."""
    count = len(matrix)
    edges = {(i, j): int(matrix[i, j] + matrix[j, i]) for i, j in combinations(range(count), 2)}
    whole = sum(edges.values())
    if not whole:
        return 0.0
    degree = [sum(w for edge, w in edges.items() if i in edge) for i in range(count)]
    found = 0.0
    for part in parts:
        inside = sum(w for (i, j), w in edges.items() if i in part and j in part)
        found += inside / whole - (sum(degree[i] for i in part) / (2 * whole)) ** 2
    return found


@st.composite
def matrices(draw: st.DrawFn) -> NDArray[np.int64]:
    count = draw(st.integers(1, 9))
    cells = draw(st.lists(st.sampled_from([0, 0, 0, 1, 2, 7]), min_size=count**2, max_size=count**2))
    return np.array(cells, np.int64).reshape(count, count)


@given(matrices(), st.integers(2, 9))
def test_no_joining_that_is_allowed_would_part_mistakes_better(matrix: NDArray[np.int64], most: int) -> None:
    parts = groups_by_confusion(matrix, range(len(matrix)), most)
    assert sorted(k for part in parts for k in part) == list(range(len(matrix)))
    assert max(map(len, parts)) <= most
    reached = modularity(matrix, parts)
    assert reached >= modularity(matrix, [[k] for k in range(len(matrix))]) - 1e-12
    for one, other in combinations(range(len(parts)), 2):
        if len(parts[one]) + len(parts[other]) <= most:
            rest = [part for at, part in enumerate(parts) if at not in (one, other)]
            assert modularity(matrix, [*rest, parts[one] + parts[other]]) <= reached + 1e-9


@pytest.mark.parametrize("seed", range(4))
def test_planted_groups_are_never_parted_whatever_the_order(seed: int) -> None:
    rng = np.random.default_rng(seed)
    group = rng.permutation(np.repeat(np.arange(12), rng.integers(3, 9, 12)))
    count = len(group)
    same = group[:, None] == group
    matrix = rng.poisson(np.where(same, 6.0, 0.02)).astype(np.int64)
    matrix = np.hstack([np.vstack([matrix, np.zeros((2, count), np.int64)]), np.zeros((count + 2, 2), np.int64)])
    np.fill_diagonal(matrix, 50)
    names = [f"class {k}" for k in range(count + 2)]
    found = blocks_of(matrix, names)
    for g in range(12):  # small ones may be joined, where a stray mistake ties them
        assert sum(bool(set(np.flatnonzero(group == g).tolist()) & set(one.classes)) for one in found) == 1
    assert len(found) >= 10
    assert (found[-1].name, found[-1].classes) == ("confused with nothing: 2 classes", (count, count + 1))
    assert [one.inside for one in found] == sorted((one.inside for one in found), reverse=True)


@given(matrices(), st.data())
def test_counts_of_blocks_by_loops_and_families_stay_whole(matrix: NDArray[np.int64], data: st.DataObject) -> None:
    count = len(matrix)
    families = {k: f for k in range(count) if (f := data.draw(st.sampled_from(["", "trees", "herbs"])))}
    found = blocks_of(matrix, [f"c{k}" for k in range(count)], families)
    assert sorted(k for one in found for k in one.classes) == list(range(count))
    for one in found:
        pairs = [(i, j, int(matrix[i, j])) for i in range(count) for j in range(count) if i != j]
        inside = sum(n for i, j, n in pairs if i in one.classes and j in one.classes)
        leaving = sum(n for i, j, n in pairs if i in one.classes and j not in one.classes)
        entering = sum(n for i, j, n in pairs if i not in one.classes and j in one.classes)
        assert (one.inside, one.leaving, one.entering) == (inside, leaving, entering)
        if one.wholly:
            assert set(one.classes) == {k for k, f in families.items() if f == one.name}
    between = mistakes_between(matrix, found)
    assert [int(between[a, a]) for a in range(len(found))] == [one.inside for one in found]
    assert [int(row.sum()) for row in between] == [one.inside + one.leaving for one in found]
    assert between.sum() == matrix.sum() - np.trace(matrix)


@given(st.integers(1, 11), st.integers(1, 5), st.integers(0, 255), st.randoms(use_true_random=False))
def test_the_farthest_value_stands_for_its_neighbours(count: int, by: int, neutral: int, draw: object) -> None:
    rng = np.random.default_rng(draw.randrange(1000))  # type: ignore[attr-defined]
    values = rng.integers(0, 256, (count, count)).astype(np.uint8)
    found = pooled(values, by, neutral)
    assert found.shape == (-(-count // by),) * 2
    for line in range(len(found)):
        for column in range(len(found)):
            beneath = [
                int(values[i, j])
                for i in range(line * by, min(count, (line + 1) * by))
                for j in range(column * by, min(count, (column + 1) * by))
            ]
            assert abs(int(found[line, column]) - neutral) == max(abs(one - neutral) for one in beneath)
            i, j = farthest(values, by, line, column, neutral)
            assert abs(int(values[i, j]) - neutral) == abs(int(found[line, column]) - neutral)
            assert (i // by, j // by) == (line, column)
