"""Temperature scaling: one number that makes a model's confidence more honest, and what it is worth out of fold."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from mivrat.core.figures.calibration import calibration
from mivrat.core.figures.probability import SMALLEST

FOLDS = 5
# Up to so many scores every fold is fitted by itself; beyond, its fit is one Newton step from the common one.
EXACT = 4_000_000
_LEAST, _MOST = 1e-3, 1e3

# Logits of some images, N x K: given positions, in pieces small enough to be worked on.
Pieces = Callable[[], Iterator[tuple[NDArray[np.int64], NDArray[np.floating]]]]


@dataclass(frozen=True)
class Temperature:
    """T > 0 fitted on all images; losses and ECE before and after, the latter from folds that did not see the image.

    Not ``identifiable`` where no T fits best (all right and ever surer, or too few labels): ``value`` is then 1.
    """

    value: float
    identifiable: bool
    log_loss_before: float | None
    log_loss_after: float | None
    ece_before: float | None
    ece_after: float | None


@dataclass(frozen=True)
class _At:
    """At inverse temperatures b: loss -ln p(label), its first and second derivatives by b, and the confidence."""

    loss: NDArray[np.float64]
    slope: NDArray[np.float64]
    bend: NDArray[np.float64]
    confidence: NDArray[np.float64]


def scale(
    pieces: Pieces, labels: NDArray[np.int64], right: NDArray[np.bool_], scores: int, seed: int = 0
) -> Temperature:
    """Fit T on N labelled images (Guo 2017) and measure its effect in five stratified folds.

    The loss is convex in 1/T, so Newton's steps, kept inside bounds, find its minimum.
    """
    total = len(labels)
    before = _at(pieces, labels, np.ones(total))
    loss, ece = float(before.loss.mean()) if total else None, calibration(before.confidence, right).ece
    untold = Temperature(1.0, False, loss, None, ece, None)
    if total < 2 * FOLDS or right.all() or len(np.unique(labels)) < 2:
        return untold
    everyone = np.ones(total, bool)
    best, here = _fit(pieces, labels, everyone, 1.0, before)
    if best is None:
        return untold
    fold, inverse = folds(labels, FOLDS, seed), np.empty(total)
    for f in range(FOLDS):
        others = fold != f
        if scores <= EXACT:
            found, _ = _fit(pieces, labels, others, best, here)
        else:
            found = best - float(here.slope[others].sum()) / max(1e-12, float(here.bend[others].sum()))
        inverse[fold == f] = best if found is None else found
    after = _at(pieces, labels, inverse)
    return Temperature(
        1 / best, True, loss, float(after.loss.mean()), ece, calibration(np.minimum(after.confidence, 1.0), right).ece
    )


def folds(labels: NDArray[np.int64], number: int, seed: int) -> NDArray[np.int64]:
    """A fold for each image, each class spread over all folds as evenly as can be; seeded."""
    rng = np.random.default_rng(seed)
    order = rng.permutation(len(labels))
    order = order[np.argsort(labels[order], kind="stable")]
    found = np.empty(len(labels), np.int64)
    found[order] = np.arange(len(labels)) % number
    return found


def _fit(
    pieces: Pieces, labels: NDArray[np.int64], among: NDArray[np.bool_], start: float, at_start: _At
) -> tuple[float | None, _At]:
    """The inverse temperature of least loss among some images and what is known there; None where there is none."""
    inverse, here, low, high = start, at_start, 1 / _MOST, 1 / _LEAST
    for _ in range(60):
        slope, bend = float(here.slope[among].mean()), float(here.bend[among].mean())
        low, high = (inverse, high) if slope < 0 else (low, inverse)
        step = inverse - slope / bend if bend > 1e-300 else (low * high) ** 0.5
        if not low < step < high:
            step = (low * high) ** 0.5
        done = abs(step - inverse) <= 1e-7 * inverse
        inverse = step
        if done:
            break
        here = _at(pieces, labels, np.full(len(labels), inverse))
    outside = inverse > 0.99 / _LEAST or inverse < 1.01 / _MOST
    return (None if outside else inverse), here


def _at(pieces: Pieces, labels: NDArray[np.int64], inverse: NDArray[np.float64]) -> _At:
    out = _At(*(np.zeros(len(labels)) for _ in range(4)))
    for where, logits in pieces():
        z = logits - logits.max(axis=1, keepdims=True)
        p = np.exp(z * inverse[where, None].astype(z.dtype))
        sums = p.sum(axis=1, dtype=np.float64)
        own = np.take_along_axis(z, labels[where, None], 1)[:, 0].astype(np.float64)
        mean = np.einsum("nk,nk->n", p, z, dtype=np.float64) / sums
        square = np.einsum("nk,nk,nk->n", p, z, z, dtype=np.float64) / sums
        out.loss[where] = np.minimum(np.log(sums) - inverse[where] * own, -np.log(SMALLEST))
        out.slope[where] = mean - own
        out.bend[where] = np.maximum(0.0, square - mean**2)
        out.confidence[where] = 1 / sums
    return out
