"""Files that are either wholly written or not at all, and their content hashes."""

from __future__ import annotations

import filecmp
import hashlib
import io
import json
import os
import shutil
import stat
import tempfile
from collections.abc import Callable
from pathlib import Path
from typing import Any

from mivrat.core.base.errors import InputError, cannot_be_written

# Class lists, recipes and shapes are far smaller.
MOST_TEXT = 50_000_000


def write_whole(path: Path, data: bytes | str) -> None:
    """Write ``data`` beside ``path`` and rename it into place. InputError where that is impossible."""
    # What no UTF-8 can hold is escaped as in JSON; names come here escaped already.
    content = data.encode("utf-8", "backslashreplace") if isinstance(data, str) else data
    write_whole_with(path, lambda part: part.write_bytes(content))


def write_whole_with(path: Path, write: Callable[[Path], object]) -> None:
    """Let ``write`` fill a file beside ``path``, then rename it into place; on failure nothing is left behind. Raises InputError where
    it cannot be written.

    The content is on the disk before the name is: after a loss of power there is the old file or the new one, never an
    empty one.
    """
    part: Path | None = None
    try:
        path.parent.mkdir(parents=True, exist_ok=True)
        handle, name = tempfile.mkstemp(prefix=f".{path.name[:40]}.", suffix=f".part{path.suffix}", dir=path.parent)
        os.close(handle)
        part = Path(name)
        write(part)
        umask = os.umask(0)
        os.umask(umask)
        part.chmod(0o666 & ~umask)
        with open(part, "rb") as written:
            os.fsync(written.fileno())
        part.replace(path)
    except OSError as error:
        raise cannot_be_written(error, path) from error
    finally:
        if part is not None:
            part.unlink(missing_ok=True)


def folder_within(folder: Path, name: str) -> Path:
    """A folder under one that the user chose, made where it is not there. Raises InputError where a link stands on the way: what is
    written there would go elsewhere."""
    place = folder
    for part in Path(name).parts:
        place = place / part
        if place.is_symlink():
            raise InputError(
                "is a link, and nothing is written through it",
                where=place,
                hint="choose another folder, or move it away",
            )
        place.mkdir(parents=True, exist_ok=True)
    return place


def free_name(path: Path) -> Path:
    """The name, or where something stands there the next one with a number behind it."""
    number, found = 1, path
    while found.is_symlink() or found.exists():
        number += 1
        found = path.with_name(f"{path.stem} ({number}){path.suffix}")
    return found


def put_new(source: Path | bytes, target: Path) -> None:
    """Copy a file, or bytes, to a name that is free: whole, or not at all. Raises FileExistsError where something stands there, OSError where it
    cannot be written."""
    if target.is_symlink() or target.exists():
        raise FileExistsError(target)
    handle, name = tempfile.mkstemp(prefix=f".{target.name[:40]}.", suffix=".part", dir=target.parent)
    part = Path(name)
    try:
        with open(handle, "wb") as out, io.BytesIO(source) if isinstance(source, bytes) else open(source, "rb") as data:
            shutil.copyfileobj(data, out)
        umask = os.umask(0)
        os.umask(umask)
        part.chmod(0o666 & ~umask)
        try:
            os.link(part, target)  # which takes no name that is taken meanwhile
        except FileExistsError:
            raise
        except OSError:  # a file system without links
            if target.exists():
                raise FileExistsError(target) from None
            part.replace(target)
    finally:
        part.unlink(missing_ok=True)


def is_same_file(source: Path | bytes, target: Path) -> bool:
    """Whether a file, no link, has just this content."""
    if not target.is_file() or target.is_symlink():
        return False
    if isinstance(source, bytes):
        return target.stat().st_size == len(source) and target.read_bytes() == source
    return filecmp.cmp(source, target, shallow=False)


def read_text(path: Path, what: str, hint: str) -> str:
    """A small text file in UTF-8, without its byte order mark; InputError, naming ``what`` it should be, where it is none."""
    try:
        with open(os.open(path, os.O_RDONLY | os.O_NONBLOCK), "rb") as file:
            about = os.fstat(file.fileno())
            if not stat.S_ISREG(about.st_mode):
                raise InputError(f"is a folder or a device, not {what}", where=path, hint=hint)
            if about.st_size > MOST_TEXT:
                raise InputError(f"is {about.st_size / 1e6:.0f} MB large, too much for {what}", where=path, hint=hint)
            return file.read().decode("utf-8-sig")
    except UnicodeDecodeError as error:
        raise InputError("is not UTF-8 text", where=path, hint="save it as UTF-8") from error
    except (OSError, ValueError) as error:
        reason = error.strerror if isinstance(error, OSError) else "its name holds a NUL"
        raise InputError(f"{what} cannot be read ({reason})", where=path, hint=hint) from error


def json_value(text: str, where: object, hint: str) -> Any:
    """The value of a JSON text; InputError where it is none, or nested too deep."""
    try:
        return json.loads(text)
    except RecursionError as error:
        raise InputError("is nested too deep", where=where, hint=hint) from error
    except ValueError as error:
        raise InputError(f"is not valid JSON ({str(error)[:160]})", where=where, hint=hint) from error


def sha256_of(path: Path) -> str:
    """The SHA-256 of a file's content, in hexadecimal."""
    with open(path, "rb") as file:
        return hashlib.file_digest(file, "sha256").hexdigest()
