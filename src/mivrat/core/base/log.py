"""The log file of window and commands: where it lies, and that whatever ends the program unexpectedly gets into it."""

from __future__ import annotations

import contextlib
import faulthandler
import io
import logging
import sys
import threading
from logging.handlers import RotatingFileHandler
from pathlib import Path
from types import TracebackType

from platformdirs import user_log_path

MOST_BYTES = 1_000_000
_log = logging.getLogger("mivrat")


def log_path() -> Path:
    """Where the log file lies, or would lie."""
    return user_log_path("mivrat", appauthor=False) / "mivrat.log"


class _LogFile(RotatingFileHandler):
    """Also takes in what the interpreter has to say of a crash, whichever file is the present one."""

    def _open(self) -> io.TextIOWrapper:
        stream = super()._open()
        faulthandler.enable(stream, all_threads=True)
        return stream


def begin_logging() -> None:
    """Write warnings, errors nobody caught and crashes to the log file; where that cannot be written, do without."""
    if any(isinstance(handler, _LogFile) for handler in logging.getLogger().handlers):
        return
    try:
        log_path().parent.mkdir(parents=True, exist_ok=True)
        handler = _LogFile(log_path(), maxBytes=MOST_BYTES, backupCount=2, encoding="utf-8", errors="backslashreplace")
    except OSError:
        return
    handler.setFormatter(logging.Formatter("%(asctime)s %(levelname)s %(name)s: %(message)s"))
    logging.getLogger().addHandler(handler)
    logging.raiseExceptions = False  # a full disk is no reason to fill the terminal too
    sys.excepthook = log_uncaught
    threading.excepthook = lambda args: log_uncaught(args.exc_type, args.exc_value, args.exc_traceback)
    sys.unraisablehook = lambda found: log_uncaught(found.exc_type, found.exc_value, found.exc_traceback)


def end_logging() -> None:
    """Let go of the log file and of what was set for it."""
    for handler in list(logging.getLogger().handlers):
        if isinstance(handler, _LogFile):
            logging.getLogger().removeHandler(handler)
            with contextlib.suppress(ValueError):
                faulthandler.disable()
            handler.close()
            sys.excepthook, threading.excepthook = sys.__excepthook__, threading.__excepthook__
            sys.unraisablehook = sys.__unraisablehook__


def log_uncaught(
    kind: type[BaseException], error: BaseException | None, trace: TracebackType | None, what: str = "not caught"
) -> None:
    """Log an exception with its traceback."""
    if not issubclass(kind, KeyboardInterrupt):
        _log.critical("%s: %s", what, kind.__name__, exc_info=(kind, error or kind(), trace))
