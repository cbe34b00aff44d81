"""The one exception for input that cannot be used: it says what, where, and how to mend it."""

from __future__ import annotations

import shlex
from types import TracebackType

# What is quoted from somebody's file may be of any length.
MOST_SAID = 1200


class InputError(Exception):
    """Something handed to Mivrat cannot be used.

    ``what`` is wrong, ``where`` it stands (a file, an option), ``hint`` tells what to do about it.
    """

    def __init__(self, what: str, *, where: object = "", hint: str = "") -> None:
        self.what = what
        self.where = str(where)
        self.hint = hint
        super().__init__(self.line())

    @property
    def mend(self) -> str:
        """What to do about it, as programs ask for it."""
        return self.hint

    def line(self) -> str:
        """Everything on one line, fit for standard error."""
        what = self.what if len(self.what) <= MOST_SAID else f"{self.what[: MOST_SAID - 100]} … {self.what[-100:]}"
        text = f"{self.where}: {what}" if self.where else what
        if self.hint:
            text = f"{text.rstrip('.')}. {self.hint[:1].upper()}{self.hint[1:]}"
        return " ".join(text.split())


def cannot_be_written(error: OSError, where: object) -> InputError:
    """What is said of a file or folder that the system lets nobody write."""
    return InputError(
        f"cannot be written ({error.strerror or error})",
        where=where,
        hint="choose a folder you may write to, with room left",
    )


def arose_in(error: BaseException, package: str) -> bool:
    """Whether an exception arose in the code of a package, one that was given a user's file: then the file may be at fault. What
    arises in our own code is a mistake of ours, whatever file was open at the time."""
    trace: TracebackType | None = error.__traceback__
    innermost = ""
    while trace is not None:
        innermost = str(trace.tb_frame.f_globals.get("__name__", ""))
        trace = trace.tb_next
    return innermost.partition(".")[0] == package


class NotAgreed(InputError):
    """Something would leave this machine that nobody has agreed to. ``host`` (with its port) is where it would go,
    ``agreement`` all that has to be agreed to, ``question`` asks in full what is sent where, how much, and how long it takes."""

    def __init__(self, host: str, agreement: str, question: str) -> None:
        self.host, self.agreement, self.question = host, agreement, question
        super().__init__(
            f"nothing was sent. {question}",
            where=host,
            hint=f"agree in the window, or with --agree {shlex.quote(agreement)} (once)",
        )
