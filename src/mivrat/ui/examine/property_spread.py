"""How one number of the images is spread among right and among wrong ones; a bar, or a stretch of them, selects its images."""

from __future__ import annotations

import math

import numpy as np
import pyqtgraph as pg
from numpy.typing import NDArray
from PySide6.QtCore import QPointF, QRectF, QSize, Qt
from PySide6.QtGui import QKeyEvent, QMouseEvent

from mivrat.core.selecting.measures import number_text
from mivrat.core.selecting.ranges import InRange, range_text
from mivrat.ui import words
from mivrat.ui.parts.plot import Diagram, bars, line, pen, text
from mivrat.ui.parts.plot_area import PlotArea
from mivrat.ui.theme import mix, theme
from mivrat.workspace.workspace import Workspace

BINS = 24


class PropertySpread(Diagram):
    """Shares of the right images above the line, of the wrong ones below, so that few can be held against many; its marks are the bins
    that hold any image."""

    def __init__(self, workspace: Workspace) -> None:
        super().__init__(
            "a property of right and wrong images; arrow keys move over the bars, Shift widens, Enter selects"
        )
        self.workspace, self.name = workspace, ""
        self.counts: tuple[NDArray[np.int64], NDArray[np.int64]] | None = None
        self.edges = np.zeros(BINS + 1)
        self._from = -1
        self.setMinimumSize(QSize(240, 190))
        self.setFixedHeight(210)
        self.plot = self.add(0, x=(0, BINS), y=(-1, 1))
        self.plot.getAxis("left").enableAutoSIPrefix(False)
        workspace.topics.selection.connect(self.remark)

    def show_property(self, name: str) -> None:
        """Show a number of the evaluated images; an empty name: none."""
        self.name, self.cursor, self._from, self.counts = name, -1, -1, None
        shown = self.workspace.shown
        if name and shown.measures.has(name):
            judged, values = shown.judged, shown.measures.of(name)
            use = judged.evaluated & np.isfinite(values)
            if use.any():
                low, high = float(values[use].min()), float(values[use].max())
                self.edges = np.linspace(low, high if high > low else low + 1, BINS + 1)
                right, wrong = (self._binned(values[use & which]) for which in (judged.right, judged.wrong))
                self.counts = right, wrong
        self.redraw()

    def _binned(self, values: NDArray[np.float64]) -> NDArray[np.int64]:
        """Bins hold what is above their low end up to their high one, as ranges do; the lowest value is in the first."""
        at = np.clip(np.searchsorted(self.edges, values, "left") - 1, 0, BINS - 1)
        return np.bincount(at, minlength=BINS)

    # --- its marks ---

    def bins(self) -> list[int]:
        if self.counts is None:
            return []
        return np.flatnonzero(self.counts[0] + self.counts[1]).tolist()

    def marks(self) -> int:
        return len(self.bins())

    def mark_at(self, point: QPointF) -> int:
        x, every = self.numbers(self.plot, point).x(), self.bins()
        return every.index(int(x)) if 0 <= x < BINS and int(x) in every else -1

    def mark_rect(self, mark: int) -> QRectF:
        m, (low, high) = self.bins()[mark], self.plot.viewRange()[1]
        return QRectF(self.place(self.plot, m, high), self.place(self.plot, m + 1, low))

    def range_of(self, first: int, last: int) -> tuple[float, float]:
        """The range of a stretch of bins; without an end where it reaches the first or the last."""
        low = -math.inf if first == 0 else float(self.edges[first])
        return low, math.inf if last == BINS - 1 else float(self.edges[last + 1])

    def describe(self, mark: int) -> str:
        assert self.counts is not None
        m = self.bins()[mark]
        right, wrong = (int(one[m]) for one in self.counts)
        return f"{self.name} {range_text(self.name, *self.range_of(m, m))}: {words.count(right)} right, {words.count(wrong)} wrong"

    def select(self, mark: int, beside: bool, *, enter: bool = False) -> None:
        every = self.bins()
        if 0 <= mark < len(every):
            first = every[self._from] if 0 <= self._from < len(every) else every[mark]
            ends = sorted((first, every[mark]))
            condition = InRange(self.name, frozenset({self.range_of(*ends)}), self.workspace.shown.measures)
            choose = self.workspace.shown.enter if enter else self.workspace.shown.choose
            choose(condition, beside=beside)
        self._from = -1

    def mousePressEvent(self, event: QMouseEvent) -> None:
        if event.button() == Qt.MouseButton.LeftButton:
            self.setFocus(Qt.FocusReason.MouseFocusReason)
            self.cursor = self._from = self.mark_at(event.position())
            self.remark()

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        if event.buttons() & Qt.MouseButton.LeftButton and self._from >= 0:
            self.cursor = self._nearest(event.position())
            self.remark()

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        if event.button() == Qt.MouseButton.LeftButton and self._from >= 0:
            self.cursor = self._nearest(event.position())
            self.select(self.cursor, bool(event.modifiers() & Qt.KeyboardModifier.ControlModifier))
            self.remark()

    def _nearest(self, point: QPointF) -> int:
        x, every = self.numbers(self.plot, point).x(), self.bins()
        return int(np.argmin([abs(m + 0.5 - x) for m in every]))

    def keyPressEvent(self, event: QKeyEvent) -> None:
        if event.key() in (self.backward, self.forward):
            widen = bool(event.modifiers() & Qt.KeyboardModifier.ShiftModifier)
            self._from = (self._from if self._from >= 0 else self.cursor) if widen else -1
        super().keyPressEvent(event)

    def chosen(self) -> list[tuple[PlotArea, pg.GraphicsObject]]:
        """A wash behind what is selected, and behind where keys or the mouse have come to."""
        if not self.workspace.is_open or self.counts is None:
            return []
        bottom, top = self.plot.viewRange()[1]
        found = []
        for one in self.workspace.shown.conditions:
            if isinstance(one, InRange) and one.name == self.name:
                for low, high in one.ranges:
                    ends = [float(np.interp(end, self.edges, np.arange(BINS + 1))) for end in (low, high)]
                    found.append((max(0.0, ends[0]), min(float(BINS), ends[1])))
        every = self.bins()
        if 0 <= self.cursor < len(every) and self.hasFocus():
            begin = self._from if 0 <= self._from < len(every) else self.cursor
            first, last = sorted((every[begin], every[self.cursor]))
            found.append((float(first), float(last + 1)))
        if not found:
            return []
        lefts, rights = zip(*found, strict=True)
        wash = bars(lefts, rights, [bottom] * len(found), [top] * len(found), theme.colour("accent_wash"))
        return [(self.plot, wash)]

    def draw(self) -> None:
        if self.counts is None:
            return
        up, down = (one / max(1, one.sum()) for one in self.counts)
        top, bottom = max(float(up.max()), 0.02) * 1.25, max(float(down.max()), 0.02) * 1.25
        self.plot.setYRange(-bottom, top, padding=0)
        self.name_axes(self.plot, self._unit_name(), "share of each")
        shares = [round(f * s, 4) for s, f in ((-bottom / 1.25, 1.0), (top / 1.25, 1.0))]
        self.tick(
            self.plot,
            "left",
            [(shares[0], f"{-100 * shares[0]:.0f} %"), (0, "0"), (shares[1], f"{100 * shares[1]:.0f} %")],
        )
        ticks = [0, BINS // 4, BINS // 2, 3 * BINS // 4, BINS]
        self.tick(self.plot, "bottom", [(m, number_text(self.name, float(self.edges[m])).split(" ")[0]) for m in ticks])
        sheet, at = theme.colour("sheet"), np.arange(BINS)
        for heights, sign, token in ((up, 1, "accent"), (down, -1, "wrong")):
            some = heights > 0
            if some.any():
                zero, ends = np.zeros(int(some.sum())), sign * heights[some]
                fill = mix(sheet, theme.colour(token), 0.75)
                self.plot.addItem(
                    bars(at[some] + 0.06, at[some] + 0.94, np.minimum(zero, ends), np.maximum(zero, ends), fill)
                )
        self.plot.addItem(line([0, BINS], [0, 0], pen("ink")))
        for which, counts, y, anchor, token in (
            ("right", self.counts[0], top, (0, 0), "accent"),
            ("wrong", self.counts[1], -bottom, (0, 1), "wrong"),
        ):
            self.plot.addItem(
                text(f"{which}: N = {words.count(int(counts.sum()))}", 0.0, y, token, anchor), ignoreBounds=True
            )

    def _unit_name(self) -> str:
        unit = number_text(self.name, 1.0).partition(" ")[2]
        return f"{self.name}, {unit}" if unit else self.name
