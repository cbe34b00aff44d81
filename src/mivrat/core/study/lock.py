"""Keeps two windows, or a window and a command, from writing to one study at a time."""

from __future__ import annotations

import fcntl
import os
from pathlib import Path
from types import TracebackType

from mivrat.core.errors import InputError


class StudyLock:
    """Holds a study for this process, by a lock on a file beside it that the system lets go when the process ends.

    The lock is not taken on the study itself: closing that file would end the database's own locks.
    Raises InputError where another process holds it. Where no file can be made beside the study, it cannot be
    written to either, and nothing needs to be held.
    """

    def __init__(self, study: Path) -> None:
        self._path = study.resolve().with_name(f".{study.name}.lock")
        self._file: int | None = None
        try:
            self._file = os.open(self._path, os.O_RDWR | os.O_CREAT | os.O_CLOEXEC, 0o600)
        except OSError:
            return
        try:
            fcntl.flock(self._file, fcntl.LOCK_EX | fcntl.LOCK_NB)
            if os.fstat(self._file).st_ino != self._path.stat().st_ino:
                raise OSError("the holder before has just let go of the file")
        except OSError as error:
            os.close(self._file)
            self._file = None
            raise InputError(
                "is open in another window or in use by a command",
                where=study,
                mend="go on there, or close it there first",
            ) from error

    def release(self) -> None:
        """Let go; safe to call again."""
        if self._file is not None:
            self._path.unlink(missing_ok=True)
            os.close(self._file)
            self._file = None

    def __enter__(self) -> StudyLock:
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        self.release()
