"""The orders in which images are looked at."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Literal

import numpy as np
from numpy.typing import NDArray

from mivrat.core.pictures.classes import natural_key
from mivrat.core.pictures.image_sets import ImageItem
from mivrat.core.running.answers import Judged

Order = Literal["surest mistake first", "least sure first", "name", "as listed"]
ORDERS: tuple[Order, ...] = ("surest mistake first", "least sure first", "name", "as listed")


def ordered(
    judged: Judged,
    items: Sequence[ImageItem],
    chosen: NDArray[np.bool_],
    order: Order,
    listing: Sequence[int] | None = None,
) -> NDArray[np.int64]:
    """Indices of the chosen images in an order; equal ones stay as listed, images without an answer come last.

    ``surest mistake first``: wrong answers by falling confidence, then the others likewise. ``as listed``: as they
    stand in ``listing``, which then holds all chosen ones, or in the image set.
    """
    indices = np.flatnonzero(chosen)
    if order == "as listed":
        return indices if listing is None else np.array([i for i in listing if i < len(chosen) and chosen[i]], np.int64)
    if order == "name":
        return np.array(sorted(indices.tolist(), key=lambda i: natural_key(items[i].path)), np.int64)
    confidence = judged.confidence[indices]
    if order == "least sure first":
        return indices[np.argsort(np.nan_to_num(confidence, nan=2.0), kind="stable")]
    return indices[np.lexsort((-np.nan_to_num(confidence, nan=-1.0), ~judged.wrong[indices]))]
