"""Answering only when sure: by loops, and thresholds offered where none holds."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from mivrat.core.figures import (
    selective,
)


@settings(max_examples=60, deadline=None)
@given(st.lists(st.tuples(st.sampled_from([0.2, 0.5, 0.7, 0.9]), st.booleans()), min_size=1, max_size=25))
def test_selective_prediction_by_loops(pairs: list[tuple[float, bool]]) -> None:
    found = selective.selective(np.array([c for c, _ in pairs]), np.array([r for _, r in pairs]))
    risks = []
    for c, _ in pairs:
        surer = [r for other, r in pairs if other >= c]
        risks.append(1 - sum(surer) / len(surer))
    assert found.aurc == pytest.approx(sum(risks) / len(pairs))
    for threshold in (0.0, 0.2, 0.6, 0.9, 0.95):
        inside = [r for c, r in pairs if c >= threshold]
        at = found.at(threshold)
        assert (at.hits, at.total) == (sum(inside), len(inside))


def test_a_threshold_for_an_accuracy_that_is_never_reached_is_seldom_offered() -> None:
    rng, offered, found_where_true = np.random.default_rng(5), 0, 0
    studies = 400
    for _ in range(studies):
        confidence = rng.uniform(0.5, 1.0, 300)
        # However sure it is, the first model is right in just 80 %; the second in 70 % to all of them.
        offered += selective.selective(confidence, rng.random(300) < 0.8).lowest_for(0.8) is not None
        reached = selective.selective(confidence, rng.random(300) < 2 * confidence - 0.9).lowest_for(0.8)
        found_where_true += reached is not None
        if reached is not None:
            at = confidence >= reached[0]
            assert reached[1].total == int(at.sum())
    assert offered <= 0.05 * studies + 2 * np.sqrt(0.05 * 0.95 * studies)
    assert found_where_true > 0.5 * studies


def test_without_an_image_there_is_no_threshold_and_no_area() -> None:
    found = selective.selective(np.zeros(0), np.zeros(0, bool))
    assert [len(one) for one in (found.thresholds, found.answered, found.hits)] == [0, 0, 0]
    assert (found.total, found.aurc) == (0, None)
