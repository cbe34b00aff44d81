"""What can be measured in a decoded picture whatever a model makes of it: how light, sharp, noisy, colourful it is, and its file."""

from __future__ import annotations

import math
from functools import lru_cache
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray
from PIL import Image

from mivrat.core.pictures.decode import PictureFile, in_channels, picture_faults, whole_picture

Values = NDArray[np.float32]


class Property(NamedTuple):
    """One property: its name, its unit (empty: none), what it is, and how many decimals are shown."""

    name: str
    unit: str
    definition: str
    decimals: int


PROPERTIES = (
    Property("width", "px", "Width of the photo as displayed, after the rotation that its file asks for.", 0),
    Property("height", "px", "Height of the photo as displayed, after the rotation that its file asks for.", 0),
    Property("aspect ratio", "", "Width divided by height.", 2),
    Property(
        "luminance",
        "",
        "Mean luminance in linear light, from 0 (black) to 1 (white): 0.2126 R + 0.7152 G + 0.0722 B of the values freed of the "
        "sRGB curve (IEC 61966-2-1). Of large photos, from pixels on an even grid, at most 96 a side.",
        3,
    ),
    Property("contrast", "", "Standard deviation of the luminance, of the same pixels.", 3),
    Property(
        "colourfulness",
        "",
        "Spread and mean of the colour differences red - green and (red + green) / 2 - blue (Hasler and Süsstrunk 2003), in steps of "
        "8-bit values: 0 without colour, above 80 very colourful. Of the same pixels.",
        1,
    ),
    Property(
        "sharpness",
        "",
        "Natural logarithm of the variance of the Laplacian of the grey values (Pech-Pacheco 2000), the long side resampled to 256 px "
        "by area downwards, bilinearly upwards: lower is less sharp, or has less in it.",
        2,
    ),
    Property(
        "noise",
        "steps",
        "Standard deviation of the noise, in steps of 8-bit grey values (Immerkær 1996), of the middle 256 × 256 px at full "
        "resolution. Fine texture counts as noise.",
        2,
    ),
    Property("black share", "", "Share of the pixels with all channels 0, of the same pixels as the luminance.", 3),
    Property("white share", "", "Share of the pixels with all channels 255, of the same pixels as the luminance.", 3),
    Property(
        "JPEG quality",
        "",
        "Quality from 1 to 100 whose usual quantisation table (ITU-T T.81, annex K, scaled as JPEG programs do) comes nearest to the "
        "file's; none for other formats.",
        0,
    ),
    Property("bytes per pixel", "", "Size of the file divided by width × height.", 3),
)
NAMES = tuple(one.name for one in PROPERTIES)
BY_NAME = {one.name: one for one in PROPERTIES}

# Pixels are sampled on a grid of at most so many a side.
_SAMPLED = 96
_LONG_SIDE = 256
# The variance of a picture without any edge, so that it has a logarithm.
_FLAT = 1e-4
# The luminance's weights, and the curve of sRGB undone, by 8-bit value (IEC 61966-2-1).
_WEIGHTS = np.array([0.2126, 0.7152, 0.0722])
_VALUES = np.arange(256) / 255.0
LINEAR = np.where(_VALUES <= 0.04045, _VALUES / 12.92, ((_VALUES + 0.055) / 1.055) ** 2.4)
# The colour differences of Hasler and Süsstrunk, from R, G, B.
_DIFFERENCES = np.array([[1.0, -1.0, 0.0], [0.5, 0.5, -1.0]])
# The quantisation table for luminance at quality 50 (ITU-T T.81, table K.1).
_TABLE = (
    "16 11 10 16 24 40 51 61 12 12 14 19 26 58 60 55 14 13 16 24 40 57 69 56 14 17 22 29 51 87 80 62 "
    "18 22 37 56 68 109 103 77 24 35 55 64 81 104 113 92 49 64 78 87 103 121 120 101 72 92 95 98 112 100 103 99"
)


def measured(file: PictureFile, picture: Image.Image) -> Values:
    """The properties of a file's photo, in the order of ``PROPERTIES``; NaN where there is none. ``picture`` is what ``whole_picture``
    gave of the file. Raises UnreadablePicture where there is too little memory."""
    with picture_faults("cannot be measured"):
        return np.array(_values(file, picture), np.float32)


