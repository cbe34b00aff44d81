"""The ROC and precision-recall curves of one class, with the point where the model's own answers stand."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from PySide6.QtCore import QSize
from PySide6.QtWidgets import QSizePolicy

from mivrat.core.figures.ranked import Curves, auroc_ends, average_precision_ends, curves, of_class
from mivrat.core.running.snapshot import Snapshot
from mivrat.ui.parts.plot import BELOW, LEFT, Diagram, dots, line, pen
from mivrat.ui.theme import theme


@dataclass(frozen=True)
class ClassCurves:
    """Both curves of one class with their areas, and the point where the model's own answers stand."""

    k: int
    images: int
    total: int
    curves: Curves
    auroc: float | None
    average_precision: float | None
    auroc_ends: tuple[float, float] | None
    average_precision_ends: tuple[float, float] | None
    false_positive_rate: float | None
    recall: float | None
    precision: float | None
    of_selection: bool


def curves_of(snapshot: Snapshot, k: int, among: NDArray[np.bool_] | None = None) -> ClassCurves:
    """The curves of a class over the evaluated images that ``among`` marks, or all of them (slow for large runs)."""
    judged = snapshot.judged
    use = np.flatnonzero(judged.evaluated_among(among))
    column, positive, called = judged.column(k, use), judged.labels[use] == k, judged.predicted[use] == k
    hits, others = int((called & positive).sum()), int((~positive).sum())
    of, number = of_class(column, np.flatnonzero(positive), 1), int(positive.sum())
    together = judged.units is not None  # over units no interval is known
    return ClassCurves(
        k,
        number,
        len(use),
        curves(column, positive),
        of.auroc,
        of.average_precision,
        None if together else auroc_ends(of.auroc, of.spread, number, len(use) - number),
        None if together else average_precision_ends(of.average_precision, number, len(use) - number),
        (int(called.sum()) - hits) / others if others else None,
        hits / int(positive.sum()) if positive.any() else None,
        hits / int(called.sum()) if called.any() else None,
        among is not None,
    )


class CurvesPanel(Diagram):
    """The two curves side by side; a dot marks where the model's own answers stand."""

    def __init__(self) -> None:
        super().__init__("ROC and precision-recall curves of the class selected")
        self.found: ClassCurves | None = None
        self.setMinimumSize(QSize(240, 150))
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self.roc, self.recall = self.add(0, 0, x=(0, 1), y=(0, 1)), self.add(0, 1, x=(0, 1), y=(0, 1))
        for plot in (self.roc, self.recall):
            for side in ("left", "bottom"):
                self.tick(plot, side, [(v, f"{v:g}") for v in (0, 0.5, 1)])

    def show_curves(self, found: ClassCurves | None) -> None:
        self.found = found
        self.redraw()

    def sizeHint(self) -> QSize:
        return QSize(330, 200)

    def lay_out(self) -> None:
        side = max(60.0, min(self.height() - BELOW - 14.0, self.width() / 2 - LEFT - 14.0))
        for column in range(2):
            self.ci.layout.setColumnFixedWidth(column, side + LEFT)
        self.ci.layout.setRowFixedHeight(0, side + BELOW)

    def draw(self) -> None:
        found = self.found
        if found is None or not len(found.curves.recall):
            return
        self.name_axes(self.roc, "false positive rate", "recall")
        self.name_axes(self.recall, "recall", "precision")
        of = found.curves
        self.roc.addItem(
            line(np.concatenate([[0.0], of.false_positive_rate]), np.concatenate([[0.0], of.recall]), pen("accent", 2))
        )
        self.recall.addItem(line(of.recall, of.precision, pen("accent", 2)))
        for plot, x, y in (
            (self.roc, found.false_positive_rate, found.recall),
            (self.recall, found.recall, found.precision),
        ):
            if x is not None and y is not None:
                plot.addItem(dots([x], [y], theme.colour("ink")))
