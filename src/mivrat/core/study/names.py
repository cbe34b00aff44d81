"""What models and image sets are called where a run is named: a name that several have is told apart by what differs."""

from __future__ import annotations

import itertools
from collections import Counter
from collections.abc import Callable, Sequence
from pathlib import PurePath
from typing import TypeVar

from mivrat.core.base.text import images, unescaped
from mivrat.core.models.kinds import KINDS
from mivrat.core.pictures.recipe import parse_recipe
from mivrat.core.study.file import Study
from mivrat.core.study.schema import LISTED

_Named = TypeVar("_Named")


def distinguish(
    named: Sequence[_Named], name: Callable[[_Named], str], details: Sequence[Callable[[_Named], str]]
) -> list[str]:
    """A name for each that no other has: its own; where several have it, with the first of ``details`` that differs among them,
    with the second where that still leaves two alike, and with a number where none tells them apart."""
    own = [name(one) for one in named]
    found, alone = list(own), {one for one, times in Counter(own).items() if times == 1}
    for detail in details:
        alike = Counter(found)
        told = {i: detail(named[i]) for i, one in enumerate(found) if alike[one] > 1}
        for same in dict.fromkeys(found[i] for i in told):
            at = [i for i in told if found[i] == same]
            if len({told[i] for i in at}) > 1:
                for i in at:
                    found[i] = f"{same} ({told[i]})" if told[i] else same
    alike, taken = Counter(found), set(alone)
    for i, one in enumerate(found):
        if own[i] in alone:
            continue
        numbered = (f"{one} ({number})" for number in itertools.count(1))
        free = itertools.chain([one] if alike[one] == 1 else [], numbered)
        found[i] = next(other for other in free if other not in taken)
        taken.add(found[i])
    return found


def model_names(study: Study) -> dict[int, str]:
    """The name of each model of a study, listed or not; models of one name are told apart by being a service, and by their recipe."""
    rows = study.db.execute("SELECT id, name, kind, recipe FROM model ORDER BY NOT listed, id").fetchall()

    def recipe(row: tuple[int, str, str, str]) -> str:
        return parse_recipe(row[3], study.path).summary()

    def is_service(row: tuple[int, str, str, str]) -> str:
        return "service" if KINDS[row[2]].can.asked else ""

    names = distinguish(rows, lambda row: unescaped(row[1]), (is_service, recipe))
    return {row[0]: name for row, name in zip(rows, names, strict=True)}


def set_names(study: Study) -> dict[int, str]:
    """The name of each image set of a study; sets of one name are told apart by their use, how they were drawn, their folder, their
    size."""
    query = f"SELECT id, name, role, drawn, root, {LISTED} FROM image_set ORDER BY id"
    rows = study.db.execute(query).fetchall()
    details: tuple[Callable[[tuple[int, str, str, str, str, int]], str], ...] = (
        lambda row: row[2],
        lambda row: unescaped(row[3]),
        lambda row: PurePath(study.resolved(row[4])).parent.name,
        lambda row: images(row[5]),
    )
    names = distinguish(rows, lambda row: unescaped(row[1]), details)
    return {row[0]: name for row, name in zip(rows, names, strict=True)}
