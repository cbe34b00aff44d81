"""Sees that a file that says it is a study is one, whoever made it: its tables, the kinds of its values, and what they refer to."""

from __future__ import annotations

import logging
import re
import sqlite3
from collections.abc import Callable, Hashable
from dataclasses import is_dataclass
from functools import cache, wraps
from pathlib import Path
from typing import Any, Concatenate, ParamSpec, Protocol, TypeVar, cast, get_args

from pydantic import ConfigDict, TypeAdapter, ValidationError

from mivrat.core.answers.answers import FAILED, SCORED, UNREADABLE
from mivrat.core.base.errors import InputError
from mivrat.core.base.job import Stopped, current_stop
from mivrat.core.models.kinds import KINDS
from mivrat.core.models.scores import Kind, column_count_fits
from mivrat.core.pictures.image_sets import ROLES
from mivrat.core.study.schema import TABLES

log = logging.getLogger(__name__)

# Far more than any study needs; a file with more was made to bring the program down.
MOST_ROWS = {"class": 100_000, "model": 10_000, "image_set": 10_000, "run": 10_000, "image": 20_000_000}
MOST_NUMBERS = 10_000_000_000
_AFFINITY = {"INTEGER": "integer", "TEXT": "text", "BLOB": "blob", "REAL": "real"}
# Parts of a table's definition that ours have not, and that would have the database work for whoever wrote them.
_FOREIGN = re.compile(r"\b(check|generated|collate|virtual)\b\s*", re.IGNORECASE)


def damaged(path: Path, why: object) -> InputError:
    """The error for a study that holds what no study holds."""
    return InputError(
        f"the study is damaged, or was not made by Mivrat ({' '.join(str(why).split())[:160]})",
        where=path,
        hint="open an earlier copy, or create it again",
    )


def raise_if_stopped(error: sqlite3.Error) -> None:
    """Raise Stopped where a question failed because this thread's work was asked to stop."""
    if getattr(error, "sqlite_errorcode", 0) == sqlite3.SQLITE_INTERRUPT and current_stop().stopped:
        raise Stopped from error


def failed(path: Path, error: sqlite3.Error) -> InputError:
    """The error for a question to a study that failed: it is held by another program, cannot be reached, or is damaged. Raises
    Stopped where it was asked to stop."""
    raise_if_stopped(error)
    code = getattr(error, "sqlite_errorcode", 0) & 0xFF
    if code in (sqlite3.SQLITE_BUSY, sqlite3.SQLITE_LOCKED):
        return InputError("is in use by another program", where=path, hint="close it there first")
    if code in (sqlite3.SQLITE_CANTOPEN, sqlite3.SQLITE_IOERR, sqlite3.SQLITE_READONLY, sqlite3.SQLITE_FULL):
        return InputError(
            f"the study cannot be read ({error})", where=path, hint="see that its folder is there, and has room left"
        )
    return damaged(path, error)


class _Stored(Protocol):
    @property
    def path(self) -> Path: ...


_Where = TypeVar("_Where", bound=_Stored)
_Given = ParamSpec("_Given")
_Found = TypeVar("_Found")
# What values that a study holds can raise where they are read; anything else is a mistake of ours.
_WRONG = (ValueError, RecursionError, OverflowError, OSError)


def reading(method: Callable[Concatenate[_Where, _Given], _Found]) -> Callable[Concatenate[_Where, _Given], _Found]:
    """For what reads a study, given first: where that cannot be done for what the study holds, InputError says so."""

    @wraps(method)
    def read(study: _Where, /, *args: _Given.args, **kwargs: _Given.kwargs) -> _Found:
        try:
            return method(study, *args, **kwargs)
        except sqlite3.Error as error:
            raise failed(study.path, error) from error
        except _WRONG as error:
            log.warning("reading a study failed", exc_info=True)
            raise damaged(study.path, error) from error

    return read


@cache
def _ours() -> dict[str, list[tuple[Any, ...]]]:
    """Our tables with their columns: name, type, whether it may not be null, default, place in the key, hidden."""
    db = sqlite3.connect(":memory:")
    try:
        db.executescript(TABLES)
        return {
            name: _columns(db, name) for (name,) in db.execute("SELECT name FROM sqlite_schema WHERE type = 'table'")
        }
    finally:
        db.close()


def _columns(db: sqlite3.Connection, table: str) -> list[tuple[Any, ...]]:
    return sorted(row[1:] for row in db.execute("SELECT * FROM pragma_table_xinfo(?)", (table,)))


def refuse_foreign_schema(db: sqlite3.Connection, path: Path) -> None:
    """InputError where the file holds anything but plain tables, before one of them is read."""
    for kind, name, sql in db.execute("SELECT type, name, sql FROM sqlite_schema LIMIT 1000"):
        plain = (kind == "table" and isinstance(sql, str)) or (kind == "index" and sql is None)
        if not plain or (isinstance(sql, str) and _FOREIGN.search(sql)):
            raise damaged(path, f"it holds the {kind} {str(name)[:60]!r}, which no study has")


def refuse_other_tables(db: sqlite3.Connection, path: Path) -> None:
    """InputError where the tables are not just ours, with our columns."""
    found = [name for (name,) in db.execute("SELECT name FROM sqlite_schema WHERE type = 'table' LIMIT 1000")]
    for name in sorted({*found, *_ours()}):
        if name not in _ours():
            raise damaged(path, f"it holds the table {str(name)[:60]!r}, which no study has")
        if name not in found or _columns(db, name) != _ours()[name]:
            raise damaged(path, f"its table {name!r} is not the one that studies have")


