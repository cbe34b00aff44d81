"""Arrays kept in one file of a cache folder, each under a key; what cannot be read counts as not known."""

from __future__ import annotations

from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from mivrat.core.files import limit_folder, write_whole_with

# Older files of the folder are deleted once all together take more than this.
MOST_BYTES = 2_000_000_000


class ArrayCache:
    """``known`` holds float32 arrays by keys of one length; ``keep`` writes them all."""

    def __init__(self, path: Path) -> None:
        self._path = path
        self.known: dict[bytes, NDArray[np.float32]] = {}
        try:
            with np.load(path, allow_pickle=False) as found:
                keys, shapes, values = found["keys"], found["shapes"], found["values"]
            ends = np.cumsum(shapes.prod(axis=1))
            parts = np.split(values, ends[:-1]) if len(keys) else []
            self.known = {bytes(key): part.reshape(shape) for key, shape, part in zip(keys, shapes, parts, strict=True)}
        except (OSError, ValueError, KeyError, IndexError):
            self.known = {}

    def keep(self) -> None:
        """Write everything known, whole or not at all."""
        if not self.known:
            return
        keys = np.array([np.frombuffer(key, np.uint8) for key in self.known])
        shapes = np.array([value.shape for value in self.known.values()], np.int64).reshape(len(keys), -1)
        values = np.concatenate([value.ravel() for value in self.known.values()])

        def write(part: Path) -> None:
            with open(part, "wb") as file:
                np.savez(file, keys=keys, shapes=shapes, values=values)

        write_whole_with(self._path, write)
        limit_folder(self._path.parent, MOST_BYTES, self._path)
