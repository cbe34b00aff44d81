"""Stands for the scores of a run whose file is not there."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from mivrat.core.base.errors import InputError


class MissingScores:
    """Stands for the scores whose file is not there, or is another one: whoever asks for one of them is told so."""

    def __init__(self, file: Path, why: str, shape: tuple[int, int], dtype: np.dtype[Any]) -> None:
        self.file, self.why, self.shape, self.dtype = file, why, shape, dtype

    def __len__(self) -> int:
        return self.shape[0]

    def error(self) -> InputError:
        """What is told of it."""
        return InputError(
            f"the scores of this run {self.why}; figures that need a score of every class are left out",
            where=self.file,
            hint=f"put the folder {self.file.parent.name} back beside the study, or run the model again",
        )

    def __getitem__(self, _: object) -> NDArray[np.floating]:
        raise self.error()

    def __setitem__(self, _: object, __: object) -> None:
        self[0]


def are_missing(rows: object) -> bool:
    """Whether a run's scores cannot be had."""
    return isinstance(rows, MissingScores)
