"""The reliability diagram: accuracy against confidence, bin by bin, above the counts; a bin selects its images."""

from __future__ import annotations

import pyqtgraph as pg
from PySide6.QtCore import QPointF, QRectF, QSize, Qt

from mivrat.core.figures.calibration import Calibration, ReliabilityBin
from mivrat.core.selecting.selection import Confidence
from mivrat.ui import words
from mivrat.ui.parts.plot import BELOW, LEFT, Diagram, bars, dots, line, pen, text
from mivrat.ui.theme import mix, theme
from mivrat.workspace.workspace import Workspace

LARGEST, COUNTS = 460, 0.2
# A bin narrower than this many pixels has no room for its count.
ROOM_FOR_COUNT = 18


class ReliabilityDiagram(Diagram):
    """Its marks are the bins; ``of_class`` is the calibration of one class's probability where one is chosen."""

    def __init__(self, workspace: Workspace) -> None:
        super().__init__("reliability diagram; arrow keys move over the bins, Enter selects")
        self.workspace = workspace
        self.equal_count = self.with_temperature = False
        self.of_class: Calibration | None = None
        self.setMinimumSize(QSize(260, 260))
        self.shares, self.counts = self.add(0, x=(0, 1), y=(0, 1)), self.add(1, x=(0, 1), y=(0, 1))
        fifths = [tick / 5 for tick in range(6)]
        self.tick(self.shares, "left", [(v, f"{round(100 * v)} %") for v in fifths])
        self.tick(self.shares, "bottom", [(v, f"{v:.1f}") for v in fifths])
        self.counts.getAxis("bottom").setHeight(2)
        for side in ("left", "bottom"):
            self.tick(self.counts, side, [])
        workspace.topics.measured.connect(self.redraw)
        workspace.topics.compared.connect(self.redraw)
        workspace.topics.selection.connect(self.remark)

    @property
    def _calibration(self) -> Calibration:
        measured = self.workspace.shown.measured
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
        deep = self.workspace.shown.measured.deep
        if not self.with_temperature or self.of_class is not None or deep is None or deep.temperature is None:
            return None
        return deep.temperature.reliability_after

    def other(self) -> Calibration | None:
        """The calibration of the run held, where that is of the same images and in bins of equal width."""
        shown = self.workspace.shown
        compared = shown.compared
        if compared is None or compared.b_figures is None or self.of_class is not None or self.equal_count:
            return None
        return compared.b_figures.calibration if compared.of_selection == shown.measured.of_selection else None

    # --- its marks ---

    def marks(self) -> int:
        return len(self.bins())

    def bin_rect(self, m: int) -> QRectF:
        """The column of a bin in the upper diagram."""
        one = self.bins()[m]
        found = QRectF(self.place(self.shares, one.low, 1), self.place(self.shares, one.high, 0))
        return found if found.width() >= 2 else found.adjusted(0, 0, 2 - found.width(), 0)

    def mark_rect(self, mark: int) -> QRectF:
        return self.bin_rect(mark)

    def mark_at(self, point: QPointF) -> int:
        share = self.numbers(self.shares, point)
        inside = 0 <= share.x() <= 1 and share.y() <= 1 and self.numbers(self.counts, point).y() >= 0
        bins = self.bins() if self.workspace.is_open and inside else []
        return next((m for m, one in enumerate(bins) if one.low <= share.x() <= one.high), -1)

    def describe(self, mark: int) -> str:
        one = self.bins()[mark]
        head = f"confidence {one.low:.2f} – {one.high:.2f}: {words.images(one.count)}"
        if one.confidence is None:
            return head
        return f"{head}\nmean confidence {words.percent(one.confidence)}, right {words.with_bounds(one.accuracy)}"

    def select(self, mark: int, beside: bool, *, enter: bool = False) -> None:
        # Bins of one class's probability are not bins of confidence: there is nothing to select by.
        if self.of_class is None and 0 <= mark < self.marks():
            one = self.bins()[mark]
            choose = self.workspace.shown.enter if enter else self.workspace.shown.choose
            choose(Confidence(frozenset({(one.low, one.high)})), beside=beside)

    # --- drawing ---

    def lay_out(self) -> None:
        """Keep the upper plot square, so that perfect calibration is the diagonal."""
        counts = max(70.0, COUNTS * self.height())
        side = max(80.0, min(self.width() - LEFT - 20.0, self.height() - counts - BELOW - 20.0, LARGEST))
        grid = self.ci.layout
        grid.setColumnFixedWidth(0, side + LEFT)
        grid.setRowFixedHeight(0, side + BELOW)
        grid.setRowFixedHeight(1, counts)

    def draw(self) -> None:
        if not self.workspace.is_open:
            return
        of_class = self.of_class is not None
        self.name_axes(
            self.shares,
            "its probability" if of_class else "confidence",
            "share labelled so" if of_class else "accuracy",
        )
        told = "images" if of_class else "images, the wrong ones on top"
        self.counts.addItem(text(told, 0, 1.02, "soft", (0, 0)), ignoreBounds=True)
        grid = [share for share in (0.2, 0.4, 0.6, 0.8) for _ in range(2)]
        self.shares.addItem(line([0, 1] * 4, grid, pen("line"), pairs=True))
        self.shares.addItem(line([0, 1], [0, 1], pen("soft", 1, Qt.PenStyle.DashLine)))
        filled = [one for one in self.bins() if one.count and one.confidence is not None]
        if filled:
            self._draw_counts(filled)
            self._draw_shares(filled)
        if (after := self.after()) is not None:
            self._draw_after(after)
        if (other := self.other()) is not None:
            self._draw_other(other)

    def chosen(self) -> list[tuple[pg.PlotItem, pg.GraphicsObject]]:
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
        return [(plot, bars(*ends, *whole, theme.colour("accent_wash"))) for plot in (self.shares, self.counts)]

    def _draw_counts(self, filled: list[ReliabilityBin]) -> None:
        most = max(one.count for one in filled)
        width = self.bin_rect(0).width() if self.bins() else 0.0
        gap = 1 / max(1.0, self.place(self.shares, 1, 0).x() - self.place(self.shares, 0, 0).x())
        lefts, rights = [one.low + gap for one in filled], [one.high - gap for one in filled]
        # The room above the highest bar is for its count.
        heights = [0.82 * one.count / most for one in filled]
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
                self.counts.addItem(text(str(one.count), (one.low + one.high) / 2, height - 0.04), ignoreBounds=True)

    def _draw_shares(self, filled: list[ReliabilityBin]) -> None:
        x = [one.confidence or 0.0 for one in filled]
        y = [one.accuracy.value or 0.0 for one in filled]
        half = [min(0.013, (one.high - one.low) / 4) for one in filled]
        gap = mix(theme.colour("sheet"), theme.colour("wrong"), 0.45)
        lows, highs = [min(pair) for pair in zip(x, y, strict=True)], [max(pair) for pair in zip(x, y, strict=True)]
        lefts, rights = [a - h for a, h in zip(x, half, strict=True)], [a + h for a, h in zip(x, half, strict=True)]
        self.shares.addItem(bars(lefts, rights, lows, highs, gap))
        known = [(a, one.accuracy.low, one.accuracy.high) for a, one in zip(x, filled, strict=True)]
        ends = [(a, low, high) for a, low, high in known if low is not None and high is not None]
        across, upright = [a for a, _, _ in ends for _ in range(2)], [v for _, low, high in ends for v in (low, high)]
        if ends:
            self.shares.addItem(line(across, upright, pen("accent"), pairs=True))
        self.shares.addItem(dots(x, y, theme.colour("accent")))

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
        made = dots(x, y, theme.colour("second"), size=8)
        made.setSymbol("s")
        self.shares.addItem(made)
