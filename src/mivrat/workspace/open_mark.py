"""The note that a study is open in a window: where it is still there the next time, the window came to no proper end."""

from __future__ import annotations

import hashlib
from pathlib import Path
from typing import Protocol

from mivrat.workspace.workspace import Preferences


class Settings(Preferences, Protocol):
    """Where the mark is kept between starts."""

    def remove(self, key: str, /) -> None: ...
    def sync(self) -> None: ...


class OpenMark:
    """Marks one study at a time in the settings."""

    def __init__(self, settings: Settings) -> None:
        self._settings, self._marked = settings, ""

    def put(self, study: Path) -> bool:
        """Mark a study as open, in place of the one before; whether it was marked still, from a window that ended badly."""
        mark = f"open/{hashlib.sha256(str(study.resolve()).encode('utf-8', 'surrogateescape')).hexdigest()[:16]}"
        left_behind = self._settings.value(mark) is not None
        self.take_away()
        self._marked = mark
        self._settings.setValue(mark, True)
        self._settings.sync()
        return left_behind

    def take_away(self) -> None:
        """No study is open any more."""
        if self._marked:
            self._settings.remove(self._marked)
            self._marked = ""
