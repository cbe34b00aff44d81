"""Keys of services: from the environment or the desktop's keyring, never kept by Mivrat and never told."""

from __future__ import annotations

import base64
import html
import logging
import os
import re
from functools import lru_cache
from typing import Any

from mivrat.core.base.errors import InputError
from mivrat.core.models.service.description import Description

log = logging.getLogger(__name__)
SERVICE = "mivrat"
BLANK = "•••"
# Shorter keys would blank half of every answer.
_LEAST = 4
# So many characters of a key, one behind the other, may be left.
LONGEST_LEFT = 7


def find_key(description: Description) -> str:
    """The key a description names: the environment's, else the keyring's; empty where it names none. InputError where there is
    none to be found, or none that can be sent."""
    named = description.key
    if named is None:
        return ""
    key = (os.environ.get(named.environment, "") or from_keyring(description.host)).strip()
    if not key:
        raise InputError(
            "needs a key, and none was found",
            where=description.url,
            hint=f"set the environment variable {named.environment}, or keep the key in the desktop's keyring (service "
            f"'{SERVICE}', name '{description.host}')",
        )
    if not key.isascii() or not key.isprintable():
        raise InputError(
            "its key holds characters that cannot be sent",
            where=description.url,
            hint=f"correct the environment variable {named.environment} or the keyring's entry",
        )
    return key


def from_keyring(host: str) -> str:
    """The key the desktop's keyring has for a host; empty where there is none, or no keyring."""
    try:
        import keyring

        return keyring.get_password(SERVICE, host) or ""
    except Exception as error:  # there is no keyring, it is locked, or its service does not answer
        log.info("no keyring: %s", type(error).__name__)
        return ""


def to_keyring(host: str, key: str) -> bool:
    """Keep a key in the desktop's keyring; whether there is one that took it."""
    try:
        import keyring

        keyring.set_password(SERVICE, host, key)
        return True
    except Exception as error:
        log.info("no keyring: %s", type(error).__name__)
        return False


class Blanker:
    """Takes a key out of whatever a server says, before anything of that is cut, kept or shown.

    It goes by runs: any LONGEST_LEFT + 1 characters of the key, one behind the other, are blanked, in whichever of the spellings each
    stands: raw, with JSON's, HTML's or an address' escapes, mixed as they may be; and so are runs of its base64 and hexadecimal forms.
    """

    def __init__(self, key: str) -> None:
        bare = key.rpartition(" ")[2]
        self._grams: set[str] = set()
        for one in {key, bare}:
            if len(one) >= _LEAST:
                for spelling in _spellings(one):
                    size = min(LONGEST_LEFT + 1, len(spelling))
                    self._grams |= {spelling[i : i + size] for i in range(len(spelling) - size + 1)}
        self._sizes = sorted({len(gram) for gram in self._grams})
        self._known = lru_cache(maxsize=4096)(self._blank)

    def __call__(self, text: str) -> str:
        """A text without the key."""
        return self._known(text) if self._grams else text

    def all_of(self, value: Any) -> Any:
        """What was read from JSON, with every text in it, names too, without the key."""
        if isinstance(value, str):
            return self(value)
        if isinstance(value, dict):
            return {self(name): self.all_of(one) for name, one in value.items()}
        if isinstance(value, list) and any(isinstance(one, str | dict | list) for one in value):
            return [self.all_of(one) for one in value]
        return value

    def _blank(self, text: str) -> str:
        spots = self._spots([(i, i + 1) for i in range(len(text))], text)
        if any(mark in text for mark in "\\%&"):
            # Each character with where it stands, however it is spelt.
            read = [(_read(found[0]), found.span()) for found in _UNITS.finditer(text)]
            spots += self._spots([span for _, span in read], "".join(one for one, _ in read))
        out, at = [], 0
        for first, last in _joined(spots):
            out += [text[at:first], BLANK]
            at = last
        return "".join([*out, text[at:]])

    def _spots(self, spans: list[tuple[int, int]], plain: str) -> list[tuple[int, int]]:
        """Where runs of the key stand, from its characters and where each of them is."""
        return [
            (spans[i][0], spans[i + size - 1][1])
            for size in self._sizes
            for i in range(len(plain) - size + 1)
            if plain[i : i + size] in self._grams
        ]


# One character in any spelling: JSON's and an address' escapes, HTML's entities.
_UNITS = re.compile(
    r"\\u[0-9a-fA-F]{4}|\\.|%[0-9a-fA-F]{2}|&#[0-9]{1,7};|&#[xX][0-9a-fA-F]{1,6};|&[A-Za-z]{2,8};|.", re.DOTALL
)


def _read(unit: str) -> str:
    """The character that a unit stands for; several, or none that can be, become one that is in no key."""
    if unit.startswith("\\u"):
        found = chr(int(unit[2:], 16))
    elif len(unit) > 1 and unit[0] == "%":
        found = chr(int(unit[1:], 16))
    elif len(unit) > 1 and unit[0] == "&":
        found = html.unescape(unit)
    else:
        found = unit[-1]
    return found if len(found) == 1 else "\0"


def _spellings(key: str) -> set[str]:
    """A key, and what it becomes in base64, at whatever place of a longer text it stands, and in hexadecimal digits."""
    found, raw = {key, key.encode().hex(), key.encode().hex().upper()}, key.encode()
    for before in range(3):
        whole = base64.b64encode(b"x" * before + raw).decode().rstrip("=")
        # What the bytes before and behind have a say in stands at the ends.
        inner = whole[-(-before * 8 // 6) : (before + len(raw)) * 8 // 6]
        if len(inner) > LONGEST_LEFT:
            found |= {inner, inner.replace("+", "-").replace("/", "_")}
    return found


def _joined(spots: list[tuple[int, int]]) -> list[tuple[int, int]]:
    """Stretches put together where they touch or overlap, in order."""
    found: list[tuple[int, int]] = []
    for first, last in sorted(spots):
        if found and first <= found[-1][1]:
            found[-1] = (found[-1][0], max(last, found[-1][1]))
        else:
            found.append((first, last))
    return found
