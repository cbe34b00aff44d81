"""The classes of a study: their order, labels paired with them by hand, families, and how many images each has."""

from __future__ import annotations

from collections import Counter
from collections.abc import Mapping, Sequence

from mivrat.core.base.errors import InputError
from mivrat.core.base.text import escaped, unescaped
from mivrat.core.pictures.classes import ClassMatcher
from mivrat.core.study.file import Study
from mivrat.core.study.soundness import (
    reading,
)


@reading
def unmatched_labels(study: Study) -> dict[str, int]:
    """Labels that no class goes by and that were not put aside by hand, with their number of images in all sets."""
    found = study.db.execute(
        "SELECT said, COUNT(*) FROM image WHERE label IS NULL AND said != '' "
        "AND said NOT IN (SELECT label FROM pairing) GROUP BY said ORDER BY said"
    )
    return {unescaped(said): number for said, number in found}


@reading
def class_sizes(study: Study) -> dict[int, Counter[int]]:
    """How many images of each class every set has, by set and class index."""
    found: dict[int, Counter[int]] = {}
    for set_id, label, images in study.db.execute(
        "SELECT set_id, label, COUNT(*) FROM image WHERE label IS NOT NULL GROUP BY set_id, label"
    ):
        found.setdefault(set_id, Counter())[label] = images
    return found


def save_class_order(study: Study, names: Sequence[str]) -> None:
    """Name the models' outputs by the same classes in another order. Labels, families and pairs stay with the names
    they were given for. Raises InputError where they are other classes."""
    before = study.classes
    if sorted(names) != sorted(before):
        raise InputError(
            "is no other order of the same classes", where="class order", hint="start a new study for other classes"
        )
    place = {name: new for new, name in enumerate(names)}
    with study.writing() as db:
        if not db.in_transaction:
            db.execute("BEGIN")
        db.execute("PRAGMA defer_foreign_keys = ON")
        db.execute("CREATE TEMP TABLE moved (old INTEGER PRIMARY KEY, new INTEGER NOT NULL)")
        db.executemany("INSERT INTO moved VALUES (?, ?)", [(old, place[name]) for old, name in enumerate(before)])
        db.execute("DELETE FROM kept_columns")
        for table, column in (("image", "label"), ("review", "label"), ("family", "class"), ("pairing", "class")):
            # By way of negative numbers, so that no two stand in one place on the way.
            db.execute(
                f"UPDATE {table} SET {column} = -1 - (SELECT new FROM moved WHERE old = {column}) WHERE {column} >= 0"
            )
            db.execute(f"UPDATE {table} SET {column} = -1 - {column} WHERE {column} < 0")
        db.execute("DROP TABLE moved")
        db.execute("DELETE FROM class")
        db.executemany("INSERT INTO class VALUES (?, ?)", list(enumerate(names)))


@reading
def load_pairing(study: Study) -> dict[str, int | None]:
    """Labels paired with classes by hand; None: paired with no class."""
    return {unescaped(label): k for label, k in study.db.execute("SELECT label, class FROM pairing")}


def save_pairing(study: Study, pairing: Mapping[str, int | None]) -> None:
    """Keep the pairs made by hand, and label the images of all sets by them."""
    matcher = ClassMatcher(study.classes)
    before = load_pairing(study)
    with study.writing() as db:
        db.execute("DELETE FROM pairing")
        db.executemany("INSERT INTO pairing VALUES (?, ?)", [(escaped(one), k) for one, k in pairing.items()])
        for label in before.keys() | pairing.keys():
            index = pairing[label] if label in pairing else matcher.index(label)
            db.execute("UPDATE image SET label = ? WHERE said = ?", (index, escaped(label)))
        db.execute("DELETE FROM kept_columns")


@reading
def load_families(study: Study) -> dict[int, str]:
    """The family of each class that has one."""
    return dict(study.db.execute("SELECT class, name FROM family ORDER BY class"))


def save_families(study: Study, families: Mapping[int, str]) -> None:
    with study.writing() as db:
        db.execute("DELETE FROM family")
        db.executemany("INSERT INTO family VALUES (?, ?)", list(families.items()))
