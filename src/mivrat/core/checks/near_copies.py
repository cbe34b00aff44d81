"""Finds near copies: pictures that are another one resized, brightened, in grey, mirrored, rotated by quarter turns or cropped.

Small grey pictures propose pairs, in eight positions and cropped. A proposed pair is aligned, and only its fine texture decides:
pictures of one kind share outlines and shading, but not the texture that a copy keeps.
"""

from __future__ import annotations

from base64 import b64decode, b64encode
from collections.abc import Iterator, Sequence
from functools import lru_cache
from itertools import product
from pathlib import Path
from typing import TYPE_CHECKING

import numpy as np
from numpy.typing import NDArray
from PIL import Image

from mivrat.core.base.job import Meter, Progress
from mivrat.core.base.lazy_module import LazyModule
from mivrat.core.pictures.decode import UnreadablePicture, read_picture

if TYPE_CHECKING:
    from scipy import ndimage
else:
    ndimage = LazyModule("scipy.ndimage")

Numbers = NDArray[np.float32]
# How a square is seen to lie on another: (scale down, scale across, moved down, moved across), moves as shares of the side.
Lie = NDArray[np.float64]
# Sides in pixels: of the pictures that propose, that are aligned first, and at most of those whose texture is compared.
SMALL, ALIGNED, HALF, FINE = 24, 32, 64, 128
# Windows that a crop may have left: shares cut off, and where the window lies (0: at one end, 1: at the other).
_CUT, _WHERE = (0.05, 0.1), (0.0, 0.25, 0.5, 0.75, 1.0)
# Small pictures are compared in so many decorrelated components, each divided by its spread (so much is added to its variance,
# as a share of the mean one): what all pictures share then counts little.
_COMPONENTS, _ADDED = 128, 0.2
# A proposed pair is at least so alike, and among the so many likeliest of one of its two.
PROPOSED, PARTNERS = 0.65, 3
# Textures of copies correlate at least so well, by the side at which they are compared: the smaller, the more of what is compared
# are the outlines that pictures of one kind share. Drawn grains, as like as can be, reach 0.34 at 128, 0.62 at 96, 0.87 at 64
# and 0.97 at 40 pixels; their copies at least 0.83, 0.78, 0.85 and 0.93.
_DECIDED_SIDES, _DECIDED = (32, 40, 64, 96, 128), (0.995, 0.975, 0.89, 0.7, 0.5)
# Where at most the first share of the pixels is usable so much is asked, from the second on no more than otherwise.
_USABLE, OF_LITTLE = (0.3, 0.7), 0.85
# At HALF, copies compared at a larger side reach so much.
DECIDED_AT_HALF = 0.68
# Compressed hard, a copy may lose its texture down to this; then the two correlate so well as they are.
TEXTURE_LEFT, AS_IT_IS, AS_IT_IS_SIDE = 0.25, 0.975, 48
# A regular pattern correlates so well with itself moved.
REPEATS = 0.6
# So many pairs are compared cropped as well, and so many in eight positions, before only fingerprints propose.
MOST_CROPPED, MOST_PAIRS = 4_000_000, 400_000_000
_BLOCK = 512
_FLAT = 1e-6


def small_grey(picture: Image.Image) -> str:
    """A picture in grey at SMALL x SMALL pixels, in base64."""
    return b64encode(picture.convert("L").resize((SMALL, SMALL), Image.Resampling.BOX).tobytes()).decode("ascii")


def _unpacked(smalls: Sequence[str]) -> NDArray[np.uint8]:
    return np.frombuffer(b"".join(map(b64decode, smalls)), np.uint8).reshape(-1, SMALL, SMALL)


def positions(square: Numbers) -> list[Numbers]:
    """Square pictures (..., n, n) in their eight positions: four quarter turns, each as it is and mirrored."""
    return [np.rot90(some, quarter, axes=(-2, -1)) for some in (square, square[..., ::-1]) for quarter in range(4)]


# Each window as it lies in the whole: (scale, moved down, moved across).
WINDOWS = [
    (1.0, 0.0, 0.0),
    *((1 - cut, (y - 0.5) * cut, (x - 0.5) * cut) for cut, y, x in product(_CUT, _WHERE, _WHERE)),
]


def _seen(picture: Numbers, lie: Sequence[float] | Lie) -> Numbers:
    """Squares (..., n, n) seen through a window, resampled linearly; at its edges a picture goes on as it ends."""
    side = picture.shape[-1]
    for axis, scale, moved in ((-2, lie[0], lie[2]), (-1, lie[1], lie[3])):
        at = np.clip(side * moved + scale * (np.arange(side) - (side - 1) / 2) + (side - 1) / 2, 0, side - 1)
        first = np.minimum(at.astype(int), side - 2)
        share = (at - first).astype(np.float32)
        share = share[:, None] if axis == -2 else share
        low, high = np.take(picture, first, axis=axis), np.take(picture, first + 1, axis=axis)
        picture = low + share * (high - low)
    return picture


