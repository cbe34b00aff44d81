"""Temperature scaling: one number that makes a model's confidence more honest, and what it is worth out of fold."""

from __future__ import annotations

import os
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from mivrat.core.figures.calibration import Calibration, calibration
from mivrat.core.figures.probability import SMALLEST, losses

FOLDS = 5
# Up to so many scores every fold is fitted by itself; beyond, its fit is one Newton step from the common one.
EXACT = 4_000_000
_LEAST, _MOST = 1e-9, 1e9
# Steps of inverse temperature up to this share of it are short: their fourth power is no more than the last digits of single precision.
SHORT = 0.01

# So many scores are worked on at a time: few enough to stay near the processor.
_PIECE = 1 << 17

# Logits (images x classes) of the images at some positions.
Logits = Callable[[NDArray[np.int64]], NDArray[np.floating]]


@dataclass(frozen=True)
class Temperature:
    """T > 0 fitted on all images; losses and ECE before and after, the latter, and the reliability
    bins of equal width after, from folds that did not see the image.

    Not ``identifiable`` where no T fits best (all right and ever surer, or too few labels): ``value`` is then 1.
    """

    value: float
    identifiable: bool
    log_loss_before: float | None
    log_loss_after: float | None
    ece_before: float | None
    ece_after: float | None
    reliability_after: Calibration | None = None


@dataclass(frozen=True)
class _At:
    """At inverse temperatures b: loss -ln p(label), its first three derivatives by b, and the confidence with the first derivative of
    its logarithm (whose further ones are those of the loss, but for their sign)."""

    loss: NDArray[np.float64]
    slope: NDArray[np.float64]
    bend: NDArray[np.float64]
    twist: NDArray[np.float64]
    confidence: NDArray[np.float64]
    surer: NDArray[np.float64]

    def moved(self, by: NDArray[np.float64]) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
        """Loss and confidence at inverse temperatures so little further that the fourth power of the step is nothing."""
        further = by**2 / 2 * self.bend + by**3 / 6 * self.twist
        loss = np.minimum(self.loss + by * self.slope + further, -np.log(SMALLEST))
        return loss, self.confidence * np.exp(by * self.surer - further)


def scale(
    logits: Logits,
    labels: NDArray[np.int64],
    right: NDArray[np.bool_],
    own: NDArray[np.float64],
    confidence: NDArray[np.float64],
    classes: int,
    seed: int = 0,
    exact: int = EXACT,
) -> Temperature:
    """Fit T on N labelled images (Guo 2017) and measure its effect in five stratified folds.

    ``own`` is p of the label as it is, ``confidence`` the highest p. The loss is convex in 1/T, so Newton's steps, kept
    inside bounds, find its minimum. Above ``exact`` scores (images x classes) the search begins on some of the images,
    and each fold's fit is one Newton step from the common one: so many images hardly differ by a fold.
    """
    total = len(labels)
    loss = float(losses(own).mean()) if total else None
    untold = Temperature(1.0, False, loss, None, calibration(confidence, right).ece, None)
    if total < 2 * FOLDS or right.all() or len(np.unique(labels)) < 2:
        return untold
    best, loss_after, confidence_after = _in_folds(logits, labels, classes, seed, exact)
    if best is None:
        return untold
    reliability = calibration(confidence_after, right)
    return Temperature(1 / best, True, loss, float(loss_after.mean()), untold.ece_before, reliability.ece, reliability)


