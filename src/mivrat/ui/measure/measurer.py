"""Works out, off the main thread, the figures of the selection and those that take longer than a glance."""

from __future__ import annotations

import numpy as np
from PySide6.QtCore import QObject, QTimer

from mivrat.core.figures.confusion import mistakes
from mivrat.core.figures.summary import sensible_ks
from mivrat.core.running.slow_figures import slow_figures
from mivrat.ui.session import MOST_PAIRS, Measured, Session, Snapshot
from mivrat.ui.work import Work, Workers

MILLISECONDS = 40


class Measurer(QObject):
    """Keeps the session's measured figures up to date; ``of_selection`` makes them follow the selection."""

    def __init__(self, session: Session, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self.session, self.of_selection = session, False
        self._workers = Workers(1, self)
        self._working: Work | None = None
        self._soon = QTimer(self, singleShot=True, interval=MILLISECONDS)
        self._soon.timeout.connect(self._start)
        session.figures_changed.connect(self._soon.start)
        session.busy_changed.connect(self._soon.start)
        session.selection_changed.connect(lambda: self._soon.start() if self.of_selection else None)

    def follow_selection(self, on: bool) -> None:
        """Show the figures of the selection instead of those of all images, or the other way round."""
        if on != self.of_selection:
            self.of_selection = on
            self._start()

    def _start(self) -> None:
        snapshot = self.session.snapshot
        if self._working is not None:
            self._working.cancel()
            self._working = None
        if snapshot is None or (self.session.study_path is None and self.session.busy):
            return
        among, busy = self.session.shown_mask() if self.of_selection else None, self.session.busy
        self._working = self._workers.start(
            lambda work: _measure(snapshot, among, busy, work), progress=lambda found: self._take(snapshot, found)
        )

    def _take(self, snapshot: Snapshot, found: Measured) -> None:
        if self.session.snapshot is snapshot and found.of_selection == self.of_selection:
            self.session.set_measured(found)

    @property
    def settled(self) -> bool:
        return not self._workers.busy and not self._soon.isActive()

    def stop(self) -> None:
        self._workers.stop_all()


def _measure(snapshot: Snapshot, among: np.ndarray | None, busy: bool, work: Work) -> None:
    """Tell of the figures at once, and of them with the slow ones; the latter not while a run is going on."""
    judged = snapshot.judged
    found = Measured(snapshot.figures, snapshot.mistakes)
    if among is not None:
        figures = judged.figures(sensible_ks(len(snapshot.record.classes)), among, ranked=False)
        found = Measured(figures, mistakes(figures.matrix, MOST_PAIRS), None, True, among)
        work.report(found)
    if not busy:
        deep = slow_figures(judged, among, stopped=lambda: work.stop.stopped)
        if deep is not None:
            work.report(Measured(found.figures, found.mistakes, deep, found.of_selection, among))
