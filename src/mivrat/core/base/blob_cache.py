"""The one kind of cache for what can be worked out again: blobs in an SQLite file of limited size, and arrays kept in it."""

from __future__ import annotations

import contextlib
import hashlib
import itertools
import sqlite3
import threading
import time
from collections.abc import Iterable, Iterator, Mapping
from pathlib import Path

import numpy as np
from numpy.typing import NDArray
from platformdirs import user_cache_path

from mivrat.core.base.database import connect
from mivrat.core.base.errors import InputError

# What is kept, each in a file of its own; once there is more of it than so many bytes, what was used longest ago goes.
MOST_BYTES = {"answers": 500_000_000, "features": 1_000_000_000, "maps": 1_000_000_000, "thumbnails": 300_000_000}
# When something was used last is noted by the day: reading is not to mean writing.
_DAY = 86_400
# After so many writes it is looked whether there is too much.
_LOOKED_AFTER = 500

_TABLES = """
CREATE TABLE IF NOT EXISTS blob (space BLOB NOT NULL, key BLOB NOT NULL, used INTEGER NOT NULL, form TEXT NOT NULL,
                                 value BLOB NOT NULL, PRIMARY KEY (space, key)) WITHOUT ROWID;
"""


def user_cache(what: str) -> BlobCache:
    """The user's cache of something that MOST_BYTES names."""
    return BlobCache(user_cache_path("mivrat", appauthor=False) / f"{what}.sqlite", MOST_BYTES[what])


class BlobCache:
    """Blobs by ``space`` (what they are of) and key. Safe to use from several threads and processes: what is added is there
    wholly or not at all, even after a loss of power.

    A file that cannot be read is begun anew; one that cannot be written is done without, but by ``put``, which says so.
    """

    def __init__(self, path: Path, most_bytes: int = 1_000_000_000) -> None:
        self.path, self._most = path, most_bytes
        self._written = itertools.count()
        self._lock = threading.RLock()
        self._held: sqlite3.Connection | None = None
        self._holding = False

    def hold(self) -> None:
        """Keep the file open from its next use on, until ``close``: for whoever reads and writes one by one."""
        self._holding = True

    def close(self) -> None:
        """Let go of the file; it is opened again where it is used again."""
        with self._lock:
            self._holding = False
            self._let_go()

    def _let_go(self) -> None:
        if self._held is not None:
            self._held.close()
            self._held = None

    @contextlib.contextmanager
    def _open(self) -> Iterator[sqlite3.Connection]:
        with self._lock:
            if self._held is None:
                self._held = connect(self.path, any_thread=True)
                if self._holding:
                    with contextlib.suppress(sqlite3.OperationalError):  # held by another: as it is, then
                        # What is added is whole after a loss of power, and nobody waits for the disk meanwhile.
                        self._held.execute("PRAGMA journal_mode = WAL")
                        self._held.execute("PRAGMA synchronous = NORMAL")
            try:
                yield self._held
            except BaseException:
                self._let_go()
                raise
            finally:
                if not self._holding:
                    self._let_go()

    def _begin_anew(self) -> None:
        for suffix in ("", "-wal", "-shm"):
            with contextlib.suppress(OSError):
                self.path.with_name(self.path.name + suffix).unlink()

    def all_of(self, space: str) -> dict[bytes, tuple[str, bytes]]:
        """Everything in a space: form and value by key; nothing where the cache cannot be read."""
        if not self.path.is_file():
            return {}
        query = "SELECT key, form, value FROM blob WHERE space = ?"
        try:
            with self._open() as db:
                found = {key: (form, value) for key, form, value in db.execute(query, (_short(space),))}
                with contextlib.suppress(sqlite3.OperationalError), db:
                    today = int(time.time()) // _DAY
                    used = "UPDATE blob SET used = ? WHERE space = ? AND used < ?"
                    db.execute(used, (today, _short(space), today))
                return found
        except sqlite3.Error as error:
            if _is_damage(error):
                self._begin_anew()
            return {}

    def get(self, space: str, key: bytes) -> bytes | None:
        """One value; None where it is not there, or the cache cannot be read."""
        return self.some_of(space, (key,)).get(key)

    def some_of(self, space: str, keys: Iterable[bytes]) -> dict[bytes, bytes]:
        """The values of those keys that are there; nothing where the cache cannot be read."""
        if not self.path.is_file():
            return {}
        query = "SELECT value, used FROM blob WHERE space = ? AND key = ?"
        found, old, today = dict[bytes, bytes](), list[tuple[int, bytes, bytes]](), int(time.time()) // _DAY
        try:
            with self._open() as db:
                for key in keys:
                    if (row := db.execute(query, (_short(space), key)).fetchone()) is not None:
                        found[key] = bytes(row[0])
                        if row[1] < today:
                            old.append((today, _short(space), key))
                if old:
                    with contextlib.suppress(sqlite3.OperationalError), db:
                        db.executemany("UPDATE blob SET used = ? WHERE space = ? AND key = ?", old)
        except (sqlite3.Error, TypeError) as error:
            if _is_damage(error):
                self._begin_anew()
        return found

    def put(self, space: str, items: Mapping[bytes, tuple[str, bytes]]) -> None:
        """Keep form and value by key. InputError where that is impossible."""
        try:
            self.path.parent.mkdir(parents=True, exist_ok=True)
            try:
                self._write(space, items)
            except sqlite3.DatabaseError as error:
                if not _is_damage(error):
                    raise
                self._begin_anew()
                self._write(space, items)
        except (OSError, sqlite3.Error) as error:
            raise InputError(
                f"the cache cannot be written ({error})", where=self.path, hint="see that there is room left"
            ) from error

    def forget(self, space: str) -> None:
        """Let everything in a space go."""
        with contextlib.suppress(sqlite3.Error), self._open() as db, db:
            db.execute("DELETE FROM blob WHERE space = ?", (_short(space),))

    def _write(self, space: str, items: Mapping[bytes, tuple[str, bytes]]) -> None:
        today = int(time.time()) // _DAY
        rows = [(_short(space), key, today, form, value) for key, (form, value) in sorted(items.items())]
        with self._open() as db:
            if db.execute("SELECT 1 FROM sqlite_schema WHERE name = 'blob'").fetchone() is None:
                db.execute("PRAGMA page_size = 16384")
                db.executescript(_TABLES)
            with db:
                db.executemany("INSERT OR REPLACE INTO blob VALUES (?, ?, ?, ?, ?)", rows)
            if next(self._written) % _LOOKED_AFTER == 0:
                self._cut_back(db)

    def _cut_back(self, db: sqlite3.Connection) -> None:
        """Let those that were used longest ago go, down to the number of bytes there may be."""
        (total,) = db.execute("SELECT COALESCE(SUM(LENGTH(value)), 0) FROM blob").fetchone()
        too_much = total - self._most
        if too_much <= 0:
            return
        gone = []
        query = "SELECT space, key, LENGTH(value) FROM blob ORDER BY used, key"
        for space, key, size in db.execute(query):
            if too_much <= 0:
                break
            gone.append((space, key))
            too_much -= size
        with db:
            db.executemany("DELETE FROM blob WHERE space = ? AND key = ?", gone)