def _in_folds(
    logits: Logits, labels: NDArray[np.int64], classes: int, seed: int, exact: int
) -> tuple[float | None, NDArray[np.float64], NDArray[np.float64]]:
    """The inverse temperature fitted on all images (None where there is none), and each image's loss and confidence at that of the other
    folds."""
    total = len(labels)
    large, everyone = total * classes > exact, np.arange(total)
    start = 1.0
    if large:
        some = everyone[:: max(1, total * classes // exact)]
        start = _fit(logits, labels, some, 1.0)[0] or 1.0
    best, here, at = _fit(logits, labels, everyone, start)
    fold, inverse = folds(labels, FOLDS, seed), np.ones(total)
    if best is None:
        here = _at(logits, labels, everyone, inverse)
        return None, here.loss, np.minimum(here.confidence, 1.0)
    for f in range(FOLDS):
        others = fold != f
        if large:
            found = at - float(here.slope[others].sum()) / max(1e-12, float(here.bend[others].sum()))
        else:
            found = _fit(logits, labels, everyone[others], best)[0] or best
        inverse[~others] = found
    by = inverse - at
    # Where the steps are short their powers tell what one more pass over all scores would.
    if large and float(np.abs(by).max()) <= SHORT * at:
        loss, confidence = here.moved(by)
    else:
        here = _at(logits, labels, everyone, inverse)
        loss, confidence = here.loss, here.confidence
    return best, loss, np.minimum(confidence, 1.0)


def confidences(
    logits: Logits,
    labels: NDArray[np.int64],
    right: NDArray[np.bool_],
    others: Logits,
    number: int,
    classes: int,
    seed: int = 0,
) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
    """The confidence of N labelled images after temperature scaling in folds that did not see them, and of ``number`` others, at the
    temperature fitted on all labelled ones. Where none can be told both are as they are."""
    total = len(labels)
    if total >= 2 * FOLDS and not right.all() and len(np.unique(labels)) > 1:
        best, _, here = _in_folds(logits, labels, classes, seed, EXACT)
    else:
        best, here = None, np.minimum(_at(logits, labels, np.arange(total), np.ones(total)).confidence, 1.0)
    nobody = np.zeros(number, np.int64)
    there = _at(others, nobody, np.arange(number), np.full(number, best or 1.0)).confidence
    return here, np.minimum(there, 1.0)


def folds(labels: NDArray[np.int64], number: int, seed: int) -> NDArray[np.int64]:
    """A fold for each image, each class spread over all folds as evenly as can be; seeded.

    ``labels`` is N classes; returns N numbers from 0 to ``number`` - 1.
    """
    rng = np.random.default_rng(seed)
    order = rng.permutation(len(labels))
    order = order[np.argsort(labels[order], kind="stable")]
    found = np.empty(len(labels), np.int64)
    found[order] = np.arange(len(labels)) % number
    return found


def _fit(
    logits: Logits, labels: NDArray[np.int64], among: NDArray[np.int64], start: float
) -> tuple[float | None, _At, float]:
    """The inverse temperature of least loss among some images (None where there is none), what is known near there, and where that is."""
    inverse, low, high = start, 1 / _MOST, 1 / _LEAST
    here = _at(logits, labels, among, np.full(len(labels), inverse))
    for _ in range(100):
        slope, bend = float(here.slope.mean()), float(here.bend.mean())
        low, high = (inverse, high) if slope < 0 else (low, inverse)
        step = inverse - slope / bend if bend > 1e-300 else (low * high) ** 0.5
        if not low < step < high:
            step = (low * high) ** 0.5
        at, moved, inverse = inverse, abs(step - inverse) / inverse, step
        # Newton's error is about the square of the last step.
        if moved <= 1e-3 and moved**2 <= 1e-7:
            break
        del here  # so that two of them never stand side by side
        here = _at(logits, labels, among, np.full(len(labels), inverse))
    else:
        return None, here, inverse  # ever further: there is no best one
    outside = inverse > 0.99 / _LEAST or inverse < 1.01 / _MOST
    return (None if outside else inverse), here, at


def _at(logits: Logits, labels: NDArray[np.int64], among: NDArray[np.int64], inverse: NDArray[np.float64]) -> _At:
    """Losses and the like of the images ``among`` all, each at its own inverse temperature."""
    out = _At(*(np.zeros(len(among)) for _ in range(6)))
    width = logits(among[:1]).shape[1]
    step = max(1, _PIECE // width)

    def work(start: int) -> None:
        some, here = among[start : start + step], slice(start, start + step)
        z = logits(some)
        if len(among) * width <= EXACT:
            z = z.astype(np.float64)
        elif not z.flags.owndata:
            z = z.copy()
        z -= z.max(axis=1, keepdims=True)  # in place: fresh memory for every piece costs more than the numbers do
        p = z * inverse[some, None].astype(z.dtype)
        np.exp(p, out=p)
        # Inner products, also for sums: of rows of single precision they take a quarter of what sums take in double precision.
        sums = np.vecdot(p, np.ones(width, z.dtype)).astype(np.float64)
        own = z[np.arange(len(z)), labels[some]].astype(np.float64)
        mean = np.vecdot(p, z) / sums
        p *= z
        square = np.vecdot(p, z) / sums
        p *= z
        cube = np.vecdot(p, z) / sums
        out.loss[here] = np.minimum(np.log(sums) - inverse[some] * own, -np.log(SMALLEST))
        out.slope[here] = mean - own
        out.bend[here] = np.maximum(0.0, square - mean**2)
        out.twist[here] = cube - 3 * mean * square + 2 * mean**3
        out.confidence[here], out.surer[here] = 1 / sums, -mean

    with ThreadPoolExecutor(os.cpu_count()) as pool:
        list(pool.map(work, range(0, len(among), step)))
    return out
