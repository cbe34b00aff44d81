"""Two classes: the threshold from which on the second is called, what it costs, and the one that costs least."""

from __future__ import annotations

import numpy as np
from PySide6.QtWidgets import QDoubleSpinBox, QVBoxLayout, QWidget

from mivrat.core.base.numbers import with_bounds
from mivrat.core.figures.decision import Costs, costs
from mivrat.ui import words
from mivrat.ui.measure.threshold_curves import ThresholdCurves
from mivrat.ui.parts.late import Late
from mivrat.ui.parts.widgets import Scrolled, button, calm, label, row
from mivrat.ui.parts.wrapping import flowing
from mivrat.workspace import study_edits
from mivrat.workspace.workspace import Workspace


class ThresholdPage(QWidget):
    """A threshold, typed or dragged, with its reading and curves; what is adopted is kept in the study, and every figure follows."""

    def __init__(self, workspace: Workspace) -> None:
        super().__init__()
        self.workspace = workspace
        self._found: Costs | None = None
        self._second = np.zeros(0)
        self.threshold = 0.5
        self.told = label(wrap=True)
        self.typed = _field("threshold", 0.5, 1.0, 4)
        self.typed.setKeyboardTracking(False)
        self.typed.setSingleStep(0.01)
        self.typed.valueChanged.connect(self.move_to)
        self.curves = ThresholdCurves(self.move_to)
        self.false_alarm, self.miss = (self._cost(name) for name in ("a false alarm", "a miss"))
        self.shares = label(wrap=True)
        self.reading, self.least = label("", "heading", wrap=True), label(soft=True, wrap=True)
        self.adopt = button("Adopt this threshold", self._adopt, kind="primary")
        self.best = button("Go to the lowest cost", self._go_to_best)
        self.usual = button("Back to the more probable class", lambda: self._decide(None))
        body = QWidget()
        layout = QVBoxLayout(body)
        layout.setContentsMargins(0, 8, 0, 8)
        layout.setSpacing(12)
        layout.addWidget(self.told)
        layout.addLayout(row(label("threshold", soft=True), self.typed, None))
        layout.addWidget(self.reading)
        layout.addWidget(self.shares)
        layout.addWidget(self.curves, 1)
        self.legend = label(
            "Full line: recall. Broken line: precision. Below: the mean cost of an image.", soft=True, wrap=True
        )
        layout.addWidget(self.legend)
        priced = []
        for name, cost in (("a false alarm costs", self.false_alarm), ("a miss costs", self.miss)):
            pair = QWidget()
            pair.setLayout(row(label(name, soft=True), cost))
            priced.append(pair)
        layout.addLayout(flowing(*priced, spacing=12))
        layout.addWidget(self.least)
        layout.addLayout(flowing(self.adopt, self.best, self.usual, spacing=8))
        layout.addStretch(0)
        around = QVBoxLayout(self)
        around.setContentsMargins(0, 0, 0, 0)
        around.addWidget(Scrolled(body, wide=False))
        self._late = Late(self, self.refresh, workspace.topics.figures, workspace.topics.busy)

    def _cost(self, name: str) -> QDoubleSpinBox:
        made = _field(f"cost of {name}", 1.0, 1e6, 2)
        made.valueChanged.connect(lambda _: self.refresh())
        return made

    def move_to(self, threshold: float) -> None:
        """Look at another threshold."""
        self.threshold = threshold
        self._show_typed()
        self._read()

    def _show_typed(self) -> None:
        blocked = self.typed.blockSignals(True)
        self.typed.setValue(min(1.0, self.threshold))
        self.typed.blockSignals(blocked)

    def refresh(self) -> None:
        """Work the costs out anew (a sort of the images' probabilities)."""
        snapshot = self.workspace.shown.snapshot
        self._found = None
        if len(snapshot.record.classes) != 2:
            self.told.setText("A threshold is for models of two classes.")
        elif not snapshot.judged.has_scores or not snapshot.judged.evaluated.any():
            self.told.setText("A threshold needs labelled images with scores.")
        else:
            judged, classes = snapshot.judged, snapshot.record.classes
            use = np.flatnonzero(judged.evaluated)
            self._second = np.full(len(judged.labels), -1.0)  # those without a label or an answer are never called
            self._second[use] = judged.column(1, use)
            self._found = costs(self._second[use], judged.labels[use], self.false_alarm.value(), self.miss.value())
            now = snapshot.record.threshold
            kept = f"from {now:.3f} on" if now is not None else "where its probability is the higher"
            self.told.setText(
                f"An image is called {classes[1]} {kept}. A false alarm is {classes[0]} called {classes[1]}, a miss the other way."
            )
        for part in (self.typed, self.false_alarm, self.miss, self.best):
            part.setEnabled(self._found is not None)
        for act in (self.adopt, self.usual):
            act.setEnabled(self._found is not None and not self.workspace.busy)
        self._read()

    def _read(self) -> None:
        found = self._found
        self.curves.show_curves(found, self.threshold)
        for part in (self.curves, self.legend):
            part.setVisible(found is not None)
        if found is None:
            self.reading.setText("")
            self.shares.setText("")
            self.least.setText("")
            return
        at = found.place(self.threshold)
        second, judged = self.workspace.shown.classes[1], self.workspace.shown.judged
        called, labelled = self._second >= self.threshold, judged.evaluated & (judged.labels == 1)
        recall, precision = judged.share(called, labelled), judged.share(labelled, called)
        self.reading.setText(
            f"At {min(1.0, self.threshold):.3f}: {words.count(int(found.false_alarms[at]))} false alarms, "
            f"{words.count(int(found.missed[at]))} missed, mean cost {found.mean[at]:.4g} an image"
        )
        self.shares.setText(
            f"Recall of {second} {with_bounds(recall)}, N = {words.count(recall.total)}; "
            f"precision {with_bounds(precision)}, N = {words.count(precision.total)}"
        )
        self.least.setText(
            f"Least at {min(1.0, found.best):.3f}: {found.at(found.best):.4g} an image. Chosen on these same images: expect it to do a "
            "little worse on others."
        )

    def _go_to_best(self) -> None:
        if self._found is not None:
            self.move_to(self._found.best)  # exactly: between two that can be typed there may be many images

    def _adopt(self) -> None:
        self._decide(min(1.0, self.threshold))

    def _decide(self, threshold: float | None) -> None:
        snapshot = self.workspace.shown.snapshot
        if threshold != snapshot.record.threshold:
            self.workspace.edits.take(
                study_edits.set_threshold(snapshot.record.info.model_id, threshold, snapshot.record.threshold)
            )


def _field(name: str, value: float, most: float, decimals: int) -> QDoubleSpinBox:
    """A field for a number from 0 on."""
    made = QDoubleSpinBox()
    made.lineEdit().setTextMargins(7, 0, 4, 0)
    calm(made)
    made.setRange(0.0, most)
    made.setDecimals(decimals)
    made.setValue(value)
    made.setAccessibleName(name)
    made.setMinimumWidth(96)
    return made
