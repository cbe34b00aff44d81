"""How the commands speak: sentences on standard error, results on standard output, progress, and being stopped."""

from __future__ import annotations

import errno
import os
import signal
import sys
import threading
from collections.abc import Iterator
from contextlib import contextmanager, suppress

from mivrat.core.base.errors import InputError
from mivrat.core.base.job import StopSignal, stopped_by
from mivrat.core.base.text import printable

DONE, NOT_HELD, BAD_INPUT, INSIDE, STOPPED = 0, 1, 2, 70, 130


def say(text: str) -> None:
    """A line on standard error; names that are no text are shown escaped."""
    with suppress(OSError):  # there is nobody left to tell
        print(printable(text), file=sys.stderr, flush=True)


def show(text: str) -> None:
    """A line of results on standard output, as ``say`` shows names."""
    write_out(f"{printable(text)}\n")


def write_out(text: str) -> None:
    """Write to standard output; InputError where that is full."""
    if sys.stdout is None:  # it was closed from the start
        return
    try:
        sys.stdout.write(text)
        sys.stdout.flush()
    except BrokenPipeError:
        raise
    except OSError as error:
        drop_output()
        raise InputError(
            f"cannot be written ({error.strerror or errno.errorcode.get(error.errno or 0, error)})",
            where="standard output",
            hint="send it where there is room",
        ) from error


def drop_output() -> None:
    """Let nothing that still waits for standard output be written, now or at the end."""
    with suppress(OSError, ValueError):
        nowhere = os.open(os.devnull, os.O_WRONLY)
        os.dup2(nowhere, 1)
        os.close(nowhere)


class ProgressLine:
    """Progress on standard error: one line kept up to date on a terminal, a line now and then elsewhere."""

    def __init__(self) -> None:
        self._live = sys.stderr.isatty()
        self._tenth = -1

    def show(self, done: int, total: int, sentence: str) -> None:
        if self._live:
            sys.stderr.write(f"\r\033[K{sentence}" + ("\n" if done >= total else ""))
            sys.stderr.flush()
        elif total and done * 10 // total != self._tenth:
            self._tenth = done * 10 // total
            say(sentence)


@contextmanager
def stoppable() -> Iterator[StopSignal]:
    """Ctrl-C and a polite kill ask the job to end after the batch in hand."""

    stop = StopSignal()
    before = {which: signal.signal(which, lambda *_: stop.stop()) for which in (signal.SIGINT, signal.SIGTERM)}
    # While the engine works, no handler of this thread is called: another one is woken by the system.
    told, notify = os.pipe()
    os.set_blocking(notify, False)
    woken = signal.set_wakeup_fd(notify, warn_on_full_buffer=False)

    def wait() -> None:
        if os.read(told, 1):
            stop.stop()

    waiting = threading.Thread(target=wait, daemon=True)
    waiting.start()
    try:
        with stopped_by(stop):
            yield stop
    finally:
        signal.set_wakeup_fd(woken)
        for which, handler in before.items():
            signal.signal(which, handler)
        os.close(notify)
        waiting.join()
        os.close(told)
