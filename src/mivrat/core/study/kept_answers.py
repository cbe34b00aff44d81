"""The answers a study keeps, by model and by the pictures' content."""

from __future__ import annotations

import sqlite3
from collections.abc import Iterator, Sequence
from typing import Any

import numpy as np
from numpy.typing import NDArray

from mivrat.core.answers.answers import FAILED, SCORED, UNREADABLE, Answers
from mivrat.core.answers.missing_scores import are_missing
from mivrat.core.answers.scoring import ScoredBatch
from mivrat.core.base.errors import InputError
from mivrat.core.base.text import escaped
from mivrat.core.models.kinds import KINDS
from mivrat.core.models.model import ModelKind
from mivrat.core.pictures.image_sets import ImageSet, paths_of
from mivrat.core.study.file import Study
from mivrat.core.study.kept_columns import forget_columns
from mivrat.core.study.kept_properties import put_properties
from mivrat.core.study.records import RunRecord
from mivrat.core.study.schema import LOOKED_UP
from mivrat.core.study.score_files import score_rows
from mivrat.core.study.soundness import damaged, reading


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
    beside = answers.score_file
    rows: list[tuple[int, bytes, int, str | None, bytes | None, int | None, int | None]] = [
        (model_id, batch.stamps[i].content, int(answers.state[i]), None)
        + ((row.astype("<f4").tobytes(), None, None) if beside is None else (None, beside, i))
        for i, row in zip(batch.scored.tolist(), batch.rows, strict=True)
    ]
    none = None, None, None
    rows += [(model_id, batch.stamps[i].content, FAILED, reason, *none) for i, reason in batch.unfit.items()]
    stamped = {i: reason for i, reason in batch.unreadable.items() if i in batch.stamps}
    rows += [(model_id, batch.stamps[i].content, UNREADABLE, reason, *none) for i, reason in stamped.items()]
    _flush(answers)
    (set_id,) = study.db.execute("SELECT set_id FROM run WHERE id = ?", (run_id,)).fetchone()
    with study.writing() as db:
        forget_columns(db, set_id=set_id, model_id=model_id)
        db.executemany("INSERT OR REPLACE INTO answer VALUES (?, ?, ?, ?, ?, ?, ?)", rows)
        db.executemany(
            "UPDATE image SET content = ?, size = ?, changed = ?, problem = NULL WHERE set_id = ? AND position = ?",
            [(stamp.content, stamp.size, stamp.changed, set_id, i) for i, stamp in batch.stamps.items()],
        )
        db.executemany(
            "UPDATE image SET problem = ?, content = NULL WHERE set_id = ? AND position = ?",
            [(reason, set_id, i) for i, reason in batch.unreadable.items() if i not in stamped],
        )
        put_properties(db, [(batch.stamps[i].content, one) for i, one in batch.properties.items()])
        db.execute("UPDATE run SET kind = ? WHERE id = ?", (answers.kind, run_id))


def _flush(answers: Answers) -> None:
    """See that the scores in a file are on the disk before the study says so."""
    if isinstance(answers.rows, np.memmap):
        answers.rows.flush()


def save_looked_up(study: Study, model_id: int, image_set: ImageSet, answers: Answers) -> None:
    """Commit answers that were looked up by path; such a model never reads the files."""
    beside = answers.score_file
    _flush(answers)

    def found(i: int) -> tuple[bytes | None, int | None, int | None]:
        if states[i] != SCORED:
            return None, None, None
        return (answers.rows[i].astype("<f8").tobytes(), None, None) if beside is None else (None, beside, i)

    states = answers.state.tolist()
    keys = [LOOKED_UP + escaped(path).encode() for path in paths_of(image_set.items)]
    # In the order of the table's index, which then grows at its end; of several rows for one key the last stays, as without it.
    order = sorted(range(len(keys)), key=keys.__getitem__)
    with study.writing_many() as db:
        forget_columns(db, model_id=model_id)
        db.executemany(
            "INSERT OR REPLACE INTO answer VALUES (?, ?, ?, ?, ?, ?, ?)",
            ((model_id, keys[i], states[i], answers.reasons.get(i), *found(i)) for i in order),
        )


@reading
def contents_answered(study: Study, model_id: int, *, failed: bool = True) -> set[bytes]:
    """The content hashes a model has answered for, on whatever set; ``failed``: or was to answer for, in vain."""
    query = "SELECT content FROM answer WHERE model_id = ? AND (state <> ? OR ?)"
    return {key for (key,) in study.db.execute(query, (model_id, FAILED, failed))}


