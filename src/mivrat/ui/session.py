"""What the window is looking at: one run of one study, its figures and checks, and the selection; views listen to it."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

import numpy as np
from numpy.typing import NDArray
from PySide6.QtCore import QObject, Signal

from mivrat.core.checks.of_run import KeptResult
from mivrat.core.figures.confusion import Mistakes, mistakes
from mivrat.core.figures.intervals import Proportion, proportion
from mivrat.core.figures.summary import Figures, sensible_ks
from mivrat.core.running.answers import Counts, Judged, Judging
from mivrat.core.running.deeper import Deeper
from mivrat.core.study.contents import Contents
from mivrat.core.study.ordering import ORDERS, Order, ordered
from mivrat.core.study.records import RunInfo, RunRecord
from mivrat.core.study.selection import Condition, Conditions, InGroup, Picked, Selection

# How many of the most frequent mistakes are listed.
MOST_PAIRS = 8


@dataclass(frozen=True)
class Snapshot:
    """A run as judged at one moment; made in a worker, never changed afterwards."""

    record: RunRecord
    judged: Judged
    figures: Figures
    counts: Counts
    mistakes: Mistakes


def take_snapshot(record: RunRecord, judging: Judging | None = None) -> Snapshot:
    """Judge a run, unless ``judging`` has done so, and work out its figures (slow for large runs: call it in a worker)."""
    judged = (judging or Judging(record.answers, record.image_set.labels)).judged()
    if record.threshold is not None and judged.has_scores:
        judged = judged.at_threshold(record.threshold)
    figures = judged.figures(sensible_ks(len(record.classes)), ranked=False)
    return Snapshot(record, judged, figures, judged.counts(), mistakes(figures.matrix, MOST_PAIRS))


@dataclass(frozen=True)
class Measured:
    """What the Measure step shows: figures of all images or of the selection; the deeper ones once they are worked out."""

    figures: Figures
    mistakes: Mistakes
    deep: Deeper | None = None
    of_selection: bool = False


class Session(QObject):
    """The run shown, the selection, and the image looked at. Signals tell which of them changed.

    ``contents`` is what the study holds and ``checks`` what the checks of the run shown found, once a worker has read
    them; ``busy`` tells that a long job is writing to the study, so that decisions have to wait.
    """

    run_changed = Signal()
    contents_changed = Signal()
    checks_changed = Signal()
    busy_changed = Signal()
    figures_changed = Signal()
    measured_changed = Signal()
    selection_changed = Signal()
    current_changed = Signal()

    def __init__(self) -> None:
        super().__init__()
        self.study_path: Path | None = None
        self.runs: list[RunInfo] = []
        self.references: dict[int, Path] = {}
        self.snapshot: Snapshot | None = None
        self.measured: Measured | None = None
        self.contents: Contents | None = None
        self.checks: dict[str, KeptResult] = {}
        self.busy = False
        self.selection = Selection()
        self.order: Order = ORDERS[0]
        self.shown: NDArray[np.int64] = np.zeros(0, np.int64)
        self.current: int | None = None
        self._order_before: Order | None = None
        self._ordered: tuple[Order, Judged, NDArray[np.int64]] | None = None

    @property
    def classes(self) -> list[str]:
        return self.snapshot.record.classes if self.snapshot else []

    def show(self, snapshot: Snapshot) -> None:
        """Show another run, or the same one further on; the selection stays as far as it makes sense."""
        before = self.snapshot.record.info if self.snapshot is not None else None
        now = snapshot.record.info
        self.snapshot = snapshot
        if before is None or before.set_id != now.set_id:
            self.selection.forget(Picked)
            self.selection.forget(InGroup)
        if before is None or before.id != now.id:
            self.current = None
            self.checks = {}
            self.checks_changed.emit()
            self.run_changed.emit()
        self.figures_changed.emit()
        if self.measured is None or not self.measured.of_selection or before is None or before.id != now.id:
            self.set_measured(Measured(snapshot.figures, snapshot.mistakes))
        self._reselect()

    def set_measured(self, measured: Measured) -> None:
        """Show these figures in the Measure step."""
        self.measured = measured
        self.measured_changed.emit()

    def _reselect(self) -> None:
        if self.snapshot is None:
            return
        judged = self.snapshot.judged
        mask = self.selection.mask(judged)
        picked = next((one for one in self.conditions if isinstance(one, Picked)), None)
        self._follow_listing(picked is not None)
        items = self.snapshot.record.image_set.items
        if picked is not None and self.order == "as listed":
            self.shown = ordered(judged, items, mask, self.order, picked.positions)
        else:
            # All images are put in order once; any selection of them is then in order.
            if self._ordered is None or self._ordered[0] != self.order or self._ordered[1] is not judged:
                everyone = np.ones(len(mask), bool)
                self._ordered = self.order, judged, ordered(judged, items, everyone, self.order)
            self.shown = self._ordered[2][mask[self._ordered[2]]]
        if self.current is not None and not mask[self.current]:
            self.current = None
        self.selection_changed.emit()
        self.current_changed.emit()

    def _follow_listing(self, listed: bool) -> None:
        """Images that something has listed are shown as it listed them; afterwards the order before is back."""
        if listed and self._order_before is None:
            self._order_before, self.order = self.order, "as listed"
        elif not listed and self._order_before is not None:
            self.order, self._order_before = self._order_before if self.order == "as listed" else self.order, None

    def set_order(self, order: Order) -> None:
        if order != self.order:
            self.order = order
            self._reselect()

    def set_contents(self, contents: Contents, checks: dict[str, KeptResult]) -> None:
        """Take over what a worker has read of the study beside the run shown."""
        self.contents, self.checks = contents, checks
        self.contents_changed.emit()
        self.checks_changed.emit()

    def take_check(self, found: KeptResult) -> None:
        """Take over what one check has found."""
        self.checks = {**self.checks, found.result.name: found}
        self.checks_changed.emit()

    def set_busy(self, busy: bool) -> None:
        if busy != self.busy:
            self.busy = busy
            self.busy_changed.emit()

    def leave(self) -> None:
        """Look at no study any more."""
        self.study_path, self.runs, self.references, self.measured = None, [], {}, None
        self.contents, self.checks = None, {}

    def choose(self, *conditions: Condition, beside: bool = False) -> None:
        self.selection.choose(*conditions, beside=beside)
        self._reselect()

    def replace(self, *conditions: Condition) -> None:
        self.selection.replace(*conditions)
        self._reselect()

    def remove(self, condition: Condition) -> None:
        self.selection.remove(condition)
        self._reselect()

    def remove_last(self) -> None:
        self.selection.remove_last()
        self._reselect()

    def clear(self) -> None:
        self.selection.clear()
        self._reselect()

    def back(self) -> None:
        self.selection.back()
        self._reselect()

    def forward(self) -> None:
        self.selection.forward()
        self._reselect()

    @property
    def conditions(self) -> Conditions:
        return self.selection.conditions

    def shown_mask(self) -> NDArray[np.bool_]:
        """Which of all listed images are shown."""
        found = np.zeros(self.snapshot.counts.listed if self.snapshot is not None else 0, bool)
        found[self.shown] = True
        return found

    def accuracy(self) -> Proportion:
        """Accuracy over the labelled, scored images of the selection."""
        if self.snapshot is None:
            return proportion(0, 0)
        judged = self.snapshot.judged
        return proportion(int(judged.right[self.shown].sum()), int(judged.evaluated[self.shown].sum()))

    def look_at(self, image: int | None) -> None:
        """Make an image the one looked at."""
        if image != self.current:
            self.current = image
            self.current_changed.emit()

    @property
    def position(self) -> int:
        """Where the current image stands among the shown ones, or -1."""
        if self.current is None:
            return -1
        found = np.flatnonzero(self.shown == self.current)
        return int(found[0]) if len(found) else -1

    def step(self, by: int) -> None:
        """Go on by so many images among the shown ones, staying inside."""
        if len(self.shown):
            at = self.position
            self.look_at(int(self.shown[min(len(self.shown) - 1, max(0, at + by if at >= 0 else 0))]))

    def step_mistake(self, direction: int) -> bool:
        """Go to the next (1) or previous (-1) wrong image among the shown ones; False where there is none."""
        if self.snapshot is None:
            return False
        wrong = np.flatnonzero(self.snapshot.judged.wrong[self.shown])
        at = self.position
        further = wrong[wrong > at] if direction > 0 else wrong[wrong < at][::-1]
        if not len(further):
            return False
        self.look_at(int(self.shown[further[0]]))
        return True
