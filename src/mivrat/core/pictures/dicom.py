"""Reads DICOM files (PS3, NEMA): frames as pictures in eight bits, and what may be told of them without naming anybody.

Values go the way of PS3.3 C.11: modality rescale, then the window of the recipe, else that of the file, else all values that the frame
has; light and dark change places for MONOCHROME1. Reading takes ``pydicom``, which is an extra.
"""

from __future__ import annotations

import hashlib
import io
import logging
import os
import secrets
import warnings
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from functools import lru_cache
from importlib import import_module
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray
from PIL import Image
from platformdirs import user_data_path

from mivrat.core.base.errors import InputError, arose_in
from mivrat.core.base.files import read_text, write_whole
from mivrat.core.base.text import quoted

if TYPE_CHECKING:
    from pydicom.dataset import Dataset

ENDINGS = frozenset({".dcm", ".dicom"})
NEEDED = "is a DICOM file, and reading these takes pydicom: install mivrat[dicom]"
# What columns there are without asking: who and what belongs together, as pseudonyms, and what kind of picture it is.
PSEUDONYMS = {"patient": "PatientID", "study": "StudyInstanceUID", "series": "SeriesInstanceUID"}
PLAIN = {
    "modality": "Modality",
    "body_part": "BodyPartExamined",
    "view": "ViewPosition",
    "laterality": "ImageLaterality",
}
# Values longer than this are no column.
_LONGEST = 200
# The most frames, and pixels of one, that are read.
MOST_FRAMES = 100_000


_MARK_AT, _MARK = 128, b"DICM"


class DicomFault(Exception):
    """A DICOM file that cannot be read; the message names nobody."""


def is_dicom(data: bytes, name: str = "") -> bool:
    """Whether bytes are a DICOM file: its mark behind the preamble (PS3.10), or else the file's ending."""
    return data[_MARK_AT : _MARK_AT + 4] == _MARK or name[name.rfind(".") :].lower() in ENDINGS


def has_mark(path: str) -> bool:
    """Whether a file bears that mark: on the discs of scanners these have no ending."""
    try:
        with open(os.open(path, os.O_RDONLY | os.O_NONBLOCK), "rb") as file:
            return file.read(_MARK_AT + 4)[_MARK_AT:] == _MARK
    except OSError:
        return False


@contextmanager
def _faults(what: str) -> Iterator[None]:
    """Whatever the library raises is the file's fault. Its messages may quote the file, so the reason is the kind of error alone."""
    logging.getLogger("pydicom").setLevel(logging.CRITICAL)  # what it warns of may name people
    try:
        with warnings.catch_warnings():
            warnings.simplefilter("ignore")
            yield
    except DicomFault:
        raise
    except MemoryError as error:
        raise DicomFault(f"{what}: there is not enough memory") from error
    except Exception as error:
        if not (arose_in(error, "pydicom") or arose_in(error, "PIL") or arose_in(error, "struct")):
            raise
        raise DicomFault(f"{what} ({type(error).__name__})") from None


def _library() -> Any:
    try:
        return import_module("pydicom")
    except ImportError:
        raise DicomFault(NEEDED) from None


def _dataset(data: bytes, pixels: bool) -> Dataset:
    library = _library()
    with _faults("cannot be read as DICOM"):
        found: Dataset = library.dcmread(io.BytesIO(data), force=True, stop_before_pixels=not pixels)
        if "SOPClassUID" not in found and "Rows" not in found:
            raise DicomFault("cannot be read as DICOM: it has none of its elements")
        return found


def frames_of(data: bytes) -> int:
    """The number of frames. DicomFault where it holds no picture."""
    return _frames_in(_dataset(data, pixels=False))


def _frames_in(found: Dataset) -> int:
    with _faults("cannot be read as DICOM"):
        if "Rows" not in found:
            raise DicomFault("is a DICOM file without a picture")
        number = _whole(found.get("NumberOfFrames") or 1)
    if not 0 < number <= MOST_FRAMES:
        raise DicomFault(f"says that it has {number} frames")
    return number


