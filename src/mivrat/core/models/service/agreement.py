"""What the user has agreed to: where pictures may be sent, and which key goes there in which header."""

from __future__ import annotations

import json
import threading
from contextlib import suppress
from datetime import date
from functools import lru_cache
from pathlib import Path
from urllib.parse import urlsplit

from platformdirs import user_config_path

from mivrat.core.base.errors import InputError
from mivrat.core.base.files import read_text, write_whole
from mivrat.core.base.job import duration
from mivrat.core.models.service.description import Description, host_and_port

_LOCK = threading.Lock()
LOOPBACK = ("127.0.0.1", "localhost", "::1")


# Variables by such names are there for Mivrat; any other may be somebody else's secret.
OURS = "MIVRAT_"


def agreement_of(description: Description) -> str:
    """What has to be agreed to for a service: its scheme, host and port, and where a key goes there the header it goes in and the
    variable it comes from."""
    key = description.key
    return description.address + (f" {key.header} {key.environment}" if key is not None else "")


def read_agreement(text: str) -> str:
    """What is agreed to, from how a user writes it: an address or host, with or without port (then https, and its usual port), and
    behind it the header and the variable of a key. Raises InputError."""
    place, *key = text.split() or [""]
    try:
        parts = urlsplit(place if "://" in place else f"https://{place}")
        found = f"{parts.scheme}://{host_and_port(parts.geturl())}"
    except ValueError:
        parts, found = urlsplit(""), ""
    if parts.scheme not in ("http", "https") or len(key) not in (0, 2):
        raise InputError(
            f"{text!r} is not a host",
            where="--agree",
            hint="name a host and its port, such as https://host:443, and for a key its header and variable behind them",
        )
    return " ".join([found, *key])


def _file() -> Path:
    return user_config_path("mivrat", appauthor=False) / "agreed-hosts.json"


def agreed_to() -> dict[str, str]:
    """What was agreed to, each with the day; nothing where that cannot be read. Hosts that an earlier version wrote down without more
    stand for https, and for pictures alone."""
    with suppress(InputError, ValueError):
        found = json.loads(read_text(_file(), "the list of hosts", ""))
        if isinstance(found, dict):
            return {one if "://" in one else f"https://{one}": str(day) for one, day in found.items()}
    return {}


def is_agreed(description: Description) -> bool:
    """Whether everything a service needs was agreed to; the file is read again where it has changed."""
    return agreement_of(description) in _agreed_now()


def is_agreed_at(address: str) -> bool:
    """Whether anything was agreed to for a scheme, host and port."""
    return any(one.split()[0] == address for one in _agreed_now())


def _agreed_now() -> frozenset[str]:
    try:
        about = _file().stat()
    except OSError:
        return frozenset()
    return _read(str(_file()), about.st_mtime_ns, about.st_size)


@lru_cache(maxsize=4)
def _read(path: str, changed: int, size: int) -> frozenset[str]:
    return frozenset(agreed_to())


def agree(agreement: str) -> None:
    """Agree to something, from now on. Raises InputError where that cannot be kept."""
    with _LOCK:
        write_whole(_file(), json.dumps(agreed_to() | {agreement: date.today().isoformat()}, indent=1) + "\n")


def withdraw(address: str) -> None:
    """Agree to nothing any longer that goes to a scheme, host and port."""
    with _LOCK:
        left = {one: day for one, day in agreed_to().items() if one.split()[0] != address}
        write_whole(_file(), json.dumps(left, indent=1) + "\n")


def question(description: Description, what: str, images: int | None, requests: int | None = None) -> str:
    """What would be sent where, how often and for how long, as one asks for it; ``images`` None: it is not known how many."""
    limits = description.limits
    number = requests if requests is not None else images
    rate = f"at most {limits.per_second:g} requests a second" if limits.per_second else "as fast as it answers"
    times = f" ({requests} requests)" if requests is not None and requests != images else ""
    amount = f"{images} image{'s' if images != 1 else ''}{times}" if images is not None else "images"
    lasts = ""
    if limits.per_second and number:
        lasts = f", which takes {duration(number / limits.per_second / limits.per_request)} or longer"
    key = ""
    if description.key is not None:
        variable = description.key.environment
        key = f" The key from {variable} or the keyring goes with them, in the header {description.key.header}."
        if not variable.startswith(OURS):
            key += f" {variable} is not one of Mivrat's own variables: its content would be sent."
    plain = "" if description.encrypted else " The way there is not encrypted: whoever is on it can read them."
    if description.host.rpartition(":")[0] in LOOPBACK:
        plain = " That is this machine; what answers there may pass them on."
    return (
        f"May {amount} be sent to {description.host}, {what}? {limits.at_once} at once, {rate}{lasts}.{key}{plain}"
        " Answers are kept, so that none is sent twice. You are asked once for this."
    )
