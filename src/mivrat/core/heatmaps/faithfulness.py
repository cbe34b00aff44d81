"""Deletion and insertion (Petsiuk 2018): whether what a map calls important is what the answer depends on."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from mivrat.core.base.lazy_module import LazyModule
from mivrat.core.heatmaps.answers_only import BATCH, Answer
from mivrat.core.heatmaps.hottest import laid_over

if TYPE_CHECKING:
    from scipy import ndimage
else:
    ndimage = LazyModule("scipy.ndimage")

STEPS, DRAWS = 20, 10
# A random order is drawn as a map of no finer grid than this, so that it hides connected places as a heatmap does.
COARSEST = 14
# What insertion starts from: the image under a bell of this share of its side.
BLUR = 1 / 8


# So many answers to changed images both curves of one map take, with those of random orders.
ANSWERS = 2 * (STEPS + 1) * (DRAWS + 1)


@dataclass(frozen=True)
class Faithfulness:
    """p(target) after each of STEPS equal parts of the area (``shares`` from 0 to 1), hottest first.

    ``deletion`` takes them away (in the image's mean colour), ``insertion`` puts them back onto the blurred image; the areas
    are those under the two curves. ``random_*`` are the same for random orders: curves DRAWS x (STEPS + 1), areas DRAWS.
    """

    shares: NDArray[np.float64]
    deletion: NDArray[np.float64]
    insertion: NDArray[np.float64]
    random_deletion: NDArray[np.float64]
    random_insertion: NDArray[np.float64]

    @property
    def deletion_area(self) -> float:
        return area(self.shares, self.deletion)

    @property
    def insertion_area(self) -> float:
        return area(self.shares, self.insertion)

    @property
    def random_deletion_areas(self) -> NDArray[np.float64]:
        return np.array([area(self.shares, one) for one in self.random_deletion])

    @property
    def random_insertion_areas(self) -> NDArray[np.float64]:
        return np.array([area(self.shares, one) for one in self.random_insertion])


def area(shares: NDArray[np.float64], values: NDArray[np.float64]) -> float:
    """The area under a curve, by trapezoids.

    ``shares`` is P shares hidden, ascending from 0 to 1, ``values`` the P answers; returns their mean, in the units of the
    answers.
    """
    return float(((values[1:] + values[:-1]) / 2 * np.diff(shares)).sum())


def faithfulness(
    picture: NDArray[Any], heat: NDArray[np.floating], answer: Answer, channels_last: bool, seed: int = 0
) -> Faithfulness:
    """Both curves of a map for one prepared picture, and those of random orders.

    Takes ANSWERS forward passes, in batches of BATCH. ``picture`` is C × H × W, or H × W × C where ``channels_last``; ``heat``
    is h × w.
    """
    height, width = picture.shape[:2] if channels_last else picture.shape[1:]
    rng, grid = np.random.default_rng(seed), (min(heat.shape[0], COARSEST), min(heat.shape[1], COARSEST))
    maps = [heat, *(rng.random(grid).astype(np.float32) for _ in range(DRAWS))]
    shares = np.arange(STEPS + 1) / STEPS
    changed = np.round(shares * height * width).astype(int)
    over = (0, 1) if channels_last else (1, 2)
    plain = np.broadcast_to(picture.mean(axis=over, keepdims=True, dtype=np.float64), picture.shape)
    sigma = [0.0 if axis not in over else max(height, width) * BLUR for axis in range(3)]
    soft = ndimage.gaussian_filter(picture.astype(np.float32), sigma)
    curves = np.empty((2, DRAWS + 1, STEPS + 1))
    for d, one in enumerate(maps):
        order = np.argsort(-laid_over(one, height, width).ravel(), kind="stable")
        place = np.empty(order.size, int)
        place[order] = np.arange(order.size)
        taken = place.reshape(1, height, width) < changed[:, None, None]
        spread = taken[..., None] if channels_last else taken[:, None]
        for k, (before, after) in enumerate(((picture, plain), (soft, picture))):
            stages = np.where(spread, after, before).astype(picture.dtype)
            curves[k, d] = np.concatenate([answer(stages[i : i + BATCH]) for i in range(0, STEPS + 1, BATCH)])
    return Faithfulness(shares, curves[0, 0], curves[1, 0], curves[0, 1:], curves[1, 1:])