def check_contents(db: sqlite3.Connection, path: Path) -> None:
    """InputError where a value is of another kind than its column's, is no text, or refers to nothing."""
    for name, most in MOST_ROWS.items():
        if db.execute(f"SELECT COUNT(*) FROM {name}").fetchone()[0] > most:
            raise damaged(path, f"it holds more than {most} rows of {name!r}")
    for table, columns in _ours().items():
        _check_kinds(db, path, table, columns)
        # Whose the answers are is told by their key alone; all of them would be read to find that out here.
        refers = None if table == "answer" else db.execute(f"PRAGMA foreign_key_check({table})").fetchone()
        if refers or (table == "answer" and db.execute(_WHOSE).fetchone()):
            raise damaged(path, f"its table {table!r} refers to something that is not there")
    _check_numbers(db, path)


_WHOSE = (
    "SELECT 1 FROM answer INDEXED BY sqlite_autoindex_answer_1 WHERE model_id NOT IN (SELECT id FROM model) LIMIT 1"
)
_STATES = f"CASE state WHEN {SCORED} THEN scores IS NULL AND (score_file IS NULL OR place IS NULL) WHEN {UNREADABLE} THEN 0 WHEN {FAILED} THEN 0 ELSE 1 END"


def _check_kinds(db: sqlite3.Connection, path: Path, table: str, columns: list[tuple[Any, ...]]) -> None:
    """InputError where a value of a table is of the wrong kind, or a text is none; the table is gone through once."""
    wrong, texts = [], []
    for column, declared, not_null, _, key, _ in columns:
        kinds = f"'{_AFFINITY[declared]}'" + ("" if not_null or key else ", 'null'")
        wrong.append(f"typeof({column}) NOT IN ({kinds})")
        texts += [column] if declared == "TEXT" else []
    if table == "answer":
        wrong.append(_STATES)
    told = " OR ".join(f"{column} IS NOT NULL" for column in texts) or "0"
    for bad, *found in db.execute(
        f"SELECT {' OR '.join(wrong)} AS bad{''.join(f', {t}' for t in texts)} FROM {table} WHERE bad OR {told}"
    ):
        # No text is no UTF-8 once it has been read, and none ends early where a library of the system takes it.
        if bad:
            raise damaged(path, f"a value in its table {table!r} is of the wrong kind")
        if table in ("model", "image_set") and any("\0" in text for text in found):
            raise damaged(path, f"a text in its table {table!r} holds a NUL")


def _check_numbers(db: sqlite3.Connection, path: Path) -> None:
    if any(form not in ("<f4", "<f8") for (form,) in db.execute("SELECT form FROM score_file")):
        raise damaged(path, "a file of scores is of a form that there is not")
    if db.execute(
        "SELECT 1 FROM run JOIN score_file ON score_file.id = run.score_file WHERE score_columns <> columns OR listed <> "
        "(SELECT COUNT(*) FROM image WHERE image.set_id = run.set_id)"
    ).fetchone():
        raise damaged(path, "a file of scores does not go with its run")
    (classes, last) = db.execute("SELECT COUNT(*), COALESCE(MAX(position), 0) FROM class").fetchone()
    if last + 1 != classes or db.execute("SELECT 1 FROM class WHERE position < 0").fetchone():
        raise damaged(path, "its classes are not numbered without a gap")
    images: dict[int, int] = {}
    for set_id, listed, first, last in db.execute(
        "SELECT set_id, COUNT(*), MIN(position), MAX(position) FROM image GROUP BY set_id"
    ):
        images[set_id] = listed
        if (first, last) != (0, listed - 1):
            raise damaged(path, "the images of a set are not numbered without a gap")
    if any(role not in ROLES for (role,) in db.execute("SELECT role FROM image_set")):
        raise damaged(path, "an image set has a role that there is not")
    if any(kind not in KINDS for (kind,) in db.execute("SELECT kind FROM model")):
        raise damaged(path, "a model is of a kind that there is not")
    for set_id, columns, kind, model in db.execute(
        "SELECT set_id, score_columns, run.kind, model.kind FROM run JOIN model ON model.id = model_id"
    ):
        fits = (
            columns == 2
            if kind == "prediction" and not KINDS[model].can.scores
            else column_count_fits(columns, classes)
        )
        if not fits or (kind is not None and kind not in get_args(Kind)):
            raise damaged(path, "a run's scores do not go with the classes")
        if images.get(set_id, 0) * columns > MOST_NUMBERS:
            raise damaged(path, "a run would hold more numbers than fit into any memory")


# How records that a study keeps as JSON are read: by the kinds their fields name, and nothing turned into them.
KEPT = ConfigDict(strict=True, allow_inf_nan=False, extra="forbid")


@cache
def _reader(kind: Any) -> TypeAdapter[Any]:
    return TypeAdapter(kind) if is_dataclass(kind) else TypeAdapter(kind, config=KEPT)


def json_of(text: str, kind: type[_Found]) -> _Found:
    """A value of this kind, such as ``list[int]``, from JSON that a study keeps; ValueError where it is another one."""
    try:
        found: _Found = _reader(cast(Hashable, kind)).validate_json(text)
    except ValidationError as error:
        raise ValueError(f"a kept value is no {getattr(kind, '__name__', kind)}") from error
    return found
