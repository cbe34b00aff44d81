"""Deletion and insertion curves: the maps' own against the spread of random orders."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
import pyqtgraph as pg
from numpy.typing import NDArray
from PySide6.QtCore import QPointF, QRectF, QSize
from PySide6.QtWidgets import QSizePolicy

from mivrat.core.base.numbers import percent
from mivrat.core.heatmaps.faithfulness import Faithfulness
from mivrat.ui.parts.plot import Diagram, dots, line, pen
from mivrat.ui.parts.plot_area import PlotArea
from mivrat.ui.theme import theme

TITLES = {"deletion": "deletion: hottest removed first", "insertion": "insertion: hottest restored first"}


class CurveDiagram(Diagram):
    """One of the two curves: the mean over the images, and the range of the random orders' means; its marks are the steps."""

    def __init__(self, which: str) -> None:
        super().__init__(f"{which} curve; arrow keys move over the steps")
        self.which = which
        self.own: NDArray[np.float64] | None = None
        self.low: NDArray[np.float64] = np.zeros(0)
        self.high: NDArray[np.float64] = np.zeros(0)
        self.shares: NDArray[np.float64] = np.zeros(0)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self.setFixedHeight(204)
        self.setMinimumWidth(180)
        self.ci.layout.setContentsMargins(0, 4, 18, 0)
        self.plot = self.add(0, x=(0, 1), y=(0, 1))
        self.tick(self.plot, "left", [(v, f"{v:g}") for v in (0.0, 0.5, 1.0)])
        self.tick(self.plot, "bottom", [(v, percent(v, None)) for v in (0.0, 0.5, 1.0)])

    def show_curves(self, faithful: Sequence[Faithfulness]) -> None:
        self.own, self.cursor = None, -1
        if faithful:
            self.shares = faithful[0].shares
            own = self.own = np.mean([getattr(one, self.which) for one in faithful], axis=0)
            random = np.mean([getattr(one, f"random_{self.which}") for one in faithful], axis=0)
            self.low, self.high = random.min(axis=0), random.max(axis=0)
            self.setAccessibleName(
                f"{self.which} curve: from {own[0]:.2f} over {own[len(own) // 2]:.2f} at half to {own[-1]:.2f}; "
                "arrow keys move over the steps"
            )
        self.redraw()

    def sizeHint(self) -> QSize:
        return QSize(240, 204)

    def marks(self) -> int:
        return 0 if self.own is None else len(self.own)

    def mark_at(self, point: QPointF) -> int:
        at = self.numbers(self.plot, point)
        if self.own is None or not (-0.02 <= at.x() <= 1.02 and 0 <= at.y() <= 1):
            return -1
        return int(np.abs(self.shares - at.x()).argmin())

    def mark_rect(self, mark: int) -> QRectF:
        top, foot = (self.place(self.plot, float(self.shares[mark]), y) for y in (1.0, 0.0))
        return QRectF(top, foot).adjusted(-2, 0, 2, 0)

    def describe(self, mark: int) -> str:
        assert self.own is not None
        return (
            f"{percent(self.shares[mark], 0)} of the area: mean p(target) {self.own[mark]:.3f}; "
            f"random orders {self.low[mark]:.3f} – {self.high[mark]:.3f}"
        )

    def chosen(self) -> list[tuple[PlotArea, pg.GraphicsObject]]:
        if self.own is None or self.cursor < 0 or not self.hasFocus():
            return []
        at = float(self.shares[self.cursor])
        return [(self.plot, line([at, at], [0, 1], pen("line", 2)))]

    def draw(self) -> None:
        self.plot.setTitle(TITLES[self.which], color=theme.tokens.ink, size="12px", bold=True)
        self.name_axes(self.plot, "share of the area", "mean p(target)")
        self.plot.addItem(line([0, 1], [0.5, 0.5], pen("line"), pairs=True))
        if self.own is None:
            return
        # What chance does may lie at 0 or 1, and so may what is not drawn beyond.
        low, high, own = (np.clip(v, 0.0, 1.0) for v in (self.low, self.high, self.own))
        edges = [line(self.shares, v, pen("faint", 1)) for v in (low, high)]
        self.plot.addItem(pg.FillBetweenItem(*edges, brush=theme.colour("faint")))
        self.plot.addItem(line(self.shares, own, pen("accent", 2.2)))
        self.plot.addItem(dots(self.shares[[0, -1]], own[[0, -1]], theme.colour("accent"), size=6))
