"""Keys of services: from the environment or the desktop's keyring, never kept by Mivrat and never told."""

from __future__ import annotations

import base64
import logging
import os
from urllib.parse import quote

from mivrat.core.base.errors import InputError
from mivrat.core.models.service.description import Description

log = logging.getLogger(__name__)
SERVICE = "mivrat"
BLANK = "•••"
# Shorter texts would blank half of every answer.
_LEAST = 4


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
            mend=f"set the environment variable {named.environment}, or keep the key in the desktop's keyring (service "
            f"'{SERVICE}', name '{description.host}')",
        )
    if not key.isascii() or not key.isprintable():
        raise InputError(
            "its key holds characters that cannot be sent",
            where=description.url,
            mend=f"correct the environment variable {named.environment} or the keyring's entry",
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


def blanked(text: str, key: str) -> str:
    """A text without the key, in whatever spelling a server might repeat it."""
    if len(key) < _LEAST:
        return text
    bare = key.rpartition(" ")[2]
    spellings = {key, bare} if len(bare) >= _LEAST else {key}
    for one in list(spellings):
        spellings |= {quote(one, safe=""), base64.b64encode(one.encode()).decode().rstrip("=")}
    for one in sorted(spellings, key=len, reverse=True):
        text = text.replace(one, BLANK)
    return text
