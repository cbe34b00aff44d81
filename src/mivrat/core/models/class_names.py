"""Class names that an ONNX file brings in its own metadata."""

from __future__ import annotations

import ast
import json
from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import Any

from mivrat.core.base.errors import InputError
from mivrat.core.models.onnx_file import load_onnx
from mivrat.core.pictures.classes import refuse_bad_names

# Under one of these keys, whatever their case.
KEYS = ("classes", "class_names", "labels", "names", "categories", "id2label")
_LONGEST = 2_000_000


def class_names_in(path: Path) -> list[str]:
    """The class names in a model's metadata, in the order of its scores: a list, or an object index -> name, as JSON or as Python writes
    it. InputError where there are none, or they are no class list."""
    entries = {one.key.lower(): one.value for one in load_onnx(path)[0].metadata_props}
    for key in KEYS:
        if key in entries and (names := names_from(entries[key])) is not None:
            refuse_bad_names(names, f"{path}, metadata {key!r}")
            return names
    raise InputError(
        "has no class names in its metadata", where=path, hint="give a class list: the names in the order of the scores"
    )


def names_from(text: str) -> list[str] | None:
    """The names that a text lists; None where it lists none.

    >>> names_from('{"1": "alder", "0": "birch"}'), names_from("{0: 'birch'}"), names_from("birch")
    (['birch', 'alder'], ['birch'], None)
    """
    if len(text) > _LONGEST:
        return None
    try:
        found: Any = json.loads(text)
    except (ValueError, RecursionError):
        try:
            found = ast.literal_eval(text)
        except (ValueError, SyntaxError, RecursionError, MemoryError, TypeError):
            return None
    if isinstance(found, Mapping):
        try:
            by_index = {int(key): name for key, name in found.items()}
        except (TypeError, ValueError):
            return None
        if sorted(by_index) != list(range(len(found))):
            return None
        found = [by_index[i] for i in range(len(by_index))]
    if not isinstance(found, Sequence) or isinstance(found, str) or not all(isinstance(one, str) for one in found):
        return None
    return list(found) or None