def _windowed(square: Numbers, number: int) -> Numbers:
    scale, down, across = WINDOWS[number]
    return _seen(square, (scale, scale, down, across)) if number else square


class Proposer:
    """Small pictures of two sets as decorrelated components, so that what all of them share counts little."""

    def __init__(self, first: Sequence[str], second: Sequence[str]) -> None:
        self._first, self._second = _unpacked(first), _unpacked(second)
        some = np.concatenate([_evenly(self._first), _evenly(self._second)]).astype(np.float32)
        flat = np.concatenate([_normal(one) for one in positions(some)])
        values, vectors = np.linalg.eigh(flat.T @ flat / len(flat))
        kept = np.arange(len(values))[::-1][:_COMPONENTS]
        spread = np.maximum(values[kept], 0) + _ADDED * max(float(values.mean()), _FLAT)
        self._matrix: Numbers = (vectors[:, kept] / np.sqrt(spread)).astype(np.float32)
        self._looks = lru_cache(4096)(self._all_looks)

    def _of(self, square: Numbers) -> Numbers:
        return _normal(_normal(square) @ self._matrix)

    def pairs(self, same: bool, cropped: bool) -> Iterator[Progress | set[tuple[int, int]]]:
        """Pairs (of the first, of the second) that may be near copies, after progress; ``same``: both are one set, and no picture
        is paired with itself. ``cropped``: compare them cropped as well."""
        one, other = self._first, self._second
        numbers = range(len(WINDOWS)) if cropped else range(1)
        best = np.zeros((PARTNERS, len(other)), np.float32)
        partner = np.full((PARTNERS, len(other)), -1)
        found, meter = set[tuple[int, int]](), Meter(len(one))
        for start in range(0, len(one), _BLOCK):
            yield meter.at(start)
            block = one[start : start + _BLOCK].astype(np.float32)
            rows = np.arange(start, start + len(block))
            likeness = np.zeros((len(block), len(other)), np.float32)
            turned = [self._of(some) for some in positions(block)]
            windowed = [self._of(_windowed(block, number)) for number in numbers[1:]]
            for begin in range(0, len(other), _BLOCK):
                there = other[begin : begin + _BLOCK].astype(np.float32)
                part = likeness[:, begin : begin + _BLOCK]
                for number in numbers:
                    seen = self._of(_windowed(there, number)).T
                    for some in turned:
                        np.maximum(part, some @ seen, out=part)
                for some in positions(there) if windowed else ():
                    seen = self._of(some).T
                    for window in windowed:
                        np.maximum(part, window @ seen, out=part)
            if same:
                likeness[rows - start, rows] = 0
            found.update((start + i, j) for i, j in _likeliest(likeness))
            ranked = np.concatenate([best, likeness])
            who = np.concatenate([partner, np.broadcast_to(rows[:, None], likeness.shape)])
            order = np.argsort(-ranked, axis=0, kind="stable")[:PARTNERS]
            best, partner = (np.take_along_axis(some, order, axis=0) for some in (ranked, who))
        rank, column = np.nonzero(best >= PROPOSED)
        found.update(zip(partner[rank, column].tolist(), column.tolist(), strict=True))
        yield found

    def ways(self, i: int, j: int) -> list[tuple[float, bool, int, int]]:
        """How a pair may lie on one another, likeliest first: the likeness, whether the second is turned (else the first), in
        which of the eight positions, and in which window of the other."""
        found = []
        for swapped, (turned, seen) in enumerate((((0, i), (1, j)), ((1, j), (0, i)))):
            likeness = self._looks(*turned)[0] @ self._looks(*seen)[1].T
            best = likeness.argmax(axis=1)
            found += [(float(likeness[k, best[k]]), bool(swapped), k, int(best[k])) for k in range(8)]
        return sorted(found, key=lambda way: -way[0])

    def likeness(self, i: int, j: int) -> float:
        """The highest likeness of the small pictures of a pair, uncropped, in any position."""
        return float((self._looks(0, i)[0] @ self._looks(1, j)[0][0]).max())

    def _all_looks(self, which: int, number: int) -> tuple[Numbers, Numbers]:
        """One small picture of the first (0) or second (1) in its eight positions, and in all windows."""
        square = (self._first, self._second)[which][number].astype(np.float32)
        windows = [_windowed(square, window) for window in range(len(WINDOWS))]
        return self._of(np.stack(positions(square))), self._of(np.stack(windows))


