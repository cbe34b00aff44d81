"""Ranks, top-k and ties by loops."""

from __future__ import annotations

import numpy as np
from hypothesis import given

from mivrat.core.figures import ranking
from tests.support.drawn import cases


@given(cases())
def test_ranks_top_k_and_ties_by_loops(case: tuple[np.ndarray, np.ndarray]) -> None:
    scores, labels = case
    expected, ties = [], 0
    for row, label in zip(scores.tolist(), labels.tolist(), strict=True):
        order = sorted(range(len(row)), key=lambda j: (-row[j], j))
        expected.append(order.index(label) + 1)
        ties += row.count(max(row)) > 1
    ranks = ranking.label_ranks(scores, labels)
    assert ranks.tolist() == expected
    assert ranking.top_ties(scores) == ties
    assert ((ranks == 1) == (ranking.predictions(scores) == labels)).all()
    for k in range(1, scores.shape[1] + 1):
        assert ranking.top_k(ranks, k).hits == sum(r <= k for r in expected)
