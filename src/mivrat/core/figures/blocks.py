"""Classes in blocks that are confused with one another, so that a matrix of many classes can be read a block at a time."""

from __future__ import annotations

import heapq
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from mivrat.core.base.text import clipped, count

# So many classes make a matrix that can still be read.
MOST_IN_BLOCK = 24
Matrix = NDArray[np.int64]


@dataclass(frozen=True)
class Block:
    """Some classes: ``inside`` are the mistakes among them, ``leaving`` those of their images that are called something outside,
    ``entering`` those of others that are called one of them. ``wholly`` tells that they are a family, not found."""

    name: str
    classes: tuple[int, ...]
    inside: int
    leaving: int
    entering: int
    wholly: bool = False


def _mistakes(matrix: Matrix) -> Matrix:
    """A confusion matrix without its right answers."""
    wrong = matrix.copy()
    np.fill_diagonal(wrong, 0)
    return wrong


def groups_by_confusion(matrix: Matrix, among: Sequence[int], most: int = MOST_IN_BLOCK) -> list[list[int]]:
    """The classes ``among`` which to look, parted so that mistakes lie inside the parts: by joining, one pair of parts after the
    other, those whose joining raises the modularity of the graph of mistakes most (Newman 2004; Clauset, Newman and Moore 2004),
    as long as it rises and no part has more than ``most`` classes. Classes without any mistake among them stay alone."""
    some = np.asarray(among, np.int64)
    wrong = _mistakes(matrix[np.ix_(some, some)]).astype(float)
    both = wrong + wrong.T
    mistakes = both.sum() / 2
    parts = {i: [i] for i in range(len(some))}
    if mistakes:
        of_all = dict(enumerate((both.sum(axis=1) / (2 * mistakes)).tolist()))
        links = {i: {j: both[i, j] / mistakes for j in np.flatnonzero(both[i]).tolist()} for i in parts}
        waiting = [(2 * of_all[i] * of_all[j] - w, i, j) for i, near in links.items() for j, w in near.items() if i < j]
        heapq.heapify(waiting)
        while waiting:
            lost, i, j = heapq.heappop(waiting)
            if lost >= 0:
                break
            # What was worked out before one of the two grew is worked out anew since.
            now = i in parts and j in parts and 2 * of_all[i] * of_all[j] - links[i].get(j, 0.0) == lost
            if not now or len(parts[i]) + len(parts[j]) > most:
                continue
            parts[i] += parts.pop(j)
            of_all[i] += of_all.pop(j)
            for k, w in links.pop(j).items():
                links[k].pop(j)
                if k != i:
                    links[i][k] = links[k][i] = links[i].get(k, 0.0) + w
            for k, w in links[i].items():
                first, second = min(i, k), max(i, k)
                heapq.heappush(waiting, (2 * of_all[first] * of_all[second] - w, first, second))
    return [sorted(int(some[i]) for i in part) for part in parts.values()]


def blocks_of(
    matrix: Matrix, names: Sequence[str], families: Mapping[int, str] | None = None, most: int = MOST_IN_BLOCK
) -> list[Block]:
    """All classes of a confusion matrix in blocks, those with the most mistakes inside first: the ``families`` where there are
    any, and of the classes without one those confused together. What is confused with nothing stands together at the end.
    ``matrix`` holds the images by labelled and predicted class, K × K; ``most`` is how many blocks there are at most."""
    families = families or {}
    found: list[tuple[str, list[int], bool]] = []
    for family in dict.fromkeys(families.values()):
        found.append((family, [k for k in range(len(matrix)) if families.get(k) == family], True))
    alone: list[int] = []
    for part in groups_by_confusion(matrix, [k for k in range(len(matrix)) if k not in families], most):
        if len(part) == 1:
            alone += part
        else:
            found.append((_named(matrix, part, names), part, False))
    alone.sort()
    wrong = _mistakes(matrix)
    touched = (wrong.sum(axis=0) + wrong.sum(axis=1)) > 0
    for title, some in (
        ("mixed with many", [k for k in alone if touched[k]]),
        ("confused with nothing", [k for k in alone if not touched[k]]),
    ):
        if some:
            found.append((f"{title}: {count(len(some))} classes", some, False))
    made = []
    for name, part, wholly in found:
        inside = int(wrong[np.ix_(part, part)].sum())
        leaving, entering = int(wrong[part].sum()) - inside, int(wrong[:, part].sum()) - inside
        made.append(Block(name, tuple(part), inside, leaving, entering, wholly))
    return sorted(made, key=lambda one: (-one.inside, -one.leaving - one.entering, one.classes))


def _named(matrix: Matrix, part: list[int], names: Sequence[str]) -> str:
    """A part by the two of its classes that are confused most."""
    of_part = _mistakes(matrix[np.ix_(part, part)])
    of_part = np.triu(of_part + of_part.T)
    first, second = np.unravel_index(int(of_part.argmax()), of_part.shape)
    more = len(part) - 2
    told = ", ".join(clipped(names[part[int(k)]], 24) for k in (first, second))
    return told + (f" and {more} more" if more else "")


def mistakes_between(matrix: Matrix, blocks: Sequence[Block]) -> Matrix:
    """Mistakes from block to block (labels by lines, predictions by columns); right answers are not counted."""
    member = np.zeros((len(matrix), len(blocks)), np.int64)
    for at, one in enumerate(blocks):
        member[list(one.classes), at] = 1
    found: Matrix = member.T @ _mistakes(matrix) @ member
    return found


def pooled(values: NDArray[Any], by: int, neutral: int = 0) -> NDArray[Any]:
    """A square of values with ``by`` x ``by`` of them as one, the one farthest from ``neutral`` standing for them; at the far
    edges they are fewer."""
    if by <= 1:
        return values
    edges = np.arange(0, len(values), by)
    low, high = (
        by_pairs.reduceat(by_pairs.reduceat(values, edges, axis=0), edges, axis=1)
        for by_pairs in (np.minimum, np.maximum)
    )
    return np.where(high.astype(np.int64) - neutral >= neutral - low.astype(np.int64), high, low)


def farthest(values: NDArray[Any], by: int, line: int, column: int, neutral: int = 0) -> tuple[int, int]:
    """Which value stands for a cell of ``pooled``: its line and column.

    ``values`` is K × K, as ``pooled`` was given it, ``by`` the classes of a cell's side.
    """
    part = values[line * by : (line + 1) * by, column * by : (column + 1) * by].astype(np.int64)
    first, second = np.unravel_index(int(np.argmax(np.abs(part - neutral))), part.shape)
    return line * by + int(first), column * by + int(second)
