"""The study file's tables, its version, and how files of earlier versions are brought up to it."""

from __future__ import annotations

import os
import sqlite3

APPLICATION_ID = 0x4D495652  # "MIVR"
VERSION = 6

# Answers are rows of some kilobytes: a large page holds several of them whole.
PAGE_SIZE = 16384

# What an image's mistake is put down to at first; the list is the analyst's to change.
USUAL_CAUSES = ("label is wrong", "two objects", "hidden", "odd angle", "out of focus", "background")

_REVIEWS = f"""
CREATE TABLE cause (id INTEGER PRIMARY KEY, position INTEGER NOT NULL, name TEXT NOT NULL);
INSERT INTO cause VALUES {", ".join(f"({i}, {i}, '{name}')" for i, name in enumerate(USUAL_CAUSES, 1))};
CREATE TABLE review (set_id INTEGER NOT NULL REFERENCES image_set, position INTEGER NOT NULL, reviewed INTEGER NOT NULL,
                     dismissed INTEGER NOT NULL, label INTEGER REFERENCES class (position), causes TEXT NOT NULL, note TEXT NOT NULL,
                     PRIMARY KEY (set_id, position)) WITHOUT ROWID;
CREATE TABLE kept_selection (set_id INTEGER NOT NULL REFERENCES image_set, name TEXT NOT NULL, conditions TEXT NOT NULL,
                             PRIMARY KEY (set_id, name)) WITHOUT ROWID;
"""

_EVIDENCE = """
CREATE TABLE region (set_id INTEGER NOT NULL REFERENCES image_set, position INTEGER NOT NULL, shapes TEXT NOT NULL,
                     PRIMARY KEY (set_id, position)) WITHOUT ROWID;
CREATE TABLE cover_test (id INTEGER PRIMARY KEY, run_id INTEGER NOT NULL REFERENCES run, day TEXT NOT NULL, name TEXT NOT NULL,
                         plan TEXT NOT NULL, outcome TEXT NOT NULL);
"""

TABLES = (
    """
CREATE TABLE setting (key TEXT PRIMARY KEY, value TEXT NOT NULL);
CREATE TABLE class (position INTEGER PRIMARY KEY, name TEXT NOT NULL UNIQUE);
CREATE TABLE family (class INTEGER PRIMARY KEY REFERENCES class (position), name TEXT NOT NULL);
CREATE TABLE pairing (label TEXT PRIMARY KEY, class INTEGER REFERENCES class (position));
CREATE TABLE model (id INTEGER PRIMARY KEY, kind TEXT NOT NULL, name TEXT NOT NULL, path TEXT NOT NULL, sha256 TEXT NOT NULL,
                    recipe TEXT NOT NULL, recipe_is_guess INTEGER NOT NULL, listed INTEGER NOT NULL DEFAULT 1, UNIQUE (sha256, recipe));
CREATE TABLE image_set (id INTEGER PRIMARY KEY, name TEXT NOT NULL, role TEXT NOT NULL, root TEXT NOT NULL, drawn TEXT NOT NULL,
                        together TEXT NOT NULL DEFAULT '');
CREATE TABLE image (set_id INTEGER NOT NULL REFERENCES image_set, position INTEGER NOT NULL, path TEXT NOT NULL, said TEXT NOT NULL,
                    label INTEGER REFERENCES class (position), columns TEXT NOT NULL, size INTEGER, changed INTEGER, content BLOB,
                    problem TEXT, PRIMARY KEY (set_id, position)) WITHOUT ROWID;
CREATE TABLE answer (model_id INTEGER NOT NULL REFERENCES model, content BLOB NOT NULL, state INTEGER NOT NULL, reason TEXT,
                     scores BLOB, PRIMARY KEY (model_id, content));
CREATE TABLE run (id INTEGER PRIMARY KEY, model_id INTEGER NOT NULL REFERENCES model, set_id INTEGER NOT NULL REFERENCES image_set,
                  score_columns INTEGER NOT NULL, kind TEXT, UNIQUE (model_id, set_id));
CREATE TABLE survey (content BLOB PRIMARY KEY, facts TEXT NOT NULL) WITHOUT ROWID;
CREATE TABLE check_result (run_id INTEGER NOT NULL REFERENCES run, name TEXT NOT NULL, result TEXT NOT NULL, PRIMARY KEY (run_id, name));
"""
    + _REVIEWS
    + _EVIDENCE
)

# Answers that were looked up by path stand under the path, behind this.
LOOKED_UP = b"path "

# Version 1 kept answers by run and position and no content hashes; its images get a stand-in that no hash can equal.
_STAND_IN = "CAST('unhashed ' || set_id || ' ' || position AS BLOB)"
_FROM_1 = (
    *(f"ALTER TABLE {name} RENAME TO old_{name}" for name in ("model", "image_set", "image", "run", "answer")),
    *(
        statement
        for statement in TABLES.split(";")
        if statement.split()[2:3]
        and statement.split()[2]
        in ("family", "pairing", "model", "image_set", "image", "answer", "run", "survey", "check_result")
    ),
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


def _from_1(db: sqlite3.Connection) -> None:
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


def _from_2(db: sqlite3.Connection) -> None:
    """Version 2 kept nothing of what was seen in single images."""
    for statement in _REVIEWS.strip().split(";\n"):
        db.execute(statement)


def _from_3(db: sqlite3.Connection) -> None:
    """Version 3 kept neither regions nor cover tests."""
    for statement in _EVIDENCE.strip().split(";\n"):
        db.execute(statement)


def _from_4(db: sqlite3.Connection) -> None:
    """Version 4 did not know of images that belong together."""
    if "together" not in {row[1] for row in db.execute("PRAGMA table_info(image_set)")}:
        db.execute("ALTER TABLE image_set ADD COLUMN together TEXT NOT NULL DEFAULT ''")


def _from_5(db: sqlite3.Connection) -> None:
    """Version 5 kept a claim, criteria and a threshold for all models alike; they were entered for the first one, and are its."""
    first = db.execute(
        "SELECT id FROM model WHERE listed ORDER BY id NOT IN (SELECT model_id FROM run), id LIMIT 1"
    ).fetchone()
    for key in ("claim", "criteria", "threshold"):
        if first is not None:
            db.execute("UPDATE setting SET key = ? WHERE key = ?", (f"{key} of model {first[0]}", key))
        db.execute("DELETE FROM setting WHERE key = ?", (key,))


_STEPS = {1: _from_1, 2: _from_2, 3: _from_3, 4: _from_4, 5: _from_5}


def migrate(db: sqlite3.Connection, version: int) -> None:
    """Bring a study of an earlier version up to the present one, in one transaction: wholly or not at all."""
    db.execute("PRAGMA foreign_keys = OFF")
    db.execute("PRAGMA legacy_alter_table = ON")
    db.execute("BEGIN IMMEDIATE")
    try:
        while version < VERSION:
            _STEPS[version](db)
            version += 1
        db.execute(f"PRAGMA user_version = {VERSION}")
        db.execute("COMMIT")
    except BaseException:
        db.execute("ROLLBACK")
        raise
