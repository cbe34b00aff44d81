"""The study: one SQLite file that keeps classes, models, image sets, runs, their answers and what the checks found."""

from __future__ import annotations

import json
import os
import sqlite3
import tempfile
from collections import Counter
from collections.abc import Iterator, Mapping, Sequence
from contextlib import contextmanager
from dataclasses import replace
from pathlib import Path
from types import TracebackType
from typing import Any

import numpy as np
from numpy.typing import NDArray

from mivrat.core.answers.answers import FAILED, SCORED, UNREADABLE, Answers, dtype_of, told_by_of
from mivrat.core.answers.scoring import ScoredBatch
from mivrat.core.base.database import connect
from mivrat.core.base.errors import InputError
from mivrat.core.base.files import sha256_of, write_whole_with
from mivrat.core.base.text import escaped, unescaped
from mivrat.core.models.kinds import KINDS
from mivrat.core.models.model import Model, ModelKind
from mivrat.core.models.scores import Kind
from mivrat.core.pictures.classes import ClassMatcher
from mivrat.core.pictures.decode import Stamp
from mivrat.core.pictures.image_sets import ImageItem, ImageSet, Role
from mivrat.core.pictures.recipe import parse_recipe, recipe_to_toml
from mivrat.core.study.records import ModelInfo, Removed, RunInfo, RunRecord, SetInfo
from mivrat.core.study.schema import APPLICATION_ID, LOOKED_UP, PAGE_SIZE, TABLES, VERSION, migrate
from mivrat.core.study.soundness import (
    check_contents,
    damaged,
    failed,
    json_of,
    reading,
    refuse_foreign_schema,
    refuse_other_tables,
)


def _content_of(kind: ModelKind) -> str:
    """By what an image's answer is looked up: its content, or where the model never saw the file its path."""
    return "image.content" if kind.can.scores else f"CAST('{LOOKED_UP.decode()}' || image.path AS BLOB)"


def _check_integrity(db: sqlite3.Connection, path: Path) -> None:
    found = [row[0] for row in db.execute("PRAGMA integrity_check(1)")]
    if found != ["ok"]:
        raise damaged(path, found[0])


def _bring_up(db: sqlite3.Connection, version: int, path: Path) -> None:
    """Bring an earlier version's study up to this one's tables."""
    db.isolation_level = None
    try:
        migrate(db, version)
    except sqlite3.Error as error:
        raise InputError(
            f"was written by an earlier Mivrat (study version {version}) and cannot be brought up to date ({error})",
            where=path,
            mend="copy it to a folder you may write to, with room left, and open the copy",
        ) from error
    finally:
        db.isolation_level = "DEFERRED"


def _columns(text: str) -> dict[str, str]:
    found = json_of(text, dict)
    if not all(isinstance(value, str) for value in found.values()):
        raise ValueError("a column's value is no text")
    return found


