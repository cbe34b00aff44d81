"""Decodes a picture file to 8-bit pixels."""

from __future__ import annotations

import hashlib
import io
import os
import stat
import warnings
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass, replace
from functools import lru_cache
from pathlib import Path
from typing import Literal

import numpy as np
from numpy.typing import NDArray
from PIL import Image, ImageOps, UnidentifiedImageError

from mivrat.core.base.errors import arose_in
from mivrat.core.pictures import dicom
from mivrat.core.pictures.containers import MemberFault, frame_of, picture_stat, read_inside

Pixels = NDArray[np.uint8]
Mode = Literal["RGB", "BGR", "L"]
# Of DICOM files: centre and width; None: the file's own.
Window = tuple[float, float] | None

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
    # Of several pages or frames the one that is meant, from 0.
    frame: int = 0


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
    """Read a picture that stands in an archive or in a table of pictures, or that is one page or frame of a file."""
    if (part := frame_of(path)) is not None:
        try:
            whole, frame = _whole_file(part[0], picture_stat(part[0])), part[1]
        except OSError as error:
            raise UnreadablePicture("the file is gone, or a link that leads nowhere") from error
        content = (
            hashlib.sha256(whole.stamp.content + f"frame {frame}".encode()).digest() if frame else whole.stamp.content
        )
        return PictureFile(whole.data, replace(whole.stamp, content=content), whole.name, frame)
    try:
        found = read_inside(path)
    except MemberFault as error:
        raise UnreadablePicture(str(error)) from error
    if found is None:
        raise UnreadablePicture("the file is gone, or a link that leads nowhere")
    data, changed = found
    return PictureFile(data, Stamp(hashlib.sha256(data).digest(), len(data), changed), path.name)


@lru_cache(maxsize=2)
def _whole_file(path: Path, like: tuple[int, int]) -> PictureFile:
    """A file whose pages are read one after the other; ``like`` is its size and time of change."""
    return read_file(path)


def read_picture(path: Path, mode: Mode = "RGB", exif_rotate: bool = True, window: Window = None) -> Pixels:
    """Read and decode a picture file, as ``decode_picture`` does. Raises UnreadablePicture."""
    return decode_picture(read_file(path), mode, exif_rotate, window)


def decode_picture(file: PictureFile, mode: Mode = "RGB", exif_rotate: bool = True, window: Window = None) -> Pixels:
    """Decode a picture file (its first frame, where no other is meant): height x width x 3 (``RGB``, ``BGR``) or x 1 (``L``), from
    what ``decoded`` gives. Raises UnreadablePicture with the reason."""
    return pixels_of(decoded(file, mode, exif_rotate, window), mode)


def pixels_of(picture: Image.Image, mode: Mode) -> Pixels:
    """The pixels of what ``decoded`` gave for this mode."""
    pixels = np.asarray(picture)
    return pixels[..., None] if mode == "L" else pixels if mode == "RGB" else pixels[..., ::-1]


def decoded(file: PictureFile, mode: Mode = "RGB", exif_rotate: bool = True, window: Window = None) -> Image.Image:
    """Decode a picture file to a picture in ``RGB`` (for ``BGR`` as well) or ``L``.

    16-bit values are scaled to 8 bits, a palette is looked up, grey is repeated over the channels, transparency is dropped
    (the colour beneath it stays). Raises UnreadablePicture with the reason.
    """
    with picture_faults():
        return in_channels(whole_picture(file, exif_rotate, window), mode)


def whole_picture(file: PictureFile, exif_rotate: bool = True, window: Window = None) -> Image.Image:
    """A picture file in eight bits, in whatever colour mode it has; ``window`` is for DICOM files. Raises UnreadablePicture."""
    if not file.data:
        raise UnreadablePicture("the file is empty")
    if dicom.is_dicom(file.data, file.name):
        with _dicom_faults():
            return dicom.picture_of(file.data, file.frame, window, MOST_PIXELS)
    with picture_faults(), Image.open(io.BytesIO(file.data), formats=FORMATS) as opened:
        picture: Image.Image = opened
        if file.frame:
            _seek(opened, file.frame)
        if picture.width * picture.height > MOST_PIXELS:
            raise Image.DecompressionBombError
        picture.load()
        if exif_rotate:
            ImageOps.exif_transpose(picture, in_place=True)
        return _eight_bit(picture)


@contextmanager
def _dicom_faults() -> Iterator[None]:
    try:
        yield
    except dicom.DicomFault as error:
        raise UnreadablePicture(str(error)) from error


def _seek(picture: Image.Image, frame: int) -> None:
    try:
        picture.seek(frame)
    except EOFError as error:
        raise UnreadablePicture(f"has no page {frame + 1}") from error


def holds_more(file: PictureFile) -> bool:
    """Whether a file is more than this one picture: a page of several, or a DICOM file, which may name people."""
    return bool(file.frame) or dicom.is_dicom(file.data, file.name)


def plain_copy(file: PictureFile) -> bytes:
    """A picture in eight bits as PNG, with nothing beside its pixels. Raises UnreadablePicture."""
    out = io.BytesIO()
    whole_picture(file, exif_rotate=False).save(out, "PNG")
    return out.getvalue()


def to_copy(path: Path) -> tuple[Path | bytes, str] | None:
    """What a copy of a picture is made of, and what it is called: its file, or its bytes where it stands within one; of a page, or of a DICOM
    file, the picture alone as PNG. None where it cannot be read."""
    more = _is_told_to_hold_more(path)
    if path.is_file() and not more and path.suffix:
        return path, path.name
    try:
        file = read_file(path)
        if holds_more(file) or more:
            stem = path.name if frame_of(path) is None else f"{path.parent.name} {path.name}"
            return plain_copy(file), f"{stem}.png"
    except UnreadablePicture:
        return None
    return (path if path.is_file() else file.data), path.name


def copy_ending(path: str) -> str:
    """The ending of a copy's name, as far as the path tells it."""
    place = Path(path)
    return ".png" if _is_told_to_hold_more(place) else place.suffix.lower()


def _is_told_to_hold_more(path: Path) -> bool:
    """``holds_more``, as far as the path tells it."""
    return frame_of(path) is not None or path.suffix.lower() in dicom.ENDINGS


def mode_and_frames(file: PictureFile) -> tuple[str, int]:
    """The colour mode that a readable file's picture has before it is decoded, and its number of frames; 1 where what is
    behind the first frame is broken. Raises UnreadablePicture."""
    if dicom.is_dicom(file.data, file.name):
        with _dicom_faults():
            return dicom.picture_of(file.data, most_pixels=MOST_PIXELS).mode, dicom.frames_of(file.data)
    with picture_faults(), Image.open(io.BytesIO(file.data), formats=FORMATS) as opened:
        mode = opened.mode
        try:
            with picture_faults():
                return mode, int(getattr(opened, "n_frames", 1))
        except UnreadablePicture:
            return mode, 1


def picture_size(file: PictureFile, exif_rotate: bool = True) -> tuple[int, int]:
    """Height and width of a picture as it would be decoded, from its head alone. Raises UnreadablePicture."""
    if dicom.is_dicom(file.data, file.name):
        with _dicom_faults():
            return dicom.size_of(file.data)
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
