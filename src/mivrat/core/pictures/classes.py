"""Class lists, and the matching of labels to classes."""

from __future__ import annotations

import json
import re
from collections import Counter
from collections.abc import Sequence
from pathlib import Path

from mivrat.core.base.errors import InputError
from mivrat.core.base.files import json_value, read_text
from mivrat.core.base.text import is_text, quoted


def read_class_list(path: Path) -> list[str]:
    """Read class names in model order from a text file (one a line), a JSON list, or a JSON object index -> name.

    Raises InputError for an unreadable file, no names, an empty or doubled name, or indices with gaps.
    """
    text = read_text(path, "the class list", "name a text or JSON file with the class names")
    if path.suffix.lower() == ".json" or (text.lstrip()[:1] in ("[", "{") and _is_json(text)):
        names = _from_json(text, path)
    else:
        names = text.replace("\r\n", "\n").replace("\r", "\n").split("\n")
        while names and not names[-1].strip():
            names.pop()
    refuse_bad_names(names, path)
    return names


def refuse_bad_names(names: Sequence[str], where: object) -> None:
    """InputError where there are no names, or one is empty, doubled, or no text."""
    if not names:
        raise InputError(
            "the class list is empty", where=where, hint="put one class name on each line, in the model's order"
        )
    for number, name in enumerate(names, 1):
        if not name.strip():
            raise InputError(
                f"line {number} of the class list is empty", where=where, hint="name every class, or take the line out"
            )
        if not is_text(name):
            raise InputError(
                f"class {number} of the list holds half a character ({name!r}), which no text file can hold",
                where=where,
                hint="correct that name",
            )
    doubled = [name for name, count in Counter(names).items() if count > 1]
    if doubled:
        raise InputError(
            f"the class list names {quoted(doubled)} more than once",
            where=where,
            hint="give every class a name of its own",
        )


def _is_json(text: str) -> bool:
    try:
        return isinstance(json.loads(text), list | dict)
    except ValueError:
        return False
    except RecursionError:  # brackets and nothing else, for thousands of them
        return True


def _from_json(text: str, path: Path) -> list[str]:
    found = json_value(text, path, "give a list of names, or an object index -> name")
    if isinstance(found, dict):
        try:
            by_index = {int(key): name for key, name in found.items()}
        except ValueError:
            raise InputError(
                "has a key that is not a whole number",
                where=path,
                hint="use an object index -> name, with indices from 0",
            ) from None
        if sorted(by_index) != list(range(len(found))):
            raise InputError(
                f"the indices do not run from 0 to {len(found) - 1} without a gap",
                where=path,
                hint="number the classes from 0 in the model's order",
            )
        found = [by_index[i] for i in range(len(by_index))]
    if not isinstance(found, list) or not all(isinstance(name, str) for name in found):
        raise InputError(
            "is neither a list of names nor an object index -> name",
            where=path,
            hint='write for example ["birch", "alder"]',
        )
    return found


def fold(name: str) -> str:
    """A name with case, spaces, ``_`` and ``-`` taken away, for loose matching."""
    return "".join(c for c in name.casefold() if c not in "_-" and not c.isspace())


def natural_key(text: str) -> list[tuple[int, int, str]]:
    """A sort key by which class 2 comes before class 10."""
    return [
        (0, int(part), "") if part.isdigit() and part.isascii() and len(part) < 1000 else (1, 0, part)
        for part in re.split(r"(\d+)", text.casefold())
        if part
    ]


class ClassMatcher:
    """Finds the class a label means: by exact name, else by folded name."""

    def __init__(self, classes: Sequence[str]) -> None:
        self.classes = list(classes)
        self._exact = {name: i for i, name in enumerate(classes)}
        folded = Counter(fold(name) for name in classes)
        self._folded = {fold(name): i for i, name in enumerate(classes) if folded[fold(name)] == 1}

    def index(self, label: str) -> int | None:
        """The class's index, or None where the label matches no class (or, folded, more than one)."""
        found = self._exact.get(label)
        return found if found is not None else self._folded.get(fold(label))

    def index_or_number(self, text: str) -> int | None:
        """The index of a class given by name or by index from 0 (a name wins); None where it is neither."""
        found = self.index(text)
        if found is None and text.isascii() and text.isdigit() and len(text) < 10 and int(text) < len(self.classes):
            found = int(text)
        return found

    def target(self, text: str) -> int:
        """A class given by name or by index from 0 (a name wins); InputError where it is neither."""
        found = self.index_or_number(text)
        if found is None:
            raise InputError(
                f"{text!r} is not a class; the classes are {quoted(self.classes)}",
                where="target",
                hint=f"give one of these names, or an index from 0 to {len(self.classes) - 1}",
            )
        return found
