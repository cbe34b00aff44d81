"""Keeps two windows, or a window and a command, from writing to one study at a time."""

from __future__ import annotations

import errno
import fcntl
import os
import stat
from contextlib import suppress
from pathlib import Path
from types import TracebackType

from mivrat.core.base.errors import InputError


class StudyLock:
    """Holds a study for this process, by a lock on a file beside it that the system lets go when the process ends.

    The lock is not taken on the study itself: closing that file would end the database's own locks. It goes by where the file
    lies, whatever link leads there; a study with a second name on the disk (a hard link) is refused, as the database's journal
    would go by one of the names alone. Raises InputError there, where another process holds it, and where something else than
    a lock lies in its place. Where no file can be made beside the study, it cannot be written to either, and nothing needs to
    be held.
    """

    def __init__(self, study: Path) -> None:
        whole = study.resolve()
        self._path = whole.with_name(f".{whole.name}.lock")
        self._file: int | None = None
        with suppress(FileNotFoundError):
            if whole.stat().st_nlink > 1:
                raise InputError(
                    "has a second name on the disk (a hard link), under which it could be written to unseen",
                    where=study,
                    hint="copy it, and open the copy",
                )
        try:
            self._file = os.open(
                self._path, os.O_RDWR | os.O_CREAT | os.O_CLOEXEC | os.O_NOFOLLOW | os.O_NONBLOCK, 0o600
            )
        except OSError as error:
            if error.errno in (errno.ELOOP, errno.EISDIR, errno.ENXIO):
                raise self._planted() from error
            return
        try:
            about = os.fstat(self._file)
            if not stat.S_ISREG(about.st_mode) or about.st_nlink > 1 or about.st_size:
                raise self._planted()
            fcntl.flock(self._file, fcntl.LOCK_EX | fcntl.LOCK_NB)
            if os.fstat(self._file).st_ino != self._path.lstat().st_ino:
                raise OSError("the previous holder has just released the file")
        except InputError:
            self._let_go()
            raise
        except OSError as error:
            self._let_go()
            raise InputError(
                "is open in another window or in use by a command",
                where=study,
                hint="go on there, or close it there first",
            ) from error

    def _planted(self) -> InputError:
        return InputError(
            "stands where Mivrat's lock must be, and was not made by Mivrat",
            where=self._path,
            hint="look at it, and move it away",
        )

    def _let_go(self) -> None:
        if self._file is not None:
            os.close(self._file)
            self._file = None

    def release(self) -> None:
        """Let go; safe to call again."""
        if self._file is not None:
            self._path.unlink(missing_ok=True)
            self._let_go()

    def __enter__(self) -> StudyLock:
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        self.release()
