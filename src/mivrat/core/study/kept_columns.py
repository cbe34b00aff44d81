"""What a study keeps of a large set or run as columns besides its rows, so that opening it need not go through these: the images
of a set, and what the answers of a run say of them. It is made from the rows and dropped where one of these changes."""

from __future__ import annotations

import io
import json
import logging
import sqlite3
import zipfile
from collections.abc import Mapping, Sequence
from contextlib import suppress
from typing import Any, Literal

import numpy as np
from numpy.typing import NDArray

from mivrat.core.base.errors import InputError
from mivrat.core.pictures.image_sets import MANY
from mivrat.core.study.file import Study
from mivrat.core.study.soundness import reading

log = logging.getLogger(__name__)
# A set with fewer images is read row by row.
LARGE = MANY
Of = Literal["set", "run"]
Columns = Mapping[str, NDArray[Any]]


def is_large(number: int) -> bool:
    """Whether a set of so many images is kept as columns too."""
    return number >= LARGE


def texts_as_column(texts: Sequence[str]) -> NDArray[np.uint8]:
    """Texts as one column of bytes; ValueError where one of them holds a NUL or is no text."""
    whole = "\0".join(texts)
    if whole.count("\0") != max(0, len(texts) - 1):
        raise ValueError("a text holds a NUL")
    return np.frombuffer(whole.encode(), np.uint8)


def texts_of_column(column: NDArray[np.uint8], number: int) -> list[str]:
    """So many texts from a column of bytes; ValueError where there are more or fewer."""
    texts = column.tobytes().decode().split("\0") if number else []
    if len(texts) != number:
        raise ValueError("holds another number of texts")
    return texts


def save_columns(study: Study, of: Of, key: int, columns: Columns) -> None:
    """Keep columns; where the study cannot be written, they are made again the next time."""
    packed = io.BytesIO()
    np.savez(packed, **columns)  # type: ignore[arg-type]
    with suppress(InputError), study.writing() as db:
        db.execute("INSERT OR REPLACE INTO kept_columns VALUES (?, ?, ?)", (of, key, packed.getvalue()))


@reading
def load_columns(study: Study, of: Of, key: int) -> dict[str, NDArray[Any]] | None:
    """The columns kept; None where there are none, or none that can be read."""
    row = study.db.execute("SELECT value FROM kept_columns WHERE what = ? AND id = ?", (of, key)).fetchone()
    if row is None:
        return None
    try:
        with np.load(io.BytesIO(row[0]), allow_pickle=False) as found:
            return {name: found[name] for name in found.files}
    except (ValueError, OSError, EOFError, KeyError, zipfile.BadZipFile):
        log.warning("the columns kept of a %s cannot be read; they are made again", of)
        return None


@reading
def has_columns(study: Study, of: Of, key: int) -> bool:
    """Whether there are columns, readable or not."""
    query = "SELECT 1 FROM kept_columns WHERE what = ? AND id = ?"
    return study.db.execute(query, (of, key)).fetchone() is not None


def forget_columns(db: sqlite3.Connection, *, set_id: int | None = None, model_id: int | None = None) -> None:
    """Drop what is kept of a set and of its runs, or of a model's runs; of both all of these."""
    db.execute("DELETE FROM kept_columns WHERE what = 'set' AND id = ?", (set_id,))
    db.execute(
        "DELETE FROM kept_columns WHERE what = 'run' AND id IN (SELECT id FROM run WHERE set_id = ? OR model_id = ?)",
        (set_id, model_id),
    )


def json_column(value: Any) -> NDArray[np.uint8]:
    """Something small, as JSON in a column of bytes."""
    return np.frombuffer(json.dumps(value, ensure_ascii=False).encode(), np.uint8)


def text_of(column: NDArray[np.uint8]) -> str:
    """What ``json_column`` holds, as text."""
    return column.tobytes().decode()