@reading
def copy_answer(study: Study, model_id: int, content: bytes, index: int, answers: Answers) -> None:
    """Put a kept answer for a content into ``answers`` at an image."""
    state, reason, scores, file, place = study.db.execute(
        "SELECT state, reason, scores, score_file, place FROM answer WHERE model_id = ? AND content = ?",
        (model_id, content),
    ).fetchone()
    answers.state[index] = state
    if scores is not None or file is not None:
        found = np.frombuffer(scores, "<f4") if file is None else _rows_of(study, file, [place])[0]
        answers.rows[index] = found.reshape(answers.rows.shape[1])
        if answers.kind_source == "guess":
            answers.look_at(answers.rows[[index]])
    if reason is not None:
        answers.reasons[index] = reason


def fill_answers(study: Study, record: RunRecord) -> Iterator[NDArray[np.int64]]:
    """Put the kept answers into a record, yielding the positions of those with scores, some at a time. Raises
    InputError where an answer is damaged."""
    info, answers = record.info, record.answers
    cursor = study.db.execute(
        f"SELECT image.position, state, reason, scores, score_file, place FROM image JOIN answer ON answer.content = {_content_of(record.kind)} "
        "WHERE set_id = ? AND model_id = ?",
        (info.set_id, info.model_id),
    )
    # Answers read from a table are doubles; earlier versions kept them as floats.
    width = answers.rows.shape[1]
    kinds = {4 * width: "<f4", **({} if record.kind.can.scores else {8 * width: "<f8"})}
    while some := _some_of(study, cursor):
        if any(scores is not None and len(scores) not in kinds for _, _, _, scores, *_ in some):
            raise InputError(
                "the study is damaged (an answer of the wrong length)",
                where=study.path,
                hint="open an earlier copy, or create it again",
            )
        if are_missing(answers.rows):  # what cannot be judged is still to be scored
            some = [one for one in some if one[1] != SCORED]
        whole = [(position, state, scores) for position, state, _, scores, *_ in some if scores is not None]
        where = [position for position, _, _ in whole]
        beside = [(i, file, place) for i, _, _, _, file, place in some if file is not None]
        _take_from_files(study, answers, beside)
        for size, kind in kinds.items():
            some_of = [(position, scores) for position, _, scores in whole if len(scores) == size]
            if some_of:
                rows = np.frombuffer(b"".join(scores for _, scores in some_of), kind)
                _put(answers, [position for position, _ in some_of], rows.reshape(len(some_of), -1))
        answers.state[where] = [state for _, state, _ in whole]
        for position, state, reason, scores, *_ in some:
            if scores is None:
                answers.state[position] = state
            if reason is not None and state != SCORED:
                answers.reasons[position] = reason
        yield np.array(where + [i for i, *_ in beside], np.int64)


def _take_from_files(study: Study, answers: Answers, beside: Sequence[tuple[int, int, int]]) -> None:
    """Put scores that lie in files into ``answers``, by position, file and place; those of the run's own file are there."""
    elsewhere: dict[int, list[tuple[int, int]]] = {}
    for i, file, place in beside:
        if (file, place) != (answers.score_file, i):
            elsewhere.setdefault(file, []).append((i, place))
    for file, some in elsewhere.items():
        _put(answers, [i for i, _ in some], _rows_of(study, file, [place for _, place in some]))


def _put(answers: Answers, where: list[int], rows: NDArray[np.floating]) -> None:
    """Put rows where they belong, and note whether they were not in the run's own file."""
    if answers.score_file is not None and not np.array_equal(answers.rows[where], rows, equal_nan=True):
        answers.has_strays = True
    answers.rows[where] = rows


def _rows_of(study: Study, file: int, places: Sequence[int]) -> NDArray[np.floating]:
    """Some rows of a file of scores, places x columns."""
    rows = score_rows(study, file)
    if not all(isinstance(place, int) and 0 <= place < len(rows) for place in places):
        raise damaged(study.path, "an answer names a row that its file of scores has not")
    return rows[list(places)]


@reading
def _some_of(study: Study, cursor: sqlite3.Cursor) -> list[tuple[Any, ...]]:
    return cursor.fetchmany(2048)
