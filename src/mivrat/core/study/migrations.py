"""Brings study files of earlier versions up to the present one, step by step; each step has a name, and is noted in the file."""

from __future__ import annotations

import json
import os
import sqlite3
from collections.abc import Callable
from contextlib import suppress
from datetime import date
from typing import Any, NamedTuple

from mivrat.core.base.text import unescaped
from mivrat.core.study.schema import VERSION

# What each version's tables were when it was the newest: a step makes the tables of the version after it, whatever today's are.
_TABLES_OF_2 = """
CREATE TABLE family (class INTEGER PRIMARY KEY REFERENCES class (position), name TEXT NOT NULL);
CREATE TABLE pairing (label TEXT PRIMARY KEY, class INTEGER REFERENCES class (position));
CREATE TABLE model (id INTEGER PRIMARY KEY, kind TEXT NOT NULL, name TEXT NOT NULL, path TEXT NOT NULL, sha256 TEXT NOT NULL,
                    recipe TEXT NOT NULL, recipe_is_guess INTEGER NOT NULL, listed INTEGER NOT NULL DEFAULT 1, UNIQUE (sha256, recipe));
CREATE TABLE image_set (id INTEGER PRIMARY KEY, name TEXT NOT NULL, role TEXT NOT NULL, root TEXT NOT NULL, drawn TEXT NOT NULL);
CREATE TABLE image (set_id INTEGER NOT NULL REFERENCES image_set, position INTEGER NOT NULL, path TEXT NOT NULL, said TEXT NOT NULL,
                    label INTEGER REFERENCES class (position), columns TEXT NOT NULL, size INTEGER, changed INTEGER, content BLOB,
                    problem TEXT, PRIMARY KEY (set_id, position)) WITHOUT ROWID;
CREATE TABLE answer (model_id INTEGER NOT NULL REFERENCES model, content BLOB NOT NULL, state INTEGER NOT NULL, reason TEXT,
                     scores BLOB, PRIMARY KEY (model_id, content));
CREATE TABLE run (id INTEGER PRIMARY KEY, model_id INTEGER NOT NULL REFERENCES model, set_id INTEGER NOT NULL REFERENCES image_set,
                  score_columns INTEGER NOT NULL, kind TEXT, UNIQUE (model_id, set_id));
CREATE TABLE survey (content BLOB PRIMARY KEY, facts TEXT NOT NULL) WITHOUT ROWID;
CREATE TABLE check_result (run_id INTEGER NOT NULL REFERENCES run, name TEXT NOT NULL, result TEXT NOT NULL, PRIMARY KEY (run_id, name))"""
_REVIEWS_OF_3 = """
CREATE TABLE cause (id INTEGER PRIMARY KEY, position INTEGER NOT NULL, name TEXT NOT NULL);
INSERT INTO cause VALUES (1, 1, 'label is wrong'), (2, 2, 'two objects'), (3, 3, 'hidden'), (4, 4, 'odd angle'), (5, 5, 'out of focus'),
                         (6, 6, 'background');
CREATE TABLE review (set_id INTEGER NOT NULL REFERENCES image_set, position INTEGER NOT NULL, reviewed INTEGER NOT NULL,
                     dismissed INTEGER NOT NULL, label INTEGER REFERENCES class (position), causes TEXT NOT NULL, note TEXT NOT NULL,
                     PRIMARY KEY (set_id, position)) WITHOUT ROWID;
CREATE TABLE kept_selection (set_id INTEGER NOT NULL REFERENCES image_set, name TEXT NOT NULL, conditions TEXT NOT NULL,
                             PRIMARY KEY (set_id, name)) WITHOUT ROWID"""
_EVIDENCE_OF_4 = """
CREATE TABLE region (set_id INTEGER NOT NULL REFERENCES image_set, position INTEGER NOT NULL, shapes TEXT NOT NULL,
                     PRIMARY KEY (set_id, position)) WITHOUT ROWID;
CREATE TABLE cover_test (id INTEGER PRIMARY KEY, run_id INTEGER NOT NULL REFERENCES run, day TEXT NOT NULL, name TEXT NOT NULL,
                         plan TEXT NOT NULL, outcome TEXT NOT NULL)"""
