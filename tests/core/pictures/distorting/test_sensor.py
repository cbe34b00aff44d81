"""Noise by its moments: mean, variance, grain, and how it grows with light."""

from __future__ import annotations

import numpy as np
import pytest

from mivrat.core.pictures.distorting import light, sensor

EVEN = np.full((200, 240, 3), 128, np.uint8)


@pytest.mark.parametrize("grain", [0.4, 1, 4])
def test_noise_has_its_mean_deviation_and_grain(grain: float) -> None:
    found = (sensor.noise(EVEN, 0.1, grain, np.random.default_rng(0)).astype(float) - EVEN) / 255
    size = max(1.0, grain)
    assert found.mean() == pytest.approx(0, abs=0.004 * size)
    assert found.std() == pytest.approx(0.1, rel=0.05)
    # Averaged over one grain it is as strong as before; over 2 x 2 of them, half as strong.
    side = round(2 * size)
    pooled = (
        found[: 200 // side * side, : 240 // side * side]
        .reshape(200 // side, side, 240 // side, side, 3)
        .mean(axis=(1, 3))
    )
    assert pooled.std() == pytest.approx(0.05, rel=0.12)
    assert abs(np.corrcoef(found[..., 0].ravel(), found[..., 1].ravel())[0, 1]) < 0.05


@pytest.mark.parametrize("grain", [1, 3])
def test_shot_noise_varies_as_photons_do(grain: float) -> None:
    """In amounts of light: the mean stays, the variance is sigma² times the light."""
    for amount in (0.05, 0.2, 0.5):
        even = light.pixels_of_light(np.full((150, 150, 1), amount, np.float32))
        amount = light.light_of(even)[0, 0, 0]
        found = light.light_of(sensor.shot_noise(even, 0.08, grain, np.random.default_rng(1)))
        assert found.mean() == pytest.approx(amount, rel=0.02)
        assert found.var() == pytest.approx(0.08**2 * amount, rel=0.15)


def test_faulty_pixels_are_as_many_as_said_half_of_either_kind() -> None:
    found = sensor.faulty_pixels(EVEN, 0.04, 2, np.random.default_rng(2))
    assert (found == 0).all(axis=2).mean() == pytest.approx(0.02, rel=0.25)
    assert (found == 255).all(axis=2).mean() == pytest.approx(0.02, rel=0.25)
    assert (found[::2, ::2] == found[1::2, 1::2]).all()
    assert sensor.faulty_pixels(EVEN, 1, 1, np.random.default_rng(3)).mean() == pytest.approx(127.5, abs=4)
