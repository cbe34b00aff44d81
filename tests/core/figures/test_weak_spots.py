"""Weak spots: searched on one half, confirmed on the other; how often one is confirmed where there is none."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from mivrat.core.figures.significance import below_rest, holm
from mivrat.core.figures.weak_spots import LEAST_IMAGES, MOST_CARRIED, confirmed, search, spot_mask


def conditions(rng: np.random.Generator, n: int, properties: int = 6) -> tuple[NDArray[np.bool_], NDArray[np.int64]]:
    """Quarters of some numbers."""
    found, kinds = [], []
    for k in range(properties):
        quarter = rng.integers(0, 4, n)
        found += [quarter == q for q in range(4)]
        kinds += [k] * 4
    return np.array(found), np.array(kinds)


def test_a_planted_spot_of_two_conditions_is_found_and_others_are_not_put_together() -> None:
    rng = np.random.default_rng(0)
    masks, kinds = conditions(rng, 2000)
    spot = masks[1] & masks[6]
    right = rng.random(2000) > np.where(spot, 0.6, 0.05)
    first, half = search(masks[:, :1000], kinds, right[:1000]), slice(1000, 2000)
    assert first[0].conditions == (1, 6)
    assert len(first) <= MOST_CARRIED
    assert all(len({int(kinds[i]) for i in one.conditions}) == len(one.conditions) for one in first)
    assert all(spot_mask(masks[:, :1000], one.conditions).sum() >= LEAST_IMAGES for one in first)
    told = [spot_mask(masks[:, half], one.conditions) for one in first]
    values = confirmed(told, right[half])
    assert values[0] < 1e-6
    plain = [
        below_rest(int((right[half] & m).sum()), int(m.sum()), int((right[half] & ~m).sum()), int((~m).sum()))
        for m in told
    ]
    assert values == holm(plain)


def test_spots_of_much_the_same_images_are_one() -> None:
    rng = np.random.default_rng(1)
    part = rng.random(400) < 0.3
    masks = np.array([part, part, ~part])
    right = rng.random(400) > np.where(part, 0.5, 0.1)
    assert [one.conditions for one in search(masks, np.arange(3), right)] == [(0,)]


def test_too_few_images_and_no_mistakes_give_none() -> None:
    masks, kinds = conditions(np.random.default_rng(2), 2 * LEAST_IMAGES - 1)
    assert search(masks, kinds, np.zeros(2 * LEAST_IMAGES - 1, bool)) == []
    masks, kinds = conditions(np.random.default_rng(2), 500)
    assert search(masks, kinds, np.ones(500, bool)) == []
    assert search(np.zeros((0, 500), bool), np.zeros(0, int), np.zeros(500, bool)) == []
    assert confirmed([], np.ones(10, bool)) == []


def test_seldom_is_one_confirmed_where_there_is_none() -> None:
    rng, wrong_verdicts, reps = np.random.default_rng(3), 0, 200
    for _ in range(reps):
        masks, kinds = conditions(rng, 400)
        right = rng.random(400) > 0.15
        found = search(masks[:, :200], kinds, right[:200])
        values = confirmed([spot_mask(masks[:, 200:], one.conditions) for one in found], right[200:])
        wrong_verdicts += any(p < 0.05 for p in values)
    assert wrong_verdicts / reps <= 0.06


def test_whole_units_are_dealt_where_images_belong_together() -> None:
    rng = np.random.default_rng(4)
    unit = np.repeat(np.arange(8), 25)
    spot = unit == 3
    right = rng.random(200) > np.where(spot, 0.9, 0.1)
    alone, over_units = confirmed([spot], right), confirmed([spot], right, unit)
    assert alone[0] < 1e-9
    assert over_units[0] > 0.05  # one slide of eight
