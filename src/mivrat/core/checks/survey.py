"""Surveys picture files: size, mode, whether they decode whole, and a fingerprint that near copies share."""

from __future__ import annotations

import json
import os
from collections import deque
from collections.abc import Iterator, Mapping, Sequence
from concurrent.futures import Future, ThreadPoolExecutor
from dataclasses import asdict, dataclass
from itertools import pairwise
from pathlib import Path
from typing import TYPE_CHECKING

import numpy as np
from numpy.typing import NDArray
from PIL import Image
from pydantic import TypeAdapter

from mivrat.core.base.job import current_stop
from mivrat.core.base.lazy_module import LazyModule
from mivrat.core.checks.near_copies import small_grey
from mivrat.core.pictures.decode import (
    PictureFile,
    Stamp,
    UnreadablePicture,
    decode_picture,
    mode_and_frames,
    read_file,
)

if TYPE_CHECKING:
    from scipy import fft
else:
    fft = LazyModule("scipy.fft")

# The grid a picture is brought to before its frequencies are taken, and the spread of grey below which it counts as flat.
_GRID = 32
_FLAT = 2.0


@dataclass(frozen=True)
class ContentFacts:
    """What a survey found of one picture's content. ``fingerprint`` is None and ``small`` empty for a flat picture, ``problem``
    says why it cannot be read; then the other figures are 0. ``small`` is the picture in grey, as ``near_copies`` compares it."""

    width: int = 0
    height: int = 0
    mode: str = ""
    frames: int = 1
    fingerprint: int | None = None
    problem: str = ""
    small: str = ""

    @property
    def complete(self) -> bool:
        """Facts kept by an earlier version have no small picture."""
        return bool(self.small) or self.fingerprint is None

    def to_json(self) -> str:
        return json.dumps(asdict(self))


@dataclass(frozen=True)
class Surveyed:
    """One surveyed file; without a stamp it could not even be read."""

    index: int
    stamp: Stamp | None
    facts: ContentFacts


_FACTS = TypeAdapter(ContentFacts)


def facts_from_json(text: str) -> ContentFacts:
    """Facts that were kept as text; ValueError where it tells of none."""
    return _FACTS.validate_json(text)


def _low_frequencies() -> tuple[NDArray[np.int64], NDArray[np.int64]]:
    """The 64 lowest frequencies (row, column) other than the mean, by rising sum of row and column."""
    places = sorted(((r, c) for r in range(_GRID) for c in range(_GRID) if r + c), key=lambda rc: (sum(rc), rc[0]))
    return np.array([r for r, _ in places[:64]]), np.array([c for _, c in places[:64]])


_ROWS, _COLUMNS = _low_frequencies()


def fingerprint(picture: Image.Image) -> int | None:
    """A 64-bit fingerprint of a picture that resizing and recompression leave nearly as it is.

    The picture in grey, brought to 32 x 32, is taken apart by a discrete cosine transform (Ahmed 1974); each of the 64
    lowest frequencies gives a bit: whether it is above their median. None for a picture without contrast.
    """
    small = np.asarray(picture.convert("L").resize((_GRID, _GRID), Image.Resampling.BOX), np.float64)
    if small.std() < _FLAT:
        return None
    low = fft.dctn(small, norm="ortho")[_ROWS, _COLUMNS]
    return int(np.packbits(low > np.median(low)).view(">u8")[0])


def survey_file(file: PictureFile) -> ContentFacts:
    """The facts of one file that was read. Never raises for what is in the file."""
    try:
        pixels = decode_picture(file)
        mode, frames = mode_and_frames(file)
    except UnreadablePicture as error:
        return ContentFacts(problem=str(error))
    height, width = pixels.shape[:2]
    if not height or not width:
        return ContentFacts(problem="holds no pixels")
    picture = Image.fromarray(pixels)
    found = fingerprint(picture)
    return ContentFacts(width, height, mode, frames, found, small=small_grey(picture) if found is not None else "")


def _survey(index: int, path: Path, known: Mapping[bytes, ContentFacts]) -> Surveyed:
    try:
        file = read_file(path)
    except UnreadablePicture as error:
        return Surveyed(index, None, ContentFacts(problem=str(error)))
    kept = known.get(file.stamp.content)
    return Surveyed(index, file.stamp, kept if kept is not None and kept.complete else survey_file(file))


def survey_files(files: Sequence[Path], known: Mapping[bytes, ContentFacts], threads: int = 0) -> Iterator[Surveyed]:
    """Survey files in order with a pool of threads; contents in ``known`` are not decoded again. Ends early when stopped."""
    pool = ThreadPoolExecutor(threads or os.cpu_count(), thread_name_prefix="survey")
    waiting: deque[Future[Surveyed]] = deque()
    upcoming = iter(enumerate(files))
    try:
        while not current_stop().stopped:
            while len(waiting) < 64 and (following := next(upcoming, None)) is not None:
                waiting.append(pool.submit(_survey, *following, known))
            if not waiting:
                return
            yield waiting.popleft().result()
    finally:
        pool.shutdown(wait=False, cancel_futures=True)


def near_pairs(
    first: NDArray[np.uint64], second: NDArray[np.uint64], most: int
) -> tuple[NDArray[np.int64], NDArray[np.int64], NDArray[np.int64]]:
    """All pairs of fingerprints that differ in at most ``most`` bits: indices into both, and the distance.

    Two words that differ in at most d bits agree wholly on one of d + 1 bands of bits, so only pairs that share a band
    are compared: exact, and near-linear unless very many words share a band.
    """
    edges = np.linspace(0, 64, most + 2).astype(int)
    left: list[NDArray[np.int64]] = []
    right: list[NDArray[np.int64]] = []
    for low, high in pairwise(edges.tolist()):
        band = np.uint64((1 << (high - low)) - 1)
        a, b = (first >> np.uint64(low)) & band, (second >> np.uint64(low)) & band
        order = np.argsort(b, kind="stable")
        ordered = b[order]
        begin, end = np.searchsorted(ordered, a, "left"), np.searchsorted(ordered, a, "right")
        counts = end - begin
        # As many of the first as make about four million comparisons at a time.
        totals = np.cumsum(counts)
        start = 0
        while start < len(a):
            stop = max(start + 1, int(np.searchsorted(totals, (totals[start - 1] if start else 0) + (1 << 22))))
            rows = np.repeat(np.arange(start, min(stop, len(a))), counts[start:stop])
            offsets = np.arange(len(rows)) - np.repeat(
                np.cumsum(counts[start:stop]) - counts[start:stop], counts[start:stop]
            )
            columns = order[begin[rows] + offsets]
            close = np.bitwise_count(first[rows] ^ second[columns]) <= most
            left.append(rows[close])
            right.append(columns[close])
            start = stop
    if not left:
        none = np.zeros(0, np.int64)
        return none, none, none
    pairs = np.unique(np.stack([np.concatenate(left), np.concatenate(right)], axis=1), axis=0)
    distance = np.bitwise_count(first[pairs[:, 0]] ^ second[pairs[:, 1]]).astype(np.int64)
    return pairs[:, 0], pairs[:, 1], distance
