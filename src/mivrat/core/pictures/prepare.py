"""Turns pixels into what the network receives, exactly as the recipe says, and maps places back."""

from __future__ import annotations

from dataclasses import dataclass
from functools import lru_cache
from math import floor
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray
from PIL import Image

from mivrat.core.pictures.decode import (
    MOST_PIXELS,
    PictureFile,
    Pixels,
    UnreadablePicture,
    in_channels,
    picture_faults,
    pixels_of,
    read_file,
    whole_picture,
)
from mivrat.core.pictures.recipe import Recipe, Resize

_PILLOW = {
    "nearest": Image.Resampling.NEAREST,
    "bilinear": Image.Resampling.BILINEAR,
    "bicubic": Image.Resampling.BICUBIC,
    "box": Image.Resampling.BOX,
    "lanczos": Image.Resampling.LANCZOS,
}
# What the network receives may have so many pixels; after resizing, before a crop, there may be as many as in a picture.
MOST_RECEIVED = 32_000_000
# Without antialiasing so many numbers are worked on at a time.
_AT_ONCE = 1 << 23
_SUPPORT = {"bilinear": 1.0, "bicubic": 2.0, "box": 0.5, "lanczos": 3.0}


@dataclass(frozen=True)
class Geometry:
    """Where a picture ends up: resized to ``resized`` (height, width), then placed at ``offset`` (top, left) on a
    canvas of ``output`` (height, width). A negative offset means that part was cropped away."""

    picture: tuple[int, int]
    resized: tuple[int, int]
    offset: tuple[int, int]
    output: tuple[int, int]

    def seen(self) -> tuple[float, float, float, float]:
        """The part of the picture the network sees: top, left, bottom, right, in picture pixels."""
        sides = []
        for axis in (0, 1):
            ratio = self.picture[axis] / self.resized[axis]
            first = max(0, -self.offset[axis])
            last = max(first, min(self.resized[axis], self.output[axis] - self.offset[axis]))
            sides.append((first * ratio, last * ratio))
        (top, bottom), (left, right) = sides
        return top, left, bottom, right


