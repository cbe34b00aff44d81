"""The confusion matrix and every figure that follows from its counts."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from mivrat.core.figures import jackknife as by_class
from mivrat.core.figures.intervals import Proportion, proportion
from mivrat.core.figures.metrics import COUNTED
from mivrat.core.figures.significance import even_split, holm

Counts = NDArray[np.int64]


def confusion_matrix(labels: NDArray[np.integer], predicted: NDArray[np.integer], classes: int) -> Counts:
    """Counts, K x K: rows are labels, columns predictions, in class-list order.

    >>> confusion_matrix(np.array([0, 0, 1]), np.array([0, 1, 1]), 2).tolist()
    [[1, 1], [0, 1]]
    """
    flat = np.asarray(labels, np.int64) * classes + np.asarray(predicted, np.int64)
    return np.bincount(flat, minlength=classes * classes).reshape(classes, classes)


@dataclass(frozen=True)
class ClassFigures:
    """What the confusion matrix says of one class; F1 is None where it has neither labels nor predictions. ``f1_share`` is F1 with its
    interval, of so many images labelled or predicted so."""

    support: int
    predicted: int
    true_positive: int
    precision: Proportion
    recall: Proportion
    specificity: Proportion
    f1: float | None
    f1_share: Proportion


def class_figures(matrix: Counts) -> list[ClassFigures]:
    """Precision TP/(TP+FP), recall TP/(TP+FN) and specificity TN/(TN+FP) with Wilson intervals, and F1
    2TP/(2TP+FP+FN), class by class.

    >>> class_figures(np.array([[20, 5], [10, 15]]))[0].recall.value
    0.8
    """
    support, predicted, hits = matrix.sum(axis=1), matrix.sum(axis=0), np.diagonal(matrix)
    total, found = int(matrix.sum()), []
    for s, p, t in zip(support.tolist(), predicted.tolist(), hits.tolist(), strict=True):
        others = proportion(total - s - p + t, total - s)
        f1 = 2 * t / (s + p) if s + p else None
        found.append(
            ClassFigures(s, p, t, proportion(t, p), proportion(t, s), others, f1, f1_of(proportion(t, s + p - t)))
        )
    return found


def f1_of(jaccard: Proportion) -> Proportion:
    """F1 with its interval from J = TP / (TP + FP + FN), which is a share of images: F1 = 2 J / (1 + J), and so are its ends."""
    value, low, high = (
        None if one is None else 2 * one / (1 + one) for one in (jaccard.value, jaccard.low, jaccard.high)
    )
    return Proportion(jaccard.hits, jaccard.total, value, low, high, jaccard.units)


def averages(matrix: Counts) -> dict[str, float | None]:
    """The figures that follow from counts by class, by key; None where they are undefined, all of them without any image.

    >>> round(averages(np.array([[20, 5], [10, 15]]))["cohen_kappa"], 3)
    0.4
    """
    counts = matrix.astype(float)
    found = by_class.ClassCounts(counts.sum(axis=1), counts.sum(axis=0), np.diagonal(counts)).figures()
    return {one.key: None if np.isnan(value) else float(value) for one, value in zip(COUNTED, found, strict=True)}


def order_by_support(matrix: Counts) -> NDArray[np.int64]:
    """Classes from the most images to the fewest; equal ones stay in class-list order.

    ``matrix`` is K × K; returns the K classes in their order.
    """
    return np.argsort(-matrix.sum(axis=1), kind="stable").astype(np.int64)


def order_by_likeness(matrix: Counts) -> NDArray[np.int64]:
    """Classes so that those confused with each other stand together.

    The likeness of two classes is the mean share of either that is taken for the other; classes are joined by average linkage
    (Sokal 1958), and the order is that of the tree's leaves. Classes that are never confused stay in list order. ``matrix`` is
    K × K; returns the K classes in their order.
    """
    from scipy.cluster.hierarchy import leaves_list, linkage  # takes long to load, and few look at the matrix so

    count = len(matrix)
    if count < 3:
        return np.arange(count)
    shares = matrix / np.maximum(1, matrix.sum(axis=1, keepdims=True))
    alike = (shares + shares.T) / 2
    np.fill_diagonal(alike, 0.0)
    confused = np.flatnonzero(alike.sum(axis=1) > 0)
    if len(confused) < 3:
        return np.concatenate([confused, np.setdiff1d(np.arange(count), confused)]).astype(np.int64)
    near = alike[np.ix_(confused, confused)]
    upper = np.triu_indices(len(confused), 1)
    leaves = leaves_list(linkage(1.0 - near[upper], "average"))
    return np.concatenate([confused[leaves], np.setdiff1d(np.arange(count), confused)]).astype(np.int64)


@dataclass(frozen=True)
class ConfusedPair:
    """Two classes taken for each other: ``there`` images of ``first`` called ``second``, ``back`` the other way, never more.

    ``p`` is the exact probability of so uneven a split, corrected (Holm) for the number of pairs listed with it.
    """

    first: int
    second: int
    there: int
    back: int
    p: float


def worst_pairs(matrix: Counts, most: int, direction: Callable[[int, int], float] | None = None) -> list[ConfusedPair]:
    """The pairs of classes most often confused, both ways together, at most ``most``; equal ones in class-list order.

    ``direction`` gives the probability of a pair's uneven split where the counts alone do not tell it: over units.
    """
    both = np.triu(matrix + matrix.T, 1)
    flat = both.ravel()
    found = np.flatnonzero(flat)
    found = found[np.argsort(-flat[found], kind="stable")][:most]
    ways = []
    for at in found.tolist():
        a, b = divmod(at, len(matrix))
        ways.append((a, b) if matrix[a, b] >= matrix[b, a] else (b, a))
    counts = [(int(matrix[a, b]), int(matrix[b, a])) for a, b in ways]
    likely = holm([direction(*way) if direction else even_split(*one) for way, one in zip(ways, counts, strict=True)])
    return [ConfusedPair(*way, *count, p) for way, count, p in zip(ways, counts, likely, strict=True)]


@dataclass(frozen=True)
class Mistakes:
    """The wrong answers by pair: for each class the most frequent one with its count (0: none), and the largest pairs.

    ``largest`` holds (label, prediction, count), most frequent first, equal counts in class-list order.
    """

    most_taken_for: list[tuple[int, int]]
    largest: list[tuple[int, int, int]]


def mistakes(matrix: Counts, most: int) -> Mistakes:
    """The mistakes in a confusion matrix, at most ``most`` of the largest pairs."""
    wrong = matrix.copy()
    np.fill_diagonal(wrong, 0)
    taken = wrong.argmax(axis=1)
    flat = wrong.ravel()
    found = np.flatnonzero(flat)
    if len(found) > most:  # sorting only what can be among the largest
        found = found[flat[found] >= np.partition(flat[found], -most)[-most]]
    found = found[np.argsort(-flat[found], kind="stable")][:most]
    return Mistakes(
        [(int(j), int(n)) for j, n in zip(taken, wrong[np.arange(len(wrong)), taken], strict=True)],
        [(int(i) // len(wrong), int(i) % len(wrong), int(flat[i])) for i in found],
    )
