"""Scores and labels drawn from them, for figures that are tried on many sets."""

from __future__ import annotations

import numpy as np
from hypothesis import strategies as st

from mivrat.core.figures import (
    temperature,
)


def softmax(scores: np.ndarray) -> np.ndarray:
    p = np.exp(scores - scores.max(axis=1, keepdims=True))
    return p / p.sum(axis=1, keepdims=True)


def drawn(images: int, classes: int, seed: int, sharp: float = 1.0) -> tuple[np.ndarray, np.ndarray]:
    """Logits, and labels drawn from their probabilities once divided by ``sharp``: a model too sure by that factor."""
    rng = np.random.default_rng(seed)
    scores = rng.normal(0, 2, (images, classes))
    cumulated = softmax(scores / sharp).cumsum(axis=1)
    return scores, np.minimum((rng.random((images, 1)) > cumulated).sum(axis=1), classes - 1)


def fitted(scores: np.ndarray, labels: np.ndarray, exact: bool = True) -> temperature.Temperature:
    p = softmax(scores)
    return temperature.scale(
        lambda some: scores[some],
        labels,
        scores.argmax(axis=1) == labels,
        p[np.arange(len(p)), labels],
        p.max(axis=1),
        scores.shape[1],
        exact=temperature.EXACT if exact else 700,
    )


@st.composite
def cases(draw: st.DrawFn) -> tuple[np.ndarray, np.ndarray]:
    """Scores from a few values only, so that ties are common, and labels."""
    n, k = draw(st.integers(1, 12)), draw(st.integers(2, 5))
    scores = draw(st.lists(st.lists(st.integers(-2, 2), min_size=k, max_size=k), min_size=n, max_size=n))
    labels = draw(st.lists(st.integers(0, k - 1), min_size=n, max_size=n))
    return np.array(scores, float), np.array(labels)