def _is_damage(error: Exception) -> bool:
    """Whether what is wrong lies in the file, rather than in its being held, or in the disk."""
    passing = (
        sqlite3.SQLITE_BUSY,
        sqlite3.SQLITE_LOCKED,
        sqlite3.SQLITE_FULL,
        sqlite3.SQLITE_READONLY,
        sqlite3.SQLITE_IOERR,
        sqlite3.SQLITE_CANTOPEN,
        sqlite3.SQLITE_INTERRUPT,
    )
    return (getattr(error, "sqlite_errorcode", sqlite3.SQLITE_CORRUPT) & 0xFF) not in passing


def _short(space: str) -> bytes:
    return hashlib.sha256(space.encode("utf-8", "surrogateescape")).digest()[:16]


class KeptArrays:
    """``known`` holds the float32 arrays of a space, of so many axes, by key (``alike``: all of one size); ``keep`` writes those
    that are new, and leaves the others as they are."""

    def __init__(self, cache: BlobCache, space: str, axes: int, alike: bool = False) -> None:
        self._cache, self._space = cache, space
        self.known: dict[bytes, NDArray[np.float32]] = {}
        try:
            for key, (form, value) in cache.all_of(space).items():
                sides = [int(n) for n in form.split()]
                if len(sides) != axes:
                    raise ValueError("no array of this kind")
                self.known[key] = np.frombuffer(value, "<f4").reshape(sides).astype(np.float32)
            if alike and len({values.shape for values in self.known.values()}) > 1:
                raise ValueError("arrays that differ in size")
        except (ValueError, TypeError, AttributeError, MemoryError, OverflowError):
            self.known = {}  # what was kept can be worked out again
            cache.forget(space)
        self._kept = set(self.known)

    def keep(self) -> None:
        """Write what is known and not written yet. InputError where that is impossible."""
        new = {key: value for key, value in list(self.known.items()) if key not in self._kept}
        if new:
            items = {
                key: (" ".join(map(str, value.shape)), np.ascontiguousarray(value, "<f4").tobytes())
                for key, value in new.items()
            }
            self._cache.put(self._space, items)
            self._kept |= new.keys()
