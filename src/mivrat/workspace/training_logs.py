"""The training log of the model shown: read in a worker, kept in the study by the model's content."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

from mivrat.core.base.errors import InputError
from mivrat.core.comparing.training import (
    Roles,
    Training,
    TrainingLog,
    guess_roles,
    read_training_log,
    roles_as_data,
    roles_from,
    training,
)
from mivrat.core.study.file import Study
from mivrat.core.study.settings import load_setting, save_setting
from mivrat.workspace.executors import Newest
from mivrat.workspace.topics import Topic
from mivrat.workspace.workspace import Workspace


class TrainingLogs:
    """``log`` is that of the model shown, ``roles`` what its columns are; ``problem`` why there is none. ``changed`` tells of all."""

    def __init__(self, workspace: Workspace) -> None:
        self.workspace = workspace
        self.changed = Topic(lambda: workspace.is_open)
        self.log: TrainingLog | None = None
        self.roles, self.problem = Roles(), ""
        self._model = ""
        self._workers = workspace.parallel.group(1)
        self._reading = Newest(self._workers)
        workspace.topics.run.connect(self._follow)
        workspace.topics.left.connect(self._leave)

    def _leave(self) -> None:
        self._reading.cancel()
        self.log, self.roles, self.problem, self._model = None, Roles(), "", ""

    def _follow(self) -> None:
        """Read the log of another model."""
        model = self.workspace.shown.record.model_sha256
        if model == self._model:
            return
        self._leave()
        self._model, path, allowed = model, self.workspace.path, self.workspace.allowed()
        self.changed.emit()

        def read(task: object) -> tuple[TrainingLog, Roles] | None:
            with Study.open(path, again=True) as study:
                kept = _kept(study, model)
            if kept is None:
                return None
            log_path = Path(str(kept.get("path", "")))
            if not any(place == log_path.parent or place in log_path.parents for place in (*allowed, path.parent)):
                raise InputError(
                    "names a training log in a folder that nobody has allowed to be read",
                    where=log_path,
                    mend="choose it again",
                )
            log = read_training_log(log_path)
            roles = kept.get("roles")
            return log, roles_from(roles if isinstance(roles, dict) else {}, list(log.columns))

        self._reading.start(
            read, done=lambda found: self._take(model, found), failed=lambda error: self._fail(model, error)
        )

    def _take(self, model: str, found: tuple[TrainingLog, Roles] | None) -> None:
        if model == self._model and found is not None:
            self.log, self.roles = found
            self.problem = ""
            self.changed.emit()

    def _fail(self, model: str, error: InputError) -> None:
        if model == self._model:
            self.problem = error.line()
            self.changed.emit()

    def read(self, path: Path) -> None:
        """Read a log chosen for the model shown, guess its columns and keep both."""
        model = self._model

        def done(log: TrainingLog) -> None:
            if model == self._model:
                self.workspace.allow(path.parent)
                self._take(model, (log, guess_roles(list(log.columns))))
                self._keep()

        self._reading.start(
            lambda task: read_training_log(path), done=done, failed=lambda error: self._fail(model, error)
        )

    def set_roles(self, roles: Roles) -> None:
        """Correct what the columns are."""
        self.roles = roles
        self._keep()
        self.changed.emit()

    def take_away(self) -> None:
        """The model has no log any more."""
        self.log, self.roles, self.problem = None, Roles(), ""
        self._keep()
        self.changed.emit()

    def _keep(self) -> None:
        key = _key(self._model)
        data = (
            ""
            if self.log is None
            else json.dumps({"path": str(self.log.path.resolve()), "roles": roles_as_data(self.roles)})
        )
        self.workspace.edits.write(lambda study: save_setting(study, key, data))

    def training(self) -> Training:
        """The curves of the log by its roles; InputError where no column is named."""
        assert self.log is not None
        return training(self.log, self.roles)

    @property
    def settled(self) -> bool:
        return not self._workers.busy

    def stop(self) -> None:
        self._workers.stop_all()


def _key(model: str) -> str:
    return f"training log of {model}"


def _kept(study: Study, model: str) -> dict[str, Any] | None:
    text = load_setting(study, _key(model))
    try:
        found = json.loads(text) if text else None
    except ValueError:
        return None
    return found if isinstance(found, dict) else None
