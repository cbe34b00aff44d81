"""Which large studies were looked through for damage on this machine and have not changed since: that takes seconds for each."""

from __future__ import annotations

import json
import os
import threading
from contextlib import suppress
from pathlib import Path

from platformdirs import user_cache_path

from mivrat.core.base.errors import InputError
from mivrat.core.base.files import read_text

# A study smaller than this is looked through at every opening; of larger ones so many are remembered.
LARGE, MOST = 4_000_000, 50
_LOCK = threading.Lock()


def _file() -> Path:
    return user_cache_path("mivrat", appauthor=False) / "sound-studies.json"


def _known() -> dict[str, str]:
    with suppress(InputError, ValueError):
        found = json.loads(read_text(_file(), "the list of studies", ""))
        if isinstance(found, dict):
            return {key: value for key, value in found.items() if isinstance(value, str)}
    return {}


def _state(path: Path) -> str | None:
    """What every transaction changes: size, time and the database's own counter. None for a small file, for one whose last
    transaction was cut off, and for one that cannot be read."""
    try:
        about = os.stat(path)
        if about.st_size < LARGE or os.path.lexists(f"{path}-journal") or os.path.lexists(f"{path}-wal"):
            return None
        with path.open("rb") as file:
            file.seek(24)
            counter = file.read(4).hex()
    except OSError:
        return None
    return f"{about.st_ino} {about.st_size} {about.st_mtime_ns} {counter}"


def is_known_sound(path: Path) -> bool:
    """Whether this file was looked through here, or written by us after that, and is as it was."""
    state = _state(path)
    return state is not None and _known().get(str(path.resolve())) == state


def note_sound(path: Path) -> None:
    """Remember a file as it is now: it was looked through, and nobody but this program has written to it since."""
    state, name = _state(path), str(path.resolve())
    if state is None:
        return
    with _LOCK, suppress(OSError):
        known = _known()
        if known.get(name) == state:
            return
        known.pop(name, None)
        kept = dict([*known.items(), (name, state)][-MOST:])
        # Written whole, but not waited for: every decision saved comes by here, and what is lost is found out anew.
        _file().parent.mkdir(parents=True, exist_ok=True)
        part = _file().with_suffix(f".{os.getpid()}.part")
        part.write_text(json.dumps(kept, indent=1), encoding="utf-8")
        os.replace(part, _file())
