"""Tallies of parts added up against the figures of the whole."""

from __future__ import annotations

from itertools import pairwise

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from mivrat.core.figures.outcomes import Outcomes, outcomes
from mivrat.core.figures.summary import figures_of, summarise
from mivrat.core.figures.tally import Tally
from tests.support.drawn import drawn, softmax


@settings(max_examples=40, deadline=None)
@given(st.integers(1, 40), st.integers(2, 5), st.lists(st.integers(0, 40), max_size=5), st.integers(0, 99))
def test_a_tally_does_not_depend_on_the_split(images: int, classes: int, cuts: list[int], seed: int) -> None:
    scores, labels = drawn(images, classes, seed)
    whole = outcomes(scores, softmax(scores), labels)
    edges = [0, *sorted(min(c, images) for c in cuts), images]
    parts = [Outcomes(*(value[a:b] for value in vars(whole).values())) for a, b in pairwise(edges)]
    tallies = [Tally.of(part, classes) for part in reversed(parts)]
    added = tallies[0]
    for one in tallies[1:]:
        added = added + one
    found, expected = figures_of(added, [1, 2]), summarise(whole, classes, [1, 2])
    assert (found.matrix == expected.matrix).all()
    for name in ("total", "ties", "top_k", "classes", "averages", "log_loss", "brier", "calibration"):
        assert getattr(found, name) == getattr(expected, name)


def test_means_of_a_tally_by_hand_and_of_none() -> None:
    scores, labels = drawn(30, 3, 5)
    whole = outcomes(scores, softmax(scores), labels)
    tally = Tally.of(whole, 3)
    loss = tally.log_loss()
    assert loss is not None
    assert loss.value == pytest.approx(-np.log(softmax(scores)[np.arange(30), labels]).mean())
    expected = ((softmax(scores) - np.eye(3)[labels]) ** 2).sum(axis=1).mean()
    assert tally.brier() == pytest.approx(expected)
    nothing = Tally.of(Outcomes(*(value[:0] for value in vars(whole).values())), 3)
    assert (nothing.complete, nothing.log_loss(), nothing.brier()) == (False, None, None)
