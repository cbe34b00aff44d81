"""What a study keeps of the properties of pictures, by their content."""

from __future__ import annotations

import sqlite3
from collections.abc import Iterable, Mapping, Sequence

import numpy as np

from mivrat.core.pictures.properties import PROPERTIES, Values
from mivrat.core.study.file import Study
from mivrat.core.study.soundness import damaged, reading

_WIDTH = 4 * len(PROPERTIES)


def put_properties(db: sqlite3.Connection, rows: Iterable[tuple[bytes, Values]]) -> None:
    """Keep the properties of some contents, within a transaction; the same again does no harm."""
    db.executemany(
        "INSERT OR REPLACE INTO property VALUES (?, ?)",
        [(content, found.astype("<f4").tobytes()) for content, found in rows],
    )


def keep_properties(study: Study, rows: Sequence[tuple[bytes, Values]]) -> None:
    """The same in a transaction of its own."""
    with study.writing() as db:
        put_properties(db, rows)


@reading
def load_properties(study: Study, set_id: int, listed: int) -> Values:
    """The properties of the pictures of a set (listed × properties); NaN where nobody has measured them."""
    found = np.full((listed, len(PROPERTIES)), np.nan, np.float32)
    cursor = study.db.execute(
        "SELECT position, measured FROM image JOIN property USING (content) WHERE set_id = ?", (set_id,)
    )
    while rows := cursor.fetchmany(10_000):
        if any(len(one) != _WIDTH or not 0 <= i < listed for i, one in rows):
            raise damaged(study.path, "the properties of a picture are of another number")
        at = [i for i, _ in rows]
        found[at] = np.frombuffer(b"".join(one for _, one in rows), "<f4").reshape(len(rows), -1)
    return found


@reading
def properties_of_contents(study: Study, contents: Mapping[int, bytes], listed: int) -> Values:
    """The same for images that the study need not list, by their contents at each position."""
    found = np.full((listed, len(PROPERTIES)), np.nan, np.float32)
    places: dict[bytes, list[int]] = {}
    for i, content in contents.items():
        places.setdefault(content, []).append(i)
    for content, one in study.db.execute("SELECT content, measured FROM property"):
        if at := places.get(content):
            if len(one) != _WIDTH:
                raise damaged(study.path, "the properties of a picture are of another number")
            found[at] = np.frombuffer(one, "<f4")
    return found


@reading
def contents_measured(study: Study) -> set[bytes]:
    """The contents whose properties are kept."""
    return {content for (content,) in study.db.execute("SELECT content FROM property")}


@reading
def unmeasured(study: Study, set_id: int) -> list[int]:
    """The images of a set whose photos nobody has measured, by position; those that cannot be read left out."""
    query = (
        "SELECT position FROM image WHERE set_id = ? AND problem IS NULL AND "
        "NOT EXISTS (SELECT 1 FROM property WHERE property.content = image.content) ORDER BY position"
    )
    return [position for (position,) in study.db.execute(query, (set_id,))]
