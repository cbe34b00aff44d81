"""The answers a study keeps, by model and by the pictures' content."""

from __future__ import annotations

import sqlite3
from collections.abc import Iterator
from typing import Any

import numpy as np
from numpy.typing import NDArray

from mivrat.core.answers.answers import FAILED, SCORED, UNREADABLE, Answers
from mivrat.core.answers.scoring import ScoredBatch
from mivrat.core.base.errors import InputError
from mivrat.core.base.text import escaped
from mivrat.core.models.kinds import KINDS
from mivrat.core.models.model import ModelKind
from mivrat.core.pictures.image_sets import ImageSet
from mivrat.core.study.file import Study
from mivrat.core.study.records import RunRecord
from mivrat.core.study.schema import LOOKED_UP
from mivrat.core.study.soundness import (
    reading,
)


def _content_of(kind: ModelKind) -> str:
    """By what an image's answer is looked up: its content, or where the model never saw the file its path."""
    return "image.content" if kind.can.scores else f"CAST('{LOOKED_UP.decode()}' || image.path AS BLOB)"


@reading
def count_answered(study: Study, model_id: int, set_id: int) -> int:
    """How many images of a set a model has answered for, or could not be given."""
    (kind,) = study.db.execute("SELECT kind FROM model WHERE id = ?", (model_id,)).fetchone()
    (found,) = study.db.execute(
        "SELECT COUNT(*) FROM image WHERE set_id = ? AND (problem IS NOT NULL OR EXISTS "
        f"(SELECT 1 FROM answer WHERE model_id = ? AND answer.content = {_content_of(KINDS[kind])}))",
        (set_id, model_id),
    ).fetchone()
    return int(found)


def save_batch(study: Study, run_id: int, model_id: int, batch: ScoredBatch, answers: Answers) -> None:
    """Commit a batch that ``answers`` has taken in, with the kind of scores it settled."""
    rows: list[tuple[int, bytes, int, str | None, bytes | None]] = [
        (model_id, batch.stamps[i].content, int(answers.state[i]), None, row.astype("<f4").tobytes())
        for i, row in zip(batch.scored.tolist(), batch.rows, strict=True)
    ]
    rows += [(model_id, batch.stamps[i].content, FAILED, reason, None) for i, reason in batch.unfit.items()]
    stamped = {i: reason for i, reason in batch.unreadable.items() if i in batch.stamps}
    rows += [(model_id, batch.stamps[i].content, UNREADABLE, reason, None) for i, reason in stamped.items()]
    (set_id,) = study.db.execute("SELECT set_id FROM run WHERE id = ?", (run_id,)).fetchone()
    with study.writing() as db:
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


def save_looked_up(study: Study, model_id: int, image_set: ImageSet, answers: Answers) -> None:
    """Commit answers that were looked up by path; such a model never reads the files."""
    with study.writing() as db:
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


@reading
def contents_answered(study: Study, model_id: int, *, failed: bool = True) -> set[bytes]:
    """The content hashes a model has answered for, on whatever set; ``failed``: or was to answer for, in vain."""
    query = "SELECT content FROM answer WHERE model_id = ? AND (state <> ? OR ?)"
    return {key for (key,) in study.db.execute(query, (model_id, FAILED, failed))}


@reading
def copy_answer(study: Study, model_id: int, content: bytes, index: int, answers: Answers) -> None:
    """Put a kept answer for a content into ``answers`` at an image."""
    state, reason, scores = study.db.execute(
        "SELECT state, reason, scores FROM answer WHERE model_id = ? AND content = ?", (model_id, content)
    ).fetchone()
    answers.state[index] = state
    if scores is not None:
        answers.rows[index] = np.frombuffer(scores, "<f4").reshape(answers.rows.shape[1])
        if answers.told_by == "guess":
            answers.look_at(answers.rows[[index]])
    if reason is not None:
        answers.reasons[index] = reason


def fill_answers(study: Study, record: RunRecord) -> Iterator[NDArray[np.int64]]:
    """Put the kept answers into a record, yielding the positions of those with scores, some at a time. Raises
    InputError where an answer is damaged."""
    info, answers = record.info, record.answers
    cursor = study.db.execute(
        f"SELECT image.position, state, reason, scores FROM image JOIN answer ON answer.content = {_content_of(record.kind)} "
        "WHERE set_id = ? AND model_id = ?",
        (info.set_id, info.model_id),
    )
    # Answers read from a table are doubles; earlier versions kept them as floats.
    width = answers.rows.shape[1]
    kinds = {4 * width: "<f4", **({} if record.kind.can.scores else {8 * width: "<f8"})}
    while some := _some_of(study, cursor):
        whole = [(position, state, scores) for position, state, _, scores in some if scores is not None]
        if any(len(scores) not in kinds for _, _, scores in whole):
            raise InputError(
                "the study is damaged (an answer of the wrong length)",
                where=study.path,
                hint="open an earlier copy, or create it again",
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
def _some_of(study: Study, cursor: sqlite3.Cursor) -> list[tuple[Any, ...]]:
    return cursor.fetchmany(2048)
