"""The one exception for input that cannot be used: it says what, where, and how to mend it."""

from __future__ import annotations

# What is quoted from somebody's file may be of any length.
MOST_SAID = 1200


class InputError(Exception):
    """Something handed to Mivrat cannot be used.

    ``what`` is wrong, ``where`` it stands (a file, an option), ``mend`` tells what to do about it.
    """

    def __init__(self, what: str, *, where: object = "", mend: str = "") -> None:
        self.what = what
        self.where = str(where)
        self.mend = mend
        super().__init__(self.line())

    def line(self) -> str:
        """Everything on one line, fit for standard error."""
        what = self.what if len(self.what) <= MOST_SAID else f"{self.what[: MOST_SAID - 100]} … {self.what[-100:]}"
        text = f"{self.where}: {what}" if self.where else what
        if self.mend:
            text += f". {self.mend[:1].upper()}{self.mend[1:]}"
        return " ".join(text.split())
