"""Rows that are taken away from a study and can be put back."""

from __future__ import annotations

from mivrat.core.study.file import Study
from mivrat.core.study.records import Removed


def rows_of(study: Study, *parts: tuple[str, str, int | str]) -> Removed:
    """Rows as they are, so that they can be put back after they were changed; each part is a table, which of its rows, and a key."""
    return Removed(
        [
            (table, study.db.execute(f"SELECT * FROM {table} WHERE {which}", (key,)).fetchall())
            for table, which, key in parts
        ]
    )


def take_away(study: Study, *parts: tuple[str, str, int | str]) -> Removed:
    """Take rows away, parts as ``rows_of`` has them."""
    found = rows_of(study, *parts)
    with study.writing() as db:
        for table, which, key in parts:
            db.execute(f"DELETE FROM {table} WHERE {which}", (key,))
    return found


def put_back(study: Study, removed: Removed) -> None:
    """Put back what was taken away."""
    with study.writing() as db:
        for table, rows in reversed(removed.rows):
            if rows:
                db.executemany(f"INSERT OR IGNORE INTO {table} VALUES ({', '.join('?' * len(rows[0]))})", rows)
        if removed.model_id is not None:
            db.execute("UPDATE model SET listed = 1 WHERE id = ?", (removed.model_id,))
