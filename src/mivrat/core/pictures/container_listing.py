"""Lists the pictures that stand in archives and tables of pictures, with labels from folders, from label files beside them, or columns."""

from __future__ import annotations

import json
from collections.abc import Sequence
from pathlib import Path
from typing import Any, NamedTuple

from mivrat.core.base.errors import InputError
from mivrat.core.base.job import until_stopped
from mivrat.core.pictures import dicom
from mivrat.core.pictures.containers import (
    ARCHIVE_ENDINGS,
    CUT_OFF,
    PICTURE_TABLE_ENDINGS,
    Container,
    MemberFault,
    frame_paths,
    opened,
)
from mivrat.core.pictures.picture_tables import PictureTable, picture_column

# A label stands in a file of the picture's stem with one of these endings, or under one of these keys of its JSON file.
LABEL_ENDINGS = (".cls", ".label", ".txt")
LABEL_KEYS = ("label", "class", "cls", "target")
# No label is longer, and no JSON file that tells of one picture.
_LONGEST, _MOST_JSON = 400, 1_000_000


class Listed(NamedTuple):
    """One picture: its path below the root, the texts that may be its label, whether that may be a class's number, and what else is told."""

    path: str
    texts: tuple[str, ...]
    by_number: bool
    columns: dict[str, str]


def is_container(path: Path) -> bool:
    """Whether a file is an archive, or a table that holds encoded pictures."""
    ending = path.suffix.lower()
    return ending in ARCHIVE_ENDINGS or (ending in PICTURE_TABLE_ENDINGS and picture_column(path) is not None)


def list_container(path: Path, below: str, endings: frozenset[str]) -> list[Listed]:
    """The pictures in one archive or table; ``below`` stands before each path. ``endings`` are those of pictures. InputError where the file
    cannot be read."""
    container = opened(path)
    if isinstance(container, PictureTable):
        return _of_table(container, below)
    return _of_archive(container, path, below, endings)


def _of_table(table: PictureTable, below: str) -> list[Listed]:
    columns = {name: table.table[name].to_list() for name in table.table.columns}
    key = next((name for name in columns if name.lower() in LABEL_KEYS), None)
    found = []
    for i, name in enumerate(until_stopped(table.names())):
        label, by_number = _label(columns[key][i]) if key is not None else ((), False)
        rest = {k: "" if values[i] is None else str(values[i]) for k, values in columns.items() if k != key}
        found.append(Listed(f"{below}{name}", label, by_number, rest))
    return found


def _of_archive(archive: Container, path: Path, below: str, endings: frozenset[str]) -> list[Listed]:
    names = archive.names()
    there = set(names)
    found = []
    for name in until_stopped(sorted(names)):
        base = name.rpartition("/")[2]
        if name != CUT_OFF and (not _ends_in(base, endings) or base.startswith("._")):
            continue
        stem = name[: len(name) - len(base)] + base.split(".")[0]
        texts, by_number, columns = tuple(name.split("/")[:-1]), False, dict[str, str]()
        beside = next((f"{stem}{one}" for one in LABEL_ENDINGS if f"{stem}{one}" in there), None)
        if beside is not None:
            texts, by_number = _label(_text(archive, path, beside, _LONGEST).strip())
        elif f"{stem}.json" in there:
            told = _json(archive, path, f"{stem}.json")
            texts, by_number, columns = _of_json(told, texts)
        paths = [f"{below}{name}"]
        if _ends_in(base, dicom.ENDINGS):
            told_of, frames = _dicom_in(archive, name)
            columns = {**told_of, **columns}
            paths = frame_paths(paths[0], frames)
        found += [Listed(one, texts, by_number, columns) for one in paths]
    return found


def _dicom_in(archive: Container, name: str) -> tuple[dict[str, str], int]:
    try:
        return dicom.told_in_list(archive.read(name))
    except MemberFault:
        return {}, 1


def _ends_in(name: str, endings: frozenset[str]) -> bool:
    return f".{name.rpartition('.')[2].lower()}" in endings


def _label(value: Any) -> tuple[tuple[str, ...], bool]:
    """What may be a label, and whether it may be the number of a class."""
    if value is None or value == "" or isinstance(value, bool | float | list | dict):
        return (), False
    text = str(value)
    return (text,), text.isascii() and text.isdigit()


def _of_json(told: Any, folders: tuple[str, ...]) -> tuple[tuple[str, ...], bool, dict[str, str]]:
    if not isinstance(told, dict):
        label, by_number = _label(told)
        return label or folders, by_number, {}
    key = next((name for name in told if name.lower() in LABEL_KEYS), None)
    label, by_number = _label(told[key]) if key is not None else (folders, False)
    columns = {
        name: str(value) for name, value in told.items() if name != key and isinstance(value, str | int | float | bool)
    }
    return label, by_number, columns


def _text(archive: Container, path: Path, name: str, most: int) -> str:
    """A label file's text. InputError where it cannot be read, or is longer than any label."""
    try:
        if archive.size(name) > most:
            raise MemberFault(f"has {archive.size(name)} bytes, which is too long for this")
        return archive.read(name).decode("utf-8")
    except MemberFault as error:
        raise InputError(str(error), where=f"{path}/{name}", hint="correct the label file, or remove it") from error
    except UnicodeDecodeError as error:
        raise InputError("is not text in UTF-8", where=f"{path}/{name}", hint="write it in UTF-8") from error


def _json(archive: Container, path: Path, name: str) -> Any:
    try:
        return json.loads(_text(archive, path, name, _MOST_JSON))
    except (ValueError, RecursionError) as error:
        raise InputError(
            f"is not valid JSON ({str(error)[:160]})", where=f"{path}/{name}", hint="correct it, or remove it"
        ) from error


def columns_of(listed: Sequence[Listed]) -> dict[str, list[str]]:
    """Further columns of all pictures, empty where one has none."""
    names = dict.fromkeys(name for one in listed for name in one.columns)
    return {name: [one.columns.get(name, "") for one in listed] for name in names}
