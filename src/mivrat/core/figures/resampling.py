"""How often each of so many is drawn again, with replacement."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray


def weights_drawn(rng: np.random.Generator, total: int, draws: int) -> NDArray[np.float64]:
    """How often each of so many is drawn, with replacement (draws x total)."""
    picked = rng.integers(0, total, (draws, total)) + (np.arange(draws) * total)[:, None]
    return np.bincount(picked.ravel(), minlength=draws * total).reshape(draws, total).astype(float)
