"""The raw answers of one model for one image set, filled batch by batch."""

from __future__ import annotations

from typing import Literal

import numpy as np
from numpy.typing import NDArray

from mivrat.core.answers.scoring import ScoredBatch
from mivrat.core.models.model import ModelKind
from mivrat.core.models.scores import Kind, ScoreFacts
from mivrat.core.pictures.properties import Values
from mivrat.core.pictures.recipe import Recipe

PENDING, SCORED, UNREADABLE, FAILED = 0, 1, 2, 3
# So many numbers are gone through at a time.
PIECE = 4_000_000

KindSource = Literal["recipe", "table", "guess"]


def kind_source_of(kind: ModelKind, recipe: Recipe) -> KindSource:
    """Who settles the kind of a model's scores."""
    if recipe.scores.kind != "auto":
        return "recipe"
    return "guess" if kind.can.scores else "table"


def dtype_of(kind: ModelKind) -> type[np.float32] | type[np.float64]:
    """What a row is kept in: what was written down elsewhere keeps all its digits."""
    return np.float32 if kind.can.scores else np.float64


class Answers:
    """Raw score rows with a state for each listed image; ``kind`` is None until the first batch tells it.

    ``kind_source`` says who settled the kind: the ``recipe``, the ``table`` it came from, or, where it is a guess from all rows
    seen so far, ``guess``. Of the kind ``prediction`` a row holds no scores but the predicted class's index and its
    confidence (NaN: not told). ``dtype``: what a row is kept in; scores read from a table are doubles. ``rows`` are the listed x
    columns scores where these lie in a file.
    """

    def __init__(
        self,
        listed: int,
        columns: int,
        kind: Kind | None = None,
        classes: int | None = None,
        kind_source: KindSource = "guess",
        dtype: type[np.float32] | type[np.float64] = np.float32,
        rows: NDArray[np.floating] | None = None,
    ) -> None:
        self.state = np.zeros(listed, np.int8)
        self.rows: NDArray[np.floating] = np.zeros((listed, columns), dtype) if rows is None else rows
        # Of a large run that a study keeps: the file its rows are mapped from.
        self.score_file: int | None = None
        # Whether that file lacks a row which was answered elsewhere, and was put into ``rows`` in memory only.
        self.has_strays = False
        self.reasons: dict[int, str] = {}
        # The pictures' hashes by position, as far as they have been read.
        self.contents: dict[int, bytes] = {}
        # What was measured in the photos, by content, of a run that no study keeps.
        self.properties: dict[bytes, Values] = {}
        self.kind = kind
        self.kind_source: KindSource = kind_source
        self.classes = classes or (2 if columns == 1 else columns)
        self.seen = ScoreFacts()

    def add(self, batch: ScoredBatch) -> bool:
        """Take a batch in. Where the recipe left the kind of scores open, it is guessed from all rows seen so far; true where
        the guess has changed by this batch, so that what was judged before has to be judged anew."""
        before = self.kind
        if self.kind_source == "guess" and len(batch.rows):
            self.look_at(batch.rows)
        self.contents.update({i: stamp.content for i, stamp in batch.stamps.items()})
        self.rows[batch.scored] = batch.rows
        self.state[batch.scored] = np.where(np.isfinite(batch.rows).all(axis=1), SCORED, FAILED)
        for index, reason in batch.unfit.items():
            self.state[index] = FAILED
            self.reasons[index] = reason
        for index, reason in batch.unreadable.items():
            self.state[index] = UNREADABLE
            self.reasons[index] = reason
        return before is not None and before != self.kind

    def look_at(self, rows: NDArray[np.floating]) -> None:
        """Take some rows into account for the guess at their kind."""
        self.seen += ScoreFacts.of(rows)
        self.kind = self.seen.kind

    def look_at_all(self) -> None:
        """The same of all scored rows, some at a time."""
        scored = np.flatnonzero(self.state == SCORED)
        step = max(1, PIECE // self.rows.shape[1])
        for start in range(0, len(scored), step):
            self.look_at(self.rows[scored[start : start + step]])

    @property
    def pending(self) -> NDArray[np.int64]:
        """Indices of the images not yet answered for."""
        return np.flatnonzero(self.state == PENDING)
