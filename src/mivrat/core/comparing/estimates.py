"""What is estimated of a set without labels: how unlike it is, its class mix, its accuracy; each with what it rests on."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from mivrat.core.answers.answers import SCORED
from mivrat.core.answers.judged import EvaluatedRun
from mivrat.core.base.job import current_stop
from mivrat.core.base.numbers import percent, span
from mivrat.core.checks.result import in_words
from mivrat.core.figures.confusion import confusion_matrix
from mivrat.core.figures.shift_test import FarImages, Unlike, far_images, unlike
from mivrat.core.figures.temperature import confidences
from mivrat.core.figures.without_labels import (
    AccuracyEstimate,
    MixEstimate,
    accuracy_without_labels,
    mix_without_labels,
)

LEVEL = 0.05
MIX_RESTS_ON = (
    "each class looking to the model as it does in the labelled set: only how many there are of each may differ"
)
# What each estimate of accuracy rests on, by itself.
BY_CONFIDENCE_RESTS_ON = "an answer of some confidence being correct as often there as here; images may be harder"
BY_THRESHOLD_RESTS_ON = "as many answers lying above one threshold there as are correct; where images are harder and confidence means the same, it is too low"


@dataclass(frozen=True)
class HowUnlike:
    """The test of two sets as they are, and with classes held apart, so that another mix is not taken for other pictures (None
    where there are too few labels); ``far_a`` tells how far each image of a lies from b, ``far_b`` the other way round."""

    whole: Unlike | None
    within_classes: Unlike | None
    far_a: FarImages
    far_b: FarImages

    def sentences(self) -> list[str]:
        """The tests in words."""
        told = []
        for one, what in ((self.whole, "the sets"), (self.within_classes, "the same classes")):
            if one is None:
                continue
            if one.p is None:
                told.append(f"{one.units} units are too few to test whether {what} look different to the model")
            else:
                how = "unlike" if one.p < LEVEL else "not significantly unlike"
                told.append(
                    f"to the model {what} look {how} (p {in_words(one.p)}, {one.used[0]} and {one.used[1]} images)"
                )
        return told


def how_unlike(
    a: EvaluatedRun,
    b: EvaluatedRun,
    vectors: tuple[NDArray[np.floating], NDArray[np.floating]],
    seed: int = 0,
) -> HowUnlike | None:
    """How unlike two sets are to one model, by the features of all listed images (rows of NaN: not known); None where it was
    stopped. ``vectors`` are Na × D and Nb × D."""
    parts = []
    for labelled in (False, True):
        at = [
            np.flatnonzero(~np.isnan(v).any(axis=1) & ((one.labels >= 0) | (not labelled)))
            for one, v in zip((a, b), vectors, strict=True)
        ]
        unit_a, unit_b = (
            one.units.of(some) if one.units is not None else None for one, some in zip((a, b), at, strict=True)
        )
        classes = (a.labels[at[0]], b.labels[at[1]]) if labelled else None
        parts.append(unlike(vectors[0][at[0]], vectors[1][at[1]], classes, unit_a, unit_b, seed))
        if current_stop().stopped:
            return None
    return HowUnlike(parts[0], parts[1], far_images(vectors[0], vectors[1]), far_images(vectors[1], vectors[0]))


@dataclass(frozen=True)
class Estimates:
    """Class mix and accuracy of a set without labels; ``looks`` is the test of what the mix rests on, where features are known: the
    labelled images, drawn by the estimated mix, against those without labels."""

    mix: MixEstimate
    accuracy: AccuracyEstimate | None
    looks: Unlike | None = None

    def as_data(self, classes: Sequence[str]) -> dict[str, Any]:
        """As JSON's kinds of values."""
        mix: dict[str, Any] = {"refused": self.mix.refused or None, "rests_on": MIX_RESTS_ON}
        if self.mix.shares is not None:
            mix["classes"] = [
                {"name": name, "share": float(share), "low": low, "high": high}
                for name, share, (low, high) in zip(classes, self.mix.shares, self.mix.intervals, strict=True)
            ]
        if self.looks is not None:
            mix["unlike_within_classes"] = {"mmd": self.looks.mmd, "p": self.looks.p}
        told: dict[str, Any] = {"class_mix": mix, "accuracy": None}
        if self.accuracy is not None:
            one = self.accuracy
            told["accuracy"] = {
                "by_confidence": {
                    "value": one.by_confidence,
                    "low": one.confidence_ends[0],
                    "high": one.confidence_ends[1],
                    "rests_on": BY_CONFIDENCE_RESTS_ON,
                },
                "by_threshold": {
                    "value": one.by_threshold,
                    "low": one.threshold_ends[0],
                    "high": one.threshold_ends[1],
                    "rests_on": BY_THRESHOLD_RESTS_ON,
                },
                "threshold": one.threshold,
                "disagree": one.disagree,
            }
        return told


