"""A piece cut out of one prepared image and pasted onto another, and the control: a piece of the same size from elsewhere in it."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING

import numpy as np
from numpy.typing import NDArray

from mivrat.core.base.lazy_module import LazyModule
from mivrat.core.heatmaps.hottest import Mask
from mivrat.core.pictures.decode import Pixels
from mivrat.core.region_masking.one_image import TRIES, sized

if TYPE_CHECKING:
    from scipy import ndimage
else:
    ndimage = LazyModule("scipy.ndimage")

# A soft edge is a bell of this width, as a share of the shorter side.
SOFT = 1 / 64
# Which way something is moved: down and across, in pixels.
Move = tuple[int, int]


@dataclass(frozen=True)
class Piece:
    """What is cut out: a prepared image's ``pixels`` (height x width x channels), the ``mask`` of the piece, and where the ``control`` lies,
    as a move from there; ``wraps`` tells that the control goes round the edges, for want of room."""

    pixels: Pixels
    mask: Mask
    control: Move
    wraps: bool = False

    def overlap(self) -> float:
        """The share of the control that lies in the piece itself: 0 where there was room beside it."""
        moved = np.roll(self.mask, self.control, (0, 1)) if self.wraps else moved_within(self.mask, self.control)
        return float((moved & self.mask).sum() / self.mask.sum())


def piece_of(pixels: Pixels, mask: Mask, rng: np.random.Generator) -> Piece:
    """A piece with its control: of some random places inside the image that which overlaps it least; round the edges where it is too
    large to lie beside itself. ValueError for an empty mask."""
    rows, columns = (np.flatnonzero(mask.any(axis=axis)) for axis in (1, 0))
    if not len(rows):
        raise ValueError("an empty piece")
    height, width = mask.shape
    down, across = (-int(rows[0]), height - 1 - int(rows[-1])), (-int(columns[0]), width - 1 - int(columns[-1]))
    best, wraps, least = (0, 0), False, int(mask.sum()) + 1
    for attempt in range(2 * TRIES):
        round_edges = attempt >= TRIES
        if round_edges:
            move = int(rng.integers(height)), int(rng.integers(width))
            moved = np.roll(mask, move, (0, 1))
        else:
            move = int(rng.integers(down[0], down[1] + 1)), int(rng.integers(across[0], across[1] + 1))
            moved = moved_within(mask, move)
        overlap = int((moved & mask).sum())
        if overlap < least:
            best, wraps, least = move, round_edges, overlap
        if not overlap:
            break
    return Piece(pixels, mask, best, wraps)


def moved_within(values: Mask, move: Move) -> Mask:
    """A mask moved down and across; what leaves the image is gone."""
    found = np.zeros_like(values)
    (down, across), (height, width) = move, values.shape[:2]
    if abs(down) < height and abs(across) < width:
        there = slice(max(0, down), height + min(0, down)), slice(max(0, across), width + min(0, across))
        here = slice(max(0, -down), height + min(0, -down)), slice(max(0, -across), width + min(0, -across))
        found[there] = values[here]
    return found


def place_for(mask: Mask, at: tuple[float, float] | None) -> Move:
    """The move that brings the middle of a piece to a place (across, down, as shares of the image); none leaves it where it is."""
    if at is None:
        return 0, 0
    rows, columns = (np.flatnonzero(mask.any(axis=axis)) for axis in (1, 0))
    middle = (int(rows[0]) + int(rows[-1]) + 1) / 2, (int(columns[0]) + int(columns[-1]) + 1) / 2
    return round(at[1] * mask.shape[0] - middle[0]), round(at[0] * mask.shape[1] - middle[1])


def pasted(receiver: Pixels, piece: Piece, at: tuple[float, float] | None, soft: bool) -> tuple[Pixels, Pixels] | None:
    """A prepared image with the piece, and with the control, at the same place of it; None where the piece would lie outside.

    Both have the piece's outline. ``soft``: its edge runs out as a bell of ``SOFT`` does, instead of in a step.
    """
    pixels, mask = piece.pixels, piece.mask
    if pixels.shape != receiver.shape:
        pixels = sized(pixels, receiver)
        scale = receiver.shape[0] / mask.shape[0], receiver.shape[1] / mask.shape[1]
        rows, columns = (((np.arange(n) + 0.5) / k).astype(int) for n, k in zip(receiver.shape[:2], scale, strict=True))
        mask = mask[rows][:, columns]
        control = round(piece.control[0] * scale[0]), round(piece.control[1] * scale[1])
    else:
        control = piece.control
    move = place_for(mask, at) if mask.any() else (0, 0)
    outline = moved_within(mask, move)
    if not outline.any():
        return None
    weight = outline.astype(np.float32)
    if soft:
        weight = ndimage.gaussian_filter(weight, SOFT * min(outline.shape))
    # Round the edges only what a soft edge takes from beyond the donor, and a control that has no room.
    own, other = (np.roll(pixels, one, (0, 1)) for one in (move, (move[0] - control[0], move[1] - control[1])))
    return _blended(receiver, own, weight), _blended(receiver, other, weight)


def _blended(receiver: Pixels, given: Pixels, weight: NDArray[np.float32]) -> Pixels:
    share = weight[..., None]
    return np.asarray(np.round(receiver * (1 - share) + given * share).astype(np.uint8))
