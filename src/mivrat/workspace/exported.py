"""What has gone out of the open study: noted as it is written, and listed."""

from __future__ import annotations

import time
from datetime import datetime
from pathlib import Path

from mivrat.core.study.file import Study
from mivrat.core.study.kept_findings import ExportedFile, load_exported, save_exported
from mivrat.workspace.jobs import Handle
from mivrat.workspace.topics import Topic
from mivrat.workspace.workspace import Workspace


class ExportLog:
    """``entries`` are what went out before, the latest first; ``changed`` tells that there is more."""

    def __init__(self, workspace: Workspace) -> None:
        self.workspace = workspace
        self.changed = Topic(lambda: workspace.is_open)
        self.entries: tuple[ExportedFile, ...] = ()
        self._workers = workspace.group(1)
        workspace.topics.left.connect(self._leave)
        workspace.topics.run.connect(self.read)
        workspace.jobs.ended.connect(self._ended)

    def _leave(self) -> None:
        self.entries = ()

    def read(self) -> None:
        """Read what the study tells of it."""
        path = self.workspace.path

        def read() -> tuple[ExportedFile, ...]:
            with Study.open(path, again=True) as study:
                return load_exported(study)

        self._workers.start(
            lambda task: self.workspace.after_writing(read),
            done=lambda found: self._take(path, found),
            failed=self.workspace.notices.fail,
        )

    def _take(self, path: Path, found: tuple[ExportedFile, ...]) -> None:
        if self.workspace.study_path == path:
            self.entries = found
            self.changed.emit()

    def note(self, what: str, number: int, place: Path) -> None:
        """Note that something has gone out."""
        day = datetime.now().strftime("%Y-%m-%d %H:%M")
        one = ExportedFile(time.time_ns(), day, what, number, str(place))
        self.entries = (one, *self.entries)
        self.workspace.edits.write(lambda study: save_exported(study, one))
        self.changed.emit()

    def _ended(self, handle: Handle) -> None:
        if handle.job.kind == "write" and handle.written is not None and self.workspace.is_open:
            self.note(handle.job.title, handle.written.files, handle.written.place)

    @property
    def settled(self) -> bool:
        return not self._workers.busy

    def stop(self) -> None:
        self._workers.stop_all()
