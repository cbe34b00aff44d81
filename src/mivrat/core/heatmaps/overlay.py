"""Draws a heatmap over a picture, in the place the recipe's geometry puts it."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np
from numpy.typing import NDArray

from mivrat.core.base.lazy_module import LazyModule
from mivrat.core.pictures.decode import Pixels
from mivrat.core.pictures.prepare import Geometry

if TYPE_CHECKING:
    from scipy import ndimage
else:
    ndimage = LazyModule("scipy.ndimage")

# Our own heat scale: lightness (CIE L*) climbs evenly from 12 to 95 while the hue goes from violet over red to straw.
_ANCHORS = np.array(
    [
        [0x24, 0x1A, 0x33],
        [0x5B, 0x24, 0x4F],
        [0x96, 0x33, 0x4E],
        [0xC8, 0x55, 0x3D],
        [0xE5, 0x8B, 0x2E],
        [0xF3, 0xC2, 0x55],
        [0xFB, 0xF1, 0xC4],
    ],
    float,
)


def normalised(values: NDArray[np.floating], peak: float | None = None) -> NDArray[np.float64]:
    """A map divided by its largest absolute value, or by a common ``peak``; an all-zero map stays zero.

    ``values`` is h × w; returns h × w from -1 to 1 (with a ``peak`` of all maps shown).
    """
    highest = float(np.abs(values).max(initial=0.0)) if peak is None else peak
    return np.asarray(values / highest if highest > 0 else np.zeros(values.shape), np.float64)


def on_picture(heat: NDArray[np.floating], place: Geometry) -> tuple[NDArray[np.float64], NDArray[np.bool_]]:
    """Resample a map (h x w) bilinearly to the picture (height x width), where its crop lay.

    Also returns which picture pixels the network saw. Cell centres are laid evenly over the network's input.
    """
    rows, columns = heat.shape
    along = []
    seen = []
    for size, resized, offset, output, cells in zip(
        place.picture, place.resized, place.offset, place.output, (rows, columns), strict=True
    ):
        on_input = (np.arange(size) + 0.5) * resized / size + offset
        seen.append((on_input >= 0) & (on_input <= output))
        along.append(np.clip(on_input * cells / output - 0.5, 0, cells - 1))
    y0, x0 = np.floor(along[0]).astype(int), np.floor(along[1]).astype(int)
    y1, x1 = np.minimum(y0 + 1, rows - 1), np.minimum(x0 + 1, columns - 1)
    fy, fx = (along[0] - y0)[:, None], (along[1] - x0)[None, :]
    field = heat.astype(np.float64)
    top = field[y0][:, x0] * (1 - fx) + field[y0][:, x1] * fx
    bottom = field[y1][:, x0] * (1 - fx) + field[y1][:, x1] * fx
    mask = seen[0][:, None] & seen[1][None, :]
    return np.where(mask, top * (1 - fy) + bottom * fy, 0.0), mask


def heat_colours(values: NDArray[np.floating], scale: str = "heat") -> NDArray[np.float64]:
    """Colours (… x 3, 0..255) of values in [0, 1] (``heat``, ``grey``) or [-1, 1] (``difference``: plum - paper - verdigris)."""
    if scale == "difference":
        v = np.clip(values, -1, 1)[..., None]
        plum, paper, verdigris = (
            np.array([0x6B, 0x4C, 0x7A]),
            np.array([0xF7, 0xF4, 0xEE]),
            np.array([0x1F, 0x7A, 0x72]),
        )
        return np.asarray(np.where(v < 0, paper + (plum - paper) * -v, paper + (verdigris - paper) * v))
    v = np.clip(values, 0, 1)
    if scale == "grey":
        return np.repeat(v[..., None] * 255.0, 3, axis=-1)
    at = v * (len(_ANCHORS) - 1)
    return np.stack([np.interp(at, np.arange(len(_ANCHORS)), _ANCHORS[:, c]) for c in range(3)], axis=-1)


def overlay(
    picture: Pixels,
    heat: NDArray[np.floating],
    place: Geometry,
    *,
    opacity: float = 0.7,
    scale: str = "heat",
    peak: float | None = None,
) -> Pixels:
    """The heatmap over the picture (height x width x 3, RGB), coldest clearest; what the network never saw is hatched grey."""
    field, seen = on_picture(normalised(heat, peak), place)
    base = np.repeat(picture, 3, axis=2).astype(np.float64) if picture.shape[2] == 1 else picture.astype(np.float64)
    strength = (0.25 + 0.75 * np.abs(field)) * opacity
    mixed = base * (1 - strength[..., None]) + heat_colours(field, scale) * strength[..., None]
    if not seen.all():
        ys, xs = np.indices(seen.shape)
        grey = base.mean(axis=2, keepdims=True) * 0.35 + np.where((ys + xs) % 8 < 2, 150.0, 120.0)[..., None] * 0.65
        mixed = np.where(seen[..., None], mixed, grey)
    return np.asarray(np.clip(np.round(mixed), 0, 255).astype(np.uint8))


def edge_drawing(picture: Pixels) -> Pixels:
    """A picture's edges as dark lines on light ground (height x width x 3): the length of its lightness gradient (Sobel)."""
    grey = picture.astype(np.float64).mean(axis=2)
    soft = ndimage.gaussian_filter(grey, 1.0)
    length = np.hypot(ndimage.sobel(soft, 0), ndimage.sobel(soft, 1))
    high = float(np.percentile(length, 99)) or 1.0
    drawn = np.round(250 - 200 * np.clip(length / high, 0, 1) ** 0.7).astype(np.uint8)
    return np.repeat(drawn[..., None], 3, axis=2)


def place_on_map(place: Geometry, shape: tuple[int, int], down: float, across: float) -> tuple[int, int] | None:
    """The cell of a map that lies under a point of the picture (its pixels, from the top left); None where the network sees
    nothing of it."""
    found = []
    for at, size, resized, offset, output, cells in zip(
        (down, across), place.picture, place.resized, place.offset, place.output, shape, strict=True
    ):
        on_input = at * resized / size + offset
        if not 0 <= on_input < output:
            return None
        found.append(int(on_input * cells / output))
    return found[0], found[1]
