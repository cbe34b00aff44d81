"""File names as text: names that are no valid UTF-8 are written with escapes, and read back as the very same name."""

from __future__ import annotations

import re

# Stands in texts for a byte that is no UTF-8, and for a backslash in a name that needed escapes.
_ESCAPES = re.compile(r"\\\\|\\x([89a-f][0-9a-f])")
# Names with these would be taken for escaped ones, so they are escaped too.
_AMBIGUOUS = re.compile(r"\\\\|\\x[89a-f][0-9a-f]|[\udc80-\udcff]")


def escaped(name: str) -> str:
    """A name as text that any UTF-8 file can hold: ``caf\\xe9.jpg`` for a name that ends a word with that byte alone.

    Names of valid UTF-8 stay as they are, unless they look as if they had been escaped. ``name`` is as Python gives file
    names: bytes that are no UTF-8 stand as lone surrogates (PEP 383).
    """
    if not _AMBIGUOUS.search(name):
        return name
    return "".join(
        "\\\\" if c == "\\" else f"\\x{ord(c) - 0xDC00:02x}" if "\udc80" <= c <= "\udcff" else c for c in name
    )


def unescaped(text: str) -> str:
    """The name that ``escaped`` has written as this text."""
    return _ESCAPES.sub(lambda found: chr(0xDC00 + int(found[1], 16)) if found[1] else "\\", text)


def printable(text: str) -> str:
    """A text that any UTF-8 file or terminal can hold; lone surrogates are escaped as in JSON."""
    return text.encode("utf-8", "backslashreplace").decode()


def is_text(name: str) -> bool:
    """Whether a text holds no lone surrogate, so that it can be written as UTF-8."""
    return not any("\ud800" <= c <= "\udfff" for c in name)
