"""The study: one SQLite file that keeps classes, models, image sets, runs, their answers and what the checks found."""

from __future__ import annotations

import os
import sqlite3
import tempfile
from collections.abc import Iterator, Sequence
from contextlib import contextmanager, suppress
from pathlib import Path
from types import TracebackType
from typing import Any

from mivrat.core.base.database import Connection, connect
from mivrat.core.base.errors import InputError
from mivrat.core.base.files import write_whole_with
from mivrat.core.base.text import escaped, unescaped
from mivrat.core.study.known_sound import is_known_sound, note_sound
from mivrat.core.study.migrations import migrate
from mivrat.core.study.schema import APPLICATION_ID, PAGE_SIZE, TABLES, VERSION
from mivrat.core.study.score_folder import copy_scores
from mivrat.core.study.soundness import (
    check_contents,
    damaged,
    failed,
    raise_if_stopped,
    reading,
    refuse_foreign_schema,
    refuse_other_tables,
)

# What of the file is held in memory while very many rows are written, in kilobytes; otherwise it is 2,000.
MANY_ROWS_CACHE = 200_000


def _check_integrity(db: sqlite3.Connection, path: Path) -> None:
    found = [row[0] for row in db.execute("PRAGMA integrity_check(1)")]
    if found != ["ok"]:
        raise damaged(path, found[0])


def _bring_up(db: sqlite3.Connection, version: int, path: Path) -> None:
    """Bring an earlier version's study up to this one's tables."""
    db.isolation_level = None
    try:
        migrate(db, version)
    except sqlite3.Error as error:
        raise InputError(
            f"was written by an earlier Mivrat (study version {version}) and cannot be brought up to date ({error})",
            where=path,
            hint="copy it to a folder you may write to, with room left, and open the copy",
        ) from error
    finally:
        db.isolation_level = "DEFERRED"


