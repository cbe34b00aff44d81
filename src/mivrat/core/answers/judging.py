"""Judges answers as they come in, so that nothing is judged twice."""

from __future__ import annotations

import os
from collections.abc import Mapping, Sequence
from concurrent.futures import ThreadPoolExecutor
from typing import Any

import numpy as np
from numpy.typing import NDArray

from mivrat.core.answers.answers import FAILED, PENDING, SCORED, Answers
from mivrat.core.answers.judged import EvaluatedRun
from mivrat.core.answers.odds import PIECE
from mivrat.core.figures.outcomes import outcomes, outcomes_of_logits
from mivrat.core.figures.units import Units, units_of
from mivrat.core.models.scores import to_probabilities
from mivrat.core.pictures.image_sets import ImageSet, column_of


def units_in(image_set: ImageSet) -> Units | None:
    """What belongs together in a set, where it says so."""
    column = image_set.unit_column
    return units_of(column_of(image_set.items, column), column) if column else None


class Judging:
    """Judges answers as they come in, so that nothing is judged twice."""

    def __init__(
        self, answers: Answers, labels: Sequence[int | None] | NDArray[np.integer], units: Units | None = None
    ) -> None:
        """``labels`` are class indices, N of them; None or -1: unlabelled."""
        listed = len(labels)
        self.answers, self._units = answers, units
        given = labels if isinstance(labels, np.ndarray) else [-1 if one is None else one for one in labels]
        self._labels = np.array(given, np.int64)
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

    def columns(self) -> dict[str, NDArray[Any]]:
        """What was judged, image by image, as columns that ``take_columns`` takes back."""
        return {
            "state": self.answers.state,
            "predicted": self._predicted.astype("<i4"),
            "rank": self._rank.astype("<i4"),
            "confidence": self._confidence.astype("<f8"),
            "own": self._own.astype("<f8"),
            "squares": self._squares.astype("<f8"),
            "tied": self._tied,
        }

    def take_columns(self, columns: Mapping[str, NDArray[Any]]) -> None:
        """Take over what was judged before. ValueError, and nothing is taken, where these are not columns of such a run."""
        listed, classes = len(self._labels), self.answers.classes
        own = self.columns()
        given = {name: columns.get(name) for name in own}
        if any(one is None or one.shape != (listed,) for one in given.values()):
            raise ValueError("a column is missing, or of another length")
        kinds = {name: one.dtype.kind for name, one in columns.items() if name in given}
        if kinds != {name: one.dtype.kind for name, one in own.items()}:
            raise ValueError("a column is of another kind")
        state, predicted, rank = columns["state"], columns["predicted"], columns["rank"]
        within = ((state >= PENDING) & (state <= FAILED) & (predicted >= -1) & (predicted < classes) & (rank >= 0)) & (
            rank <= classes
        )
        if not within.all() or (predicted[state == SCORED] < 0).any():
            raise ValueError("a column holds what no run has")
        self.answers.state[:] = state
        self._predicted[:], self._rank[:] = predicted, rank
        self._confidence[:], self._own[:] = columns["confidence"], columns["own"]
        self._squares[:], self._tied[:] = columns["squares"], columns["tied"]

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


def judge(
    answers: Answers, labels: Sequence[int | None] | NDArray[np.integer], units: Units | None = None
) -> EvaluatedRun:
    """Predictions, confidences and ranks from raw answers and labels (None or -1: unlabelled)."""
    return Judging(answers, labels, units).judged()
