"""Decodes a picture file to 8-bit pixels."""

from __future__ import annotations

import hashlib
import io
import os
import stat
import warnings
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path
from typing import Literal

import numpy as np
from numpy.typing import NDArray
from PIL import Image, ImageOps, UnidentifiedImageError

from mivrat.core.base.errors import arose_in
from mivrat.core.pictures.containers import MemberFault, read_inside

Pixels = NDArray[np.uint8]
Mode = Literal["RGB", "BGR", "L"]

# A picture that unpacks to more than this is refused: it would take gigabytes to hold.
MOST_PIXELS = 120_000_000
MOST_BYTES = 800_000_000
Image.MAX_IMAGE_PIXELS = MOST_PIXELS // 2
# The formats that are read, and no others: some decoders of the imaging library start other programs.
FORMATS = ("JPEG", "PNG", "BMP", "DIB", "TIFF", "WEBP", "GIF")
# Values of more than eight bits are brought down so many lines' pixels at a time.
_AT_ONCE = 1 << 22


class UnreadablePicture(Exception):
    """A file that is no picture, or a broken one; the message is the reason."""


@contextmanager
def picture_faults(what: str = "cannot be decoded") -> Iterator[None]:
    """Within, whatever the imaging library raises, or a lack of memory, is the picture's fault: UnreadablePicture tells the
    reason. What arises in our own code is not."""
    try:
        with warnings.catch_warnings():
            warnings.simplefilter("ignore")
            yield
    except UnreadablePicture:
        raise
    except Image.DecompressionBombError as error:
        raise UnreadablePicture(f"too large to unpack: more than {MOST_PIXELS // 1_000_000} million pixels") from error
    except UnidentifiedImageError as error:
        raise UnreadablePicture("cannot be decoded: its content is that of no picture format") from error
    except MemoryError as error:
        raise UnreadablePicture(f"{what} (there is not enough memory)") from error
    except Exception as error:
        if not arose_in(error, "PIL"):
            raise
        raise UnreadablePicture(f"{what} ({str(error) or type(error).__name__})") from error


@dataclass(frozen=True)
class Stamp:
    """What a file was when it was read: the SHA-256 of its content, its size in bytes, its time of change in ns."""

    content: bytes
    size: int
    changed: int


@dataclass(frozen=True)
class PictureFile:
    """A file as it was read in one go, so that what is decoded is what the stamp tells of."""

    data: bytes
    stamp: Stamp
    name: str


def read_file(path: Path) -> PictureFile:
    """Read a picture file whole. Raises UnreadablePicture for a folder, a device, a dangling link, an oversized file."""
    try:
        # Opened without waiting, so that a named pipe called x.jpg does not hold everything up.
        with open(os.open(path, os.O_RDONLY | os.O_NONBLOCK), "rb") as file:
            about = os.fstat(file.fileno())
            if not stat.S_ISREG(about.st_mode):
                raise UnreadablePicture("is a folder or a device, not a file")
            if about.st_size > MOST_BYTES:
                raise UnreadablePicture(f"too large to read: {about.st_size / 1e9:.1f} GB")
            data = file.read()
    except FileNotFoundError as error:
        raise UnreadablePicture("the file is gone, or a link that leads nowhere") from error
    except IsADirectoryError as error:
        raise UnreadablePicture("is a folder or a device, not a file") from error
    except NotADirectoryError:
        return _read_within(path)
    except OSError as error:
        raise UnreadablePicture(f"cannot be read ({error.strerror})") from error
    except ValueError as error:
        raise UnreadablePicture("has a name that no file can have") from error
    return PictureFile(data, Stamp(hashlib.sha256(data).digest(), len(data), about.st_mtime_ns), path.name)


def _read_within(path: Path) -> PictureFile:
    """Read a picture that stands in an archive or in a table of pictures."""
    try:
        found = read_inside(path)
    except MemberFault as error:
        raise UnreadablePicture(str(error)) from error
    if found is None:
        raise UnreadablePicture("the file is gone, or a link that leads nowhere")
    data, changed = found
    return PictureFile(data, Stamp(hashlib.sha256(data).digest(), len(data), changed), path.name)


def read_picture(path: Path, mode: Mode = "RGB", exif_rotate: bool = True) -> Pixels:
    """Read and decode the first frame of a picture file, as ``decode_picture`` does. Raises UnreadablePicture."""
    return decode_picture(read_file(path), mode, exif_rotate)


