"""What preparing does to one picture, to be looked at: the photo, what the network receives of it, and its values."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

import numpy as np
from PIL import Image

from mivrat.core.base.errors import InputError
from mivrat.core.pictures.decode import Pixels, UnreadablePicture, read_picture
from mivrat.core.pictures.prepare import Geometry, fitted_pixels, to_tensor
from mivrat.core.pictures.recipe import Recipe

_NAMES = {"RGB": ("red", "green", "blue"), "BGR": ("blue", "green", "red"), "L": ("grey",)}


@dataclass(frozen=True)
class ChannelValues:
    """One channel as the network receives it: the picture's values, and what 0 and 255 would become."""

    name: str
    lowest: float
    highest: float
    mean: float
    deviation: float
    bounds: tuple[float, float]


@dataclass(frozen=True)
class Preview:
    """A picture as photographed (RGB or grey, at most so many pixels a side) and as the network receives it (the same
    colours, before value scaling); ``place`` is in the pixels of the whole picture."""

    photo: Pixels
    received: Pixels
    place: Geometry
    channels: list[ChannelValues]

    @property
    def lost(self) -> float:
        """The share of the picture that the network does not see."""
        top, left, bottom, right = self.place.seen()
        height, width = self.place.picture
        return 1 - (bottom - top) * (right - left) / (height * width)


def preview(path: Path, recipe: Recipe, side: int) -> Preview:
    """Decode and prepare one picture file. Raises InputError where it cannot be read."""
    try:
        pixels = read_picture(path, recipe.picture.mode, recipe.picture.exif_rotate, recipe.picture.window)
    except UnreadablePicture as error:
        raise InputError(str(error), where=path.name) from error
    return preview_of(pixels, recipe, side)


def preview_of(pixels: Pixels, recipe: Recipe, side: int) -> Preview:
    """The same of a decoded picture, its channels in the recipe's order."""
    received, place = fitted_pixels(pixels, recipe)
    channels = _channel_values(received, recipe)
    if recipe.picture.mode == "BGR":
        pixels, received = pixels[..., ::-1], received[..., ::-1]
    if max(pixels.shape[:2]) > side:
        photo = Image.fromarray(np.ascontiguousarray(pixels[..., 0] if pixels.shape[2] == 1 else pixels))
        photo.thumbnail((side, side), Image.Resampling.LANCZOS)
        pixels = np.asarray(photo) if pixels.shape[2] == 3 else np.asarray(photo)[..., None]
    return Preview(pixels, received, place, channels)


def _channel_values(received: Pixels, recipe: Recipe) -> list[ChannelValues]:
    tensor = to_tensor(received, recipe).astype(np.float64)
    planes = tensor if recipe.tensor.order == "NCHW" else tensor.transpose(2, 0, 1)
    return [
        ChannelValues(name, float(plane.min()), float(plane.max()), float(plane.mean()), float(plane.std()), bounds)
        for name, plane, bounds in zip(_NAMES[recipe.picture.mode], planes, recipe.value_ranges(), strict=True)
    ]
