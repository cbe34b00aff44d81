"""Arrays kept in one file of a cache folder, each under a key; a file that cannot be read is begun anew."""

from __future__ import annotations

import contextlib
import sqlite3
from collections.abc import Iterator
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from mivrat.core.base.database import connect
from mivrat.core.base.errors import InputError
from mivrat.core.base.files import limit_folder

# Older files of the folder are deleted once all together take more than this.
MOST_BYTES = 2_000_000_000

_TABLE = "CREATE TABLE IF NOT EXISTS array (key BLOB PRIMARY KEY, shape TEXT NOT NULL, numbers BLOB NOT NULL)"


class ArrayCache:
    """``known`` holds float32 arrays of so many axes by key (``alike``: all of one size); ``keep`` writes those that are new, and leaves the others as they are.

    The file is an SQLite database, so that what is added is there wholly or not at all, even after a loss of power.
    """

    def __init__(self, path: Path, axes: int, alike: bool = False) -> None:
        self._path, self._axes, self._alike = path, axes, alike
        self.known: dict[bytes, NDArray[np.float32]] = {}
        if path.is_file():
            try:
                self._read()
            except (sqlite3.Error, ValueError, TypeError, AttributeError, MemoryError, OverflowError):
                # What was kept can be worked out again.
                self.known = {}
                with contextlib.suppress(OSError):
                    path.unlink()
        self._kept = set(self.known)

    @contextlib.contextmanager
    def _open(self) -> Iterator[sqlite3.Connection]:
        db = connect(self._path)
        try:
            yield db
        finally:
            db.close()

    def _read(self) -> None:
        with self._open() as db:
            for key, shape, numbers in db.execute("SELECT key, shape, numbers FROM array"):
                sides = [int(n) for n in shape.split()]
                if not isinstance(key, bytes) or len(sides) != self._axes:
                    raise ValueError("no array of this kind")
                self.known[key] = np.frombuffer(numbers, "<f4").reshape(sides).astype(np.float32)
        if self._alike and len({values.shape for values in self.known.values()}) > 1:
            raise ValueError("arrays that differ in size")

    def keep(self) -> None:
        """Write what is known and not written yet. InputError where that is impossible."""
        new = {key: value for key, value in self.known.items() if key not in self._kept}
        if not new:
            return
        try:
            self._path.parent.mkdir(parents=True, exist_ok=True)
            try:
                self._write(new)
            except sqlite3.DatabaseError:  # damaged meanwhile: begin anew, with all that is known
                self._path.unlink(missing_ok=True)
                self._write(self.known)
        except (OSError, sqlite3.Error) as error:
            raise InputError(
                f"the cache cannot be written ({error})", where=self._path, mend="see that there is room left"
            ) from error
        self._kept |= self.known.keys()
        limit_folder(self._path.parent, MOST_BYTES, self._path)

    def _write(self, arrays: dict[bytes, NDArray[np.float32]]) -> None:
        with self._open() as db, db:
            db.execute(_TABLE)
            db.executemany(
                "INSERT OR REPLACE INTO array VALUES (?, ?, ?)",
                [
                    (key, " ".join(map(str, value.shape)), np.ascontiguousarray(value, "<f4").tobytes())
                    for key, value in list(arrays.items())
                ],
            )
