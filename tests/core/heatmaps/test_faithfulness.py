"""Deletion and insertion by loops, and on a model that looks at one spot."""

from __future__ import annotations

from functools import partial
from pathlib import Path

import numpy as np
import pytest

from mivrat.core.heatmaps.faithfulness import DRAWS, STEPS, faithfulness
from mivrat.core.heatmaps.maps import Target
from tests.support.networks import seeing_one_spot


@pytest.mark.parametrize("channels_last", [False, True])
def test_deletion_and_insertion_by_loops(channels_last: bool, tmp_path: Path) -> None:
    maker = seeing_one_spot(tmp_path, channels_last=channels_last)
    rng = np.random.default_rng(3)
    planes = rng.uniform(0, 0.4, (3, 30, 40)).astype(np.float32)
    planes[:, 4:8, 20:25] = 1.0
    picture = planes.transpose(1, 2, 0).copy() if channels_last else planes
    heat = rng.uniform(0, 1, (30, 40)).astype(np.float32)
    answer = partial(maker.answers, Target(0))
    found = faithfulness(picture, heat, answer, channels_last, seed=5)
    order = np.argsort(-heat.ravel(), kind="stable")
    for k in (0, 3, 11, STEPS):
        taken = order[: round(k / STEPS * 1200)]
        changed = planes.copy().reshape(3, -1)
        changed[:, taken] = planes.mean(axis=(1, 2))[:, None]
        changed = changed.reshape(planes.shape)
        batch = (changed.transpose(1, 2, 0) if channels_last else changed)[None]
        assert found.deletion[k] == pytest.approx(float(maker.probabilities(batch)[0, 0]), abs=1e-5)
    assert found.insertion[STEPS] == pytest.approx(float(maker.probabilities(picture[None])[0, 0]), abs=1e-6)
    assert found.deletion_area == pytest.approx(np.trapezoid(found.deletion, found.shares))
    assert found.random_deletion.shape == (DRAWS, STEPS + 1)
    again = faithfulness(picture, heat, answer, channels_last, seed=5)
    assert (again.random_insertion == found.random_insertion).all()


def test_a_true_map_beats_random_orders_and_a_false_one_does_not(tmp_path: Path) -> None:
    maker = seeing_one_spot(tmp_path)
    picture = np.full((3, 30, 40), 0.2, np.float32)
    picture[:, 4:8, 20:25] = 3.0
    true = np.zeros((30, 40), np.float32)
    true[4:8, 20:25] = 1.0
    answer = partial(maker.answers, Target(0))
    right = faithfulness(picture, true, answer, False)
    wrong = faithfulness(picture, 1 - true, answer, False)
    assert right.deletion_area < right.random_deletion_areas.min()
    assert right.insertion_area > right.random_insertion_areas.max()
    assert wrong.deletion_area > wrong.random_deletion_areas.max()
    assert wrong.insertion_area < wrong.random_insertion_areas.min()
