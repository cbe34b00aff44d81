"""The class order probe: whether the answers fit the labels better with the classes in another order."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from mivrat.core.base.numbers import percent
from mivrat.core.base.text import in_sentence
from mivrat.core.checks.inputs import Inputs
from mivrat.core.checks.result import CheckResult, CheckState, in_words
from mivrat.core.figures.confusion import confusion_matrix
from mivrat.core.figures.significance import even_split, gained_and_lost
from mivrat.core.pictures.classes import fold, natural_key
from mivrat.core.pictures.image_sets import said_of

LEAST_IMAGES = 20
CHANCE = 0.001


@dataclass(frozen=True)
class Renaming:
    """An order of classes for the model's outputs: output k stands for class ``means[k]``.

    ``gained`` and ``lost`` count the images right under it alone, and right as it is alone; ``p`` is the exact McNemar
    probability of so lopsided a split by chance (McNemar 1947), corrected for the number of orders tried.
    """

    name: str
    means: NDArray[np.int64]
    gained: int
    lost: int
    p: float

    @property
    def fits_better(self) -> bool:
        return self.gained > self.lost and self.p < CHANCE


def usual_orders(classes: Sequence[str], found: Sequence[str]) -> dict[str, NDArray[np.int64]]:
    """Orders that class lists and training folders usually have: for each, the class index that output k then means.

    ``found`` are the labels as they stand in the folder or table, in the order they come.
    """
    index = range(len(classes))
    orders = {
        "alphabetical": sorted(index, key=lambda k: classes[k]),
        "alphabetical, capitals and small letters alike": sorted(index, key=lambda k: (classes[k].casefold(), k)),
        "by number, then alphabetical": sorted(index, key=lambda k: natural_key(classes[k])),
        "one place later": [*index[1:], 0],
        "one place earlier": [len(classes) - 1, *index[:-1]],
        "reversed": list(index)[::-1],
    }
    by_name = {fold(name): k for k, name in enumerate(classes)}
    first_seen = list(dict.fromkeys(by_name[fold(said)] for said in found if fold(said) in by_name))
    if len(first_seen) == len(classes):
        orders["as the labels are found"] = first_seen
    distinct: dict[str, NDArray[np.int64]] = {}
    for name, order in orders.items():
        means = np.array(order, np.int64)
        if (means != np.arange(len(classes))).any() and not any((means == other).all() for other in distinct.values()):
            distinct[name] = means
    return distinct


def _compared(
    name: str, means: NDArray[np.int64], labels: NDArray[np.int64], predicted: NDArray[np.int64], tried: int
) -> Renaming:
    now, then = predicted == labels, means[predicted] == labels
    gained, lost = gained_and_lost(then, now)
    return Renaming(name, means, gained, lost, min(1.0, tried * even_split(gained, lost)))


def best_renaming(labels: NDArray[np.int64], predicted: NDArray[np.int64], classes: int, seed: int = 0) -> Renaming:
    """The best one-to-one renaming by linear assignment (Kuhn 1955), judged on images it was not found on.

    The images are split in two within each label; the renaming found on either half is counted on the other.
    """
    now, then = predicted == labels, renamed_right(labels, predicted, classes, seed)
    gained, lost = gained_and_lost(then, now)
    return Renaming("best renaming", best_order(labels, predicted, classes), gained, lost, even_split(gained, lost))


def renamed_right(
    labels: NDArray[np.int64], predicted: NDArray[np.int64], classes: int, seed: int = 0
) -> NDArray[np.bool_]:
    """Which of N answers are right under the best renaming, found on the half of the images that they are not in."""
    rng = np.random.default_rng(seed)
    half = np.zeros(len(labels), np.int64)
    for k in np.unique(labels):
        own = rng.permutation(np.flatnonzero(labels == k))
        half[own] = (np.arange(len(own)) + int(rng.integers(2))) % 2
    right = np.zeros(len(labels), bool)
    for side in (0, 1):
        means = best_order(labels[half == side], predicted[half == side], classes)
        right[half != side] = means[predicted[half != side]] == labels[half != side]
    return right


def best_order(labels: NDArray[np.int64], predicted: NDArray[np.int64], classes: int) -> NDArray[np.int64]:
    """The class that each output best stands for, one to one, by linear assignment (Kuhn 1955)."""
    matrix = confusion_matrix(labels, predicted, classes).astype(float)
    matrix[np.diag_indices(classes)] += 0.5  # of equally good renamings, the one that leaves most as it is
    from scipy.optimize import linear_sum_assignment

    rows, columns = linear_sum_assignment(-matrix)
    means = np.empty(classes, np.int64)
    means[columns] = rows
    return means


def check_class_order(inputs: Inputs) -> CheckResult:
    """Whether another order of the classes fits the answers better than the one in the class list, beyond chance."""
    judged = inputs.judged
    use = np.flatnonzero(judged.evaluated) if judged is not None else np.zeros(0, np.int64)
    if judged is None or len(use) < LEAST_IMAGES:
        return CheckResult("class-order", "open", f"Fewer than {LEAST_IMAGES} labelled images are scored.")
    labels, predicted, classes = judged.labels[use], judged.predicted[use], inputs.classes
    orders = usual_orders(classes, said_of(inputs.image_set.items))
    tried = [_compared(name, means, labels, predicted, len(orders)) for name, means in orders.items()]
    tried.append(best_renaming(labels, predicted, len(classes), inputs.seed))
    total, now = len(use), int((predicted == labels).sum())
    figures = {
        "images": total,
        "accuracy": now / total,
        "orders": [
            {
                "name": one.name,
                "accuracy": float((one.means[predicted] == labels).mean()),
                "gained": one.gained,
                "lost": one.lost,
                "p": one.p,
            }
            for one in tried
        ],
    }
    better = [one for one in tried if one.fits_better]
    if not better:
        sentence = f"No other class order fits significantly better, of {len(tried)} tried on {total} labelled images."
        return CheckResult("class-order", "fine", sentence, figures)
    # A usual order that is as good as the best renaming explains more: it is the one to name.
    best = max(better, key=lambda one: (round((one.means[predicted] == labels).mean(), 2), one.name != "best renaming"))
    then = float((best.means[predicted] == labels).mean())
    moved = np.flatnonzero(best.means != np.arange(len(classes)))
    # Outputs that are never predicted move nothing; they are not evidence.
    shown = [k for k in moved if (predicted == k).any()]
    pairs = [f"{in_sentence([classes[k]])} → {in_sentence([classes[best.means[k]]])}" for k in shown[:5]]
    renamed = ", ".join(pairs) + (f" and {len(shown) - 5} more" if len(shown) > 5 else "")
    sentence = (
        f"With the classes renamed ({best.name}) accuracy is {percent(then)} instead of {percent(now / total)} "
        f"(N = {total}, {best.gained} gained, {best.lost} lost, p {in_words(best.p)}): {renamed}."
    )
    state: CheckState = "stop" if then - now / total >= 0.1 else "look"
    concerned = use[(best.means[predicted] == labels) & (predicted != labels)]
    return CheckResult(
        "class-order",
        state,
        sentence,
        figures,
        tuple(concerned.tolist()),
        {"classes": [classes[k] for k in best.means]},
    )
