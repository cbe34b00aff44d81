"""Text: names as text that any file can hold, names in sentences, numbers and plurals in words."""

from __future__ import annotations

import re
from collections.abc import Sequence
from functools import lru_cache
from typing import Literal

# How many letters of a name there is room for, in the narrowest places and in wider ones.
_SHORT = (10, 14, 20)

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


# Unicode's embeddings, overrides and isolates (UAX 9): left open in a name, they turn round what stands behind it.
_TURNS = re.compile("[\u202a-\u202e\u2066-\u2069]")


def printable(text: str) -> str:
    """A text that any UTF-8 file or terminal can hold, and that changes nothing around it; lone surrogates, and what turns the
    direction of writing over beyond the text itself, are escaped as in JSON."""
    return _TURNS.sub(lambda found: f"\\u{ord(found[0]):04x}", text).encode("utf-8", "backslashreplace").decode()


def is_text(name: str) -> bool:
    """Whether a text holds no lone surrogate, so that it can be written as UTF-8."""
    return not any("\ud800" <= c <= "\udfff" for c in name)


def quoted(names: Sequence[str], most: int = 12) -> str:
    """Names in quotes, the first dozen of them."""
    shown = ", ".join(repr(name) for name in names[:most])
    return shown if len(names) <= most else f"{shown} and {len(names) - most} more"


def in_sentence(names: Sequence[str], most: int = 5) -> str:
    """Names as they stand in a sentence: the first few, long ones with their middle left out."""
    shown = [name if len(name) <= 36 else f"{name[:18]}…{name[-17:]}" for name in names[:most]]
    more = len(names) - len(shown)
    return ", ".join(shown) + (f" and {more} more" if more > 0 else "")


def in_a_row(names: Sequence[str]) -> str:
    """``birch``, ``birch and alder``, ``birch, alder and hazel``."""
    return " and ".join(part for part in (", ".join(names[:-1]), *names[-1:]) if part)


def plural(number: int, what: str, several: str = "") -> str:
    """``1 image``, ``3 images``."""
    return f"1 {what}" if number == 1 else f"{number} {several or what + 's'}"


def count(number: int) -> str:
    """A whole number with thin groups of three digits."""
    return f"{number:,}".replace(",", "\u202f")


def images(number: int) -> str:
    return "1 image" if number == 1 else f"{count(number)} images"


Cut = Literal["middle", "end", "start"]


def clipped(text: str, most: int, cut: Cut = "middle") -> str:
    """A long name with its middle, its end or its start left out."""
    if len(text) <= most:
        return text
    if cut == "end":
        return f"{text[: most - 1]}…"
    if cut == "start":
        return f"…{text[len(text) - most + 1 :]}"
    return text[: (most - 1) // 2] + "…" + text[len(text) - most // 2 :]


def best_cut(names: Sequence[str]) -> Cut:
    """Where to cut the names of one list so that they stay apart: the way that leaves the most of them different, of as good ones the
    middle first."""
    return _best_cut(tuple(names))


@lru_cache(maxsize=64)
def _best_cut(names: tuple[str, ...]) -> Cut:
    long = [name for name in dict.fromkeys(names) if len(name) > _SHORT[0]]

    def apart(cut: Cut) -> int:
        return sum(len({clipped(name, most, cut) for name in long}) for most in _SHORT)

    ways: tuple[Cut, ...] = ("middle", "end", "start")
    return max(ways, key=apart)


def minus(text: str) -> str:
    """A number in digits with a true minus sign."""
    return text.replace("-", "−")


def safe_cell(text: str) -> str:
    """A cell that no spreadsheet takes for a formula: a leading ``= + - @``, tab or line break gets a ' before it; and that
    any UTF-8 file can hold, see ``names.escaped``."""
    text = text if is_text(text) else escaped(text)
    return "'" + text if text[:1] in ("=", "+", "-", "@", "\t", "\r", "\n") else text
