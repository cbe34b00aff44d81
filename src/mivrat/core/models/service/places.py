"""Where service descriptions lie: one made of an address is kept for this user, and beside the study that goes by it."""

from __future__ import annotations

from pathlib import Path

from platformdirs import user_cache_path

from mivrat.core.base.errors import InputError
from mivrat.core.models.service.description import (
    Description,
    describe_address,
    is_address,
    read_description,
    write_description,
)


def _own() -> Path:
    return user_cache_path("mivrat", appauthor=False) / "services"


def place_of(named: str | Path) -> Path:
    """Where a model is that was named by a file or by an address: of an address its description. Raises InputError where the
    address is none."""
    text = str(named)
    return keep(describe_address(text)) if isinstance(named, str) and is_address(text) else Path(named)


def keep(description: Description) -> Path:
    """A description kept for this user, until a study goes by it."""
    return write_description(description, _own())


def address_in(path: Path) -> str:
    """Scheme, host and port of the service that a file describes; empty where it describes none."""
    try:
        return read_description(path).address
    except InputError:
        return ""


def host_in(path: Path) -> str:
    """The host of the service that a file describes; empty where it describes none."""
    return address_in(path).partition("://")[2]


def kept_beside(model: Path, study: Path | None) -> Path:
    """A model's file as a study is to find it again: a description that was kept for this user is kept beside the study."""
    if study is None or model.parent != _own():
        return model
    return write_description(read_description(model), study.resolve().parent)
