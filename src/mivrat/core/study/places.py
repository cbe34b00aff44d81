"""Which of the folders that a study names have been allowed to be read."""

from __future__ import annotations

from collections.abc import Iterable
from pathlib import Path


def places_to_ask_about(study: Path, places: Iterable[Path], allowed: Iterable[Path]) -> list[Path]:
    """The places that lie neither in the study's own folder nor in an allowed one; a study made elsewhere may name any."""
    known = [study.resolve().parent, *(one.resolve() for one in allowed)]
    return [place for place in places if not any(place.resolve().is_relative_to(one) for one in known)]