_BY_CONTENT_OF_7 = {
    "review": """
CREATE TABLE review (set_id INTEGER NOT NULL REFERENCES image_set, content BLOB NOT NULL, path TEXT NOT NULL,
                     reviewed INTEGER NOT NULL, dismissed INTEGER NOT NULL, label INTEGER REFERENCES class (position),
                     causes TEXT NOT NULL, note TEXT NOT NULL, PRIMARY KEY (set_id, path, content)) WITHOUT ROWID""",
    "region": """
CREATE TABLE region (set_id INTEGER NOT NULL REFERENCES image_set, content BLOB NOT NULL, path TEXT NOT NULL,
                     shapes TEXT NOT NULL, PRIMARY KEY (set_id, path, content)) WITHOUT ROWID""",
}
_CONCLUSIONS_OF_8 = """
CREATE TABLE finding (id INTEGER PRIMARY KEY, position INTEGER NOT NULL, data TEXT NOT NULL);
CREATE TABLE finding_check (claim TEXT NOT NULL, model TEXT NOT NULL, images TEXT NOT NULL, result TEXT NOT NULL,
                            PRIMARY KEY (claim, model, images)) WITHOUT ROWID;
CREATE TABLE handed_back (id INTEGER PRIMARY KEY, day TEXT NOT NULL, what TEXT NOT NULL, number INTEGER NOT NULL, place TEXT NOT NULL)"""

_LARGE_RUNS_OF_10 = """
CREATE TABLE score_file (id INTEGER PRIMARY KEY, name TEXT NOT NULL, listed INTEGER NOT NULL, columns INTEGER NOT NULL, form TEXT NOT NULL);
CREATE TABLE kept_columns (what TEXT NOT NULL, id INTEGER NOT NULL, value BLOB NOT NULL, PRIMARY KEY (what, id))"""

_STRAINS_OF_11 = """
CREATE TABLE strain_answer (model_id INTEGER NOT NULL REFERENCES model, content BLOB NOT NULL, strain TEXT NOT NULL,
                            predicted INTEGER NOT NULL REFERENCES class (position), confidence REAL NOT NULL,
                            PRIMARY KEY (model_id, content, strain)) WITHOUT ROWID"""

# Version 1 kept answers by run and position and no content hashes; its images get a stand-in that no hash can equal.
_STAND_IN = "CAST('unhashed ' || set_id || ' ' || position AS BLOB)"
_FROM_1 = (
    *(f"ALTER TABLE {name} RENAME TO old_{name}" for name in ("model", "image_set", "image", "run", "answer")),
    *_TABLES_OF_2.split(";"),
    "INSERT INTO model SELECT id, 'onnx', name, path, sha256, recipe, recipe_is_guess, 1 FROM old_model",
    "INSERT INTO image_set (id, name, role, root, drawn) SELECT id, name, 'held-out', root, '' FROM old_image_set",
    "INSERT INTO image SELECT set_id, position, path, COALESCE((SELECT name FROM class WHERE class.position = label), ''), label, "
    "columns, NULL, NULL, NULL, NULL FROM old_image",
    "INSERT INTO run SELECT * FROM old_run",
    f"UPDATE image SET content = {_STAND_IN} WHERE EXISTS (SELECT 1 FROM old_answer JOIN old_run ON old_run.id = run_id "
    "WHERE old_run.set_id = image.set_id AND old_answer.position = image.position)",
    "INSERT OR IGNORE INTO answer SELECT model_id, CAST('unhashed ' || set_id || ' ' || position AS BLOB), state, reason, scores "
    "FROM old_answer JOIN old_run ON old_run.id = run_id",
    *(f"DROP TABLE old_{name}" for name in ("answer", "run", "image", "image_set", "model")),
)


def _references_as_a_set(db: sqlite3.Connection) -> None:
    """Version 1 kept reference pictures in a table of their own; now they are an image set."""
    for statement in _FROM_1:
        db.execute(statement)
    found = db.execute(
        "SELECT class, path, name FROM reference JOIN class ON class = position ORDER BY class"
    ).fetchall()
    if found:
        root = os.path.commonpath([os.path.dirname(path) or "." for _, path, _ in found]) or "."
        set_id = db.execute(
            "INSERT INTO image_set (name, role, root, drawn) VALUES ('references', 'reference', ?, '')", (root,)
        ).lastrowid
        db.executemany(
            "INSERT INTO image VALUES (?, ?, ?, ?, ?, '{}', NULL, NULL, NULL, NULL)",
            [(set_id, i, os.path.relpath(path, root), name, k) for i, (k, path, name) in enumerate(found)],
        )
    db.execute("DROP TABLE reference")


def _reviews(db: sqlite3.Connection) -> None:
    """Version 2 kept nothing of what was seen in single images."""
    for statement in _REVIEWS_OF_3.split(";"):
        db.execute(statement)


def _regions_and_cover_tests(db: sqlite3.Connection) -> None:
    """Version 3 kept neither regions nor cover tests."""
    for statement in _EVIDENCE_OF_4.split(";"):
        db.execute(statement)


