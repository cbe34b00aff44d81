"""What a study keeps as single values: what was entered for a model, and what the window remembers."""

from __future__ import annotations

import json
from collections.abc import Sequence
from typing import Annotated, Any

from pydantic import Field

from mivrat.core.study.file import Study
from mivrat.core.study.soundness import (
    json_of,
    reading,
)

Share = Annotated[float, Field(ge=0, le=1)]
Positive = Annotated[float, Field(gt=0)]


@reading
def load_setting(study: Study, key: str) -> str | None:
    row = study.db.execute("SELECT value FROM setting WHERE key = ?", (key,)).fetchone()
    return None if row is None else str(row[0])


def save_setting(study: Study, key: str, value: str) -> None:
    with study.writing() as db:
        db.execute(
            "INSERT INTO setting VALUES (?, ?) ON CONFLICT (key) DO UPDATE SET value = excluded.value", (key, value)
        )


def _number(study: Study, key: str, kind: Any) -> float | None:
    text = load_setting(study, key)
    return json_of(text, kind) if text else None


@reading
def load_claim(study: Study, model_id: int) -> float | None:
    """The top-1 accuracy that was claimed for a model, from 0 to 1."""
    return _number(study, f"claim of model {model_id}", Share)


def save_claim(study: Study, model_id: int, claim: float | None) -> None:
    save_setting(study, f"claim of model {model_id}", "" if claim is None else repr(claim))


@reading
def load_threshold(study: Study, model_id: int) -> float | None:
    """Of two classes, the probability of the second from which on a model is taken to call it; None for the higher of both."""
    return _number(study, f"threshold of model {model_id}", Share)


def save_threshold(study: Study, model_id: int, threshold: float | None) -> None:
    save_setting(study, f"threshold of model {model_id}", "" if threshold is None else repr(threshold))


@reading
def load_temperature(study: Study, model_id: int) -> float | None:
    """The temperature that a model's scores are shown with, where one was adopted."""
    return _number(study, f"temperature of model {model_id}", Positive)


def save_temperature(study: Study, model_id: int, temperature: float | None) -> None:
    save_setting(study, f"temperature of model {model_id}", "" if temperature is None else repr(temperature))


@reading
def load_criteria(study: Study, model_id: int) -> tuple[str, ...]:
    """What a model's figures have to meet, as requirements."""
    return tuple(json_of(load_setting(study, f"criteria of model {model_id}") or "[]", list[str]))


def save_criteria(study: Study, model_id: int, criteria: Sequence[str]) -> None:
    save_setting(study, f"criteria of model {model_id}", json.dumps(list(criteria), ensure_ascii=False))
