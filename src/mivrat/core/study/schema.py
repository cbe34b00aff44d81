"""The study file's tables and version."""

APPLICATION_ID = 0x4D495652  # "MIVR"
VERSION = 1

TABLES = """
CREATE TABLE setting (key TEXT PRIMARY KEY, value TEXT NOT NULL);
CREATE TABLE class (position INTEGER PRIMARY KEY, name TEXT NOT NULL UNIQUE);
CREATE TABLE model (id INTEGER PRIMARY KEY, name TEXT NOT NULL, path TEXT NOT NULL, sha256 TEXT NOT NULL, recipe TEXT NOT NULL,
                    recipe_is_guess INTEGER NOT NULL, UNIQUE (sha256, recipe));
CREATE TABLE image_set (id INTEGER PRIMARY KEY, name TEXT NOT NULL, root TEXT NOT NULL);
CREATE TABLE image (set_id INTEGER NOT NULL REFERENCES image_set, position INTEGER NOT NULL, path TEXT NOT NULL,
                    label INTEGER REFERENCES class (position), columns TEXT NOT NULL, PRIMARY KEY (set_id, position)) WITHOUT ROWID;
CREATE TABLE run (id INTEGER PRIMARY KEY, model_id INTEGER NOT NULL REFERENCES model, set_id INTEGER NOT NULL REFERENCES image_set,
                  score_columns INTEGER NOT NULL, kind TEXT, UNIQUE (model_id, set_id));
CREATE TABLE answer (run_id INTEGER NOT NULL REFERENCES run, position INTEGER NOT NULL, state INTEGER NOT NULL,
                     reason TEXT, scores BLOB, PRIMARY KEY (run_id, position));
CREATE TABLE reference (class INTEGER PRIMARY KEY REFERENCES class (position), path TEXT NOT NULL);
"""