def _units(db: sqlite3.Connection) -> None:
    """Version 4 did not know of images that belong together."""
    db.execute("ALTER TABLE image_set ADD COLUMN together TEXT NOT NULL DEFAULT ''")


def _claims_by_model(db: sqlite3.Connection) -> None:
    """Version 5 kept a claim, criteria and a threshold for all models alike; they were entered for the first one, and are its."""
    first = db.execute(
        "SELECT id FROM model WHERE listed ORDER BY id NOT IN (SELECT model_id FROM run), id LIMIT 1"
    ).fetchone()
    for key in ("claim", "criteria", "threshold"):
        if first is not None:
            db.execute("UPDATE setting SET key = ? WHERE key = ?", (f"{key} of model {first[0]}", key))
        db.execute("DELETE FROM setting WHERE key = ?", (key,))


def _images_by_content(db: sqlite3.Connection) -> None:
    """Version 6 named images by their place in the list wherever it kept something of single ones."""
    for table, definition in _BY_CONTENT_OF_7.items():
        db.execute(f"ALTER TABLE {table} RENAME TO old_{table}")
        db.execute(definition)
    joined = "JOIN image ON image.set_id = old.set_id AND image.position = old.position"
    db.execute(
        "INSERT INTO review SELECT old.set_id, COALESCE(content, x''), path, reviewed, dismissed, old.label, causes, note "
        f"FROM old_review AS old {joined}"
    )
    db.execute(
        f"INSERT INTO region SELECT old.set_id, COALESCE(content, x''), path, shapes FROM old_region AS old {joined}"
    )
    db.execute("INSERT INTO region SELECT set_id, x'', '', shapes FROM old_region WHERE position = -1")
    for table in ("review", "region"):
        db.execute(f"DROP TABLE old_{table}")
    sets = dict(db.execute("SELECT id, set_id FROM run"))
    names: dict[int, list[list[str]]] = {}

    def named(set_id: int, position: Any) -> list[str]:
        if set_id not in names:
            rows = db.execute("SELECT content, path FROM image WHERE set_id = ? ORDER BY position", (set_id,))
            names[set_id] = [[(content or b"").hex(), unescaped(path)] for content, path in rows]
        return names[set_id][int(position)]

    def conditions(text: str, set_id: int) -> str:
        found = json.loads(text)
        for one in found:
            if one["kind"] == "picked":
                one["images"] = [named(set_id, i) for i in one.pop("positions")]
        return json.dumps(found)

    def place(text: str, set_id: int) -> str:
        found = json.loads(text)
        return json.dumps(found | {"conditions": conditions(found["conditions"], set_id), "image": None})

    def plan(text: str, set_id: int) -> str:
        found = json.loads(text)
        found["images"] = [named(set_id, i) for i in found["images"]]
        if found["region"]["place"] == "each":
            each = found["region"]["shapes"]
            found["region"]["shapes"] = [[named(set_id, i), shapes] for i, shapes in each.items()]
        return json.dumps(found)

    def two_classes(text: str, set_id: int) -> str:
        return json.dumps([[named(set_id, one[0]), *one[1:]] for one in json.loads(text)])

    # What cannot be read stays as it is: it is told of when it is asked for.
    unreadable = (ValueError, KeyError, TypeError, AttributeError, IndexError, OverflowError, RecursionError)
    for set_id, name, text in db.execute("SELECT set_id, name, conditions FROM kept_selection").fetchall():
        with suppress(*unreadable):
            row = conditions(text, set_id), set_id, name
            db.execute("UPDATE kept_selection SET conditions = ? WHERE set_id = ? AND name = ?", row)
    for test, run, text in db.execute("SELECT id, run_id, plan FROM cover_test").fetchall():
        with suppress(*unreadable):
            db.execute("UPDATE cover_test SET plan = ? WHERE id = ?", (plan(text, sets[run]), test))
    for begin, change in (("place of run ", place), ("two plausible classes in run ", two_classes)):
        for key, text in db.execute("SELECT key, value FROM setting WHERE key LIKE ?", (f"{begin}%",)).fetchall():
            with suppress(*unreadable):
                changed = change(text, sets[int(key.removeprefix(begin))])
                db.execute("UPDATE setting SET value = ? WHERE key = ?", (changed, key))


def _conclusions(db: sqlite3.Connection) -> None:
    """Version 7 kept neither findings nor what was exported."""
    for statement in _CONCLUSIONS_OF_8.split(";"):
        db.execute(statement)


def _check_answers(db: sqlite3.Connection) -> None:
    """Version 8 kept no answers to checks."""
    db.execute("CREATE TABLE check_answer (content TEXT PRIMARY KEY, answer TEXT NOT NULL) WITHOUT ROWID")