def _evenly(squares: NDArray[np.uint8]) -> NDArray[np.uint8]:
    """At most some 2,000 of many pictures, evenly from all of them."""
    return squares[:: max(len(squares) // 2000, 1)]


def _likeliest(likeness: Numbers) -> Iterator[tuple[int, int]]:
    """The places of the PARTNERS highest values of each row, as far as these are at least PROPOSED."""
    number = min(PARTNERS, likeness.shape[1])
    columns = np.argpartition(-likeness, number - 1, axis=1)[:, :number]
    rows = np.repeat(np.arange(len(likeness)), number)
    for i, j in zip(rows.tolist(), columns.ravel().tolist(), strict=True):
        if likeness[i, j] >= PROPOSED:
            yield i, j


def _normal(rows: Numbers) -> Numbers:
    """Pictures or rows as rows of mean 0 and length 1; a flat one is 0."""
    flat = rows.reshape(len(rows), -1)
    flat = flat - flat.mean(axis=1, keepdims=True)
    length = np.linalg.norm(flat, axis=1, keepdims=True)
    return np.asarray(flat / np.where(length > _FLAT, length, 1.0), np.float32)


def _inside(side: int, scale: float, moved: float) -> NDArray[np.bool_]:
    """Which pixels of one axis that is seen through a window are inside the picture."""
    return np.asarray(np.abs(moved + scale * ((np.arange(side) + 0.5) / side - 0.5)) <= 0.5)


def align(fixed: Numbers, moving: Numbers, lie: Lie, steps: int) -> Lie | None:
    """The lie of ``moving`` under which it fits ``fixed`` best, whatever its brightness and contrast; None where it runs away.

    Gauss-Newton steps on gain, offset and lie together (Lucas & Kanade 1981; Evangelidis & Psarakis 2008 for the gain), over
    pixels that are neither as dark nor as bright as can be.
    """
    n = len(fixed)
    line = (np.arange(n) - (n - 1) / 2).astype(np.float32)
    and_slopes = np.stack([moving, *np.gradient(moving)]).astype(np.float32)
    for _ in range(steps):
        seen, down, across = _seen(and_slopes, lie)
        usable = _usable(fixed, seen, lie)
        if usable.sum() < 6 * 6:
            return None
        by = np.stack(
            [
                (down * line[:, None])[usable],
                (across * line)[usable],
                down[usable] * n,
                across[usable] * n,
                np.ones(int(usable.sum()), np.float32),
                seen[usable],
            ]
        )
        square = (by @ by.T).astype(np.float64)
        scale = np.sqrt(np.maximum(np.diag(square), _FLAT))
        found = (
            np.linalg.solve(square / np.outer(scale, scale) + 1e-6 * np.eye(6), (by @ fixed[usable]) / scale) / scale
        )
        if abs(found[5]) < 1e-3:
            return None
        step = np.clip(found[:4] / found[5], -0.05, 0.05)
        lie = lie + step
        if np.abs(lie[:2] - 1).max() > 0.2 or np.abs(lie[2:]).max() > 0.12:
            return None
        if np.abs(step).max() < 0.02 / n:
            break
    return lie


def _usable(fixed: Numbers, seen: Numbers, lie: Lie) -> NDArray[np.bool_]:
    """Pixels of two aligned squares that are inside both, and neither as dark nor as bright as can be."""
    n = len(fixed)
    inside = _inside(n, lie[0], lie[2])[:, None] & _inside(n, lie[1], lie[3])
    return np.asarray(inside & (np.abs(fixed - 127.5) < 123) & (np.abs(seen - 127.5) < 123))


def decided(side: int, usable: float = 1.0) -> float:
    """How alike two textures of so many pixels a side are at least, where one picture is a copy of the other. Where only a small
    share of them is ``usable``, the rest being as bright or dark as can be, a few outlines count more, so more is asked."""
    enough = float(np.interp(side, _DECIDED_SIDES, _DECIDED))
    return float(np.interp(usable, _USABLE, (max(enough, OF_LITTLE), enough)))


def texture(square: Numbers, usable: NDArray[np.bool_]) -> Numbers:
    """The fine texture of a square, of mean 0 and length 1, 0 where it is not usable: what a slight blur leaves and a wider one
    takes away, divided by its strength nearby, so that a few strong outlines do not decide."""
    band = ndimage.gaussian_filter(square, 0.7) - ndimage.gaussian_filter(square, 2.0)
    floor = max(0.25 * float(np.sqrt((band[usable] ** 2).mean())), 0.3)
    local = band / np.sqrt(ndimage.gaussian_filter(band * band, 3.0) + floor**2)
    local = np.where(usable, local - local[usable].mean(), 0)
    return np.asarray(local / max(float(np.linalg.norm(local)), _FLAT))


def texture_likeness(one: Numbers, other: Numbers, usable: NDArray[np.bool_]) -> float:
    """The correlation of the fine textures of two aligned squares; 0 where too little is usable."""
    if usable.mean() < 0.05:
        return 0.0
    return float((texture(one, usable) * texture(other, usable)).sum())


def repeats_itself(square: Numbers, usable: NDArray[np.bool_]) -> bool:
    """Whether a picture is a regular pattern: its texture is much like itself moved. Such pictures lie on any other of their kind."""
    n = len(square)
    spectrum = np.fft.rfft2(texture(square, usable), (2 * n, 2 * n))
    covered = np.fft.rfft2(usable.astype(float), (2 * n, 2 * n))
    alike, shared = (np.fft.irfft2(np.abs(one) ** 2, (2 * n, 2 * n)) for one in (spectrum, covered))
    down, across = (np.minimum(np.arange(2 * n), 2 * n - np.arange(2 * n)) for _ in range(2))
    moved = (down[:, None] ** 2 + across[None] ** 2 > 16) & (shared > 0.25 * usable.sum())
    share = alike[moved] * usable.sum() / shared[moved]
    return bool(share.size and share.max() > REPEATS)


class Confirmer:
    """Lays proposed pairs of picture files on one another; pictures used lately are kept."""

    def __init__(self, proposer: Proposer, first: Sequence[Path], second: Sequence[Path]) -> None:
        self._proposer, self._files = proposer, (first, second)
        self._read = lru_cache(1024)(_read)
        self._at = lru_cache(512)(self._square_and_blurred)

    def copy_likeness(self, i: int, j: int) -> float:
        """How alike the textures of a pair are, where they are near copies; else 0.

        Compressed hard, a copy loses much of its texture; but then it lies on the other as it is, and does so very well.
        """
        first, second = (self._read(files[k]) for files, k in zip(self._files, (i, j), strict=True))
        if first is None or second is None:
            return 0.0
        side = max(min(FINE, *first.size, *second.size), SMALL)
        best = 0.0
        for likely, swapped, position, window in (ways := self._proposer.ways(i, j))[:2]:
            if likely < ways[0][0] - 0.15:
                break
            pair = (self._files[0][i], self._files[1][j])
            best = max(best, self._texture_likeness(*(pair[::-1] if swapped else pair), position, window, side))
            if best >= decided(side):
                return best
        if best < TEXTURE_LEFT:
            return 0.0
        rows = _normal(
            np.stack([self._at(files[k], AS_IT_IS_SIDE)[0] for files, k in zip(self._files, (i, j), strict=True)])
        )
        return best if float(rows[0] @ rows[1]) >= AS_IT_IS else 0.0

    def _texture_likeness(self, turned: Path, seen: Path, position: int, window: int, side: int) -> float:
        """How alike the textures of two pictures are when one is turned and aligned with a window of the other, step by step at
        larger sizes; 0 as soon as they cannot be copies."""
        scale, down, across = WINDOWS[window]
        start: Lie = np.array([scale, scale, down, across])
        likeness = 0.0
        for n, steps in ((ALIGNED, 6), (HALF, 4), (FINE, 3)):
            n = min(n, side)
            fixed, blurred = (positions(one)[position] for one in self._at(turned, n))
            moving, moving_blurred = self._at(seen, n)
            lie = align(blurred, moving_blurred, start, steps)
            if lie is None:
                return 0.0
            start = lie
            if n == ALIGNED and n < side:
                continue
            laid = _seen(moving, lie)
            usable = ndimage.binary_erosion(_usable(fixed, laid, lie), iterations=2, border_value=1)
            likeness = texture_likeness(fixed, laid, usable)
            if n == side:
                if likeness >= TEXTURE_LEFT and repeats_itself(fixed, usable):
                    return 0.0
                enough = likeness >= decided(side, float(usable.mean()))
                return likeness if enough else min(likeness, 0.99 * decided(side))
            if likeness < DECIDED_AT_HALF:
                return 0.0
        return likeness

    def _square_and_blurred(self, file: Path, side: int) -> tuple[Numbers, Numbers]:
        picture = self._read(file)
        assert picture is not None
        square = np.asarray(picture.resize((side, side), Image.Resampling.BOX), np.float32)
        return square, ndimage.gaussian_filter(square, 0.7)


def _read(file: Path) -> Image.Image | None:
    try:
        picture = Image.fromarray(read_picture(file)).convert("L")
    except UnreadablePicture:
        return None
    picture.thumbnail((2 * FINE, 2 * FINE))
    return picture
