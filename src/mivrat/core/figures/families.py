"""Accuracy within family: how often the prediction is at least of the right coarser group."""

from __future__ import annotations

from collections.abc import Mapping

import numpy as np
from numpy.typing import NDArray

from mivrat.core.figures.confusion import Counts
from mivrat.core.figures.intervals import Proportion, proportion


def family_members(families: Mapping[int, str], classes: int) -> list[list[int]]:
    """The classes of each family, in order of their first class; a class without a family is one of its own.

    Returns F lists of classes, one for each family.
    """
    members: dict[tuple[str, int], list[int]] = {}
    for k in range(classes):
        # A class of its own is told from a family that has the same name by its index.
        members.setdefault((families[k], -1) if k in families else ("", k), []).append(k)
    return list(members.values())


def family_matrix(matrix: Counts, families: Mapping[int, str]) -> tuple[list[str], Counts]:
    """The names of the families in the order of ``family_members``, and their confusion matrix.

    ``matrix`` is K × K; returns F names and F × F counts.
    """
    members = family_members(families, len(matrix))
    of = np.empty(len(matrix), np.int64)
    for i, classes in enumerate(members):
        of[classes] = i
    grouped = np.zeros((len(members), len(members)), np.int64)
    np.add.at(grouped, (of[:, None], of[None, :]), matrix)
    return [families.get(classes[0], f"class {classes[0]}") for classes in members], grouped


def within_family(
    labels: NDArray[np.integer], predicted: NDArray[np.integer], families: Mapping[int, str], classes: int
) -> NDArray[np.bool_]:
    """Which images' predicted class is of the labelled class's family; false without a label or an answer.

    ``labels`` and ``predicted`` are N classes, -1 for none; returns N.
    """
    of = np.empty(classes, np.int64)
    for i, members in enumerate(family_members(families, classes)):
        of[members] = i
    known = (labels >= 0) & (predicted >= 0)
    return known & (of[np.where(known, labels, 0)] == of[np.where(known, predicted, 0)])


def family_accuracy(matrix: Counts, families: Mapping[int, str]) -> Proportion:
    """The share of images whose predicted class is of the labelled class's family, with its 95 % Wilson interval.

    ``matrix`` is K x K, rows labels, columns predictions. It is never below top-1 accuracy.
    """
    grouped = family_matrix(matrix, families)[1]
    return proportion(int(np.trace(grouped)), int(grouped.sum()))
