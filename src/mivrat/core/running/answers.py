"""The answers of one model for one image set, filled batch by batch, and what can be judged from them."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from mivrat.core.figures import ranking
from mivrat.core.figures.summary import Figures, summarise
from mivrat.core.models.scores import Kind, guess_kind, ranking_scores, to_probabilities
from mivrat.core.running.scoring import ScoredBatch

PENDING, SCORED, UNREADABLE, FAILED = 0, 1, 2, 3


@dataclass(frozen=True)
class Counts:
    """Every listed image stands in exactly one of the others: evaluated (in the figures), unreadable, failed (NaN or
    infinity among its scores), unlabelled (scored, but with nothing to judge it by), or pending."""

    listed: int
    evaluated: int
    unreadable: int
    unlabelled: int
    failed: int
    pending: int


class Answers:
    """Raw score rows with a state for each listed image; ``kind`` is None until the first batch tells it."""

    def __init__(self, listed: int, columns: int, kind: Kind | None = None) -> None:
        self.state = np.zeros(listed, np.int8)
        self.rows = np.zeros((listed, columns), np.float32)
        self.reasons: dict[int, str] = {}
        self.kind = kind

    def add(self, batch: ScoredBatch) -> None:
        """Take a batch in; the first scored one settles the kind of scores where the recipe left it open."""
        if self.kind is None and len(batch.rows):
            self.kind = guess_kind(batch.rows)
        self.rows[batch.scored] = batch.rows
        self.state[batch.scored] = np.where(np.isfinite(batch.rows).all(axis=1), SCORED, FAILED)
        for index, reason in batch.unreadable.items():
            self.state[index] = UNREADABLE
            self.reasons[index] = reason

    @property
    def pending(self) -> NDArray[np.int64]:
        """Indices of the images not yet answered for."""
        return np.flatnonzero(self.state == PENDING)


@dataclass(frozen=True)
class Judged:
    """What the answers say, image by image (arrays over all listed images).

    ``predicted`` is -1, ``confidence`` NaN and ``rank`` 0 where there is no answer (rank also without a label).
    ``evaluated`` marks labelled images with an answer: the N of every figure.
    """

    labels: NDArray[np.int64]
    state: NDArray[np.int8]
    predicted: NDArray[np.int64]
    confidence: NDArray[np.float64]
    rank: NDArray[np.int64]
    probabilities: NDArray[np.float64]
    scores: NDArray[np.float64]

    @property
    def evaluated(self) -> NDArray[np.bool_]:
        return (self.state == SCORED) & (self.labels >= 0)

    @property
    def right(self) -> NDArray[np.bool_]:
        return self.evaluated & (self.predicted == self.labels)

    @property
    def wrong(self) -> NDArray[np.bool_]:
        return self.evaluated & (self.predicted != self.labels)

    def counts(self) -> Counts:
        unreadable, failed = int((self.state == UNREADABLE).sum()), int((self.state == FAILED).sum())
        evaluated, pending = int(self.evaluated.sum()), int((self.state == PENDING).sum())
        return Counts(
            len(self.state),
            evaluated,
            unreadable,
            len(self.state) - evaluated - unreadable - failed - pending,
            failed,
            pending,
        )

    def figures(
        self, ks: Sequence[int], among: NDArray[np.bool_] | None = None, one_versus_rest: bool = True
    ) -> Figures:
        """All figures over the evaluated images, or over those of them that ``among`` marks."""
        use = self.evaluated if among is None else self.evaluated & among
        return summarise(self.scores[use], self.probabilities[use], self.labels[use], ks, one_versus_rest)


def judge(answers: Answers, labels: Sequence[int | None]) -> Judged:
    """Predictions, confidences and ranks from raw answers and labels (None: unlabelled)."""
    label = np.array([-1 if one is None else one for one in labels], np.int64)
    state = answers.state.copy()
    listed, columns = answers.rows.shape
    classes = 2 if columns == 1 else columns
    predicted, confidence, rank = np.full(listed, -1, np.int64), np.full(listed, np.nan), np.zeros(listed, np.int64)
    probabilities, scores = np.full((listed, classes), np.nan), np.full((listed, classes), np.nan)
    scored = state == SCORED
    if scored.any():
        kind = answers.kind or "logits"
        rows = answers.rows[scored]
        scores[scored] = ranking_scores(rows, kind)
        probabilities[scored] = to_probabilities(rows, kind)
        predicted[scored] = ranking.predictions(scores[scored])
        confidence[scored] = np.take_along_axis(probabilities[scored], predicted[scored][:, None], axis=1)[:, 0]
        both = scored & (label >= 0)
        if both.any():
            rank[both] = ranking.label_ranks(scores[both], label[both])
    return Judged(label, state, predicted, confidence, rank, probabilities, scores)
