"""Accuracy against coverage: a threshold that can be dragged reads out how much is answered, and how right that is."""

from __future__ import annotations

from collections.abc import Sequence
from typing import ClassVar

import numpy as np
import pyqtgraph as pg
from PySide6.QtCore import QPointF, QRectF, QSize, Qt
from PySide6.QtWidgets import QSizePolicy, QVBoxLayout, QWidget

from mivrat.core.base.numbers import decimal, percent, with_bounds
from mivrat.core.figures.selective import Selective
from mivrat.core.selecting.selection import Confidence
from mivrat.ui import words
from mivrat.ui.parts.late import Late
from mivrat.ui.parts.plot import DraggedDiagram, dots, line, pen
from mivrat.ui.parts.plot_area import PlotArea
from mivrat.ui.parts.widgets import button, label, row
from mivrat.ui.theme import theme
from mivrat.workspace.workspace import Workspace

# The accuracy of so few answers jumps about too much to be drawn.
STEADY, MOST_POINTS = 20, 600


class CoverageCurve(DraggedDiagram):
    """The curve with its threshold; drag it, or move it with the arrow keys."""

    # To the right more is answered, at a lower threshold.
    steps: ClassVar[dict[Qt.Key, float]] = {Qt.Key.Key_Left: 0.01, Qt.Key.Key_Right: -0.01}

    def __init__(self, page: Coverage) -> None:
        super().__init__("accuracy against coverage; arrow keys move the threshold")
        self._page = page
        self.found: Selective | None = None
        self.setMinimumSize(QSize(260, 220))
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Expanding)
        self.setCursor(Qt.CursorShape.SizeHorCursor)
        self.plot = self.add(0, 0, x=(0, 1), y=(0, 1))
        self.tick(self.plot, "bottom", [(k / 5, f"{20 * k} %") for k in range(6)])

    def show_curve(self, found: Selective | None) -> None:
        """Draw another curve, or the threshold of the same one anew."""
        if found is self.found:
            self.remark()
        else:
            self.found = found
            self.redraw()

    def area(self) -> QRectF:
        """Where coverage from 0 to 1 stands in the widget, from the lowest accuracy drawn to 1."""
        return QRectF(self.place(self.plot, 0, 1), self.place(self.plot, 1, self._least()))

    def _least(self) -> float:
        """The lowest accuracy drawn, a multiple of ten percent below all of the curve."""
        found = self.found
        if found is None:
            return 0.0
        shares = found.hits / np.maximum(found.answered, 1)
        steady = shares[found.answered >= min(STEADY, found.total)]
        return max(0.0, np.floor(float(steady.min()) * 10 - 0.3) / 10) if len(steady) else 0.0

    def draw(self) -> None:
        found = self.found
        if found is None or not found.total:
            return
        least = self._least()
        self.plot.setYRange(least, 1.0, padding=0.03)
        shares = [least + k / 10 for k in range(round((1 - least) * 10) + 1)]
        self.tick(self.plot, "left", [(share, percent(share, 0)) for share in shares])
        self.name_axes(self.plot, "images answered, most confident first", "share of them right")
        grid = np.repeat(shares, 2)
        self.plot.addItem(line(np.tile([0.0, 1.0], len(shares)), grid, pen("line"), pairs=True))
        some = np.unique(np.linspace(0, len(found.answered) - 1, MOST_POINTS).astype(int))
        some = some[found.answered[some] >= min(STEADY, found.total)]
        answered, hits = found.answered[some], found.hits[some]
        other = self._page.other
        if other is not None and other.total:
            points = np.unique(np.linspace(0, len(other.answered) - 1, MOST_POINTS).astype(int))
            points = points[other.answered[points] >= min(STEADY, other.total)]
            shares_of = other.hits[points] / other.answered[points]
            self.plot.addItem(
                line(other.answered[points] / other.total, np.maximum(least, shares_of), pen("second", 1.6))
            )
        self.plot.addItem(line(answered / found.total, hits / answered, pen("accent", 2)))

    def chosen(self) -> Sequence[tuple[PlotArea, pg.GraphicsObject]]:
        found = self.found
        if found is None or not found.total:
            return ()
        share = found.at(self._page.threshold)
        if share.value is None or share.low is None or share.high is None:
            return ()
        least, at = self._least(), share.total / found.total
        upright = pen("accent", 2) if self.hasFocus() else pen("ink")
        drawn = (
            line([at, at], [least, 1.0], upright),
            line([at, at], [max(least, share.low), max(least, share.high)], pen("ink", 4)),
            dots([at], [max(least, share.value)], theme.colour("ink"), size=10),
        )
        return [(self.plot, item) for item in drawn]

    def drag(self, point: QPointF) -> None:
        found = self.found
        if found is not None and found.total:
            wanted = min(1.0, max(0.0, self.numbers(self.plot, point).x())) * found.total
            i = min(len(found.answered) - 1, int(np.searchsorted(found.answered, wanted)))
            self._page.set_threshold(float(found.thresholds[i]))

    def shift(self, by: float) -> None:
        self._page.set_threshold(min(1.0, max(0.0, self._page.threshold + by)))


