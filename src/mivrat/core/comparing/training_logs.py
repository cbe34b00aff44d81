"""The training log that a study names for a model, by the model's content: where it lies, what its columns are, and reading it."""

from __future__ import annotations

import json
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path

from mivrat.core.base.errors import InputError
from mivrat.core.comparing.training import (
    Roles,
    TrainingLog,
    read_training_log,
    roles_as_data,
    roles_from,
)
from mivrat.core.study.file import Study
from mivrat.core.study.places import places_to_ask_about
from mivrat.core.study.settings import load_setting, save_setting


@dataclass(frozen=True)
class KeptLog:
    """Where a model's training log lies, and what its columns were said to be."""

    path: Path
    roles: dict[str, object]


def _key(model: str) -> str:
    return f"training log of {model}"


def kept_log(study: Study, model: str) -> KeptLog | None:
    """The training log of the model with this content; None where there is none."""
    text = load_setting(study, _key(model))
    try:
        found = json.loads(text) if text else None
    except (ValueError, RecursionError):
        return None
    if not isinstance(found, dict) or not isinstance(found.get("path"), str):
        return None
    roles = found.get("roles")
    return KeptLog(Path(found["path"]), roles if isinstance(roles, dict) else {})


def save_log(study: Study, model: str, log: TrainingLog | None, roles: Roles) -> None:
    """Keep a model's training log and its columns, or that there is none."""
    data = "" if log is None else json.dumps({"path": str(log.path.resolve()), "roles": roles_as_data(roles)})
    save_setting(study, _key(model), data)


def read_kept_log(kept: KeptLog, study: Path, allowed: Sequence[Path]) -> tuple[TrainingLog, Roles]:
    """A log as its study keeps it. InputError where it cannot be read, or lies in a folder that nobody has allowed to be read."""
    if places_to_ask_about(study, [kept.path.parent], allowed):
        raise InputError(
            "names a training log in a folder that you have not allowed Mivrat to read",
            where=kept.path,
            hint="choose it again",
        )
    log = read_training_log(kept.path)
    return log, roles_from(kept.roles, list(log.columns))
