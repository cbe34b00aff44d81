"""Other light: exposure, contrast, gamma, the colour of daylight, saturation, light that falls off to one side.

All take and give values from 0 to 1 (height x width x channels, float32) as a picture file has them (sRGB, IEC 61966-2-1); light is
added and multiplied where it is linear. Results may leave the range; whoever asked clips them.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

Values = NDArray[np.float32]
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


def brightness(values: Values, stops: float) -> Values:
    """So many stops more light (fewer where negative): each doubles it."""
    return encoded(linear(values) * np.float32(2.0**stops))


def contrast(values: Values, change: float) -> Values:
    """Values so much farther from their mean, as a share: -0.5 halves the distance."""
    mean = values.mean(dtype=np.float64)
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


def uneven(values: Values, stops: float, degrees: float) -> Values:
    """Light that falls off evenly by so many stops from one side to the other; ``degrees`` is where it falls to: 0 right, 90 down."""
    height, width = values.shape[:2]
    down, across = np.sin(np.radians(degrees)), np.cos(np.radians(degrees))
    place = np.linspace(-0.5, 0.5, height)[:, None] * down + np.linspace(-0.5, 0.5, width)[None, :] * across
    whole = np.ptp(place)
    share = (place - place.min()) / whole if whole > 0 else np.zeros_like(place)
    return encoded(linear(values) * np.exp2(-stops * share).astype(np.float32)[..., None])