def _values(file: PictureFile, picture: Image.Image) -> list[float]:
    width, height = picture.size
    if picture.getexif().get(274) in (5, 6, 7, 8):  # not turned yet: the recipe does without
        width, height = height, width
    colour = in_channels(picture, "RGB")
    light, contrast, colourfulness, black, white = _light_and_colour(colour)
    return [
        width,
        height,
        width / height,
        light,
        contrast,
        colourfulness,
        _sharpness(colour),
        _noise(colour),
        black,
        white,
        _quality_of(picture),
        len(file.data) / (width * height),
    ]


def measure_file(file: PictureFile) -> Values:
    """The same of a file that nothing else is decoded for. Raises UnreadablePicture."""
    return measured(file, whole_picture(file))


def _light_and_colour(colour: Image.Image) -> tuple[float, float, float, float, float]:
    """Mean and standard deviation of the luminance, colourfulness, and the shares of black and white pixels."""
    longest = max(colour.size)
    if longest > _SAMPLED:
        size = [max(1, round(side * _SAMPLED / longest)) for side in colour.size]
        colour = colour.resize((size[0], size[1]), Image.Resampling.NEAREST)
    pixels = np.ascontiguousarray(np.asarray(colour).reshape(-1, 3).T)
    number = pixels.shape[1]
    luminance = _WEIGHTS @ LINEAR[pixels]
    light = float(luminance.sum()) / number
    luminance -= light
    values = pixels.astype(np.float64)
    whole = values.sum(axis=0)
    means = values.sum(axis=1, keepdims=True) / number
    values -= means
    variance = ((_DIFFERENCES @ (values @ values.T)) * _DIFFERENCES).sum(axis=1) / number
    shift = (_DIFFERENCES @ means)[:, 0]
    return (
        light,
        math.sqrt(float(luminance @ luminance) / number),
        math.sqrt(max(0.0, float(variance.sum()))) + 0.3 * math.hypot(*shift.tolist()),
        np.count_nonzero(whole == 0) / number,
        np.count_nonzero(whole == 765) / number,
    )


def _sharpness(colour: Image.Image) -> float:
    """Natural logarithm of the variance of the Laplacian; NaN for a photo too narrow to have one."""
    factor = max(colour.size) // _LONG_SIDE
    grey = (colour.reduce(factor) if factor > 1 else colour).convert("L")
    scale = _LONG_SIDE / max(grey.size)
    size = max(1, round(grey.width * scale)), max(1, round(grey.height * scale))
    if grey.size != size:
        grey = grey.resize(size, Image.Resampling.BOX if scale < 1 else Image.Resampling.BILINEAR)
    v = np.asarray(grey).astype(np.int16)
    if min(v.shape) < 3:
        return math.nan
    edges = v[:-2, 1:-1] + v[2:, 1:-1] + v[1:-1, :-2] + v[1:-1, 2:]
    edges -= 4 * v[1:-1, 1:-1]
    flat = edges.astype(np.float32).ravel()
    flat -= float(flat.sum()) / flat.size
    return math.log(max(_FLAT, float(flat @ flat) / flat.size))


def _noise(colour: Image.Image) -> float:
    """Immerkær's estimate; NaN for a photo of fewer than 3 x 3 pixels."""
    width, height = colour.size
    wide, high = min(width, _LONG_SIDE), min(height, _LONG_SIDE)
    if min(wide, high) < 3:
        return math.nan
    left, top = (width - wide) // 2, (height - high) // 2
    v = np.asarray(colour.crop((left, top, left + wide, top + high)).convert("L")).astype(np.int16)
    down = v[:-2] - 2 * v[1:-1] + v[2:]
    both = down[:, :-2] - 2 * down[:, 1:-1] + down[:, 2:]
    return math.sqrt(math.pi / 2) * float(np.abs(both).sum(dtype=np.int64)) / (6 * (wide - 2) * (high - 2))


def _quality_of(picture: Image.Image) -> float:
    tables = getattr(picture, "quantization", None)
    if not tables or len(tables[min(tables)]) != 64:
        return math.nan
    return float(_nearest_quality(tuple(sorted(tables[min(tables)]))))


@lru_cache(maxsize=64)
def _nearest_quality(table: tuple[int, ...]) -> int:
    """The quality whose table holds the nearest numbers; their order differs between readers, so it does not count."""
    base, found = np.array(sorted(map(int, _TABLE.split()))), np.array(table)
    far = []
    for quality in range(1, 101):
        scale = 5000 // quality if quality < 50 else 200 - 2 * quality
        far.append(int(np.abs(np.clip((base * scale + 50) // 100, 1, 255) - found).sum()))
    return 1 + int(np.argmin(far))