def geometry(height: int, width: int, recipe: Recipe) -> Geometry:
    """The geometry of a height x width picture under the recipe.

    ``shorter-side`` gives the longer side by rounding down; a centre crop starts at round((size - crop) / 2), half to even.
    """
    rule = recipe.resize.rule
    resized, offset = (height, width), (0, 0)
    canvas: tuple[int, int]
    if rule == "shorter-side":
        side = recipe.resize.height_width()[0]
        short = min(height, width)
        resized = (max(1, side * height // short), max(1, side * width // short))
    elif rule == "stretch":
        resized = recipe.resize.height_width()
    canvas = resized
    if rule == "fit-pad":
        canvas = recipe.resize.height_width()
        ratio = min(canvas[0] / height, canvas[1] / width)
        resized = (min(canvas[0], max(1, round(height * ratio))), min(canvas[1], max(1, round(width * ratio))))
        offset = ((canvas[0] - resized[0]) // 2, (canvas[1] - resized[1]) // 2)
    if recipe.crop is not None:
        crop = recipe.crop.size
        offset = (offset[0] - round((canvas[0] - crop[0]) / 2), offset[1] - round((canvas[1] - crop[1]) / 2))
        canvas = crop
    return Geometry((height, width), resized, offset, canvas)


def fitted_pixels(picture: Pixels | Image.Image, recipe: Recipe) -> tuple[Pixels, Geometry]:
    """Resize, pad and crop: 8-bit pixels (height x width x channels) as the network's size, before value scaling. What
    ``decoded`` gave goes as well, and saves copies of the whole picture.

    Raises UnreadablePicture, with the reason, where that would be too large or cannot be done: it is this picture's fault.
    """
    whole = picture.size[::-1] if isinstance(picture, Image.Image) else picture.shape[:2]
    place = geometry(whole[0], whole[1], recipe)
    for (height, width), most, what in (
        (place.resized, MOST_PIXELS, "resized"),
        (place.output, MOST_RECEIVED, "prepared"),
    ):
        if height * width > most:
            raise UnreadablePicture(
                f"too large once {what}: {width} × {height} px, {most // 1_000_000} million pixels are the most"
            )
    with picture_faults("cannot be prepared"):
        return _fitted(picture, place, recipe)


def _fitted(picture: Pixels | Image.Image, place: Geometry, recipe: Recipe) -> tuple[Pixels, Geometry]:
    if isinstance(picture, Image.Image):
        filtered = recipe.resize.antialias or recipe.resize.filter == "nearest"
        if filtered and place.picture != place.resized:
            picture = picture.resize(place.resized[::-1], _PILLOW[recipe.resize.filter])
        picture = pixels_of(picture, recipe.picture.mode)
    resized = _resized(picture, place.resized, recipe.resize)
    if place.resized == place.output and place.offset == (0, 0):
        return resized, place
    pad = np.asarray(
        recipe.resize.pad_value[: resized.shape[2]] if len(recipe.resize.pad_value) > 1 else recipe.resize.pad_value
    )
    canvas = np.empty((*place.output, resized.shape[2]), np.uint8)
    canvas[...] = np.clip(np.round(pad), 0, 255).astype(np.uint8)
    (top, left), (height, width) = place.offset, place.resized
    y0, x0 = max(0, top), max(0, left)
    y1, x1 = min(place.output[0], top + height), min(place.output[1], left + width)
    canvas[y0:y1, x0:x1] = resized[y0 - top : y1 - top, x0 - left : x1 - left]
    return canvas, place


def _resized(pixels: Pixels, size: tuple[int, int], resize: Resize) -> Pixels:
    if pixels.shape[:2] == size:
        return pixels
    if resize.antialias or resize.filter == "nearest":
        picture = Image.fromarray(pixels[..., 0] if pixels.shape[2] == 1 else np.ascontiguousarray(pixels))
        out = np.asarray(picture.resize((size[1], size[0]), _PILLOW[resize.filter]))
        return out[..., None] if out.ndim == 2 else out
    rows = sampling_weights(pixels.shape[0], size[0], resize.filter)
    columns = sampling_weights(pixels.shape[1], size[1], resize.filter)
    made = np.empty((*size, pixels.shape[2]), np.uint8)
    widest = max(pixels.shape[1] * rows[0].shape[1], size[1] * columns[0].shape[1])
    step = max(1, _AT_ONCE // (widest * pixels.shape[2]))
    for start in range(0, size[0], step):
        some = slice(start, start + step)
        first = np.einsum("otc...,ot->oc...", pixels[rows[0][some]].astype(np.float64), rows[1][some], optimize=True)
        both = np.einsum("ropc,op->roc", first[:, columns[0]], columns[1], optimize=True)
        made[some] = np.clip(np.floor(both + 0.5), 0, 255)
    return made


@lru_cache(maxsize=64)
def sampling_weights(size_in: int, size_out: int, kind: str) -> tuple[NDArray[np.int64], NDArray[np.float64]]:
    """Taps and weights (both size_out x taps) that sample a line at pixel centres without widening the filter.

    Bicubic is Keys' kernel with a = -0.5 (Keys 1981), as in the antialiased case; beyond the edge the edge pixel repeats.
    """
    support = _SUPPORT[kind]
    centre = (np.arange(size_out) + 0.5) * size_in / size_out - 0.5
    reach = np.arange(floor(-support), floor(support) + 2)
    taps = np.floor(centre).astype(np.int64)[:, None] + reach[None, :]
    weights = _kernel(kind, taps - centre[:, None])
    weights /= weights.sum(axis=1, keepdims=True)
    return np.clip(taps, 0, size_in - 1), weights


def _kernel(kind: str, x: NDArray[np.float64]) -> NDArray[np.float64]:
    a = np.abs(x)
    if kind == "bilinear":
        return np.asarray(np.clip(1 - a, 0, None))
    if kind == "bicubic":
        near = (1.5 * a - 2.5) * a**2 + 1
        far = ((-0.5 * a + 2.5) * a - 4) * a + 2
        return np.where(a < 1, near, np.where(a < 2, far, 0.0))
    if kind == "box":
        return np.where((x > -0.5) & (x <= 0.5), 1.0, 0.0)
    return np.where(a < 3, np.sinc(x) * np.sinc(x / 3), 0.0)


def to_tensor(pixels: Pixels, recipe: Recipe) -> NDArray[Any]:
    """Scale values and order axes: (v * scale - mean) / std per channel, as C x H x W or H x W x C of the recipe's type."""
    if (
        recipe.tensor.dtype == "uint8"
        and recipe.values.scale == 1.0
        and set(recipe.values.mean) == {0.0}
        and set(recipe.values.std) == {1.0}
    ):
        out: NDArray[Any] = pixels
    else:
        mean = np.asarray(recipe.values.mean, np.float64)
        std = np.asarray(recipe.values.std, np.float64)
        if mean.size == std.size == 1:
            table = ((np.arange(256.0) * recipe.values.scale - mean) / std).astype(np.float32)
            out = table[pixels]
        else:
            factor = (recipe.values.scale / std).astype(np.float32)
            out = pixels * factor - (mean / std).astype(np.float32)
        if recipe.tensor.dtype == "uint8":
            out = np.clip(np.round(out), 0, 255)
    if recipe.tensor.order == "NCHW":
        out = out.transpose(2, 0, 1)
    return np.ascontiguousarray(out, dtype=recipe.tensor.dtype)


def prepare_picture(file: PictureFile, recipe: Recipe) -> NDArray[Any]:
    """Decode a file that was read and prepare it in one go. Raises UnreadablePicture.

    Returns what the network receives, C × H × W, or H × W × C as the recipe has it.
    """
    return prepare_whole(whole_picture(file, recipe.picture.exif_rotate, recipe.picture.window), recipe)


def prepare_whole(picture: Image.Image, recipe: Recipe) -> NDArray[Any]:
    """The same of what ``whole_picture`` gave, turned as the recipe has it. Raises UnreadablePicture."""
    with picture_faults():
        channels = in_channels(picture, recipe.picture.mode)
    return to_tensor(fitted_pixels(channels, recipe)[0], recipe)


def prepare_file(path: Path, recipe: Recipe) -> NDArray[Any]:
    """Read, decode and prepare a file in one go. Raises UnreadablePicture.

    Returns what the network receives, C × H × W, or H × W × C as the recipe has it.
    """
    return prepare_picture(read_file(path), recipe)
