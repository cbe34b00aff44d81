"""The training log of the model shown: read in a worker, kept in the study by the model's content."""

from __future__ import annotations

from pathlib import Path

from mivrat.core.base.errors import InputError
from mivrat.core.comparing.training import (
    Roles,
    Training,
    TrainingLog,
    guess_roles,
    read_training_log,
    training,
)
from mivrat.core.comparing.training_logs import kept_log, read_kept_log, save_log
from mivrat.core.study.file import Study
from mivrat.workspace.executors import LatestOnly
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
        self._workers = workspace.group(1)
        self._reading = LatestOnly(self._workers)
        workspace.topics.run.connect(self._follow)
        workspace.topics.left.connect(self._leave)

    def _leave(self) -> None:
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
                kept = kept_log(study, model)
            return None if kept is None else read_kept_log(kept, path, allowed)

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
        model, log, roles = self._model, self.log, self.roles
        self.workspace.edits.write(lambda study: save_log(study, model, log, roles))

    def training(self) -> Training:
        """The curves of the log by its roles; InputError where no column is named."""
        assert self.log is not None
        return training(self.log, self.roles)

    @property
    def settled(self) -> bool:
        return not self._workers.busy

    def stop(self) -> None:
        self._workers.stop_all()
