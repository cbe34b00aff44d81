"""Heatmaps from answers to changed images: score-weighted activations, occlusion, random masks. No gradient is needed.

What is changed is the prepared image, and hiding means 0 there: with values centred on the mean colour, that colour.
"""

from __future__ import annotations

from collections.abc import Callable
from functools import lru_cache
from typing import Any

import numpy as np
from numpy.typing import NDArray
from PIL import Image

Map = NDArray[np.float32]
# One number for each of some changed images: how much the target is answered for.
Answer = Callable[[NDArray[Any]], NDArray[np.float64]]

BATCH = 32
# Occlusion: a window this share of the side, moved by half of it.
WINDOW = 0.2
# Random masks: cells a side, share of them left open, number of masks.
CELLS, OPEN, MASKS = 7, 0.5, 1000


def answers_taken(method: str, height: int, width: int) -> int:
    """How many answers to changed images a map of one prepared picture takes, by occlusion or random masks."""
    if method == "masks":
        return MASKS
    step = max(1, round(min(height, width) * WINDOW / 2))
    return (-(-height // step) + 1) * (-(-width // step) + 1) + 1


def _spatial(picture: NDArray[Any], channels_last: bool) -> tuple[int, int]:
    return (picture.shape[0], picture.shape[1]) if channels_last else (picture.shape[1], picture.shape[2])


class _Masked:
    """A picture under masks, a batch at a time in memory that is used again: fresh memory would cost more than the product."""

    def __init__(self, picture: NDArray[Any], channels_last: bool) -> None:
        self._picture, self._last = picture[None], channels_last
        self._held = np.empty((BATCH, *picture.shape), picture.dtype)

    def under(self, masks: NDArray[np.float32]) -> NDArray[Any]:
        """The picture under each of n masks (n x h x w, from 0 hidden to 1 open), until the next call."""
        spread = masks[..., None] if self._last else masks[:, None]
        found = self._held[: len(masks)]
        np.multiply(self._picture, spread, out=found, casting="unsafe")
        return found


def _answers(
    picture: NDArray[Any], masks: NDArray[np.float32], answer: Answer, channels_last: bool
) -> NDArray[np.float64]:
    masked = _Masked(picture, channels_last)
    return np.concatenate([answer(masked.under(masks[i : i + BATCH])) for i in range(0, len(masks), BATCH)])


def enlarged(maps: NDArray[np.float32], size: tuple[int, int]) -> NDArray[np.float32]:
    """n maps laid over a picture of so many rows and columns, bilinearly between their cells' centres.

    ``maps`` is n × h × w; returns n × H × W.
    """
    down, across = (_enlarging(cells, n) for cells, n in zip(maps.shape[1:], size, strict=True))
    found: NDArray[np.float32] = np.matmul(np.matmul(down, maps), across.T).astype(np.float32, copy=False)
    return found


@lru_cache(maxsize=16)
def _enlarging(cells: int, size: int) -> NDArray[np.float32]:
    """The matrix (size x cells) that enlarges one side; what enlarging is, is read off the imaging library."""
    made = Image.fromarray(np.eye(cells, dtype=np.float32))
    return np.asarray(made.resize((cells, size), Image.Resampling.BILINEAR))


def score_weighted(picture: NDArray[Any], activations: NDArray[np.float32], answer: Answer, channels_last: bool) -> Map:
    """max(0, sum_c w_c A_c), w the softmax over channels of the answer under the channel's own map as a mask (Wang 2020).

    ``activations`` are C x h x w; a map is scaled to [0, 1] and enlarged to the picture. One forward pass a channel.
    """
    low = activations.min(axis=(1, 2), keepdims=True)
    spread = activations.max(axis=(1, 2), keepdims=True) - low
    scaled = (activations - low) / np.where(spread > 0, spread, 1.0)
    size = _spatial(picture, channels_last)
    found = []
    for first in range(0, len(scaled), BATCH):
        masks = enlarged(scaled[first : first + BATCH].astype(np.float32), size)
        found.append(_answers(picture, masks, answer, channels_last))
    scores = np.concatenate(found)
    weights = np.exp(scores - scores.max())
    weights /= weights.sum()
    return np.maximum(0.0, np.tensordot(weights, activations.astype(np.float64), axes=1)).astype(np.float32)


def occlusion(picture: NDArray[Any], answer: Answer, channels_last: bool) -> Map:
    """How far the answer falls when a window over each place is hidden (Zeiler 2014), the mean over the windows that cover it.

    Below zero where hiding helps. Half a window is one cell of the map. ``picture`` is one prepared image, C × H × W, or H × W
    × C where ``channels_last``; returns h × w, in the units of ``answer``.
    """
    height, width = _spatial(picture, channels_last)
    step = max(1, round(min(height, width) * WINDOW / 2))
    rows, columns = -(-height // step), -(-width // step)
    places = [(r, c) for r in range(-1, rows) for c in range(-1, columns)]
    masks = np.ones((len(places), height, width), np.float32)
    for i, (r, c) in enumerate(places):
        masks[i, max(0, r * step) : (r + 2) * step, max(0, c * step) : (c + 2) * step] = 0.0
    whole = float(answer(picture[None])[0])
    drops = whole - _answers(picture, masks, answer, channels_last)
    total, covered = np.zeros((rows, columns)), np.zeros((rows, columns))
    for (r, c), drop in zip(places, drops, strict=True):
        some = slice(max(0, r), r + 2), slice(max(0, c), c + 2)
        total[some] += drop
        covered[some] += 1
    return (total / covered).astype(np.float32)


def random_masks(picture: NDArray[Any], answer: Answer, channels_last: bool, seed: int = 0, masks: int = MASKS) -> Map:
    """The mean answer under random smooth masks, weighted by how open each place was (RISE, Petsiuk 2018), h x w of the
    prepared picture; the mean over places is taken off, so that only differences between places remain."""
    rng, (height, width) = np.random.default_rng(seed), _spatial(picture, channels_last)
    cell = -(-height // CELLS), -(-width // CELLS)
    # Enlarging works along either side by a matrix; a shift takes other rows of it.
    down, across = (_enlarging(CELLS + 1, (CELLS + 1) * n) for n in cell)
    total, masked = np.zeros(height * width), _Masked(picture, channels_last)
    for first in range(0, masks, BATCH):
        some = min(BATCH, masks - first)
        coarse = (rng.random((some, CELLS + 1, CELLS + 1)) < OPEN).astype(np.float32)
        shifts = zip(rng.integers(0, cell[0], some), rng.integers(0, cell[1], some), strict=True)
        smooth = np.stack(
            [down[d : d + height] @ one @ across[a : a + width].T for one, (d, a) in zip(coarse, shifts, strict=True)]
        )
        answers = answer(masked.under(smooth))
        total += answers.astype(np.float32) @ smooth.reshape(some, -1)
    summed = total.reshape(height, width)
    found = summed / (masks * OPEN)
    return (found - found.mean()).astype(np.float32)


def class_activation(activations: NDArray[np.float32], weights: NDArray[np.float64]) -> Map:
    """sum_c w_c A_c for n images (Zhou 2016): activations n x C x h x w of the layer before pooling, and the weights n x C
    that the linear layer behind it gives the target."""
    return np.einsum("nchw,nc->nhw", activations.astype(np.float64), weights).astype(np.float32)
