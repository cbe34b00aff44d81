"""Runs given by their labels and answers alone, as criteria and findings are held against them."""

from __future__ import annotations

import hashlib
from collections.abc import Mapping, Sequence
from pathlib import Path

import numpy as np

from mivrat.core.answers.answers import Answers, ScoredBatch
from mivrat.core.concluding.evaluation_context import EvaluationContext
from mivrat.core.pictures.image_sets import ImageItem, ImageSet
from mivrat.core.pictures.recipe import Recipe
from mivrat.core.running.snapshot import take_snapshot
from mivrat.core.study.records import RunInfo, RunRecord
from mivrat.core.study.reviews import Reviews

CLASSES = ["birch", "ragweed", "hazel"]


def ground(
    labels: Sequence[int | None],
    predicted: Sequence[int],
    *,
    model: str = "one",
    columns: Mapping[str, Sequence[str]] | None = None,
    families: Mapping[int, str] | None = None,
    classes: Sequence[str] = CLASSES,
    images: str = "set",
    reviews: Reviews | None = None,
    order: Sequence[int] | None = None,
    unit_column: str = "",
) -> EvaluationContext:
    """A run whose answer for image i is ``predicted[i]``; ``order`` lists the same images in another order."""
    order = list(range(len(labels))) if order is None else order
    answers = Answers(len(labels), len(classes), "logits")
    rows = np.where(np.arange(len(classes)) == np.array(predicted)[:, None], 2.0, 0.0)[list(order)]
    answers.add(ScoredBatch(np.arange(len(labels)), rows.astype(np.float32), {}))
    answers.contents = {at: hashlib.sha256(f"{images} {i}".encode()).digest() for at, i in enumerate(order)}
    items = [
        ImageItem(f"{at}.png", labels[i], {name: values[i] for name, values in (columns or {}).items()})
        for at, i in enumerate(order)
    ]
    listed = ImageSet(images, Path("/nowhere"), items, unit_column=unit_column)
    sha = hashlib.sha256(model.encode()).hexdigest()
    record = RunRecord(
        RunInfo(1, model, images, 1, 1),
        list(classes),
        Path("/nowhere/m.onnx"),
        Recipe(),
        False,
        listed,
        answers,
        model_sha256=sha,
        families=dict(families or {}),
    )
    return EvaluationContext(take_snapshot(record), reviews or Reviews())
