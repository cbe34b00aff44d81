"""Accuracy within family: how often the prediction is at least of the right coarser group."""

from __future__ import annotations

from collections.abc import Mapping

import numpy as np

from mivrat.core.figures.confusion import Counts
from mivrat.core.figures.intervals import Proportion, proportion


def family_matrix(matrix: Counts, families: Mapping[int, str]) -> tuple[list[str], Counts]:
    """The families in order of their first class, and their confusion matrix; a class without a family is one of its own."""
    names = [families.get(k) for k in range(len(matrix))]
    # A class of its own is told from a family that has the same name by its index.
    keys = [(name, -1) if name is not None else ("", k) for k, name in enumerate(names)]
    order = {key: i for i, key in enumerate(dict.fromkeys(keys))}
    of = np.array([order[key] for key in keys])
    grouped = np.zeros((len(order), len(order)), np.int64)
    np.add.at(grouped, (of[:, None], of[None, :]), matrix)
    return [name if k < 0 else f"class {k}" for name, k in order], grouped


def family_members(matrix: Counts, families: Mapping[int, str]) -> tuple[list[list[int]], Counts]:
    """The classes of each family in the order of ``family_matrix``, and that matrix."""
    members: dict[tuple[str, int], list[int]] = {}
    for k in range(len(matrix)):
        members.setdefault((families[k], -1) if k in families else ("", k), []).append(k)
    return list(members.values()), family_matrix(matrix, families)[1]


def family_accuracy(matrix: Counts, families: Mapping[int, str]) -> Proportion:
    """The share of images whose predicted class is of the labelled class's family, with its 95 % Wilson interval.

    ``matrix`` is K x K, rows labels, columns predictions. It is never below top-1 accuracy.
    """
    grouped = family_matrix(matrix, families)[1]
    return proportion(int(np.trace(grouped)), int(grouped.sum()))
