"""Costs of thresholds by loops."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from mivrat.core.figures import (
    decision,
)


@settings(max_examples=40, deadline=None)
@given(st.lists(st.tuples(st.sampled_from([0.0, 0.3, 0.5, 0.8, 1.0]), st.integers(0, 1)), min_size=1, max_size=20))
def test_costs_by_loops(pairs: list[tuple[float, int]]) -> None:
    second, labels = np.array([p for p, _ in pairs]), np.array([y for _, y in pairs])
    found = decision.costs(second, labels, false_alarm=1.0, miss=5.0)
    for threshold, mean in zip(found.thresholds, found.mean, strict=True):
        called = decision.called_at(second, threshold)
        assert mean == pytest.approx(np.where(called > labels, 1.0, np.where(called < labels, 5.0, 0.0)).mean())
    assert found.at(found.best) == found.mean.min()


def test_the_last_threshold_calls_no_image_the_second_class() -> None:
    found = decision.costs(np.array([0.2, 0.9]), np.array([0, 0]))
    assert found.thresholds.tolist() == [0.2, 0.9, np.nextafter(1.0, 2.0)]
    assert found.best == found.thresholds[-1]
