"""Reads a model's raw answers: what kind of scores they are, and the probabilities they stand for."""

from __future__ import annotations

from typing import Any, Literal

import numpy as np
from numpy.typing import NDArray

# ``prediction`` stands for answers that tell the predicted class and its confidence, but no scores.
Kind = Literal["logits", "probabilities", "sigmoid", "prediction"]


def as_rows(raw: NDArray[Any]) -> NDArray[np.float32]:
    """Raw answers as images x columns: axes of length one behind the first are dropped (N x K x 1 x 1 becomes N x K)."""
    out = np.asarray(raw, np.float32)
    kept = (out.shape[0], *(n for n in out.shape[1:] if n != 1))
    return out.reshape(kept if len(kept) > 1 else (out.shape[0], 1))


def guess_kind(rows: NDArray[np.float32]) -> Kind:
    """The kind of scores in N x K rows: probabilities where each row lies in [0, 1] and sums to 1 within 1e-3.

    A single column is a sigmoid where it lies in [0, 1]. Rows with NaN or infinity are left out; without any other row
    the guess is logits.
    """
    finite = rows[np.isfinite(rows).all(axis=1)]
    if finite.size == 0:
        return "logits"
    within = bool((finite >= 0).all() and (finite <= 1).all())
    if rows.shape[1] == 1:
        return "sigmoid" if within else "logits"
    return (
        "probabilities"
        if within and bool((np.abs(finite.sum(axis=1, dtype=np.float64) - 1) <= 1e-3).all())
        else "logits"
    )


def to_probabilities(rows: NDArray[np.float32], kind: Kind) -> NDArray[np.float64]:
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


def ranking_scores(rows: NDArray[np.float32], kind: Kind) -> NDArray[np.float64]:
    """What classes are ranked by (N x classes): the rows as they came, so that no tie is made by rounding,
    or the two probabilities where one column stands for two classes."""
    return rows.astype(np.float64) if rows.shape[1] > 1 else to_probabilities(rows, kind)


def column_count_fits(columns: int, classes: int) -> bool:
    """Whether so many score columns can answer for so many classes: one each, or one column for two classes."""
    return columns == classes or (columns == 1 and classes == 2)