def size_of(data: bytes) -> tuple[int, int]:
    """Height and width of its frames."""
    return _size_in(_dataset(data, pixels=False))


def _size_in(found: Dataset) -> tuple[int, int]:
    with _faults("cannot be read as DICOM"):
        return _whole(found.get("Rows")), _whole(found.get("Columns"))


def picture_of(
    data: bytes, frame: int = 0, window: tuple[float, float] | None = None, most_pixels: int = 120_000_000
) -> Image.Image:
    """A frame in eight bits, ``L`` or ``RGB``. ``window``: centre and width in rescaled values; without it that of the file. DicomFault with
    the reason."""
    found = _dataset(data, pixels=True)
    height, width = _size_in(found)
    if height * width > most_pixels:
        raise DicomFault(f"too large to unpack: more than {most_pixels // 1_000_000} million pixels")
    frames = _frames_in(found)
    if frame >= frames:
        raise DicomFault(f"has no frame {frame + 1}")
    library = import_module("pydicom.pixels")
    with _faults("its picture cannot be decoded"):
        if "PixelData" not in found and "FloatPixelData" not in found and "DoubleFloatPixelData" not in found:
            raise DicomFault("is a DICOM file without a picture")
        values: NDArray[Any] = library.pixel_array(found, index=frame)
        if values.ndim == 3 and values.shape[2] in (3, 4):
            return Image.fromarray(_to_eight(values[..., :3], _whole(found.get("BitsStored", 8))))
        if found.PhotometricInterpretation == "PALETTE COLOR":
            colours = library.apply_color_lut(values, found)
            return Image.fromarray(_to_eight(colours[..., :3], 8 * colours.dtype.itemsize))
        shared = found if frames == 1 else _of_frame(found, frame)
        rescaled = library.apply_modality_lut(values, shared).astype(np.float64)
        grey = _windowed(rescaled, shared, window, library)
    if found.PhotometricInterpretation == "MONOCHROME1":
        grey = 255.0 - grey
    return Image.fromarray(np.clip(np.round(grey), 0, 255).astype(np.uint8))


def _of_frame(found: Dataset, frame: int) -> Dataset:
    """What holds of one frame of an enhanced file: the entries of all frames, those of the frame itself over them."""
    merged = found.copy()
    for groups, at in (("SharedFunctionalGroupsSequence", 0), ("PerFrameFunctionalGroupsSequence", frame)):
        listed = found.get(groups) or []
        if at < len(listed):
            for name in ("PixelValueTransformationSequence", "FrameVOILUTSequence"):
                for one in listed[at].get(name) or []:
                    merged.update(one)
    return merged


def _to_eight(values: NDArray[Any], bits: int) -> NDArray[np.uint8]:
    if values.dtype == np.uint8:
        return values
    return np.clip(np.round(values.astype(np.float64) * (255.0 / (2**bits - 1))), 0, 255).astype(np.uint8)


def _windowed(
    values: NDArray[np.float64], found: Dataset, window: tuple[float, float] | None, library: Any
) -> NDArray[np.float64]:
    """Rescaled values through a window, 0 to 255 (PS3.3 C.11.2.1.2 and C.11.2.1.3); of several of the file's the first."""
    kind = str(found.get("VOILUTFunction") or "LINEAR")
    if window is None and found.get("VOILUTSequence") and "WindowCenter" not in found:
        looked_up = library.apply_voi(values.astype(np.int64), found).astype(np.float64)
        bits = _whole(found.VOILUTSequence[0].LUTDescriptor[2])
        return np.asarray(looked_up * (255.0 / (2**bits - 1)))
    if window is None:
        centre, width = _first(found.get("WindowCenter")), _first(found.get("WindowWidth"))
        window = (centre, width) if centre is not None and width is not None and width > 0 else None
    else:
        kind = "LINEAR_EXACT"
    if window is None:
        low, high = float(values.min()), float(values.max())
        return np.asarray((values - low) * (255.0 / (high - low))) if high > low else np.zeros_like(values)
    return through_window(values, *window, kind)


