"""Exact search for the most similar images, by the cosine of their features."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

from mivrat.core.likeness.features import Vectors, unit


def nearest(
    vectors: Vectors, like: Sequence[int], most: int, among: NDArray[np.bool_] | None = None
) -> tuple[NDArray[np.int64], NDArray[np.float32]]:
    """The positions of the images most like some others, which are left out, and their cosines; the most similar first.

    ``vectors`` are unit rows (NaN where there are none); several images are asked for by the mean of their vectors.
    Equal cosines stay in order of position.
    """
    wanted = vectors[list(like)]
    wanted = wanted[~np.isnan(wanted).any(axis=1)]
    if not len(wanted):
        return np.zeros(0, np.int64), np.zeros(0, np.float32)
    cosines = vectors @ unit(wanted.mean(axis=0, keepdims=True))[0]
    cosines[list(like)] = np.nan
    if among is not None:
        cosines[~among] = np.nan
    known = np.flatnonzero(~np.isnan(cosines))
    if len(known) > most:
        least = np.partition(cosines[known], -most)[-most]
        known = known[cosines[known] >= least]
    order = known[np.argsort(-cosines[known], kind="stable")][:most]
    return order, cosines[order]


def likeness_to_class(vectors: Vectors, labels: NDArray[np.integer]) -> NDArray[np.float64]:
    """The cosine of each labelled image to the mean of its class's other images; NaN where there is no other."""
    found = np.full(len(vectors), np.nan)
    known = (labels >= 0) & ~np.isnan(vectors).any(axis=1)
    for k in np.unique(labels[known]):
        members = np.flatnonzero(known & (labels == k))
        if len(members) > 1:
            whole = vectors[members].sum(axis=0, dtype=np.float64)
            rest = whole - vectors[members]
            lengths = np.linalg.norm(rest, axis=1)
            found[members] = (rest * vectors[members]).sum(axis=1) / np.where(lengths > 0, lengths, 1.0)
    return found
