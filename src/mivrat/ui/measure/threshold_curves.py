"""What every threshold does, drawn: precision and recall of the second class above, the mean cost below; drag the line to move it."""

from __future__ import annotations

from collections.abc import Callable, Sequence

import numpy as np
import pyqtgraph as pg
from PySide6.QtCore import QPointF, QSize, Qt
from PySide6.QtWidgets import QSizePolicy

from mivrat.core.figures.decision import Costs
from mivrat.ui.parts.plot import DraggedDiagram, line, pen, text
from mivrat.ui.parts.plot_area import PlotArea

POINTS = 401


class ThresholdCurves(DraggedDiagram):
    """Curves over the threshold from 0 to 1; precision is drawn as far as anything is called so."""

    def __init__(self, moved: Callable[[float], None]) -> None:
        super().__init__("precision, recall and cost against the threshold; arrow keys move it")
        self._moved = moved
        self.found: Costs | None = None
        self.threshold = 0.5
        self.setMinimumSize(QSize(260, 260))
        self.setMaximumHeight(360)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Expanding)
        self.setCursor(Qt.CursorShape.SizeHorCursor)
        self.shares, self.cost = self.add(0, x=(0, 1), y=(0, 1)), self.add(1, x=(0, 1), y=(0, 1))

        for plot in (self.shares, self.cost):
            plot.getAxis("left").enableAutoSIPrefix(False)
            plot.getAxis("left").setWidth(58)

    def show_curves(self, found: Costs | None, threshold: float) -> None:
        """Draw other curves, or the threshold of the same ones anew."""
        self.threshold = threshold
        if found is self.found:
            self.remark()
        else:
            self.found = found
            self.redraw()

    def lay_out(self) -> None:
        self.ci.layout.setRowStretchFactor(0, 3)
        self.ci.layout.setRowStretchFactor(1, 2)

    def draw(self) -> None:
        found = self.found
        if found is None:
            return
        at = np.linspace(0, 1, POINTS)
        place = np.minimum(np.searchsorted(found.thresholds, at), len(found.mean) - 1)
        hits, called = found.positives - found.missed[place], found.called[place]
        for plot in (self.shares, self.cost):
            self.tick(plot, "bottom", [(k / 5, f"{k / 5:.1f}") for k in range(6)])
        self.tick(self.shares, "left", [(k / 4, f"{25 * k} %") for k in range(5)])
        self.shares.setYRange(0, 1, padding=0.03)
        for share in (0.0, 0.25, 0.5, 0.75, 1.0):
            self.shares.addItem(line([0, 1], [share, share], pen("line")))
        if found.positives:
            self.shares.addItem(line(at, hits / found.positives, pen("accent", 2)))
        some = called > 0
        self.shares.addItem(line(at[some], hits[some] / called[some], pen("ink", 2, Qt.PenStyle.DashLine)))
        most = max(float(found.mean[place].max()), 1e-12)
        self.cost.setYRange(0, most, padding=0.05)
        self.tick(self.cost, "left", [(0.0, "0"), (most / 2, f"{most / 2:.3g}"), (most, f"{most:.3g}")])
        self.cost.addItem(line(at, found.mean[place], pen("wrong", 2)))
        best = min(1.0, found.best)
        self.cost.addItem(line([best, best], [0, most], pen("wrong", 1, Qt.PenStyle.DotLine)))
        self.cost.addItem(text("least", best, most, "wrong", (0.0 if best < 0.8 else 1.0, 0.0)), ignoreBounds=True)
        self.name_axes(self.shares, "", "precision, recall")
        self.name_axes(self.cost, "threshold", "mean cost")

    def chosen(self) -> Sequence[tuple[PlotArea, pg.GraphicsObject]]:
        if self.found is None:
            return ()
        x = min(1.0, self.threshold)
        ink = pen("accent", 2) if self.hasFocus() else pen("ink")
        high = self.cost.viewRange()[1][1]
        return [(self.shares, line([x, x], [0, 1], ink)), (self.cost, line([x, x], [0, high], ink))]

    def drag(self, point: QPointF) -> None:
        if self.found is not None:
            self._moved(min(1.0, max(0.0, self.numbers(self.shares, point).x())))

    def shift(self, by: float) -> None:
        self._moved(min(1.0, max(0.0, self.threshold + by)))