class Study:
    """An open study file. Connections are not shared between threads: open it again where another thread needs it."""

    def __init__(self, path: Path, connection: sqlite3.Connection) -> None:
        self.path = path
        self._db = connection

    @classmethod
    def create(cls, path: Path, classes: Sequence[str]) -> Study:
        """A new study for a class list; InputError where the file exists already or cannot be written."""
        if path.exists():
            raise InputError("exists already", where=path, mend="choose another name, or open it")
        try:
            path.parent.mkdir(parents=True, exist_ok=True)
            handle, part = tempfile.mkstemp(prefix=".new-", suffix=".mivrat", dir=path.parent)
            os.close(handle)
            db = sqlite3.connect(part)
            try:
                db.executescript(
                    f"PRAGMA page_size = {PAGE_SIZE}; PRAGMA application_id = {APPLICATION_ID}; "
                    f"PRAGMA user_version = {VERSION}; BEGIN; {TABLES} COMMIT;"
                )
                db.executemany("INSERT INTO class VALUES (?, ?)", list(enumerate(classes)))
                db.commit()
            finally:
                db.close()
            umask = os.umask(0)
            os.umask(umask)
            os.chmod(part, 0o666 & ~umask)
            os.replace(part, path)
        except (OSError, sqlite3.Error) as error:
            raise InputError(
                f"the study cannot be written ({error})",
                where=path,
                mend="choose a folder you may write to, with room left",
            ) from error
        return cls.open(path)

    @classmethod
    def open(cls, path: Path, *, again: bool = False) -> Study:
        """Open a study file; InputError where it is none, damaged, or from a newer Mivrat.

        ``again`` leaves out looking through the whole file for damage: it was opened before.
        """
        if not path.is_file():
            raise InputError("there is no such study", where=path, mend="name a .mivrat file")
        db: sqlite3.Connection | None = None
        try:
            db = connect(path)
            application = db.execute("PRAGMA application_id").fetchone()[0]
            version = db.execute("PRAGMA user_version").fetchone()[0]
        except sqlite3.Error as error:
            if db is not None:
                db.close()
            raise InputError(
                "is not a Mivrat study, or is damaged", where=path, mend="open another file, or a copy of this one"
            ) from error
        try:
            if application != APPLICATION_ID:
                raise InputError("is not a Mivrat study", where=path, mend="open a .mivrat file")
            if not 1 <= version <= VERSION:
                raise InputError(
                    f"was written by a newer Mivrat (study version {version}; this one reads {VERSION})",
                    where=path,
                    mend="update Mivrat",
                )
            refuse_foreign_schema(db, path)
            if not again:
                _check_integrity(db, path)
            if version < VERSION:
                _bring_up(db, version, path)
            refuse_other_tables(db, path)
            if not again:
                check_contents(db, path)
            db.execute("PRAGMA foreign_keys = ON")
        except InputError:
            db.close()
            raise
        except sqlite3.Error as error:
            db.close()
            raise failed(path, error) from error
        return cls(path, db)

    def copy_to(self, path: Path) -> None:
        """Save a copy elsewhere: it finds the same images and models from there. An existing file is replaced whole."""
        if path.resolve() == self.path.resolve():
            raise InputError("is this very study", where=path, mend="choose another name for the copy")

        def fill(part: Path) -> None:
            copy = sqlite3.connect(part)
            try:
                self._db.backup(copy)
                with copy:
                    for table, column in (("model", "path"), ("image_set", "root")):
                        for key, stored in copy.execute(f"SELECT rowid, {column} FROM {table}").fetchall():
                            moved = escaped(os.path.relpath(self._resolved(stored), path.resolve().parent))
                            copy.execute(f"UPDATE {table} SET {column} = ? WHERE rowid = ?", (moved, key))
            except sqlite3.Error as error:
                raise OSError(str(error)) from error
            finally:
                copy.close()

        write_whole_with(path, fill)

    def close(self) -> None:
        self._db.close()

    def __enter__(self) -> Study:
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        self.close()

    @reading
    def rows(self, query: str, *values: object) -> list[tuple[Any, ...]]:
        """What a query of the study's tables finds; for the modules that keep tables of their own in it."""
        return self._db.execute(query, values).fetchall()

    @contextmanager
    def writing(self) -> Iterator[sqlite3.Connection]:
        """A transaction; InputError where the file cannot be written."""
        try:
            with self._db:
                yield self._db
        except sqlite3.Error as error:
            raise InputError(
                f"the study cannot be written ({error})",
                where=self.path,
                mend="check that there is room and that no other program holds the file",
            ) from error

    def _stored(self, path: Path) -> str:
        """A path as the study keeps it: relative to the study's folder where it lies on the same drive."""
        return escaped(os.path.relpath(path.resolve(), self.path.resolve().parent))

    def _resolved(self, stored: str) -> Path:
        return Path(os.path.normpath(self.path.resolve().parent / unescaped(stored)))

    @property
    @reading
    def classes(self) -> list[str]:
        return [name for (name,) in self._db.execute("SELECT name FROM class ORDER BY position")]

    @reading
    def setting(self, key: str) -> str | None:
        row = self._db.execute("SELECT value FROM setting WHERE key = ?", (key,)).fetchone()
        return None if row is None else str(row[0])

    def set_setting(self, key: str, value: str) -> None:
        with self.writing() as db:
            db.execute(
                "INSERT INTO setting VALUES (?, ?) ON CONFLICT (key) DO UPDATE SET value = excluded.value", (key, value)
            )

    @reading
    def claim(self, model_id: int) -> float | None:
        """The top-1 accuracy that was claimed for a model, from 0 to 1."""
        text = self.setting(f"claim of model {model_id}")
        return float(text) if text else None

    def set_claim(self, model_id: int, claim: float | None) -> None:
        self.set_setting(f"claim of model {model_id}", "" if claim is None else repr(claim))

    @reading
    def threshold(self, model_id: int) -> float | None:
        """Of two classes, the probability of the second from which on a model is taken to call it; None for the higher of both."""
        text = self.setting(f"threshold of model {model_id}")
        return float(text) if text else None

    def set_threshold(self, model_id: int, threshold: float | None) -> None:
        self.set_setting(f"threshold of model {model_id}", "" if threshold is None else repr(threshold))

    @reading
    def temperature(self, model_id: int) -> float | None:
        """The temperature that a model's scores are shown with, where one was adopted."""
        text = self.setting(f"temperature of model {model_id}")
        return float(text) if text else None

    def set_temperature(self, model_id: int, temperature: float | None) -> None:
        self.set_setting(f"temperature of model {model_id}", "" if temperature is None else repr(temperature))

    @reading
    def criteria(self, model_id: int) -> tuple[str, ...]:
        """What a model's figures have to meet, as requirements."""
        return tuple(str(one) for one in json_of(self.setting(f"criteria of model {model_id}") or "[]", list))

    def set_criteria(self, model_id: int, criteria: Sequence[str]) -> None:
        self.set_setting(f"criteria of model {model_id}", json.dumps(list(criteria), ensure_ascii=False))

    def add_model(self, model: Model) -> int:
        """Keep a model with its recipe; the same file with the same recipe is kept once."""
        digest, recipe = model.content, recipe_to_toml(model.recipe)
        with self.writing() as db:
            db.execute(
                "INSERT INTO model (kind, name, path, sha256, recipe, recipe_is_guess) VALUES (?, ?, ?, ?, ?, ?) "
                "ON CONFLICT (sha256, recipe) DO UPDATE SET path = excluded.path, name = excluded.name, listed = 1",
                (
                    model.kind.name,
                    escaped(model.name),
                    self._stored(model.path),
                    digest,
                    recipe,
                    int(model.recipe_is_guess),
                ),
            )
        return int(
            self._db.execute("SELECT id FROM model WHERE sha256 = ? AND recipe = ?", (digest, recipe)).fetchone()[0]
        )

    def add_image_set(self, image_set: ImageSet) -> int:
        """Keep an image set's list; a set already kept with the same files, labels and columns is found again."""
        root = self._stored(image_set.root)
        rows = [
            (i, escaped(item.path), escaped(item.said), item.label, json.dumps(item.columns, ensure_ascii=False))
            for i, item in enumerate(image_set.items)
        ]
        same = "SELECT position, path, said, label, columns FROM image WHERE set_id = ? ORDER BY position"
        for (known,) in self._db.execute(
            "SELECT id FROM image_set WHERE root = ? AND role = ?", (root, image_set.role)
        ).fetchall():
            if self._db.execute(same, (known,)).fetchall() == rows:
                return int(known)
        with self.writing() as db:
            set_id = db.execute(
                "INSERT INTO image_set (name, role, root, drawn, together) VALUES (?, ?, ?, ?, ?)",
                (escaped(image_set.name), image_set.role, root, escaped(image_set.drawn), image_set.together),
            ).lastrowid
            db.executemany(
                "INSERT INTO image (set_id, position, path, said, label, columns) VALUES (?, ?, ?, ?, ?, ?)",
                [(set_id, *row) for row in rows],
            )
        assert set_id is not None
        return set_id

    def remove_image_set(self, set_id: int) -> Removed:
        """Take an image set away with its runs; answers stay, so that the same pictures are not scored again later."""
        return self._remove(
            ("check_result", "run_id IN (SELECT id FROM run WHERE set_id = ?)", set_id),
            ("cover_test", "run_id IN (SELECT id FROM run WHERE set_id = ?)", set_id),
            ("region", "set_id = ?", set_id),
            ("run", "set_id = ?", set_id),
            ("review", "set_id = ?", set_id),
            ("kept_selection", "set_id = ?", set_id),
            ("image", "set_id = ?", set_id),
            ("image_set", "id = ?", set_id),
        )

    def remove_model(self, model_id: int) -> Removed:
        """Take a model away with its runs; what it has answered stays, and is found again when it is added again."""
        removed = self._remove(
            ("check_result", "run_id IN (SELECT id FROM run WHERE model_id = ?)", model_id),
            ("cover_test", "run_id IN (SELECT id FROM run WHERE model_id = ?)", model_id),
            ("run", "model_id = ?", model_id),
        )
        with self.writing() as db:
            db.execute("UPDATE model SET listed = 0 WHERE id = ?", (model_id,))
        return replace(removed, model_id=model_id)

    def remove_run(self, run_id: int) -> Removed:
        """Take a run away; what it has answered stays."""
        return self._remove(
            ("check_result", "run_id = ?", run_id), ("cover_test", "run_id = ?", run_id), ("run", "id = ?", run_id)
        )

    def _remove(self, *parts: tuple[str, str, int]) -> Removed:
        rows = [
            (table, self._db.execute(f"SELECT * FROM {table} WHERE {which}", (key,)).fetchall())
            for table, which, key in parts
        ]
        with self.writing() as db:
            for table, which, key in parts:
                db.execute(f"DELETE FROM {table} WHERE {which}", (key,))
        return Removed(rows)

    def restore(self, removed: Removed) -> None:
        """Put back what was taken away."""
        with self.writing() as db:
            for table, rows in reversed(removed.rows):
                if rows:
                    db.executemany(f"INSERT OR IGNORE INTO {table} VALUES ({', '.join('?' * len(rows[0]))})", rows)
            if removed.model_id is not None:
                db.execute("UPDATE model SET listed = 1 WHERE id = ?", (removed.model_id,))

    @reading
    def models(self) -> list[ModelInfo]:
        """All models that were not taken away, oldest first."""
        found = self._db.execute(
            "SELECT id, kind, name, path, recipe, recipe_is_guess FROM model WHERE listed ORDER BY id"
        )
        return [
            ModelInfo(
                key, KINDS[kind], unescaped(name), self._resolved(path), parse_recipe(recipe, self.path), bool(guess)
            )
            for key, kind, name, path, recipe, guess in found
        ]

    @reading
    def answered(self, model_id: int, set_id: int) -> int:
        """How many images of a set a model has answered for, or could not be given."""
        (kind,) = self._db.execute("SELECT kind FROM model WHERE id = ?", (model_id,)).fetchone()
        (found,) = self._db.execute(
            "SELECT COUNT(*) FROM image WHERE set_id = ? AND (problem IS NOT NULL OR EXISTS "
            f"(SELECT 1 FROM answer WHERE model_id = ? AND answer.content = {_content_of(KINDS[kind])}))",
            (set_id, model_id),
        ).fetchone()
        return int(found)

    @reading
    def listed_in_run(self, run_id: int) -> int:
        """How many images the set of a run lists, readable or not; the positions of its results are below it."""
        query = "SELECT COUNT(*) FROM image WHERE set_id = (SELECT set_id FROM run WHERE id = ?)"
        (found,) = self._db.execute(query, (run_id,)).fetchone()
        return int(found)

    @reading
    def unmatched(self) -> dict[str, int]:
        """Labels that no class goes by and that were not put aside by hand, with their number of images in all sets."""
        found = self._db.execute(
            "SELECT said, COUNT(*) FROM image WHERE label IS NULL AND said != '' "
            "AND said NOT IN (SELECT label FROM pairing) GROUP BY said ORDER BY said"
        )
        return {unescaped(said): number for said, number in found}

    @reading
    def image_sets(self) -> list[SetInfo]:
        """All image sets, oldest first."""
        found = self._db.execute(
            "SELECT id, name, role, root, (SELECT COUNT(*) FROM image WHERE set_id = id), "
            "(SELECT COUNT(label) FROM image WHERE set_id = id), drawn, together, "
            "(SELECT columns FROM image WHERE set_id = id ORDER BY position LIMIT 1) FROM image_set ORDER BY id"
        )
        return [
            SetInfo(
                key,
                unescaped(name),
                role,
                self._resolved(root),
                images,
                labelled,
                unescaped(drawn),
                together,
                tuple(json_of(columns or "{}", dict)),
            )
            for key, name, role, root, images, labelled, drawn, together, columns in found
        ]

    def set_together(self, set_id: int, column: str) -> None:
        """Say by which column the images of a set belong together; empty: they are independent."""
        with self.writing() as db:
            db.execute("UPDATE image_set SET together = ? WHERE id = ?", (column, set_id))

    @reading
    def class_sizes(self) -> dict[int, Counter[int]]:
        """How many images of each class every set has, by set and class index."""
        found: dict[int, Counter[int]] = {}
        for set_id, label, images in self._db.execute(
            "SELECT set_id, label, COUNT(*) FROM image WHERE label IS NOT NULL GROUP BY set_id, label"
        ):
            found.setdefault(set_id, Counter())[label] = images
        return found

    @reading
    def load_image_set(self, set_id: int) -> ImageSet:
        """One image set with its list."""
        row = self._db.execute(
            "SELECT name, role, root, drawn, together FROM image_set WHERE id = ?", (set_id,)
        ).fetchone()
        if row is None:
            raise InputError(f"holds no image set {set_id}", where=self.path, mend="choose one of the sets it lists")
        name, role, root, drawn, together = row
        items = [
            ImageItem(unescaped(path), label, _columns(columns) if columns != "{}" else {}, unescaped(said))
            for path, said, label, columns in self._db.execute(
                "SELECT path, said, label, columns FROM image WHERE set_id = ? ORDER BY position", (set_id,)
            )
        ]
        if any(item.path.startswith(("/", "../")) or "/../" in item.path for item in items):
            raise InputError(
                f"lists images outside the folder of the set {name}, which is never read",
                where=self.path,
                mend="do not trust this study; ask for one made by Mivrat",
            )
        return ImageSet(unescaped(name), self._resolved(root), items, role, unescaped(drawn), together)

    @reading
    def declared_places(self) -> list[Path]:
        """The folders this study reads from: those of its models and image sets."""
        found = [
            *(self._resolved(path).parent for (path,) in self._db.execute("SELECT path FROM model")),
            *(self._resolved(root) for (root,) in self._db.execute("SELECT root FROM image_set")),
        ]
        return sorted(set(found))

    def set_role(self, set_id: int, role: Role) -> None:
        """Give an image set another role."""
        with self.writing() as db:
            db.execute("UPDATE image_set SET role = ? WHERE id = ?", (role, set_id))

    def set_class_order(self, names: Sequence[str]) -> None:
        """Name the models' outputs by the same classes in another order. Labels, families and pairs stay with the names
        they were given for."""
        before = self.classes
        if sorted(names) != sorted(before):
            raise InputError(
                "is no other order of the same classes", where="class order", mend="start a new study for other classes"
            )
        place = {name: new for new, name in enumerate(names)}
        with self.writing() as db:
            db.execute("BEGIN")
            db.execute("PRAGMA defer_foreign_keys = ON")
            db.execute("CREATE TEMP TABLE moved (old INTEGER PRIMARY KEY, new INTEGER NOT NULL)")
            db.executemany("INSERT INTO moved VALUES (?, ?)", [(old, place[name]) for old, name in enumerate(before)])
            for table, column in (("image", "label"), ("review", "label"), ("family", "class"), ("pairing", "class")):
                # By way of negative numbers, so that no two stand in one place on the way.
                db.execute(
                    f"UPDATE {table} SET {column} = -1 - (SELECT new FROM moved WHERE old = {column}) WHERE {column} >= 0"
                )
                db.execute(f"UPDATE {table} SET {column} = -1 - {column} WHERE {column} < 0")
            db.execute("DROP TABLE moved")
            db.execute("DELETE FROM class")
            db.executemany("INSERT INTO class VALUES (?, ?)", list(enumerate(names)))

    def relocate(self, set_id: int, root: Path) -> None:
        """Look for a set's files below another folder from now on; those missed before are pending again."""
        with self.writing() as db:
            db.execute("UPDATE image_set SET root = ? WHERE id = ?", (self._stored(root), set_id))
            db.execute("UPDATE image SET problem = NULL WHERE set_id = ?", (set_id,))

    def relocate_model(self, model_id: int, path: Path) -> None:
        """A model that was moved; InputError where the file there is another one."""
        (wanted,) = self._db.execute("SELECT sha256 FROM model WHERE id = ?", (model_id,)).fetchone()
        if sha256_of(path) != wanted:
            raise InputError(
                "is not the model the study knows: its content differs", where=path, mend="add it as a model of its own"
            )
        self.move_model(model_id, path)

    def move_model(self, model_id: int, path: Path) -> None:
        """Look for a model at another place from now on, whether it is there or not."""
        with self.writing() as db:
            db.execute("UPDATE model SET path = ? WHERE id = ?", (self._stored(path), model_id))

    @reading
    def pairing(self) -> dict[str, int | None]:
        """Labels paired with classes by hand; None: paired with no class."""
        return {unescaped(label): k for label, k in self._db.execute("SELECT label, class FROM pairing")}

    def set_pairing(self, pairing: Mapping[str, int | None]) -> None:
        """Keep the pairs made by hand, and label the images of all sets by them."""
        matcher = ClassMatcher(self.classes)
        before = self.pairing()
        with self.writing() as db:
            db.execute("DELETE FROM pairing")
            db.executemany("INSERT INTO pairing VALUES (?, ?)", [(escaped(one), k) for one, k in pairing.items()])
            for label in before.keys() | pairing.keys():
                index = pairing[label] if label in pairing else matcher.index(label)
                db.execute("UPDATE image SET label = ? WHERE said = ?", (index, escaped(label)))

    @reading
    def families(self) -> dict[int, str]:
        """The family of each class that has one."""
        return dict(self._db.execute("SELECT class, name FROM family ORDER BY class"))

    def set_families(self, families: Mapping[int, str]) -> None:
        with self.writing() as db:
            db.execute("DELETE FROM family")
            db.executemany("INSERT INTO family VALUES (?, ?)", list(families.items()))

    def add_run(self, model_id: int, set_id: int, columns: int, kind: Kind | None) -> int:
        """Begin a run of a model on a set, or find the one begun before."""
        with self.writing() as db:
            db.execute(
                "INSERT INTO run (model_id, set_id, score_columns, kind) VALUES (?, ?, ?, ?) ON CONFLICT (model_id, set_id) DO NOTHING",
                (model_id, set_id, columns, kind),
            )
        return int(
            self._db.execute("SELECT id FROM run WHERE model_id = ? AND set_id = ?", (model_id, set_id)).fetchone()[0]
        )

    def save_batch(self, run_id: int, model_id: int, batch: ScoredBatch, answers: Answers) -> None:
        """Commit a batch that ``answers`` has taken in, with the kind of scores it settled."""
        rows: list[tuple[int, bytes, int, str | None, bytes | None]] = [
            (model_id, batch.stamps[i].content, int(answers.state[i]), None, row.astype("<f4").tobytes())
            for i, row in zip(batch.scored.tolist(), batch.rows, strict=True)
        ]
        rows += [(model_id, batch.stamps[i].content, FAILED, reason, None) for i, reason in batch.unfit.items()]
        stamped = {i: reason for i, reason in batch.unreadable.items() if i in batch.stamps}
        rows += [(model_id, batch.stamps[i].content, UNREADABLE, reason, None) for i, reason in stamped.items()]
        (set_id,) = self._db.execute("SELECT set_id FROM run WHERE id = ?", (run_id,)).fetchone()
        with self.writing() as db:
            db.executemany("INSERT OR REPLACE INTO answer VALUES (?, ?, ?, ?, ?)", rows)
            db.executemany(
                "UPDATE image SET content = ?, size = ?, changed = ?, problem = NULL WHERE set_id = ? AND position = ?",
                [(stamp.content, stamp.size, stamp.changed, set_id, i) for i, stamp in batch.stamps.items()],
            )
            db.executemany(
                "UPDATE image SET problem = ?, content = NULL WHERE set_id = ? AND position = ?",
                [(reason, set_id, i) for i, reason in batch.unreadable.items() if i not in stamped],
            )
            db.execute("UPDATE run SET kind = ? WHERE id = ?", (answers.kind, run_id))

    def save_looked_up(self, model_id: int, image_set: ImageSet, answers: Answers) -> None:
        """Commit answers that were looked up by path; such a model never reads the files."""
        with self.writing() as db:
            db.executemany(
                "INSERT OR REPLACE INTO answer VALUES (?, ?, ?, ?, ?)",
                [
                    (
                        model_id,
                        LOOKED_UP + escaped(item.path).encode(),
                        int(answers.state[i]),
                        answers.reasons.get(i),
                        answers.rows[i].astype("<f8").tobytes() if answers.state[i] == SCORED else None,
                    )
                    for i, item in enumerate(image_set.items)
                ],
            )

    def forget_images(self, set_id: int, positions: Sequence[int]) -> None:
        """Take these images for not read yet, so that a run reads and, where their content is new, scores them again."""
        with self.writing() as db:
            db.executemany(
                "UPDATE image SET content = NULL, size = NULL, changed = NULL, problem = NULL WHERE set_id = ? AND position = ?",
                [(set_id, int(i)) for i in positions],
            )

    @reading
    def contents_answered(self, model_id: int) -> set[bytes]:
        """The content hashes a model has answered for, on whatever set."""
        return {key for (key,) in self._db.execute("SELECT content FROM answer WHERE model_id = ?", (model_id,))}

    @reading
    def copy_answer(self, model_id: int, content: bytes, index: int, answers: Answers) -> None:
        """Put a kept answer for a content into ``answers`` at an image."""
        state, reason, scores = self._db.execute(
            "SELECT state, reason, scores FROM answer WHERE model_id = ? AND content = ?", (model_id, content)
        ).fetchone()
        answers.state[index] = state
        if scores is not None:
            answers.rows[index] = np.frombuffer(scores, "<f4").reshape(answers.rows.shape[1])
            if answers.told_by == "guess":
                answers.look_at(answers.rows[[index]])
        if reason is not None:
            answers.reasons[index] = reason

    @reading
    def runs(self) -> list[RunInfo]:
        """All runs, oldest first."""
        found = self._db.execute(
            "SELECT run.id, model.name, image_set.name, model.id, image_set.id FROM run JOIN model ON model.id = model_id "
            "JOIN image_set ON image_set.id = set_id ORDER BY run.id"
        )
        return [RunInfo(key, unescaped(model), unescaped(images), *ids) for key, model, images, *ids in found]

    @reading
    def load_run(self, run_id: int, *, with_answers: bool = True) -> RunRecord:
        """One run with its image list and all answers so far; or without answers, for ``fill_answers`` to put in."""
        info = next((one for one in self.runs() if one.id == run_id), None)
        if info is None:
            raise InputError(f"holds no run {run_id}", where=self.path, mend="choose one of the runs it lists")
        model_kind, model_path, digest, recipe, guess = self._db.execute(
            "SELECT kind, path, sha256, recipe, recipe_is_guess FROM model WHERE id = ?", (info.model_id,)
        ).fetchone()
        image_set, classes = self.load_image_set(info.set_id), self.classes
        columns, kind = self._db.execute("SELECT score_columns, kind FROM run WHERE id = ?", (run_id,)).fetchone()
        preparing = parse_recipe(recipe, self.path)
        of = KINDS[model_kind]
        told_by, dtype = told_by_of(of, preparing), dtype_of(of)
        answers = Answers(len(image_set.items), columns, kind, len(classes), told_by, dtype)
        for position, problem in self._db.execute(
            "SELECT position, problem FROM image WHERE set_id = ? AND problem IS NOT NULL", (info.set_id,)
        ):
            answers.state[position], answers.reasons[position] = UNREADABLE, problem
        record = RunRecord(
            info,
            classes,
            self._resolved(model_path),
            preparing,
            bool(guess),
            image_set,
            answers,
            of,
            digest,
            self.families(),
            self.threshold(info.model_id) if len(classes) == 2 else None,
            self.temperature(info.model_id),
            str(self.path.resolve()),
        )
        if with_answers:
            for _ in self.fill_answers(record):
                pass
        return record

    @reading
    def stamps(self, set_id: int) -> dict[int, Stamp]:
        """What the files of a set were when they were read, by position; a stamp of size -1 is one that an earlier version
        left without a hash."""
        return {
            position: Stamp(content, -1 if size is None else size, changed or 0)
            for position, content, size, changed in self._db.execute(
                "SELECT position, content, size, changed FROM image WHERE set_id = ? AND content IS NOT NULL", (set_id,)
            )
        }

    def fill_answers(self, record: RunRecord) -> Iterator[NDArray[np.int64]]:
        """Put the kept answers into a record, yielding the positions of those with scores, some at a time."""
        info, answers = record.info, record.answers
        cursor = self._db.execute(
            f"SELECT image.position, state, reason, scores FROM image JOIN answer ON answer.content = {_content_of(record.kind)} "
            "WHERE set_id = ? AND model_id = ?",
            (info.set_id, info.model_id),
        )
        # Answers read from a table are doubles; earlier versions kept them as floats.
        width = answers.rows.shape[1]
        kinds = {4 * width: "<f4", **({} if record.kind.can.scores else {8 * width: "<f8"})}
        while some := self._some_of(cursor):
            whole = [(position, state, scores) for position, state, _, scores in some if scores is not None]
            if any(len(scores) not in kinds for _, _, scores in whole):
                raise InputError(
                    "the study is damaged (an answer of the wrong length)",
                    where=self.path,
                    mend="open a copy made before, or make it anew",
                )
            where = [position for position, _, _ in whole]
            for size, kind in kinds.items():
                some_of = [(position, scores) for position, _, scores in whole if len(scores) == size]
                if some_of:
                    rows = np.frombuffer(b"".join(scores for _, scores in some_of), kind)
                    answers.rows[[position for position, _ in some_of]] = rows.reshape(len(some_of), -1)
            answers.state[where] = [state for _, state, _ in whole]
            for position, state, reason, scores in some:
                if scores is None:
                    answers.state[position] = state
                if reason is not None and state != SCORED:
                    answers.reasons[position] = reason
            yield np.array(where, np.int64)

    @reading
    def _some_of(self, cursor: sqlite3.Cursor) -> list[tuple[Any, ...]]:
        return cursor.fetchmany(2048)

    @reading
    def surveys(self) -> dict[bytes, str]:
        """What checks have measured of pictures, by content hash."""
        return dict(self._db.execute("SELECT content, facts FROM survey"))

    def keep_surveys(self, facts: Mapping[bytes, str]) -> None:
        with self.writing() as db:
            db.executemany("INSERT OR REPLACE INTO survey VALUES (?, ?)", list(facts.items()))

    @reading
    def check_results(self, run_id: int) -> dict[str, str]:
        """What the checks of a run found, by the check's name."""
        return dict(self._db.execute("SELECT name, result FROM check_result WHERE run_id = ?", (run_id,)))

    def keep_check_results(self, run_id: int, results: Mapping[str, str]) -> None:
        with self.writing() as db:
            db.executemany(
                "INSERT OR REPLACE INTO check_result VALUES (?, ?, ?)",
                [(run_id, name, result) for name, result in results.items()],
            )

    @reading
    def references(self) -> dict[int, Path]:
        """The reference picture of each class that has one: the first with its label in the sets of that role."""
        found: dict[int, Path] = {}
        for one in self.image_sets():
            if one.role == "reference":
                pictures = self.load_image_set(one.id)
                for i, item in enumerate(pictures.items):
                    if item.label is not None:
                        found.setdefault(item.label, pictures.file(i))
        return found
