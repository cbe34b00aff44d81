"""The study: one SQLite file that keeps classes, models, image sets, runs and their answers."""

from __future__ import annotations

import json
import os
import sqlite3
import tempfile
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path

import numpy as np

from mivrat.core.errors import InputError
from mivrat.core.files import sha256_of
from mivrat.core.models.onnx_model import OnnxModel
from mivrat.core.models.scores import Kind
from mivrat.core.pictures.image_sets import ImageItem, ImageSet
from mivrat.core.pictures.recipe import Recipe, parse_recipe, recipe_to_toml
from mivrat.core.running.answers import SCORED, UNREADABLE, Answers
from mivrat.core.running.scoring import ScoredBatch
from mivrat.core.study.schema import APPLICATION_ID, TABLES, VERSION


@dataclass(frozen=True)
class RunInfo:
    """One run as the study lists it: a model on an image set."""

    id: int
    model: str
    image_set: str
    model_id: int
    set_id: int


@dataclass
class RunRecord:
    """Everything one run needs to be shown or gone on with; no model is loaded for it."""

    info: RunInfo
    classes: list[str]
    model_path: Path
    recipe: Recipe
    recipe_is_guess: bool
    image_set: ImageSet
    answers: Answers


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
                    f"PRAGMA application_id = {APPLICATION_ID}; PRAGMA user_version = {VERSION}; BEGIN; {TABLES} COMMIT;"
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
    def open(cls, path: Path) -> Study:
        """Open a study file; InputError where it is none, damaged, or from a newer Mivrat."""
        if not path.is_file():
            raise InputError("there is no such study", where=path, mend="name a .mivrat file")
        try:
            db = sqlite3.connect(path, timeout=10)
            application = db.execute("PRAGMA application_id").fetchone()[0]
            version = db.execute("PRAGMA user_version").fetchone()[0]
        except sqlite3.Error as error:
            raise InputError(
                "is not a Mivrat study, or is damaged", where=path, mend="open another file, or a copy of this one"
            ) from error
        if application != APPLICATION_ID:
            db.close()
            raise InputError("is not a Mivrat study", where=path, mend="open a .mivrat file")
        if version != VERSION:
            db.close()
            raise InputError(
                f"was written by a newer Mivrat (study version {version}; this one reads {VERSION})",
                where=path,
                mend="update Mivrat",
            )
        db.execute("PRAGMA foreign_keys = ON")
        return cls(path, db)

    def close(self) -> None:
        self._db.close()

    @contextmanager
    def _writing(self) -> Iterator[sqlite3.Connection]:
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
        return os.path.relpath(path.resolve(), self.path.resolve().parent)

    def _resolved(self, stored: str) -> Path:
        return Path(os.path.normpath(self.path.resolve().parent / stored))

    @property
    def classes(self) -> list[str]:
        return [name for (name,) in self._db.execute("SELECT name FROM class ORDER BY position")]

    def setting(self, key: str) -> str | None:
        row = self._db.execute("SELECT value FROM setting WHERE key = ?", (key,)).fetchone()
        return None if row is None else str(row[0])

    def set_setting(self, key: str, value: str) -> None:
        with self._writing() as db:
            db.execute(
                "INSERT INTO setting VALUES (?, ?) ON CONFLICT (key) DO UPDATE SET value = excluded.value", (key, value)
            )

    def add_model(self, model: OnnxModel) -> int:
        """Keep a model with its recipe; the same file with the same recipe is kept once."""
        digest, recipe = sha256_of(model.path), recipe_to_toml(model.recipe)
        with self._writing() as db:
            db.execute(
                "INSERT INTO model (name, path, sha256, recipe, recipe_is_guess) VALUES (?, ?, ?, ?, ?) ON CONFLICT (sha256, recipe) DO UPDATE SET path = excluded.path",
                (model.name, self._stored(model.path), digest, recipe, int(model.recipe_is_guess)),
            )
        return int(
            self._db.execute("SELECT id FROM model WHERE sha256 = ? AND recipe = ?", (digest, recipe)).fetchone()[0]
        )

    def add_image_set(self, image_set: ImageSet) -> int:
        """Keep an image set's list; a set already kept with the same files, labels and columns is found again."""
        root = self._stored(image_set.root)
        rows = [
            (i, item.path, item.label, json.dumps(item.columns, ensure_ascii=False))
            for i, item in enumerate(image_set.items)
        ]
        for (known,) in self._db.execute("SELECT id FROM image_set WHERE root = ?", (root,)).fetchall():
            if (
                self._db.execute(
                    "SELECT position, path, label, columns FROM image WHERE set_id = ? ORDER BY position", (known,)
                ).fetchall()
                == rows
            ):
                return int(known)
        with self._writing() as db:
            set_id = db.execute("INSERT INTO image_set (name, root) VALUES (?, ?)", (image_set.name, root)).lastrowid
            db.executemany("INSERT INTO image VALUES (?, ?, ?, ?, ?)", [(set_id, *row) for row in rows])
        assert set_id is not None
        return set_id

    def add_run(self, model_id: int, set_id: int, columns: int, kind: Kind | None) -> int:
        """Begin a run of a model on a set, or find the one begun before."""
        with self._writing() as db:
            db.execute(
                "INSERT INTO run (model_id, set_id, score_columns, kind) VALUES (?, ?, ?, ?) ON CONFLICT (model_id, set_id) DO NOTHING",
                (model_id, set_id, columns, kind),
            )
        return int(
            self._db.execute("SELECT id FROM run WHERE model_id = ? AND set_id = ?", (model_id, set_id)).fetchone()[0]
        )

    def save_batch(self, run_id: int, batch: ScoredBatch, answers: Answers) -> None:
        """Commit a batch that ``answers`` has taken in, with the kind of scores it settled."""
        rows: list[tuple[int, int, int, str | None, bytes | None]] = [
            (run_id, int(i), int(answers.state[i]), None, row.astype("<f4").tobytes())
            for i, row in zip(batch.scored, batch.rows, strict=True)
        ]
        rows += [(run_id, i, UNREADABLE, reason, None) for i, reason in batch.unreadable.items()]
        with self._writing() as db:
            db.executemany("INSERT OR REPLACE INTO answer VALUES (?, ?, ?, ?, ?)", rows)
            db.execute("UPDATE run SET kind = ? WHERE id = ?", (answers.kind, run_id))

    def runs(self) -> list[RunInfo]:
        """All runs, oldest first."""
        found = self._db.execute(
            "SELECT run.id, model.name, image_set.name, model.id, image_set.id FROM run JOIN model ON model.id = model_id "
            "JOIN image_set ON image_set.id = set_id ORDER BY run.id"
        )
        return [RunInfo(*row) for row in found]

    def load_run(self, run_id: int) -> RunRecord:
        """One run with its image list and all answers so far."""
        info = next((one for one in self.runs() if one.id == run_id), None)
        if info is None:
            raise InputError(f"holds no run {run_id}", where=self.path, mend="choose one of the runs it lists")
        model_path, recipe, guess = self._db.execute(
            "SELECT path, recipe, recipe_is_guess FROM model WHERE id = ?", (info.model_id,)
        ).fetchone()
        (root,) = self._db.execute("SELECT root FROM image_set WHERE id = ?", (info.set_id,)).fetchone()
        items = [
            ImageItem(path, label, json.loads(columns))
            for path, label, columns in self._db.execute(
                "SELECT path, label, columns FROM image WHERE set_id = ? ORDER BY position", (info.set_id,)
            )
        ]
        columns, kind = self._db.execute("SELECT score_columns, kind FROM run WHERE id = ?", (run_id,)).fetchone()
        answers = Answers(len(items), columns, kind)
        for position, state, reason, scores in self._db.execute(
            "SELECT position, state, reason, scores FROM answer WHERE run_id = ?", (run_id,)
        ):
            answers.state[position] = state
            if scores is not None:
                answers.rows[position] = np.frombuffer(scores, "<f4")
            elif state != SCORED:
                answers.reasons[position] = reason or ""
        return RunRecord(
            info,
            self.classes,
            self._resolved(model_path),
            parse_recipe(recipe, self.path),
            bool(guess),
            ImageSet(info.image_set, self._resolved(root), items),
            answers,
        )

    def set_references(self, pictures: dict[int, Path]) -> None:
        """Keep one reference picture per class."""
        with self._writing() as db:
            db.execute("DELETE FROM reference")
            db.executemany(
                "INSERT INTO reference VALUES (?, ?)", [(index, self._stored(path)) for index, path in pictures.items()]
            )

    def references(self) -> dict[int, Path]:
        return {index: self._resolved(path) for index, path in self._db.execute("SELECT class, path FROM reference")}
