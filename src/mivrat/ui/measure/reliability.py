"""Confidence: the reliability diagram under a sentence with its figures; coverage, thresholds, and prediction sets in its place."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray
from PySide6.QtWidgets import QStackedWidget, QVBoxLayout, QWidget

from mivrat.core.answers.judged import EvaluatedRun
from mivrat.core.base.numbers import decimal, percent
from mivrat.core.figures.calibration import Calibration, adaptive_calibration, calibration
from mivrat.core.figures.spread import BINS
from mivrat.core.figures.units import calibration_over_units
from mivrat.ui import words
from mivrat.ui.measure.confidence_spread import ConfidenceSpread
from mivrat.ui.measure.coverage import Coverage
from mivrat.ui.measure.reliability_diagram import ReliabilityDiagram
from mivrat.ui.measure.sets_view import SetsView
from mivrat.ui.measure.threshold import ThresholdPage
from mivrat.ui.parts.page import Page
from mivrat.ui.parts.widgets import Choice, button, label, row, tip
from mivrat.workspace import study_edits
from mivrat.workspace.executors import LatestOnly
from mivrat.workspace.workspace import Workspace


class Reliability(Page, QWidget):
    """The diagram under a sentence with its figures; or accuracy against coverage in its place."""

    title, place_id = "Confidence", "confidence"
    help = "Whether the confidence can be believed, and what accuracy a threshold on it buys."

    def __init__(self, workspace: Workspace) -> None:
        super().__init__()
        self.workspace = workspace
        self.summary, self.further = label(wrap=True), label(soft=True, wrap=True)
        self.diagram, self.coverage = ReliabilityDiagram(workspace), Coverage(workspace)
        self.threshold, self.spread = ThresholdPage(workspace), ConfidenceSpread(workspace)
        self.view = Choice(
            [
                "reliability, bins of equal width",
                "reliability, bins of equal count",
                "reliability, with temperature",
                "right and wrong",
                "accuracy and coverage",
                "threshold and costs",
                "prediction sets",
            ],
            "what is drawn",
        )
        self.view.currentIndexChanged.connect(self._choose)
        self.one_class = Choice(["all classes"], "confidence, or one class's probability")
        self.one_class.setMaximumWidth(220)
        self.one_class.activated.connect(lambda _: self._start())
        self._workers = self.workspace.group(1)
        self._working = LatestOnly(self._workers)
        self.pages = QStackedWidget()
        self.sets = SetsView(workspace)
        for page in (self.diagram, self.spread, self.coverage, self.threshold, self.sets):
            self.pages.addWidget(page)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 8, 0, 8)
        self.adopt = button("", self._adopt, kind="small")
        tip(self.adopt, "The close look ranks classes by the scores at this temperature; no figure changes by it")
        self.adopt.hide()
        layout.addLayout(row(self.view, self.one_class, None, self.adopt))
        layout.addWidget(self.summary)
        layout.addWidget(self.further)
        layout.addWidget(self.pages, 1)
        workspace.topics.measured.connect(self._refresh)
        workspace.topics.measured.connect(self._start)
        workspace.topics.run.connect(self._list_classes)

    def _fitted(self) -> float | None:
        """The temperature that fits best, where it can be told."""
        deep = self.workspace.shown.results.measured.deep
        found = deep.temperature if deep is not None else None
        return found.value if found is not None and found.identifiable else None

    def _offer(self) -> None:
        snapshot, fitted = self.workspace.shown.snapshot, self._fitted()
        now = snapshot.record.temperature
        self.adopt.setVisible(self.diagram.with_temperature and (fitted is not None or now is not None))
        self.adopt.setText("Scores as they are" if now is not None else "Apply to the scores shown")
        self.adopt.setEnabled(not self.workspace.busy)

    def _adopt(self) -> None:
        snapshot = self.workspace.shown.snapshot
        now = snapshot.record.temperature
        wanted = self._fitted() if now is None else None
        self.workspace.edits.take(study_edits.set_temperature(snapshot.record.info.model_id, wanted, now))

    def _list_classes(self) -> None:
        self.one_class.clear()
        self.one_class.addItems(["all classes", *(words.clipped(name, 40) for name in self.workspace.shown.classes)])

    def _start(self) -> None:
        """Work out the calibration of one class's probability: the share labelled so, bin by bin."""
        k = self.one_class.currentIndex() - 1 if not self.diagram.with_temperature else -1
        snapshot, measured = self.workspace.shown.snapshot, self.workspace.shown.results.measured
        self._working.cancel()
        if k < 0 or not snapshot.judged.has_scores:
            self._take(None)
            return
        judged, use = snapshot.judged, np.flatnonzero(snapshot.judged.evaluated)
        if measured.of_selection:
            use = np.intersect1d(use, self.workspace.shown.images)
        self._working.start(lambda work: _of_class(judged, k, use, self.diagram.equal_count), done=self._take)

    def _take(self, found: Calibration | None) -> None:
        self.diagram.of_class = found
        self.diagram.redraw()
        self._refresh()

    def _choose(self, index: int) -> None:
        self.diagram.equal_count, self.diagram.with_temperature = index == 1, index == 2
        self.one_class.setVisible(index < 2)
        self._start()
        self.pages.setCurrentIndex(max(0, index - 2))
        self._offer()
        self.summary.setVisible(index < 4)
        self.further.setVisible(index < 3)

    def _refresh(self) -> None:
        self._offer()
        measured = self.workspace.shown.results.measured
        gap = measured.figures.calibration.signed_gap
        if gap is None:
            self.summary.setText("No labelled image has been scored yet.")
            self.further.setText("")
            return
        found, deep = measured.figures.calibration, measured.deep
        one = self.diagram.of_class
        if one is not None:
            total = sum(each.count for each in one.bins)
            self.summary.setText(
                f"Probability of {self.one_class.currentText()} against the share labelled so: mean gap "
                f"{percent(one.ece)} over {len(one.bins)} bins (N = {words.count(total)})."
            )
            self.further.setText("")
            return
        lean = (
            "Confidence and accuracy agree on average"
            if abs(gap) < 0.005
            else f"On average {abs(100 * gap):.1f} points {'over' if gap > 0 else 'under'}confident"
        )
        chance = ""
        if deep is not None and deep.chance is not None and found.ece is not None:
            beyond = "more than chance explains" if found.ece > deep.chance.high else "no more than chance would show"
            chance = f"; by chance {percent(deep.chance.median)}, 95 % below {percent(deep.chance.high)}: {beyond}"
        self.summary.setText(f"{lean}.  ECE {percent(found.ece)} (N = {words.count(measured.figures.total)}){chance}.")
        tip(
            self.summary,
            f"ECE: mean gap between confidence and accuracy over {len(found.bins)} bins of equal width, weighted by images (Naeini 2015, Guo 2017). The largest gap is {percent(found.mce)}. At small N the ECE is too high: “by chance” is what a perfectly calibrated model would show on as many images.",
        )
        self.further.setText(self._temperature() + self._held_in_words())
        tip(
            self.further,
            "Dashed: perfect calibration, and behind it what chance allows at this N. Points: share right, with 95 % interval; a diamond: significantly off the diagonal. Broad bar: the gap.",
        )

    def _held_in_words(self) -> str:
        """What the plum squares are, where there are any."""
        held = self.workspace.shown.held
        return (
            f" Plum squares: {words.clipped(held.names.b, 40)}."
            if held is not None and self.diagram.other() is not None
            else ""
        )

    def _temperature(self) -> str:
        deep = self.workspace.shown.results.measured.deep
        found = deep.temperature if deep is not None else None
        if deep is None:
            return "Temperature, chance and coverage are being computed …"
        if found is None:
            return "Temperature scaling needs a score for every class."
        if not found.identifiable or found.log_loss_after is None:
            return "No temperature can be fitted to these images (too few, one class only, or all right)."
        return (
            f"Temperature {found.value:.2f}: out of fold, log loss {decimal(found.log_loss_before)} → "
            f"{decimal(found.log_loss_after)}, ECE {percent(found.ece_before)} → {percent(found.ece_after)} (5 folds)."
            + (" Points: as it is. Rings: with that temperature, out of fold." if self.diagram.with_temperature else "")
        )

    @property
    def settled(self) -> bool:
        return not self._workers.busy and self.sets.settled

    def stop(self) -> None:
        self._workers.stop_all()
        self.sets.stop()

    def as_table(self) -> list[list[str]]:
        """The bins, for the clipboard; or the bars of right and wrong answers."""
        if self.pages.currentWidget() is self.sets:
            return self.sets.as_table()
        if self.pages.currentWidget() is self.spread and (found := self.spread.found) is not None:
            bars = [
                [f"{m / BINS:.3f}", f"{(m + 1) / BINS:.3f}", str(found.right[m]), str(found.wrong[m])]
                for m in range(BINS)
            ]
            return [["from", "to", "right", "wrong"], *bars]
        after = self.diagram.after()
        every = [("as it is", self.diagram.bins()), ("with temperature", after.bins if after is not None else [])]
        lines = []
        for which, bins in every:
            for one in bins:
                share = one.accuracy
                digits = ["" if v is None else f"{v:.6f}" for v in (one.confidence, share.value, share.low, share.high)]
                lines.append([which, f"{one.low:.6f}", f"{one.high:.6f}", str(one.count), *digits])
        return [["scores", "from", "to", "images", "mean confidence", "right", "low", "high"], *lines]


def _of_class(judged: EvaluatedRun, k: int, use: NDArray[np.integer], equal_count: bool) -> Calibration:
    """The calibration of one class's probability over some images."""
    column, of_it = judged.column(k, use), judged.labels[use] == k
    found = (adaptive_calibration if equal_count else calibration)(column, of_it)
    if judged.units is None:
        return found
    return calibration_over_units(found, column, of_it, judged.units.of(use), equal_count)
