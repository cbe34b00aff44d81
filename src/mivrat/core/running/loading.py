"""Loads a run from a study and judges its answers while they are still being read."""

from __future__ import annotations

import gc
import hashlib
import logging
import os
from concurrent.futures import ThreadPoolExecutor

from mivrat.core.answers.judging import Judging, units_in
from mivrat.core.answers.missing_scores import are_missing
from mivrat.core.pictures.image_sets import ItemColumns
from mivrat.core.pictures.recipe import canonical
from mivrat.core.study.file import Study
from mivrat.core.study.image_sets import keep_list
from mivrat.core.study.kept_answers import fill_answers
from mivrat.core.study.kept_columns import has_columns, is_large, json_column, load_columns, save_columns, text_of
from mivrat.core.study.records import RunRecord
from mivrat.core.study.runs import load_run
from mivrat.core.study.soundness import json_of

log = logging.getLogger(__name__)


def load_judged(study: Study, run_id: int, *, keep: bool = False) -> tuple[RunRecord, Judging]:
    """A run with all its answers, judged. ``keep``: what is said of a large run may be kept in the study, which is then written to."""
    # Tens of thousands of small objects are made that all stay: looking among them for garbage would double the time.
    collecting = gc.isenabled()
    gc.disable()
    try:
        return _load(study, run_id, keep)
    finally:
        if collecting:
            gc.enable()


def _load(study: Study, run_id: int, keep: bool) -> tuple[RunRecord, Judging]:
    record = load_run(study, run_id, with_answers=False)
    judging = Judging(record.answers, record.image_set.labels, units_in(record.image_set))
    if _take_kept(study, record, judging):
        return record, judging
    with ThreadPoolExecutor(os.cpu_count()) as pool:
        waiting = [pool.submit(judging.update, positions) for positions in fill_answers(study, record)]
    for one in waiting:
        one.result()
    if keep:
        keep_judged(study, record, judging)
    return record, judging


def keep_judged(study: Study, record: RunRecord, judging: Judging) -> None:
    """Keep a large run as columns, so that it is shown at once the next time."""
    if not _has_columns(record) or record.answers.has_strays or are_missing(record.answers.rows):
        return
    items, set_id = record.image_set.items, record.info.set_id
    if not isinstance(items, ItemColumns) or not has_columns(study, "set", set_id):
        keep_list(study, set_id, items, record.answers.contents)
    reasons = [[int(i), reason] for i, reason in record.answers.reasons.items()]
    columns = {**judging.columns(), "about": json_column(_about(record)), "reasons": json_column(reasons)}
    save_columns(study, "run", record.info.id, columns)


def _has_columns(record: RunRecord) -> bool:
    """Whether a run is kept as columns: a large one whose scores are mapped, not read."""
    return is_large(len(record.image_set.items)) and record.answers.score_file is not None


def _about(record: RunRecord) -> list[str]:
    """What the columns follow from besides the answers; the number stands for how answers are judged, to be raised with it."""
    labels = hashlib.sha256(record.image_set.labels.astype("<i8").tobytes()).hexdigest()
    return [
        "1",
        record.model_sha256,
        canonical(record.recipe),
        record.answers.kind or "",
        labels,
        str(len(record.classes)),
    ]


def _take_kept(study: Study, record: RunRecord, judging: Judging) -> bool:
    """Whether a run could be had from its columns."""
    kept = load_columns(study, "run", record.info.id) if _has_columns(record) else None
    if kept is None:
        return False
    try:
        if json_of(text_of(kept["about"]), list[str]) != _about(record):
            return False
        reasons = json_of(text_of(kept["reasons"]), list[tuple[int, str]])
        judging.take_columns(kept)
    except (KeyError, ValueError):
        log.warning("the columns kept of run %s are not its own; they are made again", record.info.id)
        return False
    record.answers.reasons.update(reasons)
    return True
