"""Works out, off the main thread, the figures of the selection and those that take longer than a glance."""

from __future__ import annotations

import numpy as np

from mivrat.core.figures.confusion import mistakes
from mivrat.core.figures.summary import sensible_ks
from mivrat.core.running.slow_figures import slow_figures
from mivrat.core.running.snapshot import MOST_PAIRS, Measured, Snapshot
from mivrat.workspace.executors import Task
from mivrat.workspace.workspace import Workspace

MILLISECONDS = 40


class Measurer:
    """Keeps what is measured up to date; ``of_selection`` makes it follow the selection."""

    def __init__(self, workspace: Workspace) -> None:
        self.workspace, self.of_selection = workspace, False
        self._workers = workspace.group(1)
        self._working: Task | None = None
        self._soon = workspace.soon(MILLISECONDS, self._start)
        workspace.topics.figures.connect(self._soon.start)
        workspace.topics.busy.connect(lambda: None if self._is_complete else self._soon.start())
        workspace.topics.selection.connect(lambda: self._soon.start() if self.of_selection else None)

    def follow_selection(self, on: bool) -> None:
        """Show the figures of the selection instead of those of all images, or the other way round."""
        if on != self.of_selection:
            self.of_selection = on
            self._start()

    @property
    def _is_complete(self) -> bool:
        """Whether the figures shown are those wanted, with the slow ones: what else goes on in the study changes none of them."""
        measured = self.workspace.shown.results.measured
        return measured.deep is not None and measured.of_selection == self.of_selection

    def _start(self) -> None:
        if self._working is not None:
            self._working.cancel()
            self._working = None
        if not self.workspace.is_open:
            return
        shown, busy = self.workspace.shown, self.workspace.busy
        snapshot, among = shown.snapshot, shown.shown_mask() if self.of_selection else None
        self._working = self._workers.start(
            lambda task: _measure(snapshot, among, busy, task), progress=lambda found: self._take(snapshot, found)
        )

    def _take(self, snapshot: Snapshot, found: Measured) -> None:
        workspace = self.workspace
        if workspace.is_open and workspace.shown.snapshot is snapshot and found.of_selection == self.of_selection:
            workspace.shown.results.set_measured(found)

    @property
    def settled(self) -> bool:
        return not self._workers.busy and not self._soon.waiting

    def stop(self) -> None:
        self._soon.stop()
        self._workers.stop_all()


def _measure(snapshot: Snapshot, among: np.ndarray | None, busy: bool, task: Task) -> None:
    """Tell of the figures at once, and of them with the slow ones; the latter not while a run is going on."""
    judged = snapshot.judged
    found = Measured(snapshot.figures, snapshot.mistakes)
    if among is not None:
        figures = judged.figures(sensible_ks(len(snapshot.record.classes)), among, ranked=False)
        found = Measured(figures, mistakes(figures.matrix, MOST_PAIRS), None, True, among)
        task.report(found)
    if not busy:
        deep = slow_figures(judged, among)
        if deep is not None:
            task.report(Measured(found.figures, found.mistakes, deep, found.of_selection, among))
