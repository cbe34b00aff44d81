"""A worse sensor: noise, shot noise, dead and hot pixels. Pixels are 8-bit (height x width x channels)."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from mivrat.core.pictures.distorting.light import Pixels, Values, light_of, pixels_of_light


def noise(pixels: Pixels, sigma: float, grain: float, rng: np.random.Generator) -> Pixels:
    """Values with normal noise of this standard deviation (of 0 to 1), each channel by itself, of grains ``grain`` pixels wide."""
    drawn = rng.standard_normal((*_grains(pixels, grain), pixels.shape[2]), np.float32)
    drawn *= np.float32(255 * sigma)
    return np.clip(np.round(pixels + _laid(drawn, pixels)), 0, 255).astype(np.uint8)


def shot_noise(pixels: Pixels, sigma: float, grain: float, rng: np.random.Generator) -> Pixels:
    """Light counted in photons (Poisson): white is of 1/sigma² photons in a grain, so that its light varies by ``sigma`` of it, and darker
    parts by more of theirs."""
    light, white = light_of(pixels), 1 / sigma**2
    if grain <= 1:
        return pixels_of_light((rng.poisson(light.astype(np.float64) * white) / white).astype(np.float32))
    drawn = rng.standard_normal((*_grains(pixels, grain), pixels.shape[2]), np.float32)
    spread = np.sqrt(light) * np.float32(sigma)
    return pixels_of_light(light + spread * _laid(drawn, pixels))


def faulty_pixels(pixels: Pixels, share: float, grain: float, rng: np.random.Generator) -> Pixels:
    """So many grains, as a share, at fault: half of them black, half white."""
    luck = _laid(rng.random(_grains(pixels, grain), np.float32)[..., None], pixels)
    found = pixels.copy()
    found[(luck < share / 2)[..., 0]] = 0
    found[(luck > 1 - share / 2)[..., 0]] = 255
    return found


def _grains(pixels: Pixels, grain: float) -> tuple[int, int]:
    """How many grains there are down and across; none is smaller than a pixel."""
    wide = max(1.0, grain)
    return max(1, round(pixels.shape[0] / wide)), max(1, round(pixels.shape[1] / wide))


def _laid(grains: Values, over: Pixels) -> Values:
    """Each grain over the pixels it covers."""
    height, width = over.shape[:2]
    if grains.shape[:2] == (height, width):
        return grains
    at: list[NDArray[np.int64]] = [
        np.arange(side) * many // side for side, many in zip((height, width), grains.shape[:2], strict=True)
    ]
    return grains[at[0][:, None], at[1][None, :]]
