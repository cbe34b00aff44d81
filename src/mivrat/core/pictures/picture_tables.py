"""Tables with encoded pictures in a column (Parquet, Arrow): their rows as pictures by name, read some rows at a time."""

from __future__ import annotations

import threading
from collections import OrderedDict
from collections.abc import Mapping, Sequence
from pathlib import Path

import polars as pl

from mivrat.core.base.errors import InputError
from mivrat.core.pictures.containers import MemberFault, plain_name

# Of several columns of bytes these are taken for the pictures.
USUAL_NAMES = ("image", "img", "picture", "photo", "jpg", "png", "bytes")
# About so many bytes are read at a time, and so many such pieces are held: readers go from front to back, several at once.
PIECE_BYTES, PIECES = 16_000_000, 6


class PictureTable:
    """One table; a row's name is that of its ``path``, or its number. ``labels`` and ``columns`` are what else it tells of each row."""

    def __init__(self, path: Path, changed: int) -> None:
        """Raises InputError where it has no column of pictures."""
        self._path, self.changed = path, changed
        schema = _schema(path)
        self.column = _picture_column(schema)
        if self.column is None:
            raise InputError(
                "has no column with encoded pictures", where=path, hint="give it one with bytes, such as 'image'"
            )
        self._in_struct = isinstance(schema[self.column], pl.Struct)
        others = [
            name for name, kind in schema.items() if name != self.column and not kind.is_nested() and kind != pl.Binary
        ]
        bytes_ = pl.col(self.column).struct.field("bytes") if self._in_struct else pl.col(self.column)
        wanted = [bytes_.bin.size().alias("\0size"), *map(pl.col, others)]
        if self._in_struct and "path" in {one.name for one in schema[self.column].fields}:  # type: ignore[attr-defined]
            wanted.append(pl.col(self.column).struct.field("path").alias("\0path"))
        table = _collected(path, wanted)
        self._sizes = table["\0size"].to_list()
        given = table["\0path"] if "\0path" in table.columns else table["path"] if "path" in table.columns else None
        self._names = _unique(given.to_list() if given is not None else [None] * table.height)
        self._at = {name: i for i, name in enumerate(self._names)}
        self.table = table.select(name for name in others if name != "path")
        known = [size for size in self._sizes if size]
        mean = sum(known) / len(known) if known else 1
        self._step = max(1, min(4096, int(PIECE_BYTES / mean)))
        self._pieces: OrderedDict[int, pl.Series] = OrderedDict()
        self._locks: dict[int, threading.Lock] = {}
        self._lock = threading.Lock()

    def names(self) -> list[str]:
        return list(self._names)

    def size(self, name: str) -> int:
        return self._sizes[self._at[name]] or 0

    def read(self, name: str) -> bytes:
        row = self._at[name]
        piece = self._piece(row // self._step)
        found = piece[row % self._step]
        if found is None:
            raise MemberFault("the table has no picture in this row")
        assert isinstance(found, bytes)
        return found

    def _piece(self, number: int) -> pl.Series:
        with self._lock:
            if (known := self._pieces.get(number)) is not None:
                self._pieces.move_to_end(number)
                return known
            lock = self._locks.setdefault(number, threading.Lock())
        with lock:  # one reads it, and those who want it too wait for it
            with self._lock:
                if (known := self._pieces.get(number)) is not None:
                    return known
            assert self.column is not None
            bytes_ = pl.col(self.column).struct.field("bytes") if self._in_struct else pl.col(self.column)
            try:
                found = _collected(self._path, [bytes_.alias("\0bytes")], number * self._step, self._step)["\0bytes"]
            except InputError as error:
                raise MemberFault(error.what) from error
            with self._lock:
                self._pieces[number] = found
                self._locks.pop(number, None)
                while len(self._pieces) > PIECES:
                    self._pieces.popitem(last=False)
            return found


def picture_column(path: Path) -> str | None:
    """The column of a table that holds encoded pictures: bytes, or a struct with ``bytes``; None where there is none, or no telling which."""
    try:
        return _picture_column(_schema(path))
    except InputError:
        return None


def _picture_column(schema: Mapping[str, pl.DataType]) -> str | None:
    found = [name for name, kind in schema.items() if _holds_bytes(kind)]
    usual = [name for name in found if name.lower() in USUAL_NAMES]
    return usual[0] if len(usual) == 1 else found[0] if len(found) == 1 else None


def _holds_bytes(kind: pl.DataType) -> bool:
    if isinstance(kind, pl.Struct):
        return any(one.name == "bytes" and one.dtype == pl.Binary for one in kind.fields)
    return kind == pl.Binary


def _schema(path: Path) -> dict[str, pl.DataType]:
    try:
        return dict(pl.read_parquet_schema(path) if path.suffix.lower() == ".parquet" else pl.read_ipc_schema(path))
    except (pl.exceptions.PolarsError, OSError) as error:
        raise _unreadable(path, error) from error


def _collected(path: Path, wanted: Sequence[pl.Expr], first: int = 0, number: int | None = None) -> pl.DataFrame:
    try:
        table = pl.scan_parquet(path) if path.suffix.lower() == ".parquet" else pl.scan_ipc(path)
        return table.slice(first, number).select(*wanted).collect()
    except (pl.exceptions.PolarsError, OSError) as error:
        raise _unreadable(path, error) from error


def _unreadable(path: Path, error: Exception) -> InputError:
    return InputError(
        f"the table cannot be read ({' '.join(str(error).split())[:160]})",
        where=path,
        hint="check that it is a whole Parquet or Arrow file",
    )


def _unique(names: Sequence[str | None]) -> list[str]:
    """A name for each row: as told, made different where two are the same, or its number."""
    taken: set[str] = set()
    found = []
    for i, told in enumerate(names):
        name = plain_name(str(told or "")) or f"row {i}"
        if name in taken:
            name = f"{name} (row {i})"
        taken.add(name)
        found.append(name)
    return found
