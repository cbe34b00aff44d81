"""Decodes a picture file to 8-bit pixels."""

from __future__ import annotations

import warnings
from pathlib import Path
from typing import Literal

import numpy as np
from numpy.typing import NDArray
from PIL import Image, ImageOps

Pixels = NDArray[np.uint8]
Mode = Literal["RGB", "BGR", "L"]

# A picture that unpacks to more than this is refused: it would take gigabytes to hold.
MOST_PIXELS = 400_000_000
Image.MAX_IMAGE_PIXELS = MOST_PIXELS // 2


class UnreadablePicture(Exception):
    """A file that is no picture, or a broken one; the message is the reason."""


def read_picture(path: Path, mode: Mode = "RGB", exif_rotate: bool = True) -> Pixels:
    """Decode the first frame of a picture file.

    Returns height x width x 3 (``RGB``, ``BGR``) or x 1 (``L``). 16-bit values are scaled to 8 bits, a palette is
    looked up, grey is repeated over the channels, transparency is dropped (the colour beneath it stays).
    Raises UnreadablePicture with the reason.
    """
    try:
        if path.stat().st_size == 0:
            raise UnreadablePicture("the file is empty")
        with warnings.catch_warnings():
            warnings.simplefilter("ignore")
            with Image.open(path) as opened:
                picture: Image.Image = opened
                picture.load()
                if exif_rotate:
                    picture = ImageOps.exif_transpose(picture)
                return _channels(_eight_bit(picture), mode)
    except UnreadablePicture:
        raise
    except Image.DecompressionBombError as error:
        raise UnreadablePicture(f"too large to unpack: more than {MOST_PIXELS // 1_000_000} million pixels") from error
    except FileNotFoundError as error:
        raise UnreadablePicture("the file is gone, or a link that leads nowhere") from error
    except Exception as error:  # a broken file can raise nearly anything inside a decoder
        raise UnreadablePicture(
            f"cannot be decoded ({str(error) or type(error).__name__})".replace(str(path), path.name)
        ) from error


def _eight_bit(picture: Image.Image) -> Image.Image:
    if picture.mode.startswith("I"):
        values = np.asarray(picture).astype(np.float64)
        if values.max(initial=0) > 255 or picture.mode != "I":
            values = values * (255.0 / 65535.0)
        return Image.fromarray(np.clip(np.round(values), 0, 255).astype(np.uint8))
    if picture.mode == "F":
        values = np.nan_to_num(np.asarray(picture).astype(np.float64))
        if values.max(initial=0) <= 1.0:
            values = values * 255.0
        return Image.fromarray(np.clip(np.round(values), 0, 255).astype(np.uint8))
    return picture


def _channels(picture: Image.Image, mode: Mode) -> Pixels:
    if mode == "L":
        return np.asarray(picture.convert("L"))[..., None]
    if picture.mode in ("P", "PA") and "transparency" in picture.info:
        picture = picture.convert("RGBA")
    pixels = np.asarray(picture.convert("RGB"))
    return pixels if mode == "RGB" else pixels[..., ::-1]