def _scores_beside(db: sqlite3.Connection) -> None:
    """Version 9 kept all scores inside; what it has there stays there."""
    for statement in _LARGE_RUNS_OF_10.split(";"):
        db.execute(statement)
    db.execute("ALTER TABLE answer ADD COLUMN score_file INTEGER REFERENCES score_file")
    db.execute("ALTER TABLE answer ADD COLUMN place INTEGER")
    db.execute("ALTER TABLE run ADD COLUMN score_file INTEGER REFERENCES score_file")


def _strain_answers(db: sqlite3.Connection) -> None:
    """Version 10 kept no answers to distorted pictures."""
    db.execute(_STRAINS_OF_11)


def _transplant_tests(db: sqlite3.Connection) -> None:
    """Version 11 kept cover tests only."""
    db.execute("ALTER TABLE cover_test ADD COLUMN kind TEXT NOT NULL DEFAULT 'cover'")


_READERS_OF_13 = """
CREATE TABLE reader_review (reader TEXT NOT NULL, set_id INTEGER NOT NULL REFERENCES image_set, content BLOB NOT NULL, path TEXT NOT NULL,
                            decision TEXT NOT NULL, PRIMARY KEY (reader, set_id, path, content)) WITHOUT ROWID"""


def _properties_and_readers(db: sqlite3.Connection) -> None:
    """Version 12 kept nothing of what can be measured in pictures, and one reader's reviews."""
    db.execute("CREATE TABLE property (content BLOB PRIMARY KEY, measured BLOB NOT NULL) WITHOUT ROWID")
    db.execute(_READERS_OF_13)


_REVIEWS_OF_14 = """
CREATE TABLE review (reader TEXT NOT NULL, set_id INTEGER NOT NULL REFERENCES image_set, content BLOB NOT NULL, path TEXT NOT NULL,
                     reviewed INTEGER NOT NULL, dismissed INTEGER NOT NULL, label INTEGER REFERENCES class (position),
                     causes TEXT NOT NULL, note TEXT NOT NULL, PRIMARY KEY (reader, set_id, path, content)) WITHOUT ROWID"""
_AGREED_OF_14 = """
CREATE TABLE agreed_review (set_id INTEGER NOT NULL REFERENCES image_set, content BLOB NOT NULL, path TEXT NOT NULL,
                            decision TEXT NOT NULL, PRIMARY KEY (set_id, path, content)) WITHOUT ROWID"""


def _reviews_by_reader(db: sqlite3.Connection) -> None:
    """Version 13 had one reader of its own, whose the reviews were."""
    db.execute("ALTER TABLE review RENAME TO old_review")
    db.execute(_REVIEWS_OF_14)
    db.execute(
        "INSERT INTO review SELECT COALESCE((SELECT value FROM setting WHERE key = 'reader'), ''), set_id, content, path, reviewed, "
        "dismissed, label, causes, note FROM old_review"
    )
    db.execute("DROP TABLE old_review")
    db.execute(_AGREED_OF_14)


class Migration(NamedTuple):
    """The step from one version to the next; ``name`` is what it is noted as."""

    version: int
    name: str
    do: Callable[[sqlite3.Connection], None]


MIGRATIONS = (
    Migration(1, "answers by content, references as a set", _references_as_a_set),
    Migration(2, "reviews", _reviews),
    Migration(3, "regions and cover tests", _regions_and_cover_tests),
    Migration(4, "units of related images", _units),
    Migration(5, "claims and criteria by model", _claims_by_model),
    Migration(6, "images by content", _images_by_content),
    Migration(7, "findings and what was exported", _conclusions),
    Migration(8, "answers to checks", _check_answers),
    Migration(9, "scores beside the study", _scores_beside),
    Migration(10, "answers to distorted pictures", _strain_answers),
    Migration(11, "transplant tests", _transplant_tests),
    Migration(12, "picture properties, several readers", _properties_and_readers),
    Migration(13, "reviews by reader", _reviews_by_reader),
)


def migrate(db: sqlite3.Connection, version: int) -> None:
    """Bring a study of an earlier version up to the present one, in one transaction: wholly or not at all."""
    db.execute("PRAGMA foreign_keys = OFF")
    db.execute("PRAGMA legacy_alter_table = ON")
    db.execute("BEGIN IMMEDIATE")
    try:
        for step in MIGRATIONS[version - 1 :]:
            step.do(db)
            noted = f"brought up from version {step.version}", f"{step.name}, {date.today().isoformat()}"
            db.execute("INSERT OR REPLACE INTO setting (key, value) VALUES (?, ?)", noted)
        db.execute(f"PRAGMA user_version = {VERSION}")
        db.execute("COMMIT")
    except BaseException:
        db.execute("ROLLBACK")
        raise
