"""Judges answers as they come in, so that nothing is judged twice."""

from __future__ import annotations

import os
from collections.abc import Sequence
from concurrent.futures import ThreadPoolExecutor

import numpy as np
from numpy.typing import NDArray

from mivrat.core.answers.answers import SCORED, Answers
from mivrat.core.answers.judged import EvaluatedRun
from mivrat.core.answers.odds import PIECE
from mivrat.core.figures.outcomes import outcomes, outcomes_of_logits
from mivrat.core.figures.units import Units, units_of
from mivrat.core.models.scores import to_probabilities
from mivrat.core.pictures.image_sets import ImageSet


def units_in(image_set: ImageSet) -> Units | None:
    """What belongs together in a set, where it says so."""
    column = image_set.unit_column
    return units_of([item.columns.get(column, "") for item in image_set.items], column) if column else None


class Judging:
    """Judges answers as they come in, so that nothing is judged twice."""

    def __init__(self, answers: Answers, labels: Sequence[int | None], units: Units | None = None) -> None:
        listed = len(labels)
        self.answers, self._units = answers, units
        self._labels = np.array([-1 if one is None else one for one in labels], np.int64)
        self._predicted, self._rank = np.full(listed, -1, np.int64), np.zeros(listed, np.int64)
        self._confidence, self._own = np.full(listed, np.nan), np.full(listed, np.nan)
        self._squares, self._tied = np.full(listed, np.nan), np.zeros(listed, bool)
        self.update(np.flatnonzero(answers.state == SCORED))

    def update(self, indices: NDArray[np.integer]) -> None:
        """Judge these images anew."""
        indices = np.asarray(indices)[self.answers.state[indices] == SCORED]
        step = max(1, PIECE // self.answers.rows.shape[1])
        pieces = [indices[start : start + step] for start in range(0, len(indices), step)]
        if len(pieces) < 100:
            for piece in pieces:
                self._judge(piece)
        else:
            with ThreadPoolExecutor(os.cpu_count()) as pool:
                list(pool.map(self._judge, pieces))

    def _judge(self, some: NDArray[np.integer]) -> None:
        rows, kind = self.answers.rows[some], self.answers.kind or "logits"
        if kind == "prediction":
            self._predicted[some] = rows[:, 0].astype(np.int64)
            self._confidence[some] = rows[:, 1]
            self._rank[some] = self._predicted[some] == self._labels[some]
            return
        if kind == "logits" and rows.shape[1] > 1:
            found = outcomes_of_logits(rows, self._labels[some])
        else:
            probabilities = to_probabilities(rows, kind)
            scores = rows if rows.shape[1] > 1 else probabilities
            found = outcomes(scores, probabilities, self._labels[some])
        self._predicted[some], self._confidence[some], self._rank[some] = found.predicted, found.confidence, found.rank
        self._own[some], self._squares[some], self._tied[some] = found.own, found.squares, found.tied

    def judged(self) -> EvaluatedRun:
        """Everything judged so far; not changed by what comes later."""
        return EvaluatedRun(
            self._labels,
            self.answers.state.copy(),
            self._predicted.copy(),
            self._confidence.copy(),
            self._rank.copy(),
            self._own.copy(),
            self._squares.copy(),
            self._tied.copy(),
            self.answers.rows,
            self.answers.kind or "logits",
            self.answers.classes,
            self._units,
        )


def judge(answers: Answers, labels: Sequence[int | None], units: Units | None = None) -> EvaluatedRun:
    """Predictions, confidences and ranks from raw answers and labels (None: unlabelled)."""
    return Judging(answers, labels, units).judged()