class Coverage(QWidget):
    """The curve under its reading, with the lowest thresholds for usual targets."""

    def __init__(self, workspace: Workspace) -> None:
        super().__init__()
        self.workspace, self.threshold = workspace, 0.5
        self.reading = label("", "heading", wrap=True)
        self.targets = label(soft=True, wrap=True)
        self.curve = CoverageCurve(self)
        self.pick = button("Show those below the threshold", self._pick, kind="small")
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 4, 0, 0)
        layout.addWidget(self.reading)
        layout.addWidget(self.targets)
        layout.addWidget(self.curve, 1)
        layout.addLayout(row(self.pick, None))
        self._late = Late(self, self.refresh, workspace.topics.measured, workspace.topics.compared)
        workspace.topics.compared.connect(self.curve.redraw)

    @property
    def other(self) -> Selective | None:
        """The curve of the run held, where that is of the same images."""
        shown = self.workspace.shown
        if shown.compared is None or shown.compared.of_selection != shown.results.measured.of_selection:
            return None
        return shown.compared.b_selective

    def _held_in_words(self) -> str:
        held = self.workspace.shown.held
        return f" Plum: {words.clipped(held.names.b, 40)}." if self.other is not None and held is not None else ""

    @property
    def selective(self) -> Selective | None:
        measured = self.workspace.shown.results.measured
        return measured.deep.selective if measured.deep is not None else None

    def set_threshold(self, threshold: float) -> None:
        """Answer only where confidence is at least this."""
        self.threshold = threshold
        self.refresh()

    def refresh(self) -> None:
        found = self.selective
        self.pick.setEnabled(found is not None and bool(found.total))
        if found is None or not found.total:
            self.reading.setText("Being computed …" if found is None else "No labelled image has been scored yet.")
            self.targets.setText("")
            self.curve.show_curve(found)
            return
        share = found.at(self.threshold)
        answered = share.total / found.total
        right = f"right {with_bounds(share)}" if share.total else "none"
        self.reading.setText(
            f"At {self.threshold:.2f}: answers {percent(answered)} of {words.images(found.total)}, {right}"
        )
        texts = []
        for target in (0.9, 0.95, 0.99):
            reached = found.lowest_for(target)
            text = (
                "no threshold"
                if reached is None
                else f"from {reached[0]:.3f} on ({percent(reached[1].total / found.total)})"
            )
            texts.append(f"at least {percent(target, 0)} right: {text}")
        self.targets.setText(
            f"{'; '.join(texts)}. The guarantee fails in at most 5 % of studies. Area under risk and coverage {decimal(found.aurc)}.{self._held_in_words()}"
        )
        self.curve.show_curve(found)

    def _pick(self) -> None:
        self.workspace.shown.choose(Confidence(frozenset({(0.0, float(np.nextafter(self.threshold, 0)))})))
