"""What a study keeps of answers to distorted pictures: by model, content, and what was done to the picture."""

from __future__ import annotations

import math
from collections.abc import Sequence

from mivrat.core.study.file import Study
from mivrat.core.study.soundness import damaged, reading


@reading
def load_strains(study: Study, model_id: int, contents: set[bytes]) -> dict[tuple[bytes, str], tuple[int, float]]:
    """A model's answers to distorted pictures of these contents: by content and distortion, predicted class and confidence."""
    found = {}
    for content, strain, predicted, confidence in study.db.execute(
        "SELECT content, strain, predicted, confidence FROM strain_answer WHERE model_id = ?", (model_id,)
    ):
        if content in contents:
            if not 0 <= predicted < len(study.classes) or not math.isfinite(confidence):
                raise damaged(study.path, "an answer to a distorted picture is of no class")
            found[content, strain] = predicted, confidence
    return found


def keep_strains(study: Study, model_id: int, rows: Sequence[tuple[bytes, str, int, float]]) -> None:
    """Keep answers: content, distortion, predicted class, confidence; the same again does no harm."""
    with study.writing() as db:
        db.executemany(
            "INSERT OR REPLACE INTO strain_answer VALUES (?, ?, ?, ?, ?)", [(model_id, *one) for one in rows]
        )