def decode_picture(file: PictureFile, mode: Mode = "RGB", exif_rotate: bool = True) -> Pixels:
    """Decode the first frame of a picture file: height x width x 3 (``RGB``, ``BGR``) or x 1 (``L``), from what
    ``decoded`` gives. Raises UnreadablePicture with the reason."""
    return pixels_of(decoded(file, mode, exif_rotate), mode)


def pixels_of(picture: Image.Image, mode: Mode) -> Pixels:
    """The pixels of what ``decoded`` gave for this mode."""
    pixels = np.asarray(picture)
    return pixels[..., None] if mode == "L" else pixels if mode == "RGB" else pixels[..., ::-1]


def decoded(file: PictureFile, mode: Mode = "RGB", exif_rotate: bool = True) -> Image.Image:
    """Decode the first frame of a picture file to a picture in ``RGB`` (for ``BGR`` as well) or ``L``.

    16-bit values are scaled to 8 bits, a palette is looked up, grey is repeated over the channels, transparency is dropped
    (the colour beneath it stays). Raises UnreadablePicture with the reason.
    """
    with picture_faults():
        return in_channels(whole_picture(file, exif_rotate), mode)


def whole_picture(file: PictureFile, exif_rotate: bool = True) -> Image.Image:
    """The first frame of a picture file in eight bits, in whatever colour mode it has. Raises UnreadablePicture."""
    if not file.data:
        raise UnreadablePicture("the file is empty")
    with picture_faults(), Image.open(io.BytesIO(file.data), formats=FORMATS) as opened:
        picture: Image.Image = opened
        if picture.width * picture.height > MOST_PIXELS:
            raise Image.DecompressionBombError
        picture.load()
        if exif_rotate:
            ImageOps.exif_transpose(picture, in_place=True)
        return _eight_bit(picture)


def mode_and_frames(file: PictureFile) -> tuple[str, int]:
    """The colour mode that a readable file's picture has before it is decoded, and its number of frames; 1 where what is
    behind the first frame is broken. Raises UnreadablePicture."""
    with picture_faults(), Image.open(io.BytesIO(file.data), formats=FORMATS) as opened:
        mode = opened.mode
        try:
            with picture_faults():
                return mode, int(getattr(opened, "n_frames", 1))
        except UnreadablePicture:
            return mode, 1


def picture_size(file: PictureFile, exif_rotate: bool = True) -> tuple[int, int]:
    """Height and width of a picture as it would be decoded, from its head alone. Raises UnreadablePicture."""
    with picture_faults(), Image.open(io.BytesIO(file.data), formats=FORMATS) as opened:
        width, height = opened.size
        turned = exif_rotate and opened.getexif().get(274) in (5, 6, 7, 8)
    if not width or not height:
        raise UnreadablePicture("holds no pixels")
    return (width, height) if turned else (height, width)


def _eight_bit(picture: Image.Image) -> Image.Image:
    """Values of 16 or 32 bits, or floats, as eight bits; some lines at a time, so that wide numbers take little room."""
    if not picture.mode.startswith(("I", "F")):
        return picture
    values = np.asarray(picture)
    if picture.mode == "F":
        factor = 255.0 if np.nanmax(values, initial=0) <= 1.0 else 1.0
    else:
        factor = 255.0 / 65535.0 if picture.mode != "I" or values.max(initial=0) > 255 else 1.0
    out = np.empty(values.shape, np.uint8)
    step = max(1, _AT_ONCE // max(1, values.shape[1]))
    for first in range(0, len(values), step):
        some = np.nan_to_num(values[first : first + step].astype(np.float64)) * factor
        out[first : first + step] = np.clip(np.round(some), 0, 255)
    return Image.fromarray(out)


def in_channels(picture: Image.Image, mode: Mode) -> Image.Image:
    """What ``whole_picture`` gave, in ``RGB`` (for ``BGR`` as well) or ``L``."""
    wanted = "L" if mode == "L" else "RGB"
    if wanted == "RGB" and picture.mode in ("P", "PA") and "transparency" in picture.info:
        picture = picture.convert("RGBA")
    return picture if picture.mode == wanted else picture.convert(wanted)