def in_sentences(one: AccuracyEstimate) -> list[str]:
    """Both estimates of accuracy with their intervals, what each rests on, and whether they disagree."""

    def share(value: float, ends: tuple[float, float]) -> str:
        return f"{percent(value)} ({span(ends[0], ends[1])})"

    found = [
        f"By mean confidence {share(one.by_confidence, one.confidence_ends)}: rests on {BY_CONFIDENCE_RESTS_ON}.",
        f"By the share more confident than {one.threshold:.3f} {share(one.by_threshold, one.threshold_ends)}: rests on {BY_THRESHOLD_RESTS_ON}.",
    ]
    if one.disagree:
        found.append(
            "The two disagree: their intervals do not overlap, so at least one rests on what does not hold here."
        )
    return [*found, "Neither can be checked without labels."]


def estimate(
    labelled: EvaluatedRun,
    unlabelled: EvaluatedRun,
    classes: Sequence[str],
    vectors: tuple[NDArray[np.floating], NDArray[np.floating]] | None = None,
    seed: int = 0,
) -> Estimates | None:
    """Estimates for the scored images of ``unlabelled`` that have no label, from the evaluated ones of ``labelled``, by the
    same model; all estimates are shares. ``vectors`` are the features of both, Na × D and Nb × D (one row for each listed image).
    None where it was stopped."""
    use = np.flatnonzero(labelled.evaluated)
    asked = np.flatnonzero((unlabelled.state == SCORED) & (unlabelled.labels < 0))
    matrix = confusion_matrix(labelled.labels[use], labelled.predicted[use], len(classes))
    mix = mix_without_labels(matrix, unlabelled.predicted[asked], list(classes), seed)
    looks = None
    if vectors is not None and mix.shares is not None:
        looks = _looks_alike(labelled, unlabelled, use, asked, mix.shares, vectors, seed)
        if current_stop().stopped:
            return None
        if looks is not None and looks.p is not None and looks.p < LEVEL:
            mix = MixEstimate(
                None,
                [],
                "the pictures look different to the model even where the mix is made the same "
                f"(p = {looks.p:.3f}), and this rests on each class looking as it does in the labelled set",
            )
    return Estimates(mix, _accuracy(labelled, unlabelled, use, asked, seed), looks)


def _looks_alike(
    labelled: EvaluatedRun,
    unlabelled: EvaluatedRun,
    use: NDArray[np.integer],
    asked: NDArray[np.integer],
    shares: NDArray[np.float64],
    vectors: tuple[NDArray[np.floating], NDArray[np.floating]],
    seed: int,
) -> Unlike | None:
    """The labelled images thinned out until their mix is the estimated one, against those without labels."""
    known = use[~np.isnan(vectors[0][use]).any(axis=1)]
    others = asked[~np.isnan(vectors[1][asked]).any(axis=1)]
    support = np.bincount(labelled.labels[known], minlength=len(shares))
    wanted = shares > 1e-9
    if not len(others) or (support[wanted] == 0).any():
        return None
    total = float((support[wanted] / shares[wanted]).min())
    rng, picked = np.random.default_rng(seed), []
    for k in np.flatnonzero(wanted).tolist():
        some = known[labelled.labels[known] == k]
        picked.append(rng.permutation(some)[: round(total * shares[k])])
    one = np.sort(np.concatenate(picked))
    unit = labelled.units.of(one) if labelled.units is not None else None
    other_unit = unlabelled.units.of(others) if unlabelled.units is not None else None
    return unlike(vectors[0][one], vectors[1][others], None, unit, other_unit, seed)


def _accuracy(
    labelled: EvaluatedRun, unlabelled: EvaluatedRun, use: NDArray[np.integer], asked: NDArray[np.integer], seed: int
) -> AccuracyEstimate | None:
    right = labelled.right[use]
    if not len(use) or not len(asked):
        return None
    if not (labelled.has_scores and unlabelled.has_scores):
        sure = [labelled.confidence[use], unlabelled.confidence[asked]]
        if any(np.isnan(one).any() for one in sure):
            return None
        return accuracy_without_labels(sure[0], right, sure[1], seed)
    here, there = confidences(
        lambda some: labelled.logits(use[some]),
        labelled.labels[use],
        right,
        lambda some: unlabelled.logits(asked[some]),
        len(asked),
        labelled.classes,
        seed,
    )
    return accuracy_without_labels(here, right, there, seed)
