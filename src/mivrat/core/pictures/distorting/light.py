"""Other light: exposure, contrast, gamma, the colour of daylight, saturation, light that falls off to one side.

Values are from 0 to 1, as a picture file has them (sRGB, IEC 61966-2-1); light is added and multiplied where it is linear. What changes
each value by itself is given as a function of values, which is worked out for the 256 there are. Pixels are 8-bit (height x width x
channels).
"""

from __future__ import annotations

from collections.abc import Callable
from functools import cache

import numpy as np
from numpy.typing import NDArray

Values = NDArray[np.float32]
Pixels = NDArray[np.uint8]
# Light is told apart in so many steps where it is written as 8-bit values: even near black a value is 20 of them.
_FINE = 65535
# Of red, green and blue, the part in luminance (ITU-R BT.709).
LUMINANCE = np.array([0.2126, 0.7152, 0.0722], np.float32)
# From CIE XYZ to linear sRGB (IEC 61966-2-1).
_FROM_XYZ = np.array([[3.2406, -1.5372, -0.4986], [-0.9689, 1.8758, 0.0415], [0.0557, -0.2040, 1.0570]])
# The white of sRGB, as daylight: 1,000,000 / 6504 K.
_WHITE = 1e6 / 6504


def linear(values: Values) -> Values:
    """Values as amounts of light, 0 to 1 (IEC 61966-2-1)."""
    found: Values = np.where(values <= 0.04045, values / 12.92, ((np.maximum(values, 0.0) + 0.055) / 1.055) ** 2.4)
    return found.astype(np.float32, copy=False)


def encoded(light: Values) -> Values:
    """Amounts of light as values, 0 to 1 (IEC 61966-2-1)."""
    kept = np.clip(light, 0.0, 1.0)
    found: Values = np.where(kept <= 0.0031308, kept * 12.92, 1.055 * kept ** (1 / 2.4) - 0.055)
    return found.astype(np.float32, copy=False)


@cache
def _tables() -> tuple[Values, Pixels]:
    """The light of each 8-bit value, and the 8-bit value of each amount of light in fine steps."""
    steps = np.arange(_FINE + 1, dtype=np.float32) / np.float32(_FINE)
    return linear(np.arange(256, dtype=np.float32) / np.float32(255)), eight_bit(encoded(steps))


def light_of(pixels: Pixels) -> Values:
    """The amounts of light of 8-bit pixels, 0 to 1."""
    return _tables()[0][pixels]


def pixels_of_light(light: Values) -> Pixels:
    """Amounts of light as 8-bit pixels."""
    return _tables()[1][(np.clip(light, 0, 1) * np.float32(_FINE) + np.float32(0.5)).astype(np.uint16)]


def eight_bit(values: Values) -> Pixels:
    """Values from 0 to 1 as 8-bit ones; what lies outside is cut off."""
    return np.round(np.clip(values, 0, 1) * 255).astype(np.uint8)


def by_value(pixels: Pixels, change: Callable[[Values], Values]) -> Pixels:
    """Pixels in which each value is changed by itself; ``change`` takes 256 x 1 x channels values, and gives as many."""
    values = (np.arange(256, dtype=np.float32) / np.float32(255))[:, None, None].repeat(pixels.shape[2], axis=2)
    table = eight_bit(change(values))[:, 0]
    if (table == table[:, :1]).all():
        return np.ascontiguousarray(table[:, 0])[pixels]
    return np.stack([np.ascontiguousarray(table[:, k])[pixels[..., k]] for k in range(pixels.shape[2])], axis=2)


def brightness(values: Values, stops: float) -> Values:
    """So many stops more light (fewer where negative): each doubles it."""
    return encoded(linear(values) * np.float32(2.0**stops))


def contrast(values: Values, change: float, mean: float) -> Values:
    """Values so much farther from the picture's ``mean``, as a share: -0.5 halves the distance."""
    return np.asarray(mean + (values - mean) * (1 + change), np.float32)


def gamma(values: Values, doublings: float) -> Values:
    """Values to the power of 2^doublings: above 0 the middle tones get darker, black and white stay."""
    return np.asarray(values ** np.float32(2.0**doublings), np.float32)


def daylight(mired: float) -> NDArray[np.float64]:
    """Linear sRGB of daylight of so many mired (1,000,000 / kelvin), of luminance 1 (CIE 15:2004, the D illuminants)."""
    kelvin = 1e6 / mired
    below = (-4.6070e9, 2.9678e6, 99.11, 0.244063)
    above = (-2.0064e9, 1.9018e6, 247.48, 0.237040)
    a, b, c, d = below if kelvin <= 7000 else above
    x = a / kelvin**3 + b / kelvin**2 + c / kelvin + d
    y = -3.0 * x * x + 2.870 * x - 0.275
    found: NDArray[np.float64] = _FROM_XYZ @ np.array([x / y, 1.0, (1 - x - y) / y])
    return found


def colour_cast(values: Values, mired: float) -> Values:
    """Light of another daylight, so many mired warmer than the picture's white (cooler where negative), of the same luminance of white;
    a grey picture stays as it is."""
    if values.shape[2] == 1:
        return values
    gains = daylight(_WHITE + mired) / daylight(_WHITE)
    return encoded(linear(values) * gains.astype(np.float32))


def saturation(values: Values, change: float) -> Values:
    """Colours so much farther from the grey of their own luma, as a share: -1 leaves grey; a grey picture stays as it is."""
    if values.shape[2] == 1:
        return values
    grey = (values @ LUMINANCE)[..., None]
    return np.asarray(grey + (values - grey) * np.float32(1 + change), np.float32)


def uneven(pixels: Pixels, stops: float, degrees: float) -> Pixels:
    """Light that falls off evenly by so many stops from one side to the other; ``degrees`` is where it falls to: 0 right, 90 down."""
    height, width = pixels.shape[:2]
    down, across = np.sin(np.radians(degrees)), np.cos(np.radians(degrees))
    place = np.linspace(-0.5, 0.5, height)[:, None] * down + np.linspace(-0.5, 0.5, width)[None, :] * across
    whole = np.ptp(place)
    share = (place - place.min()) / whole if whole > 0 else np.zeros_like(place)
    return pixels_of_light(light_of(pixels) * np.exp2(-stops * share).astype(np.float32)[..., None])
