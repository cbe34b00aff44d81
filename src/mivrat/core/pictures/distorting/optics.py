"""Other optics: out of focus, moved while exposed, fewer pixels, stronger compression.

Lengths are in pixels of the photo; pixels are 8-bit (height x width x channels), as a picture file has them (sRGB).
"""

from __future__ import annotations

import io
from math import ceil
from typing import TYPE_CHECKING

import numpy as np
from numpy.typing import NDArray
from PIL import Image

from mivrat.core.base.lazy_module import LazyModule
from mivrat.core.pictures.distorting.light import Pixels, light_of, pixels_of_light

if TYPE_CHECKING:
    from scipy import fft
else:
    fft = LazyModule("scipy.fft")

# A pixel's share of a kernel is told by so many points across.
_POINTS = 8
# So many pixels are padded at most on each side.
_MOST_PADDED = 4_000


def defocus(pixels: Pixels, sigma: float) -> Pixels:
    """Out of focus: a point becomes an even disc (of a round aperture) whose standard deviation along each axis is ``sigma``; its radius is
    twice that. Light is spread, not values."""
    return _spread(pixels, disc(2 * sigma))


def motion(pixels: Pixels, length: float, degrees: float) -> Pixels:
    """Moved evenly while exposed: a point becomes a line of this ``length`` in the direction ``degrees`` (0 across, 90 down)."""
    return _spread(pixels, line(length, degrees))


def disc(radius: float) -> NDArray[np.float64]:
    """The part of an even disc's light that falls on each pixel, of an odd square of pixels."""
    side = ceil(radius - 0.5)
    at = (np.arange(-side * _POINTS - _POINTS // 2, side * _POINTS + _POINTS // 2) + 0.5) / _POINTS
    inside = (at[:, None] ** 2 + at[None, :] ** 2 <= radius**2).astype(float)
    found = inside.reshape(2 * side + 1, _POINTS, 2 * side + 1, _POINTS).sum(axis=(1, 3))
    return found / found.sum() if found.sum() else np.ones((1, 1))


def line(length: float, degrees: float) -> NDArray[np.float64]:
    """The part of an even line's light that falls on each pixel, of an odd square of pixels; points between pixels are shared out."""
    side = ceil(length / 2)
    number = max(2, ceil(length * _POINTS))
    along = ((np.arange(number) + 0.5) / number - 0.5) * length
    y, x = side + along * np.sin(np.radians(degrees)), side + along * np.cos(np.radians(degrees))
    found = np.zeros((2 * side + 2, 2 * side + 2))
    y0, x0 = np.floor(y).astype(int), np.floor(x).astype(int)
    for dy in (0, 1):
        for dx in (0, 1):
            weight = np.abs(1 - dy - (y - y0)) * np.abs(1 - dx - (x - x0))
            np.add.at(found, (y0 + dy, x0 + dx), weight)
    found = found[: 2 * side + 1, : 2 * side + 1]
    return found / found.sum()


def _spread(pixels: Pixels, kernel: NDArray[np.float64]) -> Pixels:
    """Light spread by a kernel of odd sides, the picture mirrored at its edges."""
    if kernel.size == 1:
        return pixels
    reach = min(len(kernel) // 2, _MOST_PADDED)
    light = light_of(np.pad(pixels, ((reach, reach), (reach, reach), (0, 0)), "symmetric"))
    height, width = light.shape[:2]
    size = fft.next_fast_len(height + 2 * reach, True), fft.next_fast_len(width + 2 * reach, True)
    turned = fft.rfft2(kernel.astype(np.float32), size)
    found = np.empty(pixels.shape, np.float32)
    down, across = (slice(2 * reach, 2 * reach + side) for side in pixels.shape[:2])
    for channel in range(pixels.shape[2]):
        found[..., channel] = fft.irfft2(fft.rfft2(light[..., channel], size) * turned, size)[down, across]
    return pixels_of_light(found)


def fewer_pixels(pixels: Pixels, pitch: float) -> Pixels:
    """As if one pixel had stood where ``pitch`` stand side by side: averaged, and enlarged again smoothly (bicubic)."""
    height, width = pixels.shape[:2]
    small = max(1, round(width / pitch)), max(1, round(height / pitch))
    if small == (width, height):
        return pixels
    grey = pixels.shape[2] == 1
    picture = Image.fromarray(pixels[..., 0] if grey else pixels)
    made = np.asarray(picture.resize(small, Image.Resampling.BOX).resize((width, height), Image.Resampling.BICUBIC))
    return made[..., None] if grey else made


def compressed(pixels: NDArray[np.uint8], quality: int) -> NDArray[np.uint8]:
    """Written as JPEG of this quality (1 to 100), colours at half the resolution, and read again. ``pixels`` are 8-bit."""
    grey, data = pixels.shape[2] == 1, io.BytesIO()
    Image.fromarray(pixels[..., 0] if grey else pixels).save(
        data, "JPEG", quality=quality, subsampling=-1 if grey else 2
    )
    found = np.asarray(Image.open(io.BytesIO(data.getvalue())))
    return found[..., None] if grey else found
