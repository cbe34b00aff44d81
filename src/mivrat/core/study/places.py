"""Which of the folders that a study names may be read: those that the user has named, and no others."""

from __future__ import annotations

import json
import shlex
import threading
from collections.abc import Iterable, Sequence
from contextlib import suppress
from pathlib import Path

from platformdirs import user_config_path

from mivrat.core.base.errors import InputError
from mivrat.core.base.files import read_text, write_whole

_LOCK = threading.Lock()


class NotAllowed(InputError):
    """A study names folders that nobody has allowed to be read."""

    def __init__(self, study: Path, places: Sequence[Path]) -> None:
        self.study, self.places = study, list(places)
        several = "these folders" if len(places) > 1 else "this folder"
        named = ", ".join(str(place) for place in places[:5]) + (" and others" if len(places) > 5 else "")
        self.question = f"The study reads models and images from {named}. May {several} be read?"
        options = " ".join(f"--agree-folder {shlex.quote(str(place))}" for place in places[:5])
        super().__init__(
            f"reads models and images from {named}, which you have not allowed yet. Nothing was read",
            where=study,
            hint=f"where you trust it, add {options}, or open it in the window once",
        )


def _file() -> Path:
    return user_config_path("mivrat", appauthor=False) / "agreed-folders.json"


def allowed_folders() -> list[Path]:
    """The folders that studies may read from, as the user has named them; none where that cannot be read."""
    with suppress(InputError, ValueError):
        found = json.loads(read_text(_file(), "the list of folders", ""))
        if isinstance(found, list):
            return [Path(one) for one in found if isinstance(one, str) and one]
    return []


def allow_folders(*places: Path) -> None:
    """Let studies read from these folders from now on. Raises InputError where that cannot be kept."""
    with _LOCK:
        known = [str(one) for one in allowed_folders()]
        fresh = [str(one.resolve()) for one in places]
        if set(fresh) - set(known):
            write_whole(_file(), json.dumps(list(dict.fromkeys([*known, *fresh])), indent=1, ensure_ascii=False) + "\n")


def places_to_ask_about(study: Path, places: Iterable[Path], allowed: Iterable[Path]) -> list[Path]:
    """The places that lie neither in the study's own folder nor in an allowed one; a study made elsewhere may name any."""
    known = [study.resolve().parent, *(one.resolve() for one in allowed)]
    return [place for place in places if not any(place.resolve().is_relative_to(one) for one in known)]
