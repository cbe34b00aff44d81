"""Evidence that a study keeps: regions drawn on an image set, and cover and transplant tests of its runs with what repeating them takes."""

from __future__ import annotations

import json
import time
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any, Literal

from mivrat.core.base.text import unescaped
from mivrat.core.pictures.image_names import ImageName
from mivrat.core.study.file import Study
from mivrat.core.study.image_sets import load_image_names, stored_names
from mivrat.core.study.soundness import json_of, reading

# Stands for the position of a region that lies at the same place in every image.
EVERY = -1


TestKind = Literal["cover", "transplant"]


@dataclass(frozen=True)
class KeptTest:
    """A test of a run: the day, its name, the plan and the outcome, both as JSON."""

    id: int
    run_id: int
    day: str
    name: str
    plan: str
    outcome: str
    kind: TestKind = "cover"


@reading
def load_regions(study: Study, set_id: int) -> dict[int, list[dict[str, Any]]]:
    """The shapes drawn on an image set, as JSON values, by position (EVERY: on all of them)."""
    rows, found = study.rows("SELECT content, path, shapes FROM region WHERE set_id = ?", set_id), dict[int, Any]()
    if not rows:
        return found
    names = load_image_names(study, set_id)
    for content, path, shapes in rows:
        position = names.position(ImageName(content.hex(), unescaped(path))) if path else EVERY
        if position is not None:
            found[position] = json_of(shapes, list[dict[str, Any]])
    return found


def save_regions(study: Study, set_id: int, changes: Mapping[int, Sequence[dict[str, Any]]]) -> None:
    """Keep the shapes drawn at these positions; none takes a region away."""
    names = {EVERY: (b"", ""), **stored_names(study, set_id, [i for i in changes if i != EVERY])}
    with study.writing() as db:
        for position, shapes in changes.items():
            content, path = names[position]
            db.execute(
                "DELETE FROM region WHERE set_id = ? AND path = ? AND content IN (?, x'')", (set_id, path, content)
            )
            if shapes:
                row = (set_id, content, path, json.dumps(list(shapes)))
                db.execute("INSERT INTO region (set_id, content, path, shapes) VALUES (?, ?, ?, ?)", row)


@reading
def load_tests(study: Study) -> tuple[KeptTest, ...]:
    """All tests kept, the oldest first."""
    rows = study.rows("SELECT id, run_id, day, name, plan, outcome, kind FROM cover_test ORDER BY id")
    return tuple(KeptTest(*row) for row in rows)


def save_test(study: Study, test: KeptTest) -> None:
    """Keep one test, in place of the one with the same id; the others stay as they are."""
    row = (test.id, test.run_id, test.day, test.name, test.plan, test.outcome, test.kind)
    with study.writing() as db:
        db.execute("INSERT OR REPLACE INTO cover_test VALUES (?, ?, ?, ?, ?, ?, ?)", row)


def remove_test(study: Study, test_id: int) -> None:
    """Take one test away."""
    with study.writing() as db:
        db.execute("DELETE FROM cover_test WHERE id = ?", (test_id,))


def new_test_id() -> int:
    """An id that no kept test has, whether the study's list has been read or not: the time in nanoseconds."""
    return time.time_ns()
