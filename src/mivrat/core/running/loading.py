"""Loads a run from a study and judges its answers while they are still being read."""

from __future__ import annotations

import gc
import os
from concurrent.futures import ThreadPoolExecutor

from mivrat.core.answers.judging import Judging, units_in
from mivrat.core.study.file import Study
from mivrat.core.study.kept_answers import fill_answers
from mivrat.core.study.records import RunRecord
from mivrat.core.study.runs import load_run


def load_judged(study: Study, run_id: int) -> tuple[RunRecord, Judging]:
    """A run with all its answers, judged."""
    # Tens of thousands of small objects are made that all stay: looking among them for garbage would double the time.
    collecting = gc.isenabled()
    gc.disable()
    try:
        return _load(study, run_id)
    finally:
        if collecting:
            gc.enable()


def _load(study: Study, run_id: int) -> tuple[RunRecord, Judging]:
    record = load_run(study, run_id, with_answers=False)
    judging = Judging(record.answers, record.image_set.labels, units_in(record.image_set))
    with ThreadPoolExecutor(os.cpu_count()) as pool:
        waiting = [pool.submit(judging.update, positions) for positions in fill_answers(study, record)]
    for one in waiting:
        one.result()
    return record, judging
