"""What can be estimated of a set without labels from one with them: its class mix and the accuracy there. Estimates, never figures:
each says what it rests on, and is refused where that is not so."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from mivrat.core.figures.confusion import Counts
from mivrat.core.figures.uncertain_differences import Ends

# So many draws, and of so many more classes fewer: each solves as many equations.
DRAWS, DRAWS_OF_MANY, MANY = 1_000, 100, 60
# Below this the model's answers hardly tell some classes apart: small errors in them would become large ones in the mix.
LEAST_SINGULAR = 0.1
# A class of which fewer images are labelled has no row of rates to go by.
LEAST_LABELLED = 5


@dataclass(frozen=True)
class MixEstimate:
    """The estimated share of each class, with 95 % intervals; or why there is none."""

    shares: NDArray[np.float64] | None
    intervals: list[Ends]
    refused: str = ""


@dataclass(frozen=True)
class AccuracyEstimate:
    """Accuracy on a set without labels: by mean confidence (``by_confidence``), and by the share of answers surer than the
    ``threshold`` that gives the labelled set its accuracy (``by_threshold``), each with a 95 % interval for the
    share of these very images that is right, by drawing labelled images again and these images' luck."""

    by_confidence: float
    confidence_ends: Ends
    by_threshold: float
    threshold_ends: Ends
    threshold: float

    @property
    def disagree(self) -> bool:
        """Whether the two intervals have nothing in common."""
        return self.confidence_ends[1] < self.threshold_ends[0] or self.threshold_ends[1] < self.confidence_ends[0]


def mix_without_labels(matrix: Counts, predicted: NDArray[np.integer], names: list[str], seed: int = 0) -> MixEstimate:
    """The class mix of images called ``predicted``, from the confusion matrix of a labelled set (Lipton 2018): the mix under which
    the model, mistaken as often as there, would call the classes as often as it did here.

    It rests on each class looking as it does in the labelled set: only how many of each there are may differ. ``matrix`` is K ×
    K, ``predicted`` N classes. The mix is K shares.
    """
    classes = len(matrix)
    support, called = matrix.sum(axis=1), np.bincount(predicted, minlength=classes)
    involved = np.flatnonzero((support > 0) | (called > 0))
    few = [names[k] for k in involved if support[k] < LEAST_LABELLED]
    if few:
        told = ", ".join(few[:4]) + (f" and {len(few) - 4} more" if len(few) > 4 else "")
        return MixEstimate(None, [], f"too few labelled images of {told} (it takes {LEAST_LABELLED} of each)")
    if not len(predicted):
        return MixEstimate(None, [], "no image has an answer")
    rates = matrix[np.ix_(involved, involved)] / support[involved, None]
    smallest = float(np.linalg.svd(rates, compute_uv=False)[-1])
    if smallest < LEAST_SINGULAR:
        return MixEstimate(
            None,
            [],
            "the answers hardly tell some classes apart, so that many mixes would look alike (smallest singular "
            f"value {smallest:.2f}, it takes {LEAST_SINGULAR})",
        )
    raw = _solved(rates, called[involved] / called.sum())
    shares = np.zeros(classes)
    shares[involved] = _as_shares(raw)
    draws = DRAWS if len(involved) <= MANY else DRAWS_OF_MANY
    rng, drawn = np.random.default_rng(seed), np.zeros((draws, classes))
    negative = np.zeros(len(involved))
    for line in drawn:
        again = np.stack([rng.multinomial(n, row) / n for n, row in zip(support[involved], rates, strict=True)])
        try:
            solved = _solved(again, rng.multinomial(called.sum(), called[involved] / called.sum()) / called.sum())
        except np.linalg.LinAlgError:
            continue
        negative += solved < 0
        line[involved] = _as_shares(solved)
    impossible = [names[k] for k, n, one in zip(involved, negative, raw, strict=True) if one < 0 and n > 0.975 * draws]
    if impossible:
        return MixEstimate(
            None,
            [],
            f"the estimate for {', '.join(impossible[:4])} is negative, so the method does not apply: the "
            "classes look different from the labelled set",
        )
    ends = np.quantile(drawn, [0.025, 0.975], axis=0)
    low, high = ends[0], ends[1]
    return MixEstimate(shares, list(zip(low.tolist(), high.tolist(), strict=True)))


def _solved(rates: NDArray[np.float64], called: NDArray[np.float64]) -> NDArray[np.float64]:
    """The mix m with m · rates = called."""
    return np.asarray(np.linalg.solve(rates.T, called), np.float64)


def _as_shares(mix: NDArray[np.float64]) -> NDArray[np.float64]:
    """The mix without what is below none, adding up to 1."""
    kept = np.maximum(0.0, mix)
    found: NDArray[np.float64] = kept / kept.sum() if kept.sum() > 0 else np.full(len(mix), 1 / len(mix))
    return found


def accuracy_without_labels(
    labelled: NDArray[np.float64], right: NDArray[np.bool_], unlabelled: NDArray[np.float64], seed: int = 0
) -> AccuracyEstimate | None:
    """Accuracy on images of which only the ``unlabelled`` confidences are known (M), from ``labelled`` ones (N) and whether these are
    right; confidences are after temperature scaling, those of the labelled ones out of fold. None without images of either.

    The mean confidence is the accuracy of a calibrated model (Guo 2017), the share above the threshold that matches the
    labelled accuracy that of Garg 2022. The first rests on confidence meaning there what it means here; the second on as many answers
    lying above one threshold as are right, which is too low where images are harder and confidence means the same.
    """
    if not len(labelled) or not len(unlabelled):
        return None
    rng, drawn, many = np.random.default_rng(seed), np.zeros((DRAWS, 2)), len(unlabelled)
    for line in drawn:
        one = rng.integers(0, len(labelled), len(labelled))
        above = float((unlabelled >= matching(labelled[one], right[one])).mean())
        # The images are these; what is not known is the labelled set's share of chance, and which of these are right.
        by_chance = (rng.random(many) < unlabelled).mean()
        line[:] = by_chance + right[one].mean() - labelled[one].mean(), rng.binomial(many, above) / many
    threshold = matching(labelled, right)
    low, high = np.clip(np.quantile(drawn, [0.025, 0.975], axis=0), 0.0, 1.0)
    by_confidence = float(np.clip(unlabelled.mean() + right.mean() - labelled.mean(), 0.0, 1.0))
    return AccuracyEstimate(
        by_confidence,
        (float(low[0]), float(high[0])),
        float((unlabelled >= threshold).mean()),
        (float(low[1]), float(high[1])),
        threshold,
    )


def matching(confidence: NDArray[np.float64], right: NDArray[np.bool_]) -> float:
    """The confidence from which on there are as many images as right ones. Both are N, image by image; a probability is
    returned."""
    hits = int(right.sum())
    if not hits:
        return float(np.nextafter(confidence.max(), np.inf))
    return float(np.partition(confidence, len(confidence) - hits)[len(confidence) - hits])
