"""Parts of the images of a run drawn by their content alone: whole units, copies together, of each class as many in each part."""

from __future__ import annotations

import hashlib

import numpy as np
from numpy.typing import NDArray

from mivrat.core.answers.judged import EvaluatedRun
from mivrat.core.pictures.image_sets import column_of
from mivrat.core.study.records import RunRecord


def content_folds(
    record: RunRecord, judged: EvaluatedRun, use: NDArray[np.integer], number: int, purpose: str
) -> NDArray[np.int64]:
    """The part, from 0, of each image in ``use``. A unit is of the class of most of its images. The same pictures fall into the same parts
    however they are listed; another ``purpose`` draws others."""
    groups: dict[str, list[int]] = {}
    for at, key in enumerate(_keys(record, use)):
        groups.setdefault(key, []).append(at)
    labels = judged.labels[use]
    by_class: dict[int, list[str]] = {}
    for key, own in groups.items():
        by_class.setdefault(int(np.bincount(labels[own] + 1).argmax()) - 1, []).append(key)
    found = np.zeros(len(use), np.int64)
    begin = 0
    for k in sorted(by_class):
        ordered = sorted(by_class[k], key=lambda key: hashlib.sha256(f"{purpose} {key}".encode()).digest())
        # Each class goes on where the one before ended, so that no part gets all that is over.
        for place, key in enumerate(ordered):
            found[groups[key]] = (begin + place) % number
        begin += len(ordered)
    return found


def _keys(record: RunRecord, use: NDArray[np.integer]) -> list[str]:
    """What belongs together, by a name that does not depend on how images are listed."""
    items, contents = record.image_set.items, record.answers.contents
    column = record.image_set.unit_column
    units = column_of(items, column) if column else None

    def key(i: int) -> str:
        if units is not None and units[i]:
            return f"unit {units[i]}"
        content = contents.get(i)
        return content.hex() if content is not None else f"path {items[i].path}"

    return [key(i) for i in use.tolist()]
