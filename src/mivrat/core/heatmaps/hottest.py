"""A map laid over the whole picture, and the part of it where the map is highest."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray
from PIL import Image

Mask = NDArray[np.bool_]


def laid_over(heat: NDArray[np.floating], height: int, width: int) -> NDArray[np.float32]:
    """A map resampled to what the network receives, bilinearly between its cells' centres.

    ``heat`` is h × w; returns ``height`` × ``width``.
    """
    made = Image.fromarray(np.ascontiguousarray(heat, np.float32))
    return np.asarray(made.resize((width, height), Image.Resampling.BILINEAR))


def hottest_part(heat: NDArray[np.floating], share: float, height: int, width: int) -> Mask:
    """The share of the area where a map is highest; empty where it has no evidence at all.

    ``heat`` is h × w, ``share`` from 0 to 1; returns ``height`` × ``width``.
    """
    if not heat.max() > 0:
        return np.zeros((height, width), bool)
    large = laid_over(heat, height, width)
    found = np.zeros(large.size, bool)
    found[np.argsort(-large.ravel(), kind="stable")[: max(1, round(share * large.size))]] = True
    return found.reshape(large.shape)
