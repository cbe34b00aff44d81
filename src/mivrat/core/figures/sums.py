"""Sums that are the same to the last bit in whatever order their parts are listed."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

Numbers = NDArray[np.float64]


def ordered_sum(values: NDArray[Any]) -> float:
    """The sum of N values, added in the order of their size.

    >>> ordered_sum(np.array([1e16, 1.0, -1e16])) == ordered_sum(np.array([1.0, 1e16, -1e16]))
    True
    """
    return float(np.sort(np.asarray(values, float)).sum())


def ordered_sums(where: NDArray[np.integer], values: NDArray[Any], number: int) -> Numbers:
    """The sums of N values by group (``where``, from 0), for so many groups, each added in the order of their size."""
    given = np.asarray(values, float)
    order = np.lexsort((given, where))
    found: Numbers = np.bincount(where[order], given[order], number).astype(float)
    return found
