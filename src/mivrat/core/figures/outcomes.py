"""What each image's row of scores says, as vectors: all that most figures need of N x K scores."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from mivrat.core.figures import ranking


@dataclass(frozen=True)
class Outcomes:
    """Vectors over N labelled images with an answer.

    ``rank`` is 0 where it is not known, ``own`` (p of the label) and ``squares`` (sum of p squared over the classes) are
    NaN where only a prediction is known, ``confidence`` is NaN where it was not told.
    """

    labels: NDArray[np.int64]
    predicted: NDArray[np.int64]
    confidence: NDArray[np.float64]
    rank: NDArray[np.int64]
    own: NDArray[np.float64]
    squares: NDArray[np.float64]
    tied: NDArray[np.bool_]

    @property
    def complete(self) -> bool:
        """Whether every image's whole row of scores is known, so that every figure is defined."""
        return not np.isnan(self.own).any()


def outcomes_of_logits(logits: NDArray[np.floating], labels: NDArray[np.integer]) -> Outcomes:
    """The same from N x K logits (K > 1, finite), without writing all probabilities down: of most images only sums are asked for."""
    given: NDArray[np.int64] = labels.astype(np.int64)
    lines, known = np.arange(len(given)), given >= 0
    predicted = ranking.predictions(logits)
    top = logits[lines, predicted]
    raised = logits.astype(np.float64)
    raised -= raised[lines, predicted][:, None]
    np.exp(raised, out=raised)
    whole = raised.sum(axis=1)
    own = np.where(known, raised[lines, given] / whole, np.nan)
    rank = np.where(known, 1, 0)
    if len(others := np.flatnonzero(known & (given != predicted))):
        rank[others] = ranking.label_ranks(logits[others], given[others])
    highest = logits == top[:, None]
    tied = np.zeros(len(given), bool)
    if np.count_nonzero(highest) > len(given):
        tied = np.count_nonzero(highest, axis=1) > 1
    return Outcomes(given, predicted, 1 / whole, rank, own, np.vecdot(raised, raised) / whole**2, tied)


def outcomes(scores: NDArray[np.floating], probabilities: NDArray[np.float64], labels: NDArray[np.integer]) -> Outcomes:
    """Outcomes from ranking scores and probabilities (both N x K, finite) and N labels; label -1 has no rank and no own p."""
    given: NDArray[np.int64] = labels.astype(np.int64)
    total = len(given)
    if not total:
        none, real = np.zeros(0, np.int64), np.zeros(0)
        return Outcomes(given, none, real, none, real, real, np.zeros(0, bool))
    predicted = ranking.predictions(scores)
    known = given >= 0
    rank, own = np.zeros(total, np.int64), np.full(total, np.nan)
    if known.all():
        rank, own = ranking.label_ranks(scores, given), np.take_along_axis(probabilities, given[:, None], 1)[:, 0]
    elif known.any():
        rank[known] = ranking.label_ranks(scores[known], given[known])
        own[known] = probabilities[known, given[known]]
    top = np.take_along_axis(scores, predicted[:, None], 1)
    return Outcomes(
        given,
        predicted,
        np.take_along_axis(probabilities, predicted[:, None], 1)[:, 0],
        rank,
        own,
        np.einsum("nk,nk->n", probabilities, probabilities),
        np.count_nonzero(scores == top, axis=1) > 1,
    )
