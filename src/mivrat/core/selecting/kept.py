"""Selections written down, with classes by name and images by content, so that they can be kept and found again."""

from __future__ import annotations

import json
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from typing import Any

from mivrat.core.figures.groups import group_names
from mivrat.core.pictures.image_names import ImageNames, image_name
from mivrat.core.pictures.image_sets import ImageItem, column_of
from mivrat.core.selecting.measures import Measures
from mivrat.core.selecting.ranges import InRange, range_data, ranges_from
from mivrat.core.selecting.selection import (
    About,
    Caused,
    Condition,
    Conditions,
    Confidence,
    InGroup,
    Labelled,
    MatrixCells,
    OtherAnswers,
    OtherPredicted,
    Outcome,
    OutcomeOfBoth,
    Picked,
    Predicted,
    Reviewed,
)
from mivrat.core.study.file import Study
from mivrat.core.study.reviews import Reviews
from mivrat.core.study.soundness import reading

# What outcomes were called by earlier versions, in selections that they saved.
_OUTCOMES_BEFORE = {"mended": "fixed"}


def positions_by_group(items: Sequence[ImageItem], column: str) -> dict[str, tuple[int, ...]]:
    """The images of each group of a column."""
    found: dict[str, list[int]] = {}
    for i, name in enumerate(group_names(column_of(items, column))):
        found.setdefault(name, []).append(i)
    return {name: tuple(positions) for name, positions in found.items()}


def as_data(condition: Condition, classes: Sequence[str], names: ImageNames) -> dict[str, Any]:
    """A condition as JSON's kinds of values."""
    match condition:
        case Labelled() | Predicted() | About() | OtherPredicted():
            return {"kind": condition.kind, "classes": [classes[k] for k in sorted(condition.classes)]}
        case MatrixCells():
            return {"kind": "cells", "cells": [[classes[a], classes[b]] for a, b in sorted(condition.cells)]}
        case Outcome() | Reviewed() | OutcomeOfBoth():
            return {"kind": condition.kind, "which": sorted(condition.which)}
        case Confidence():
            return {"kind": "confidence", "ranges": sorted(condition.ranges)}
        case Caused():
            return {"kind": "cause", "causes": sorted(condition.causes)}
        case Picked():
            return {"kind": "picked", "by": condition.by, "images": [list(names[i]) for i in condition.positions]}
        case InRange():
            return {"kind": "range", "name": condition.name, "ranges": range_data(condition.ranges)}
        case InGroup():
            return {"kind": "group", "column": condition.column, "groups": sorted(name for name, _ in condition.groups)}
    raise TypeError(type(condition).__name__)


def from_data(
    data: Mapping[str, Any],
    classes: Sequence[str],
    items: Sequence[ImageItem],
    names: ImageNames,
    reviews: Reviews,
    held: OtherAnswers | None = None,
    measures: Measures | None = None,
) -> Condition:
    """The condition that was written down. Raises KeyError, ValueError or TypeError where it does not fit any more, or is one of
    both runs and none is ``held``."""
    index = {name: k for k, name in enumerate(classes)}
    made: dict[str, Callable[[], Condition]] = {
        "labelled": lambda: Labelled(frozenset(index[name] for name in data["classes"])),
        "predicted": lambda: Predicted(frozenset(index[name] for name in data["classes"])),
        "about": lambda: About(frozenset(index[name] for name in data["classes"])),
        "cells": lambda: MatrixCells(frozenset((index[a], index[b]) for a, b in data["cells"])),
        "outcome": lambda: Outcome(frozenset(map(str, data["which"]))),
        "review": lambda: Reviewed(frozenset(map(str, data["which"])), reviews),
        "confidence": lambda: Confidence(frozenset((float(low), float(high)) for low, high in data["ranges"])),
        "cause": lambda: Caused(frozenset(int(one) for one in data["causes"]), reviews),
        "against": lambda: OutcomeOfBoth(
            frozenset(_OUTCOMES_BEFORE.get(str(one), str(one)) for one in data["which"]), _one_held(held)
        ),
        "other predicted": lambda: OtherPredicted(frozenset(index[name] for name in data["classes"]), _one_held(held)),
        "picked": lambda: Picked(str(data["by"]), names.positions(map(image_name, data["images"]))),
        "range": lambda: _range(str(data["name"]), data["ranges"], measures),
        "group": lambda: _group(str(data["column"]), list(data["groups"]), items),
    }
    return made[data["kind"]]()


def _one_held(held: OtherAnswers | None) -> OtherAnswers:
    if held is None or held.other is None:
        raise ValueError("this run is compared with nothing")
    return held


def _range(name: str, ranges: Sequence[Sequence[float | None]], measures: Measures | None) -> InRange:
    if measures is None or (measures.known and not measures.has(name)):
        raise KeyError(name)
    return InRange(name, ranges_from(ranges), measures)


def _group(column: str, names: Sequence[str], items: Sequence[ImageItem]) -> InGroup:
    positions = positions_by_group(items, column)
    return InGroup(column, frozenset((name, positions[name]) for name in names))


def to_text(conditions: Conditions, classes: Sequence[str], names: ImageNames) -> str:
    """Conditions as text that ``from_text`` reads."""
    return json.dumps([as_data(one, classes, names) for one in conditions])


def from_text(
    text: str,
    classes: Sequence[str],
    items: Sequence[ImageItem],
    names: ImageNames,
    reviews: Reviews,
    held: OtherAnswers | None = None,
    measures: Measures | None = None,
) -> Conditions | None:
    """The conditions that were written down; None where they do not fit the study any more."""
    try:
        return tuple(from_data(one, classes, items, names, reviews, held, measures) for one in json.loads(text))
    except (KeyError, ValueError, TypeError, AttributeError, IndexError, OverflowError, RecursionError):
        return None


def without_both(text: str) -> str:
    """Conditions written down without those that ask for another run to be held. ValueError where the text is no list."""
    data = json.loads(text)
    if not isinstance(data, list):
        raise ValueError("is not a list of conditions")
    kinds = ("against", "other predicted")
    return json.dumps([one for one in data if not (isinstance(one, dict) and one.get("kind") in kinds)])


@dataclass(frozen=True)
class KeptSelection:
    """A selection kept under a name, as text."""

    name: str
    conditions: str


@reading
def load_kept(study: Study, set_id: int) -> tuple[KeptSelection, ...]:
    """The selections kept for an image set, by name."""
    found = study.rows("SELECT name, conditions FROM kept_selection WHERE set_id = ? ORDER BY name", set_id)
    return tuple(KeptSelection(*row) for row in found)


def save_kept(study: Study, set_id: int, kept: Sequence[KeptSelection]) -> None:
    """Keep these selections for an image set, and no others."""
    with study.writing() as db:
        db.execute("DELETE FROM kept_selection WHERE set_id = ?", (set_id,))
        db.executemany(
            "INSERT INTO kept_selection VALUES (?, ?, ?)", [(set_id, one.name, one.conditions) for one in kept]
        )
