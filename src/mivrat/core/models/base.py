"""The small interface every model has: it answers raw scores for a batch of prepared images."""

from __future__ import annotations

from typing import Any, Protocol

import numpy as np
from numpy.typing import NDArray


class Model(Protocol):
    """Answers raw scores; nothing above knows where the answer comes from."""

    name: str

    def scores(self, batch: NDArray[Any]) -> NDArray[np.float32]:
        """Raw scores, images x columns, for prepared images stacked on the first axis."""
        ...
