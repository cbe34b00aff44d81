"""A run that no study keeps, as judged: what the command line scores in memory."""

from __future__ import annotations

from collections.abc import Mapping

from mivrat.core.running.evaluation import Evaluation
from mivrat.core.running.snapshot import Snapshot, take_snapshot
from mivrat.core.study.records import RunInfo, RunRecord


def record_of(
    evaluation: Evaluation,
    classes: list[str],
    families: Mapping[int, str] | None = None,
    *,
    set_id: int = 0,
    threshold: float | None = None,
) -> RunRecord:
    """What an evaluation is of, with its answers; ``set_id`` is that of the study whose images these are, 0 for none."""
    model, images = evaluation.model, evaluation.image_set
    return RunRecord(
        RunInfo(0, model.name, images.name, 0, set_id),
        classes,
        model.path,
        model.recipe,
        model.recipe_is_guess,
        images,
        evaluation.answers,
        model.kind,
        model.content,
        dict(families or {}),
        threshold,
    )


def snapshot_of(evaluation: Evaluation, record: RunRecord) -> Snapshot:
    """An evaluation as judged now."""
    return take_snapshot(record, evaluation.judging)
