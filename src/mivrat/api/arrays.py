"""Runs from arrays that any framework's loop has made, checked before anything is worked out."""

from __future__ import annotations

import hashlib
import os
from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import Any, Literal

import numpy as np
from numpy.typing import ArrayLike, NDArray

from mivrat.api.inputs import (
    Classes,
    class_names,
)
from mivrat.api.run import Run
from mivrat.core.answers.answers import FAILED, SCORED, Answers
from mivrat.core.answers.judging import judge, units_in
from mivrat.core.base.errors import InputError
from mivrat.core.models.prediction_table import TABLE
from mivrat.core.models.scores import Kind, ScoreFacts, column_count_fits
from mivrat.core.pictures.classes import ClassMatcher
from mivrat.core.pictures.image_sets import ImageSet, ItemColumns
from mivrat.core.pictures.recipe import Recipe
from mivrat.core.study.records import RunInfo, RunRecord

ScoreKind = Literal["logits", "probabilities", "sigmoid", "auto"]


def from_scores(
    labels: ArrayLike,
    scores: ArrayLike,
    classes: Classes | None = None,
    kind: ScoreKind = "logits",
    paths: Sequence[str] | None = None,
    units: ArrayLike | None = None,
    *,
    columns: Mapping[str, Sequence[Any]] | None = None,
    name: str = "scores",
    images: str = "arrays",
    seed: int = 0,
) -> Run:
    """A run from arrays that any framework's loop has made.

    ``labels``: N class indices (-1: none) or names; ``scores``: N x K, or N for two classes (the second one's); a row with NaN counts
    as failed. ``kind``: ``logits``, ``probabilities``, ``sigmoid`` (N probabilities of the second class), or ``auto`` to let the
    numbers tell. ``paths`` name the images, so that runs can be compared; ``units`` say which images are related (intervals are then
    over whole units); ``columns`` are further ones, N values each, to group by. Raises InputError where shapes do not agree, or where
    scores are not of the kind that was said.
    """
    rows = _rows(scores)
    total = len(rows)
    names = class_names(classes) if classes is not None else [str(k) for k in range(max(2, rows.shape[1]))]
    if not column_count_fits(rows.shape[1], len(names)):
        raise InputError(
            f"have {rows.shape[1]} columns, there are {len(names)} classes",
            where="scores",
            hint="give one column for each class, or a single one for two classes",
        )
    known = _label_indices(labels, names, total)
    settled = _settled(rows, kind)
    further = {key: _texts(values, total, f"columns[{key!r}]") for key, values in (columns or {}).items()}
    if units is not None:
        further["units"] = _texts(units, total, "units")
    told = _paths(paths, total)
    said = [names[k] if k >= 0 else "" for k in known.tolist()]
    # Without names nothing but the row says which image is which: such a list is like no other.
    root = Path("/arrays")
    image_set = ImageSet(
        images, root, ItemColumns(told, known, said, further), unit_column="units" if units is not None else ""
    )
    answers = Answers(total, rows.shape[1], settled, len(names), "recipe" if kind != "auto" else "guess", rows=rows)
    answers.state[:] = np.where(np.isfinite(rows).all(axis=1), SCORED, FAILED)
    if paths is not None:
        answers.contents = {i: hashlib.sha256(f"path {one}".encode()).digest() for i, one in enumerate(told)}
    content = hashlib.sha256(np.ascontiguousarray(rows).tobytes() + settled.encode()).hexdigest()
    record = RunRecord(
        RunInfo(0, name, images, 0, 0), names, root / name, Recipe(), False, image_set, answers, TABLE, content
    )
    return Run(
        record, judge(answers, known, units_in(image_set)), seed=seed, known_by="path" if paths is not None else "row"
    )


