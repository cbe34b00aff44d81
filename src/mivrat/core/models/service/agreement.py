"""What the user has agreed to: the hosts that pictures, and keys, may be sent to."""

from __future__ import annotations

import json
import threading
from contextlib import suppress
from datetime import date
from functools import lru_cache
from pathlib import Path

from platformdirs import user_config_path

from mivrat.core.base.errors import InputError
from mivrat.core.base.files import read_text, write_whole
from mivrat.core.base.job import duration
from mivrat.core.models.service.description import Description, host_and_port

_LOCK = threading.Lock()
LOOPBACK = ("127.0.0.1", "localhost", "::1")


def host_of(text: str) -> str:
    """Host and port as they are agreed to, from an address, or from a host with or without its port."""
    try:
        return host_and_port(text if "://" in text else f"https://{text}")
    except ValueError:
        raise InputError(
            f"{text!r} is no host", where="--agree", mend="name a host and its port, such as host:443"
        ) from None


def _file() -> Path:
    return user_config_path("mivrat", appauthor=False) / "agreed-hosts.json"


def agreed_hosts() -> dict[str, str]:
    """The hosts that were agreed to, each with the day; none where that cannot be read."""
    with suppress(InputError, ValueError):
        found = json.loads(read_text(_file(), "the list of hosts", ""))
        if isinstance(found, dict):
            return {str(host): str(day) for host, day in found.items()}
    return {}


def is_agreed(host: str) -> bool:
    """Whether a host (with its port) was agreed to; the file is read again where it has changed."""
    try:
        about = _file().stat()
    except OSError:
        return False
    return host in _read(str(_file()), about.st_mtime_ns, about.st_size)


@lru_cache(maxsize=4)
def _read(path: str, changed: int, size: int) -> frozenset[str]:
    return frozenset(agreed_hosts())


def agree(host: str) -> None:
    """Agree to a host, from now on. Raises InputError where that cannot be kept."""
    with _LOCK:
        write_whole(_file(), json.dumps(agreed_hosts() | {host: date.today().isoformat()}, indent=1) + "\n")


def withdraw(host: str) -> None:
    """Agree to a host no longer."""
    with _LOCK:
        write_whole(_file(), json.dumps({k: v for k, v in agreed_hosts().items() if k != host}, indent=1) + "\n")


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
    key = f" The key from {description.key.environment} or the keyring goes with them." if description.key else ""
    plain = "" if description.encrypted else " The way there is not encrypted: whoever is on it can read them."
    if description.host.rpartition(":")[0] in LOOPBACK:
        plain = " That is this machine; what answers there may pass them on."
    return (
        f"May {amount} be sent to {description.host}, {what}? {limits.at_once} at once, {rate}{lasts}.{key}{plain}"
        " Answers are kept, so that none is sent twice. You are asked once for this host."
    )
