"""The reliability diagram: accuracy against confidence, bin by bin, above the counts; a bin selects its images."""

from __future__ import annotations

import numpy as np
import pyqtgraph as pg
from PySide6.QtCore import QPointF, QRectF, QSize, Qt

from mivrat.core.base.numbers import percent, span, with_bounds
from mivrat.core.figures.calibration import Calibration, ReliabilityBin, beyond_chance, chance_bands
from mivrat.core.selecting.selection import Confidence
from mivrat.ui import words
from mivrat.ui.parts.plot import BELOW, Diagram, bars, dots, line, pen, text
from mivrat.ui.parts.plot_area import PlotArea
from mivrat.ui.theme import mix, theme
from mivrat.workspace.workspace import Workspace

# The part of the height that the counts have, and how high they are at least.
COUNTS, LEAST_FOR_COUNTS = 0.2, 64
# A bin narrower than this many pixels has no room for its count.
ROOM_FOR_COUNT = 18


class ReliabilityDiagram(Diagram):
    """Its marks are the bins; ``of_class`` is the calibration of one class's probability where one is chosen.

    Behind the points lies what chance allows a calibrated model; a point outside it is a diamond, hung on a broad bar from where
    it should stand. ``small`` leaves out counts, numbers and words.
    """

    def __init__(self, workspace: Workspace, *, small: bool = False) -> None:
        super().__init__("reliability diagram; arrow keys move over the bins, Enter selects")
        self.workspace, self.small = workspace, small
        self.equal_count = self.with_temperature = False
        self.of_class: Calibration | None = None
        self.shares = self.add(0, x=(0, 1), y=(-0.02, 1.03))  # room for whole dots at either end
        fifths = [tick / 5 for tick in range(6)]
        if small:
            self.setMinimumSize(QSize(90, 90))
            self.ci.layout.setContentsMargins(0, 0, 0, 0)
            for side in ("left", "bottom"):
                self.shares.hideAxis(side)
        else:
            self.setMinimumSize(QSize(260, 260))
            self.counts = self.add(1, x=(0, 1), y=(0, 1))
            self.tick(self.shares, "left", [(v, f"{round(100 * v)} %") for v in fifths])
            self.tick(self.counts, "bottom", [(v, f"{v:.1f}") for v in fifths])
            self.shares.getAxis("bottom").setHeight(4)
            self.tick(self.shares, "bottom", [])
            self.tick(self.counts, "left", [])
        workspace.topics.measured.connect(self.redraw)
        workspace.topics.compared.connect(self.redraw)
        workspace.topics.selection.connect(self.remark)

    @property
    def _calibration(self) -> Calibration:
        measured = self.workspace.shown.results.measured
        if self.of_class is not None:
            return self.of_class
        if self.equal_count and measured.deep is not None:
            return measured.deep.adaptive
        return measured.figures.calibration

    def bins(self) -> list[ReliabilityBin]:
        """The bins shown."""
        return self._calibration.bins

    def after(self) -> Calibration | None:
        """What is drawn over the bins: the reliability after temperature scaling, out of fold."""
        deep = self.workspace.shown.results.measured.deep
        if not self.with_temperature or self.of_class is not None or deep is None or deep.temperature is None:
            return None
        return deep.temperature.reliability_after

    def other(self) -> Calibration | None:
        """The calibration of the run held, where that is of the same images and in bins of equal width."""
        shown = self.workspace.shown
        compared = shown.compared
        if compared is None or compared.b_figures is None or self.of_class is not None or self.equal_count:
            return None
        return compared.b_figures.calibration if compared.of_selection == shown.results.measured.of_selection else None

    # --- its marks ---

    def marks(self) -> int:
        return len(self.bins()) if self.workspace.is_open else 0

    def bin_rect(self, m: int) -> QRectF:
        """The column of a bin in the upper diagram."""
        one = self.bins()[m]
        found = QRectF(self.place(self.shares, one.low, 1), self.place(self.shares, one.high, 0))
        return found if found.width() >= 2 else found.adjusted(0, 0, 2 - found.width(), 0)

    def mark_rect(self, mark: int) -> QRectF:
        return self.bin_rect(mark)

    def mark_at(self, point: QPointF) -> int:
        share = self.numbers(self.shares, point)
        lowest = self.numbers(self.shares if self.small else self.counts, point).y()
        inside = 0 <= share.x() <= 1 and share.y() <= 1 and lowest >= 0
        bins = self.bins() if self.workspace.is_open and inside else []
        return next((m for m, one in enumerate(bins) if one.low <= share.x() <= one.high), -1)

    def describe(self, mark: int) -> str:
        one = self.bins()[mark]
        head = f"confidence {one.low:.2f} – {one.high:.2f}: {words.images(one.count)}"
        if one.confidence is None:
            return head
        low, high = chance_bands([one])
        chance = "" if np.isnan(low[0]) else f"\nby chance {span(low[0], high[0])} % of them"
        return f"{head}\nmean confidence {percent(one.confidence)}, accuracy {with_bounds(one.accuracy)}{chance}"

    def select(self, mark: int, beside: bool, *, enter: bool = False) -> None:
        # Bins of one class's probability are not bins of confidence: there is nothing to select by.
        if self.of_class is None and 0 <= mark < self.marks():
            one = self.bins()[mark]
            choose = self.workspace.shown.enter if enter else self.workspace.shown.choose
            choose(Confidence(frozenset({(one.low, one.high)})), beside=beside)

    # --- drawing ---

    def lay_out(self) -> None:
        """Give the counts their part of the height, beneath on the same axis."""
        if not self.small:
            low = max(LEAST_FOR_COUNTS, round(COUNTS * self.height())) + BELOW
            self.ci.layout.setRowFixedHeight(0, max(80, self.height() - low - 12))
            self.ci.layout.setRowFixedHeight(1, low)

    def draw(self) -> None:
        if not self.workspace.is_open:
            return
        of_class = self.of_class is not None
        if not self.small:
            self.name_axes(self.counts, "its probability" if of_class else "confidence", "")
            self.name_axes(self.shares, "", "share labelled so" if of_class else "accuracy")
            self.shares.getAxis("bottom").setHeight(4)
            told = "images" if of_class else "images, the wrong ones on top"
            self.counts.addItem(text(told, 0, 1.02, "soft", (0, 0)), ignoreBounds=True)
            grid = [share for share in (0.2, 0.4, 0.6, 0.8) for _ in range(2)]
            self.shares.addItem(line([0, 1] * 4, grid, pen("line"), pairs=True))
        filled = [one for one in self.bins() if one.count and one.confidence is not None]
        self._draw_bands(filled)
        self.shares.addItem(line([0, 1], [0, 1], pen("soft", 1, Qt.PenStyle.DashLine)))
        if not self.small:
            self._name_sides()
        if filled:
            if not self.small:
                self._draw_counts(filled)
            self._draw_shares(filled)
        if (after := self.after()) is not None:
            self._draw_after(after)
        if (other := self.other()) is not None:
            self._draw_other(other)

    def chosen(self) -> list[tuple[PlotArea, pg.GraphicsObject]]:
        """A wash behind the bins."""
        if not self.workspace.is_open:
            return []
        chosen = {r for c in self.workspace.shown.conditions if isinstance(c, Confidence) for r in c.ranges}
        washed = [
            one
            for m, one in enumerate(self.bins())
            if (one.low, one.high) in chosen or (m == self.cursor and self.hasFocus())
        ]
        if not washed:
            return []
        ends = [one.low for one in washed], [one.high for one in washed]
        whole = [0] * len(washed), [1] * len(washed)
        plots = (self.shares,) if self.small else (self.shares, self.counts)
        return [(plot, bars(*ends, *whole, theme.colour("accent_wash"))) for plot in plots]

    def _name_sides(self) -> None:
        """Which side of the diagonal means what, so that nobody has to work it out."""
        for word, x, y, anchor in (
            ("underconfident ↖", 0.02, 0.98, (0.0, 0.0)),
            ("overconfident ↘", 0.98, 0.02, (1.0, 1.0)),
        ):
            self.shares.addItem(text(word, x, y, "soft", anchor), ignoreBounds=True)

    def _draw_bands(self, filled: list[ReliabilityBin]) -> None:
        """What chance allows a calibrated model in each bin."""
        bands = zip(filled, *chance_bands(filled), strict=True)
        known = [(one.low, one.high, a, b) for one, a, b in bands if not np.isnan(a)]
        if known:
            wash = mix(theme.colour("sheet"), theme.colour("line"), 0.6)
            lefts, rights, lows, highs = np.array(known).T
            self.shares.addItem(bars(lefts, rights, lows, highs, wash))

    def _draw_counts(self, filled: list[ReliabilityBin]) -> None:
        most = max(one.count for one in filled)
        width = self.bin_rect(0).width() if self.bins() else 0.0
        gap = 1 / max(1.0, self.place(self.shares, 1, 0).x() - self.place(self.shares, 0, 0).x())
        lefts, rights = [one.low + gap for one in filled], [one.high - gap for one in filled]
        # The room above the highest bar is for its count.
        heights = [0.74 * one.count / most for one in filled]
        wrong = [
            h * (one.count - one.accuracy.hits) / one.count if self.of_class is None else 0.0
            for h, one in zip(heights, filled, strict=True)
        ]
        sheet = theme.colour("sheet")
        accent, mistaken = mix(sheet, theme.colour("accent"), 0.55), mix(sheet, theme.colour("wrong"), 0.6)
        self.counts.addItem(bars(lefts, rights, [0] * len(filled), heights, accent))
        starts = [h - w for h, w in zip(heights, wrong, strict=True)]
        self.counts.addItem(bars(lefts, rights, starts, heights, mistaken))
        for one, height in zip(filled, heights, strict=True):
            wide = width if not self.equal_count else (one.high - one.low) / gap
            if wide >= ROOM_FOR_COUNT:
                told = text(words.count(one.count), (one.low + one.high) / 2, height - 0.06)
                self.counts.addItem(told, ignoreBounds=True)

    def _draw_shares(self, filled: list[ReliabilityBin]) -> None:
        x = np.array([one.confidence for one in filled], float)
        y = np.array([one.accuracy.value for one in filled], float)
        half = np.array([min(0.013, (one.high - one.low) / 4) for one in filled])
        beyond = beyond_chance(filled)
        ends = np.array([(one.accuracy.low, one.accuracy.high) for one in filled], float)
        sheet = theme.colour("sheet")
        for some, token, strength in (
            (beyond == 0, "soft", 0.3),
            (beyond < 0, "wrong", 0.55),
            (beyond > 0, "look", 0.55),
        ):
            if some.any():
                fill = mix(sheet, theme.colour(token), strength)
                sides = (x - half)[some], (x + half)[some], np.minimum(x, y)[some], np.maximum(x, y)[some]
                self.shares.addItem(bars(*sides, fill))
        known = ~np.isnan(ends[:, 0])
        if known.any() and not self.small:
            self.shares.addItem(line(np.repeat(x[known], 2), ends[known].ravel(), pen("ink"), pairs=True))
        for some, token, symbol, size in (
            (beyond == 0, "accent", "o", 7),
            (beyond < 0, "wrong", "d", 10),
            (beyond > 0, "look", "d", 10),
        ):
            if some.any():
                made = dots(x[some], y[some], theme.colour(token), size=size if not self.small else size - 1)
                made.setSymbol(symbol)
                self.shares.addItem(made)

    def _draw_after(self, after: Calibration) -> None:
        """Rings joined by a line, so that they cannot be taken for the points before."""
        found = [b for b in after.bins if b.confidence is not None and b.accuracy.value is not None]
        x, y = [b.confidence or 0.0 for b in found], [b.accuracy.value or 0.0 for b in found]
        self.shares.addItem(line(x, y, pen("ink", 1.5)))
        self.shares.addItem(dots(x, y, theme.colour("sheet"), pen("ink", 1.5)))

    def _draw_other(self, other: Calibration) -> None:
        """Squares on their intervals, in plum."""
        found = [b for b in other.bins if b.confidence is not None and b.accuracy.value is not None]
        x, y = [b.confidence or 0.0 for b in found], [b.accuracy.value or 0.0 for b in found]
        ends = [(b.confidence, b.accuracy.low, b.accuracy.high) for b in found if b.accuracy.low is not None]
        if ends:
            across, upright = (
                [a for a, _, _ in ends for _ in range(2)],
                [v for _, low, high in ends for v in (low, high)],
            )
            self.shares.addItem(line(across, upright, pen("second"), pairs=True))  # type: ignore[arg-type]
        made = dots(x, y, theme.colour("second"), size=6 if self.small else 8)
        made.setSymbol("s")
        self.shares.addItem(made)
