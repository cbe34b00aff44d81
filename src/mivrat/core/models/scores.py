"""Reads a model's raw answers: what kind of scores they are, and the probabilities they stand for."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any, Literal

import numpy as np
from numpy.typing import NDArray

from mivrat.core.base.errors import InputError

# ``prediction`` stands for answers that tell the predicted class and its confidence, but no scores.
Kind = Literal["logits", "probabilities", "sigmoid", "prediction"]


def as_rows(raw: NDArray[Any]) -> NDArray[np.float32]:
    """Raw answers as images x columns: axes of length one behind the first are dropped (N x K x 1 x 1 becomes N x K)."""
    out = np.asarray(raw, np.float32)
    kept = (out.shape[0], *(n for n in out.shape[1:] if n != 1))
    return out.reshape(kept if len(kept) > 1 else (out.shape[0], 1))


# So far from 1 may a row of probabilities sum.
SUM_WITHIN = 1e-3


@dataclass(frozen=True)
class ScoreFacts:
    """What is known of the kind of some rows: ``within``, all lie in [0, 1]; ``furthest``, how far one of them sums from 1;
    ``columns``, their width; ``rows``, how many there were, those with NaN or infinity left out."""

    rows: int = 0
    within: bool = True
    furthest: float = 0.0
    columns: int = 0

    @classmethod
    def of(cls, rows: NDArray[np.floating]) -> ScoreFacts:
        finite = rows[np.isfinite(rows).all(axis=1)]
        if not finite.size:
            return cls(columns=rows.shape[1])
        within = bool((finite >= 0).all() and (finite <= 1).all())
        sums = finite.sum(axis=1, dtype=np.float64)
        return cls(len(finite), within, float(np.abs(sums - 1).max()), rows.shape[1])

    def __add__(self, other: ScoreFacts) -> ScoreFacts:
        return ScoreFacts(
            self.rows + other.rows,
            self.within and other.within,
            max(self.furthest, other.furthest),
            max(self.columns, other.columns),
        )

    @property
    def kind(self) -> Kind:
        """Probabilities where every row lies in [0, 1] and sums to 1 within 1e-3, a sigmoid where a single column lies in
        [0, 1], else logits; logits without any row."""
        if not self.rows or not self.within:
            return "logits"
        if self.columns == 1:
            return "sigmoid"
        return "probabilities" if self.furthest <= SUM_WITHIN else "logits"

    @property
    def doubtful(self) -> bool:
        """Whether all rows lie in [0, 1] and yet do not sum to 1: logits only by an odd chance, and no probabilities."""
        return self.rows > 0 and self.within and self.columns > 1 and self.furthest > SUM_WITHIN


def doubtful_scores(where: object, furthest: float) -> InputError:
    """The error for scores that all lie in [0, 1] and do not sum to 1."""
    return InputError(
        f"all scores are in [0, 1], but a row sums to 1 only within {furthest:.2g}: they may be probabilities of some other "
        "kind (each class by itself, or not normalised) or logits",
        where=where,
        hint='say which in the recipe: under [scores], kind = "probabilities" or kind = "logits"',
    )


def guess_kind(rows: NDArray[np.floating]) -> Kind:
    """The kind of scores in N x K rows, as ``ScoreFacts`` tells it."""
    return ScoreFacts.of(rows).kind


def to_probabilities(rows: NDArray[np.floating], kind: Kind) -> NDArray[np.float64]:
    """Probabilities (N x classes, float64) from rows of scores (N x columns).

    One column stands for two classes: a sigmoid's p is the second class's probability, 1 - p the first's; a single logit
    goes through the sigmoid first. A row with NaN or infinity stays NaN throughout: it failed.
    """
    scores = rows.astype(np.float64)
    failed = ~np.isfinite(rows).all(axis=1)
    scores[failed] = 0.0
    if scores.shape[1] == 1:
        p = scores[:, 0] if kind != "logits" else 0.5 * (1.0 + np.tanh(0.5 * scores[:, 0]))
        out = np.stack([1.0 - p, p], axis=1)
    elif kind == "logits":
        out = scores
        out -= out.max(axis=1, keepdims=True)
        np.exp(out, out=out)
        out /= out.sum(axis=1, keepdims=True)
    else:
        out = scores
    out[failed] = np.nan
    return out


def ranking_scores(rows: NDArray[np.floating], kind: Kind) -> NDArray[np.float64]:
    """What classes are ranked by (N x classes): the rows as they came, so that no tie is made by rounding,
    or the two probabilities where one column stands for two classes."""
    return rows.astype(np.float64) if rows.shape[1] > 1 else to_probabilities(rows, kind)


def column_count_fits(columns: int, classes: int) -> bool:
    """Whether so many score columns can answer for so many classes: one each, or one column for two classes."""
    return columns == classes or (columns == 1 and classes == 2)