class Study:
    """An open study file. Connections are not shared between threads: open it again where another thread needs it."""

    def __init__(self, path: Path, connection: Connection) -> None:
        self.path = path
        self.db = connection
        self._in_one = False
        # Whether the file was looked through for damage, so that all that is written to it from here leaves it sound.
        self._sound = False

    @classmethod
    def create(cls, path: Path, classes: Sequence[str]) -> Study:
        """A new study for a class list; InputError where the file exists already or cannot be written."""
        if path.exists():
            raise InputError("exists already", where=path, hint="choose another name, or open it")
        part = ""
        try:
            path.parent.mkdir(parents=True, exist_ok=True)
            handle, part = tempfile.mkstemp(prefix=".new-", suffix=".mivrat", dir=path.parent)
            os.close(handle)
            db = sqlite3.connect(part)
            try:
                db.executescript(
                    f"PRAGMA page_size = {PAGE_SIZE}; PRAGMA application_id = {APPLICATION_ID}; "
                    f"PRAGMA user_version = {VERSION}; BEGIN; {TABLES} COMMIT;"
                )
                db.executemany("INSERT INTO class VALUES (?, ?)", list(enumerate(classes)))
                db.commit()
            finally:
                db.close()
            umask = os.umask(0)
            os.umask(umask)
            os.chmod(part, 0o666 & ~umask)
            os.replace(part, path)
        except (OSError, sqlite3.Error) as error:
            raise InputError(
                f"the study cannot be written ({error})",
                where=path,
                hint="choose a folder you may write to, with room left",
            ) from error
        finally:
            if part:
                for ending in ("", "-journal", "-wal", "-shm"):
                    Path(part + ending).unlink(missing_ok=True)
        return cls.open(path)

    @classmethod
    def open(cls, path: Path, *, again: bool = False) -> Study:
        """Open a study file; InputError where it is none, damaged, or from a newer Mivrat.

        ``again`` leaves out looking through the whole file for damage: it was opened before. So does a large file that was looked
        through on this machine and has not changed since.
        """
        if not path.is_file():
            raise InputError("the study does not exist", where=path, hint="name a .mivrat file")
        db: Connection | None = None
        try:
            db = connect(path)
            application = db.execute("PRAGMA application_id").fetchone()[0]
            version = db.execute("PRAGMA user_version").fetchone()[0]
        except sqlite3.Error as error:
            if db is not None:
                db.close()
            raise InputError(
                "is not a Mivrat study, or is damaged", where=path, hint="open another file, or a copy of this one"
            ) from error
        try:
            if application != APPLICATION_ID:
                raise InputError("is not a Mivrat study", where=path, hint="open a .mivrat file")
            if not 1 <= version <= VERSION:
                raise InputError(
                    f"was written by a newer Mivrat (study version {version}; this one reads {VERSION})",
                    where=path,
                    hint="update Mivrat",
                )
            refuse_foreign_schema(db, path)
            sound = is_known_sound(path) and version == VERSION
            if not again and not sound:
                _check_integrity(db, path)
            if version < VERSION:
                _bring_up(db, version, path)
            refuse_other_tables(db, path)
            if not again and not sound:
                check_contents(db, path)
            db.execute("PRAGMA foreign_keys = ON")
        except InputError:
            db.close()
            raise
        except sqlite3.Error as error:
            db.close()
            raise failed(path, error) from error
        study = cls(path, db)
        study._sound = sound or not again
        return study

    def copy_to(self, path: Path) -> None:
        """Save a copy elsewhere: it finds the same images and models from there. An existing file is replaced whole. Raises
        InputError where it cannot be written, or is this very study."""
        if path.resolve() == self.path.resolve():
            raise InputError("is this very study", where=path, hint="choose another name for the copy")

        def fill(part: Path) -> None:
            copy = sqlite3.connect(part)
            try:
                self.db.backup(copy)
                with copy:
                    for table, column in (("model", "path"), ("image_set", "root")):
                        for key, stored in copy.execute(f"SELECT rowid, {column} FROM {table}").fetchall():
                            moved = escaped(os.path.relpath(self.resolved(stored), path.resolve().parent))
                            copy.execute(f"UPDATE {table} SET {column} = ? WHERE rowid = ?", (moved, key))
            except sqlite3.Error as error:
                raise OSError(str(error)) from error
            finally:
                copy.close()

        copy_scores(self.path, path, [name for (name,) in self.rows("SELECT name FROM score_file")])
        write_whole_with(path, fill)

    def close(self) -> None:
        self.db.close()
        if self._sound:
            note_sound(self.path)

    def __enter__(self) -> Study:
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        self.close()

    @reading
    def rows(self, query: str, *values: object) -> list[tuple[Any, ...]]:
        """What a query of the study's tables finds; for the modules that keep tables of their own in it."""
        return self.db.execute(query, values).fetchall()

    @contextmanager
    def writing(self) -> Iterator[sqlite3.Connection]:
        """A transaction, or a part of the one that ``all_or_nothing`` began; InputError where the file cannot be written."""
        try:
            if self._in_one:
                yield self.db
            else:
                with self.db:
                    yield self.db
        except sqlite3.Error as error:
            raise_if_stopped(error)
            raise InputError(
                f"the study cannot be written ({error})",
                where=self.path,
                hint="check that there is room and that no other program holds the file",
            ) from error

    @contextmanager
    def writing_many(self) -> Iterator[sqlite3.Connection]:
        """The same for very many rows that refer to what is known to be there: it is not looked up for each of them."""
        try:
            self.db.execute("PRAGMA foreign_keys = OFF")  # without effect where a transaction has begun
            self.db.execute(f"PRAGMA cache_size = -{MANY_ROWS_CACHE}")
            with self.writing() as db:
                yield db
        finally:
            with suppress(sqlite3.Error):
                self.db.execute("PRAGMA foreign_keys = ON")
                self.db.execute("PRAGMA cache_size = -2000")

    @contextmanager
    def all_or_nothing(self) -> Iterator[None]:
        """What is written meanwhile is kept together at the end; nothing of it where an error ends it, or Stopped, which long
        questions raise too when this thread's work is asked to stop."""
        with self.writing() as db:
            db.execute("BEGIN IMMEDIATE")
            self._in_one = self.db.stoppable = True
            try:
                yield
            finally:
                self._in_one = self.db.stoppable = False

    def stored(self, path: Path) -> str:
        """A path as the study keeps it: relative to the study's folder where it lies on the same drive."""
        return escaped(os.path.relpath(path.resolve(), self.path.resolve().parent))

    def resolved(self, stored: str) -> Path:
        return Path(os.path.normpath(self.path.resolve().parent / unescaped(stored)))

    @property
    @reading
    def classes(self) -> list[str]:
        return [name for (name,) in self.db.execute("SELECT name FROM class ORDER BY position")]
