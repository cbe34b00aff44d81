"""The study file's tables and its version."""

from __future__ import annotations

APPLICATION_ID = 0x4D495652  # "MIVR"
VERSION = 14

# Answers are rows of some kilobytes: a large page holds several of them whole.
PAGE_SIZE = 16384

# What an image's mistake is put down to at first; the list is the analyst's to change.
LABEL_IS_WRONG = "label is wrong"
USUAL_CAUSES = (LABEL_IS_WRONG, "two objects", "hidden", "odd angle", "out of focus", "background")

# What is seen in single images names them by content and path; content is empty where nobody has read the file yet.
REVIEWS = f"""
CREATE TABLE cause (id INTEGER PRIMARY KEY, position INTEGER NOT NULL, name TEXT NOT NULL);
INSERT INTO cause VALUES {", ".join(f"({i}, {i}, '{name}')" for i, name in enumerate(USUAL_CAUSES, 1))};
CREATE TABLE review (reader TEXT NOT NULL, set_id INTEGER NOT NULL REFERENCES image_set, content BLOB NOT NULL, path TEXT NOT NULL,
                     reviewed INTEGER NOT NULL, dismissed INTEGER NOT NULL, label INTEGER REFERENCES class (position),
                     causes TEXT NOT NULL, note TEXT NOT NULL, PRIMARY KEY (reader, set_id, path, content)) WITHOUT ROWID;
CREATE TABLE kept_selection (set_id INTEGER NOT NULL REFERENCES image_set, name TEXT NOT NULL, conditions TEXT NOT NULL,
                             PRIMARY KEY (set_id, name)) WITHOUT ROWID;
"""

EVIDENCE = """
CREATE TABLE region (set_id INTEGER NOT NULL REFERENCES image_set, content BLOB NOT NULL, path TEXT NOT NULL,
                     shapes TEXT NOT NULL, PRIMARY KEY (set_id, path, content)) WITHOUT ROWID;
CREATE TABLE cover_test (id INTEGER PRIMARY KEY, run_id INTEGER NOT NULL REFERENCES run, day TEXT NOT NULL, name TEXT NOT NULL,
                         plan TEXT NOT NULL, outcome TEXT NOT NULL, kind TEXT NOT NULL DEFAULT 'cover');
"""

# Findings are kept whole, as text; what checking one of them came to, by the content of all that went into it; what was exported.
CONCLUSIONS = """
CREATE TABLE finding (id INTEGER PRIMARY KEY, position INTEGER NOT NULL, data TEXT NOT NULL);
CREATE TABLE finding_check (claim TEXT NOT NULL, model TEXT NOT NULL, images TEXT NOT NULL, result TEXT NOT NULL,
                            PRIMARY KEY (claim, model, images)) WITHOUT ROWID;
CREATE TABLE handed_back (id INTEGER PRIMARY KEY, day TEXT NOT NULL, what TEXT NOT NULL, number INTEGER NOT NULL, place TEXT NOT NULL);
"""

# What the analyst has answered to checks, by the content of what they found.
CHECK_ANSWERS = """
CREATE TABLE check_answer (content TEXT PRIMARY KEY, answer TEXT NOT NULL) WITHOUT ROWID;
"""

# The scores of a large run lie in a file beside the study, and an answer names its file and its row there. What large sets and runs
# are read from in one go is kept as columns besides.
LARGE_RUNS = """
CREATE TABLE score_file (id INTEGER PRIMARY KEY, name TEXT NOT NULL, listed INTEGER NOT NULL, columns INTEGER NOT NULL, form TEXT NOT NULL);
CREATE TABLE kept_columns (what TEXT NOT NULL, id INTEGER NOT NULL, value BLOB NOT NULL, PRIMARY KEY (what, id));
"""

# What a model answers to distorted pictures, by their content and what was done to them.
STRAINS = """
CREATE TABLE strain_answer (model_id INTEGER NOT NULL REFERENCES model, content BLOB NOT NULL, strain TEXT NOT NULL,
                            predicted INTEGER NOT NULL REFERENCES class (position), confidence REAL NOT NULL,
                            PRIMARY KEY (model_id, content, strain)) WITHOUT ROWID;
"""

# What was measured in pictures, by their content: 32-bit floats in the order of ``core.pictures.properties``.
PROPERTIES = """
CREATE TABLE property (content BLOB PRIMARY KEY, measured BLOB NOT NULL) WITHOUT ROWID;
"""

# What readers have decided of images in other studies, each as JSON; what was decided in this one, by whom ever, is in ``review``. Where
# they differ, what was agreed on.
READERS = """
CREATE TABLE reader_review (reader TEXT NOT NULL, set_id INTEGER NOT NULL REFERENCES image_set, content BLOB NOT NULL, path TEXT NOT NULL,
                            decision TEXT NOT NULL, PRIMARY KEY (reader, set_id, path, content)) WITHOUT ROWID;
CREATE TABLE agreed_review (set_id INTEGER NOT NULL REFERENCES image_set, content BLOB NOT NULL, path TEXT NOT NULL,
                            decision TEXT NOT NULL, PRIMARY KEY (set_id, path, content)) WITHOUT ROWID;
"""

TABLES = (
    LARGE_RUNS
    + STRAINS
    + PROPERTIES
    + READERS
    + """
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
                     scores BLOB, score_file INTEGER REFERENCES score_file, place INTEGER, PRIMARY KEY (model_id, content));
CREATE TABLE run (id INTEGER PRIMARY KEY, model_id INTEGER NOT NULL REFERENCES model, set_id INTEGER NOT NULL REFERENCES image_set,
                  score_columns INTEGER NOT NULL, kind TEXT, score_file INTEGER REFERENCES score_file, UNIQUE (model_id, set_id));
CREATE TABLE survey (content BLOB PRIMARY KEY, facts TEXT NOT NULL) WITHOUT ROWID;
CREATE TABLE check_result (run_id INTEGER NOT NULL REFERENCES run, name TEXT NOT NULL, result TEXT NOT NULL, PRIMARY KEY (run_id, name));
"""
    + REVIEWS
    + EVIDENCE
    + CONCLUSIONS
    + CHECK_ANSWERS
)

# How many images a set lists, as part of a question about it: they are numbered without a gap, so that none has to be counted.
LISTED = "(SELECT COALESCE(MAX(position) + 1, 0) FROM image WHERE set_id = image_set.id)"

# Answers that were looked up by path stand under the path, behind this.
LOOKED_UP = b"path "
