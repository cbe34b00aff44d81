"""SQLite databases that are not trusted: nothing in them is run, and no question to them takes for ever."""

from __future__ import annotations

import sqlite3
from pathlib import Path
from typing import Any

from mivrat.core.base.job import current_stop

# What one question may take, in millions of the database's steps: the largest take some dozen.
_MOST_STEPS, _STEPS = 2000, 1_000_000


class Connection(sqlite3.Connection):
    """A connection that ends a question which takes far too many steps, with sqlite3.OperationalError; while ``stoppable``,
    also one in a thread whose work is asked to stop."""

    _applied = 0
    stoppable = False

    def execute(self, *given: Any) -> sqlite3.Cursor:
        self._applied = 0
        try:
            return super().execute(*given)
        except UnicodeDecodeError as error:  # a name in the file that is no text, in the database's own complaint of it
            raise sqlite3.DatabaseError("it holds a name that is not text") from error

    def executemany(self, *given: Any) -> sqlite3.Cursor:
        self._applied = -1_000_000  # as often as there are rows
        return super().executemany(*given)

    def _step(self) -> int:
        self._applied += 1
        return int(self._applied > _MOST_STEPS or (self.stoppable and current_stop().stopped))


def connect(path: Path, *, any_thread: bool = False) -> Connection:
    """Open a file as a database that is not trusted; whoever opens it closes it. ``any_thread``: whoever uses it sees to it
    that only one thread does at a time."""
    db = sqlite3.connect(path, timeout=10, factory=Connection, check_same_thread=not any_thread)
    assert isinstance(db, Connection)
    try:
        db.set_progress_handler(db._step, _STEPS)
        db.execute("PRAGMA trusted_schema = OFF")
        db.execute("PRAGMA cell_size_check = ON")
        db.execute("PRAGMA mmap_size = 0")
    except sqlite3.Error:
        db.close()
        raise
    return db
