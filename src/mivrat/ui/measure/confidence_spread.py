"""How sure the model is when it is right, and when it is wrong: two distributions of confidence on one axis."""

from __future__ import annotations

from math import log10

import numpy as np
import pyqtgraph as pg
from numpy.typing import NDArray
from PySide6.QtCore import QPointF, QRectF, QSize, Qt

from mivrat.core.figures.spread import BINS, Spread, spread
from mivrat.core.selecting.selection import Confidence, Outcome
from mivrat.ui import words
from mivrat.ui.parts.late import Late
from mivrat.ui.parts.plot import Diagram, bars, line, pen, text
from mivrat.ui.parts.plot_area import PlotArea
from mivrat.ui.theme import mix, theme
from mivrat.workspace.workspace import Workspace


class ConfidenceSpread(Diagram):
    """Right answers above the line, wrong ones below; its marks are the bars. What is measured is ``counted``, or ``show_spread``
    gives what is shown; a bar selects only in the first case."""

    def __init__(self, workspace: Workspace, *, small: bool = False, counted: bool = True) -> None:
        super().__init__("confidence of right and wrong answers; arrow keys move over the bars, Enter selects")
        self.workspace, self.small, self.counted = workspace, small, counted
        self.found: Spread | None = None
        self.setMinimumSize(QSize(140, 90) if small else QSize(260, 220))
        self.plot = self.add(0, x=(0, 1), y=(-1, 1))
        self.tick(self.plot, "bottom", [(k / 5, f"{k / 5:.1f}") for k in range(6)])
        if small:
            self.plot.hideAxis("left")
            self.ci.layout.setContentsMargins(6, 0, 6, 0)
            self.plot.getAxis("bottom").setHeight(18)
        if counted:
            Late(self, self.renew, workspace.topics.measured)
        workspace.topics.selection.connect(self.remark)

    def renew(self) -> None:
        """Count what is measured now."""
        if not self.workspace.is_open:
            return
        judged, among = self.workspace.shown.judged, self.workspace.shown.results.measured.among
        use = judged.evaluated_among(among)
        self.show_spread(spread(judged.confidence[use], judged.right[use]))

    def show_spread(self, found: Spread) -> None:
        """Show a distribution."""
        self.found, self.cursor = found, -1
        self.redraw()

    # --- its marks: the bars that are not empty, from left to right, right answers before wrong ones ---

    def bars(self) -> list[tuple[int, bool]]:
        """Bin and whether it is the right answers' bar."""
        found = self.found
        if found is None:
            return []
        return [
            (m, of_right)
            for m in range(BINS)
            for of_right, counts in ((True, found.right), (False, found.wrong))
            if counts[m]
        ]

    def marks(self) -> int:
        return len(self.bars())

    def mark_at(self, point: QPointF) -> int:
        at = self.numbers(self.plot, point)
        m = min(BINS - 1, max(0, int(np.ceil(at.x() * BINS)) - 1))
        every = self.bars()
        inside = 0 <= at.x() <= 1 and (m, at.y() >= 0) in every
        return every.index((m, at.y() >= 0)) if inside else -1

    def mark_rect(self, mark: int) -> QRectF:
        m, of_right = self.bars()[mark]
        ends = self.plot.viewRange()[1]
        top, bottom = (ends[1], 0.0) if of_right else (0.0, ends[0])
        return QRectF(self.place(self.plot, m / BINS, top), self.place(self.plot, (m + 1) / BINS, bottom))

    def describe(self, mark: int) -> str:
        m, of_right = self.bars()[mark]
        found = self.found
        assert found is not None
        counts = found.right if of_right else found.wrong
        return (
            f"{'right' if of_right else 'wrong'}, confidence {m / BINS:.3f} – {(m + 1) / BINS:.3f}: "
            f"{words.count(int(counts[m]))} of {words.count(int(counts.sum()))}"
        )

    def select(self, mark: int, beside: bool, *, enter: bool = False) -> None:
        if 0 <= mark < self.marks() and self.counted:
            m, of_right = self.bars()[mark]
            choose = self.workspace.shown.enter if enter else self.workspace.shown.choose
            which = Outcome(frozenset({"right" if of_right else "wrong"}))
            choose(Confidence(frozenset({(m / BINS, (m + 1) / BINS)})), which, beside=beside)

    def chosen(self) -> list[tuple[PlotArea, pg.GraphicsObject]]:
        """A wash behind the bars of the confidences in force, and the one that keys have come to."""
        if not self.workspace.is_open:
            return []
        ranges = (
            set()
            if not self.counted
            else {r for c in self.workspace.shown.conditions if isinstance(c, Confidence) for r in c.ranges}
        )
        low, high = self.plot.viewRange()[1]
        washed = [
            (m, of_right)
            for mark, (m, of_right) in enumerate(self.bars())
            if (m / BINS, (m + 1) / BINS) in ranges or (mark == self.cursor and self.hasFocus())
        ]
        if not washed:
            return []
        lefts, rights = [m / BINS for m, _ in washed], [(m + 1) / BINS for m, _ in washed]
        lows, highs = [0.0 if up else low for _, up in washed], [high if up else 0.0 for _, up in washed]
        return [(self.plot, bars(lefts, rights, lows, highs, theme.colour("accent_wash")))]

    # --- drawing ---

    def _height(self, counts: NDArray[np.int64]) -> NDArray[np.float64]:
        found = self.found
        assert found is not None
        return np.log10(1.0 + counts) if found.logarithmic else counts.astype(float)

    def draw(self) -> None:
        found = self.found
        if found is None or not (found.right.sum() + found.wrong.sum()):
            return
        up, down = self._height(found.right), self._height(found.wrong)
        # Each side has as much room as it takes, and a fifth of the whole at least, for its words.
        most = max(float(up.max()), float(down.max()))
        top, bottom = max(float(up.max()), 0.25 * most) * 1.2, max(float(down.max()), 0.25 * most) * 1.2
        self.plot.setYRange(-bottom, top, padding=0)
        if not self.small:
            self.name_axes(self.plot, "confidence", "images, log scale" if found.logarithmic else "images")
            ticks = self._ticks(top) + [(-at, told) for at, told in self._ticks(bottom) if at]
            self.tick(self.plot, "left", ticks)
            self.plot.addItem(line([0, 1] * len(ticks), np.repeat([at for at, _ in ticks], 2), pen("line"), pairs=True))
        sheet, gap = theme.colour("sheet"), 0.06 / BINS
        lefts = np.arange(BINS) / BINS + gap
        rights = lefts + 1 / BINS - 2 * gap
        for heights, sign, token in ((up, 1, "accent"), (down, -1, "wrong")):
            some = heights > 0
            if some.any():
                zero, ends = np.zeros(int(some.sum())), sign * heights[some]
                fill = mix(sheet, theme.colour(token), 0.75)
                self.plot.addItem(bars(lefts[some], rights[some], np.minimum(zero, ends), np.maximum(zero, ends), fill))
        self.plot.addItem(line([0, 1], [0, 0], pen("ink")))
        for which, counts, median, at, anchor, token in (
            ("right", found.right, found.medians[0], top, (0, 0), "accent"),
            ("wrong", found.wrong, found.medians[1], -bottom, (0, 1), "wrong"),
        ):
            number = words.count(int(counts.sum()))
            told = f"{which} {number}" if self.small else f"{which}: N = {number}"
            if median is not None:
                told += "" if self.small else f", median {median:.2f}"
                self.plot.addItem(line([median] * 2, [0, at], pen(token, 1.4, Qt.PenStyle.DashLine)))
            self.plot.addItem(text(told, 0.0, at, token, anchor), ignoreBounds=True)

    def _ticks(self, most: float) -> list[tuple[float, str]]:
        """Round counts up to ``most``, which is a height: three or four of them."""
        found = self.found
        assert found is not None
        if found.logarithmic:
            counts = [10**k for k in range(int(most) + 1)]
            return [(0.0, "0"), *((log10(1 + n), words.count(n)) for n in counts if log10(1 + n) <= most)]
        step = 10 ** int(log10(max(1.0, most)))
        step = next(s for s in (step // 5, step // 2, step, 2 * step, 5 * step) if s >= 1 and most / s <= 4)
        return [(float(n), words.count(n)) for n in range(0, int(most) + 1, step)]
