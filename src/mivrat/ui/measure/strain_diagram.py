"""Accuracy against level, a small plot for each kind of distortion; a point selects the images that flip there."""

from __future__ import annotations

from collections.abc import Callable

import pyqtgraph as pg
from PySide6.QtCore import QPointF, QRectF, Qt

from mivrat.core.base.numbers import percent, with_bounds
from mivrat.core.base.text import minus
from mivrat.core.checks.result import in_words
from mivrat.core.pictures.distorting.kinds import BY_KEY, given_in_words, kind_in_words
from mivrat.core.straining.curves import StrainCurve, StrainFigures, StrainLevel
from mivrat.ui import words
from mivrat.ui.parts.plot import Diagram, dots, line, pen
from mivrat.ui.parts.plot_area import PlotArea
from mivrat.ui.theme import theme

ACROSS, HIGH = 2, 168


class StrainDiagram(Diagram):
    """Its marks are the levels of all kinds, in the order of the plots."""

    def __init__(self, choose: Callable[[StrainLevel, bool], object]) -> None:
        super().__init__("accuracy against level, a plot for each kind; arrow keys move over the levels")
        self.found: StrainFigures | None = None
        self.other: StrainFigures | None = None
        self._choose = choose
        self.add(0, x=(0, 1), y=(0, 1))

    def show_figures(self, found: StrainFigures | None, other: StrainFigures | None = None) -> None:
        """Show these curves, and those of another run with them."""
        self.found, self.other, self.cursor = found, other, -1
        number = len(found.curves) if found is not None else 0
        while len(self.plots) < number:
            self.add(len(self.plots) // ACROSS, len(self.plots) % ACROSS, x=(0, 1), y=(0, 1))
        lines = -(-number // ACROSS)
        self.setFixedHeight(HIGH * lines + 8 if lines else 0)
        self.lay_out()
        self.redraw()

    def lay_out(self) -> None:
        number = len(self.found.curves) if self.found is not None else 0
        grid = self.ci.layout
        for at, plot in enumerate(self.plots):
            plot.setVisible(at < number)
        for column in range(min(ACROSS, len(self.plots))):
            grid.setColumnFixedWidth(column, max(0.0, (self.width() - 16) / ACROSS))
        for at in range(-(-len(self.plots) // ACROSS)):
            grid.setRowFixedHeight(at, HIGH - 6 if at * ACROSS < number else 0)

    def _points(self) -> list[tuple[PlotArea, StrainCurve, StrainLevel, int]]:
        """Each level with its plot and its place across, in the order of the marks."""
        if self.found is None:
            return []
        found = []
        for plot, curve in zip(self.plots, self.found.curves, strict=False):
            found += [(plot, curve, one, _place(curve, one)) for one in curve.levels]
        return found

    def marks(self) -> int:
        return len(self._points())

    def mark_at(self, point: QPointF) -> int:
        best, least = -1, 18.0
        for at, (plot, _, one, x) in enumerate(self._points()):
            if one.accuracy.value is not None:
                away = self.place(plot, x, one.accuracy.value) - point
                distance = (away.x() ** 2 + away.y() ** 2) ** 0.5
                if distance < least:
                    best, least = at, distance
        return best

    def mark_rect(self, mark: int) -> QRectF:
        plot, _, one, x = self._points()[mark]
        middle = self.place(plot, x, one.accuracy.value or 0.0)
        return QRectF(middle.x() - 6, middle.y() - 6, 12, 12)

    def describe(self, mark: int) -> str:
        _, curve, one, _ = self._points()[mark]
        return told_of(curve, one)

    def select(self, mark: int, beside: bool, *, enter: bool = False) -> None:
        if 0 <= mark < self.marks():
            self._choose(self._points()[mark][2], enter)

    def draw(self) -> None:
        found = self.found
        if found is None:
            return
        untouched = found.untouched.value
        every = [*found.levels, *(self.other.levels if self.other is not None else ())]
        values = [v for one in every for v in (one.accuracy.low, one.accuracy.value, one.confidence) if v is not None]
        low = max(0.0, min([*values, untouched if untouched is not None else 1.0]) - 0.05)
        ticks = [v for v in (0.0, 0.25, 0.5, 0.75, 1.0) if v >= low]
        for plot, curve in zip(self.plots, found.curves, strict=False):
            self._draw_curve(plot, curve, found, low, ticks)
            other = (
                next((one for one in self.other.curves if one.spelled == curve.spelled), None) if self.other else None
            )
            if self.other is not None and other is not None:
                self._draw_other(plot, curve, other, self.other)

    def _draw_curve(
        self, plot: PlotArea, curve: StrainCurve, found: StrainFigures, low: float, ticks: list[float]
    ) -> None:
        kind, steps = BY_KEY[curve.kind], _steps(curve)
        last = len(steps) - 1
        plot.setRange(xRange=(-0.4, last + 0.4), yRange=(low, 1.0), padding=0.02)
        plot.setTitle(f"{kind_in_words(curve.kind, curve.given)}, {kind.unit}", color=theme.tokens.ink, size="11px")
        self.tick(plot, "left", [(v, percent(v, 0)) for v in ticks])
        self.tick(plot, "bottom", [(x, minus(f"{level:g}")) for x, level in enumerate(steps)])
        plot.addItem(
            line([-0.4, last + 0.4] * len(ticks), [v for v in ticks for _ in range(2)], pen("line"), pairs=True)
        )
        origin = steps.index(0.0)
        if found.untouched.value is not None:
            plot.addItem(line([-0.4, last + 0.4], [found.untouched.value] * 2, pen("faint", 1, Qt.PenStyle.DashLine)))
        points = sorted(
            [
                (float(origin), found.untouched.value, found.confidence),
                *((float(_place(curve, one)), one.accuracy.value, one.confidence) for one in curve.levels),
            ]
        )
        sure = [(x, c) for x, _, c in points if c is not None]
        if sure:
            plot.addItem(line([x for x, _ in sure], [c for _, c in sure], pen("soft", 1.2, Qt.PenStyle.DotLine)))
        right = [(x, v) for x, v, _ in points if v is not None]
        plot.addItem(line([x for x, _ in right], [v for _, v in right], pen("accent", 1.6)))
        for one in curve.levels:
            ends = one.accuracy.low, one.accuracy.high
            if ends[0] is not None and ends[1] is not None:
                plot.addItem(line([_place(curve, one)] * 2, [ends[0], ends[1]], pen("ink", 1.4)))
        for broken in (False, True):
            some = [one for one in curve.levels if one.lower == broken and one.accuracy.value is not None]
            if some:
                at = [float(_place(curve, one)) for one in some]
                up = [one.accuracy.value or 0.0 for one in some]
                drawn = dots(at, up, theme.colour("wrong" if broken else "accent"), size=9 if broken else 8)
                drawn.setSymbol("d" if broken else "o")
                plot.addItem(drawn)

    def _draw_other(self, plot: PlotArea, curve: StrainCurve, other: StrainCurve, figures: StrainFigures) -> None:
        """The accuracy of the run held, as squares in its colour, with its intervals."""
        points = [(float(_steps(curve).index(0.0)), figures.untouched)]
        points += [(float(_place(curve, one)), one.accuracy) for one in other.levels]
        there = sorted((x, one.value, one.low, one.high) for x, one in points if one.value is not None)
        plot.addItem(line([x for x, *_ in there], [v for _, v, *_ in there], pen("second", 1.6)))
        for x, _, low, high in there:
            if low is not None and high is not None:
                plot.addItem(line([x + 0.06] * 2, [low, high], pen("second", 1.2)))
        drawn = dots([x for x, *_ in there], [v for _, v, *_ in there], theme.colour("second"), size=7)
        drawn.setSymbol("s")
        plot.addItem(drawn)

    def chosen(self) -> list[tuple[PlotArea, pg.GraphicsObject]]:
        """A ring where the keys have come to."""
        points = self._points()
        if not (0 <= self.cursor < len(points) and self.hasFocus()):
            return []
        plot, _, one, x = points[self.cursor]
        ring = dots([float(x)], [one.accuracy.value or 0.0], theme.colour("sheet"), pen("accent", 2), 16)
        return [(plot, ring)]


def _steps(curve: StrainCurve) -> list[float]:
    """The levels of a plot from left to right, untouched (0) in its place among them."""
    below = [one.strain.level for one in curve.levels if one.strain.level < 0]
    above = [one.strain.level for one in curve.levels if one.strain.level > 0]
    return [*below, 0.0, *above]


def _place(curve: StrainCurve, one: StrainLevel) -> int:
    return _steps(curve).index(one.strain.level)


def told_of(curve: StrainCurve, one: StrainLevel) -> str:
    """A level in words."""
    kind = BY_KEY[curve.kind]
    told = [f"{kind.name} {minus(f'{one.strain.level:g}')} ({kind.unit}){given_in_words(curve.given)}"]
    if one.accuracy.value is not None:
        told.append(f"{with_bounds(one.accuracy)}, N = {words.count(one.accuracy.total)}")
        told.append(f"{one.fixed} fixed, {one.broken} broken; p {in_words(one.p_holm)} against untouched (Holm)")
    if one.changed.value is not None:
        told.append(f"{percent(one.changed.value)} of {words.count(one.changed.total)} answers changed")
    if one.confidence is not None:
        told.append(f"mean confidence {percent(one.confidence)}")
    return "\n".join(told)
