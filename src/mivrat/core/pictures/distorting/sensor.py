"""A worse sensor: noise, shot noise, dead and hot pixels. Values are from 0 to 1 (height x width x channels, float32)."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from mivrat.core.pictures.distorting.light import Values, encoded, linear


def noise(values: Values, sigma: float, grain: float, rng: np.random.Generator) -> Values:
    """Values with normal noise of this standard deviation, each channel by itself, of grains ``grain`` pixels wide."""
    drawn = rng.standard_normal((*_grains(values, grain), values.shape[2]), np.float32)
    return np.asarray(values + np.float32(sigma) * _laid(drawn, values), np.float32)


def shot_noise(values: Values, sigma: float, grain: float, rng: np.random.Generator) -> Values:
    """Light counted in photons (Poisson): white is of 1/sigma² photons in a grain, so that its light varies by ``sigma`` of it, and darker
    parts by more of theirs."""
    light, white = linear(values), 1 / sigma**2
    if grain <= 1:
        return encoded((rng.poisson(light.astype(np.float64) * white) / white).astype(np.float32))
    drawn = rng.standard_normal((*_grains(values, grain), values.shape[2]), np.float32)
    spread = np.sqrt(light) * np.float32(sigma)
    return encoded(light + spread * _laid(drawn, values))


def faulty_pixels(values: Values, share: float, grain: float, rng: np.random.Generator) -> Values:
    """So many grains, as a share, at fault: half of them black, half white."""
    luck = rng.random(_grains(values, grain), np.float32)[..., None]
    found: Values = np.where(_laid(luck, values) < share / 2, 0.0, values).astype(np.float32)
    return np.where(_laid(luck, values) > 1 - share / 2, np.float32(1.0), found)


def _grains(values: Values, grain: float) -> tuple[int, int]:
    """How many grains there are down and across; none is smaller than a pixel."""
    wide = max(1.0, grain)
    return max(1, round(values.shape[0] / wide)), max(1, round(values.shape[1] / wide))


def _laid(grains: Values, over: Values) -> Values:
    """Each grain over the pixels it covers."""
    height, width = over.shape[:2]
    if grains.shape[:2] == (height, width):
        return grains
    at: list[NDArray[np.int64]] = [
        np.arange(side) * many // side for side, many in zip((height, width), grains.shape[:2], strict=True)
    ]
    return grains[at[0][:, None], at[1][None, :]]