def _rows(scores: ArrayLike) -> NDArray[np.floating]:
    rows = np.asarray(scores)
    if rows.dtype.kind not in "fiu" or rows.ndim not in (1, 2) or not rows.size:
        raise InputError(
            f"are {rows.dtype} of shape {rows.shape}", where="scores", hint="give N x K numbers, an image a row"
        )
    if rows.ndim == 1:
        rows = rows[:, None]
    return np.array(rows, np.float32 if rows.dtype in (np.float16, np.float32) else np.float64)


def _label_indices(labels: ArrayLike, names: Sequence[str], total: int) -> NDArray[np.int64]:
    given = np.asarray(labels)
    if given.shape != (total,):
        raise InputError(
            f"are of shape {given.shape}, there are {total} rows of scores",
            where="labels",
            hint="give one for each row",
        )
    if given.dtype.kind in "iub":
        found = given.astype(np.int64)
        if ((found < -1) | (found >= len(names))).any():
            worst = int(found[(found < -1) | (found >= len(names))][0])
            raise InputError(
                f"hold {worst}, which is no class: there are {len(names)}",
                where="labels",
                hint=f"give indices from 0 to {len(names) - 1}, and -1 for none",
            )
        return found
    if given.dtype.kind not in "UO":
        raise InputError(f"are {given.dtype}", where="labels", hint="give class indices or names")
    matcher, found = ClassMatcher(names), np.full(total, -1, np.int64)
    for i, one in enumerate(given.tolist()):
        if one is None or one == "":
            continue
        index = matcher.index(str(one))
        if index is None:
            raise InputError(
                f"row {i} is labelled {str(one)!r}, which is not in the class list",
                where="labels",
                hint="use the names of the class list, and None for no label",
            )
        found[i] = index
    return found


def _settled(rows: NDArray[np.floating], kind: ScoreKind) -> Kind:
    """The kind of scores, held against the numbers."""
    facts = ScoreFacts.of(rows)
    if kind == "auto":
        if facts.doubtful:
            raise InputError(
                f"are all from 0 to 1, but a row sums to 1 only within {facts.furthest:.2g}",
                where="scores",
                hint='say which they are: kind="logits" or kind="probabilities"',
            )
        return facts.kind
    if kind not in ("logits", "probabilities", "sigmoid"):
        raise InputError(
            f"{kind!r} is no kind of scores", where="kind", hint="give logits, probabilities, sigmoid or auto"
        )
    if kind == "logits" and facts.kind == "probabilities" and facts.rows:
        raise InputError(
            "are called logits, but every row lies in [0, 1] and sums to 1: these are probabilities",
            where="scores",
            hint='pass kind="probabilities"',
        )
    if kind != "logits" and not facts.within:
        raise InputError(
            f"are called {kind}, but do not all lie in [0, 1]", where="scores", hint='pass kind="logits" if they are'
        )
    if kind == "probabilities" and rows.shape[1] > 1 and facts.doubtful:
        raise InputError(
            f"are called probabilities, but a row sums to 1 only within {facts.furthest:.2g}",
            where="scores",
            hint="normalise each row, or pass the logits",
        )
    if kind == "sigmoid" and rows.shape[1] > 1:
        raise InputError(
            "are called sigmoid, which is for one column", where="scores", hint="give the second class's probabilities"
        )
    return kind


def _texts(values: Any, total: int, where: str) -> list[str]:
    found = ["" if one is None else str(one) for one in np.asarray(values, object).tolist()]
    if len(found) != total:
        raise InputError(
            f"has {len(found)} values, there are {total} rows of scores", where=where, hint="give one each"
        )
    return found


def _paths(paths: Sequence[str] | None, total: int) -> list[str]:
    if paths is None:
        return [f"row {i}" for i in range(total)]
    found = [os.fspath(one) for one in paths]
    if len(found) != total or len(set(found)) != total:
        raise InputError(
            f"are {len(found)}, {len(set(found))} of them different; there are {total} rows of scores",
            where="paths",
            hint="give each image one path of its own",
        )
    return found