def through_window(values: NDArray[np.float64], centre: float, width: float, kind: str) -> NDArray[np.float64]:
    """Values through a window to 0 … 255, as PS3.3 has it for LINEAR, LINEAR_EXACT and SIGMOID."""
    if kind == "SIGMOID":
        return np.asarray(255.0 / (1.0 + np.exp(np.clip(-4.0 * (values - centre) / width, -700, 700))))
    if kind == "LINEAR_EXACT":
        return np.asarray(np.clip((values - centre) / width + 0.5, 0, 1) * 255.0)
    if width <= 1:
        return np.where(values <= centre - 0.5, 0.0, 255.0)
    return np.asarray(np.clip((values - (centre - 0.5)) / (width - 1) + 0.5, 0, 1) * 255.0)


def _first(value: Any) -> float | None:
    """The first of one or several numbers; None where that is none."""
    try:
        found = float(value[0] if isinstance(value, Sequence) and not isinstance(value, str) else value)
    except (TypeError, ValueError, IndexError):
        return None
    return found if np.isfinite(found) else None


def _whole(value: Any) -> int:
    """A whole number of a file's. DicomFault where it is none."""
    try:
        return int(value)
    except (TypeError, ValueError, OverflowError):
        raise DicomFault("cannot be read as DICOM: one of its numbers is none") from None


# --- what is told of a file ---


def told_in_list(data: bytes) -> tuple[dict[str, str], int]:
    """The columns that a file brings into a list of images, and its number of frames; nothing, and one, of a file that cannot be read, which is
    told of when its picture is wanted."""
    try:
        return columns_of(data), frames_of(data)
    except DicomFault:
        return {}, 1


def columns_of(data: bytes, fields: Sequence[str] = ()) -> dict[str, str]:
    """What may be told of a file: pseudonyms of patient, study and series, the kind of picture, and the ``fields`` that were asked for by their
    keyword. DicomFault where it cannot be read."""
    found = _dataset(data, pixels=False)
    columns = {}
    with _faults("cannot be read as DICOM"):
        for column, keyword in PSEUDONYMS.items():
            value = str(found.get(keyword) or "")
            columns[column] = pseudonym(value) if value else ""
        for column, keyword in PLAIN.items():
            columns[column] = _told(found.get(keyword))
        for keyword in fields:
            columns[keyword] = _told(found.get(keyword))
    return columns


def _told(value: Any) -> str:
    text = "" if value is None else str(value)
    return text if len(text) <= _LONGEST else ""


def checked_fields(fields: Sequence[str]) -> tuple[str, ...]:
    """Keywords of elements, as DICOM's dictionary has them. InputError for any other."""
    if fields:
        try:
            known = import_module("pydicom.datadict")
        except ImportError as error:
            raise InputError(NEEDED, where="field", hint="pip install 'mivrat[dicom]'") from error
        wrong = [one for one in fields if known.tag_for_keyword(one) is None]
        if wrong:
            raise InputError(
                f"DICOM has no element {quoted(wrong)}",
                where="field",
                hint="use keywords such as PatientSex or PatientAge",
            )
    return tuple(fields)


def pseudonym(value: str) -> str:
    """Twelve digits that stand for a value, the same each time for this user, and for nobody else: from a key that stays on this machine, since
    numbers of patients are too few for a plain hash to hide them."""
    return hashlib.blake2b(value.strip().encode(), key=_key(_key_file()), digest_size=6).hexdigest()


def _key_file() -> Path:
    return user_data_path("mivrat", appauthor=False) / "pseudonym-key"


@lru_cache(maxsize=4)
def _key(path: Path) -> bytes:
    if path.exists():
        try:
            return bytes.fromhex(read_text(path, "the key of pseudonyms", "").strip())
        except ValueError:
            raise InputError(
                "is not a key", where=path, hint="remove it: another is made, and pseudonyms change"
            ) from None
    key = secrets.token_bytes(32)
    write_whole(path, key.hex() + "\n")
    path.chmod(0o600)
    return key
