"""Shares with their intervals as rows on one scale: a point on a bar for each, between its name and its numbers."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import TypeVar

import pyqtgraph as pg
from PySide6.QtCore import QPointF, QRectF, QSize, Qt
from PySide6.QtGui import QMouseEvent
from PySide6.QtWidgets import QGridLayout, QLabel, QSizePolicy, QWidget

from mivrat.core.base.numbers import percent
from mivrat.core.selecting.selection import Condition
from mivrat.ui import words
from mivrat.ui.parts.plot import Diagram, bars, dots, line, pen, text
from mivrat.ui.parts.plot_area import PlotArea
from mivrat.ui.parts.widgets import Elided, label, set_role, tip
from mivrat.ui.theme import font, theme
from mivrat.workspace.workspace import Workspace

ROW, SCALE = 23, 20
# What stands for a mark: whatever is asked is an upright stroke, what was claimed a dashed one.
ASKED, CLAIMED = "asked", "claimed"
_Label = TypeVar("_Label", bound=QLabel)


@dataclass(frozen=True)
class IntervalRow:
    """One share, with the ends of its interval where it has one.

    ``shown`` and ``beside`` are what stands left and right of it, ``about`` what it says of itself. ``warned`` draws it as a
    diamond in the colour of what is wrong. ``other`` is the same share of the run held; ``marks`` are places on its scale.
    """

    name: str
    value: float
    low: float | None
    high: float | None
    shown: str = ""
    beside: str = ""
    about: str = ""
    warned: bool = False
    conditions: tuple[Condition, ...] = ()
    other: float | None = None
    marks: tuple[tuple[float, str], ...] = ()


class IntervalBars(Diagram):
    """The bars of the rows; its marks are the rows."""

    backward, forward = Qt.Key.Key_Up, Qt.Key.Key_Down
    ground = ""

    def __init__(self, workspace: Workspace, name: str, scaled: bool) -> None:
        super().__init__(f"{name}; up and down move over the rows, Enter selects")
        self.workspace = workspace
        self.rows: Sequence[IntervalRow] = ()
        self.scale = 0.0, 1.0
        self._scaled = scaled
        self.ci.layout.setContentsMargins(0, 0, 0, 0)
        self.plot = self.add(0, x=(0, 1), y=(0, 1))
        self.plot.layout.setContentsMargins(0, 0, 0, 0)
        self.plot.invertY(True)
        for side in ("left", "bottom"):
            self.plot.hideAxis(side)
        if scaled:
            self.plot.showAxis("top")
            axis = self.plot.getAxis("top")
            axis.setHeight(SCALE)
            axis.setStyle(tickFont=font(11), tickLength=0, hideOverlappingLabels=False)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self.setMinimumWidth(140 if scaled else 38)
        workspace.topics.selection.connect(self.remark)

    def show_rows(self, rows: Sequence[IntervalRow], scale: tuple[float, float]) -> None:
        self.rows, self.scale, self.cursor = rows, scale, min(self.cursor, len(rows) - 1)
        self.setFixedHeight((SCALE if self._scaled else 0) + ROW * max(1, len(rows)))
        self.redraw()

    def marks(self) -> int:
        return len(self.rows)

    def mark_rect(self, mark: int) -> QRectF:
        return QRectF(0, (SCALE if self._scaled else 0) + ROW * mark, self.width(), ROW)

    def mark_at(self, point: QPointF) -> int:
        found = int((point.y() - (SCALE if self._scaled else 0)) // ROW)
        return found if 0 <= found < len(self.rows) else -1

    def describe(self, mark: int) -> str:
        return self.rows[mark].about

    def select(self, mark: int, beside: bool, *, enter: bool = False) -> None:
        if 0 <= mark < len(self.rows) and self.rows[mark].conditions:
            choose = self.workspace.shown.enter if enter else self.workspace.shown.choose
            choose(*self.rows[mark].conditions, beside=beside)

    def chosen(self) -> list[tuple[PlotArea, pg.GraphicsObject]]:
        """A wash behind the rows that are in force, and the one that keys have come to."""
        if not self.workspace.is_open:
            return []
        inside = self.workspace.shown.conditions
        on = [
            m
            for m, one in enumerate(self.rows)
            if (one.conditions and all(c in inside for c in one.conditions)) or (m == self.cursor and self.hasFocus())
        ]
        low, high = self.scale
        wash = theme.colour("accent_wash")
        return [(self.plot, bars([low] * len(on), [high] * len(on), on, [m + 1 for m in on], wash))] if on else []

    def draw(self) -> None:
        low, high = self.scale
        # A point, and a number, at either end of the scale is drawn whole.
        beyond = 20 if self._scaled else 6
        edge = beyond * (high - low) / max(20, self.width() - 2 * beyond)
        self.plot.setRange(xRange=(low - edge, high + edge), yRange=(0, max(1, len(self.rows))), padding=0)
        step = 0.1 if high - low <= 0.45 else 0.2
        ticks = [k * step for k in range(round(1 / step) + 1) if low - 1e-9 <= k * step <= high + 1e-9]
        if self._scaled:
            self.tick(self.plot, "top", [(at, percent(at, 0)) for at in ticks])
            upright = [at for at in ticks for _ in range(2)]
            self.plot.addItem(line(upright, [0, len(self.rows)] * len(ticks), pen("line"), pairs=True))
        else:
            rows = [m + 0.5 for m in range(len(self.rows)) for _ in range(2)]
            self.plot.addItem(line([low, high] * len(self.rows), rows, pen("line"), pairs=True))
        self._draw_shares()
        self._draw_marks()

    def _draw_shares(self) -> None:
        low, high = self.scale
        ends = [
            (m + 0.5, max(low, one.low), one.high)
            for m, one in enumerate(self.rows)
            if one.low is not None and one.high is not None and one.high > low
        ]
        if ends:
            across, upright = [v for _, a, b in ends for v in (a, b)], [y for y, _, _ in ends for _ in range(2)]
            self.plot.addItem(line(across, upright, pen("ink", 2.4), pairs=True))
        for warned, token in ((False, "accent"), (True, "wrong")):
            points = [
                (one.value, m + 0.5) for m, one in enumerate(self.rows) if one.warned is warned and one.value >= low
            ]
            if points:
                made = dots(
                    [x for x, _ in points], [y for _, y in points], theme.colour(token), size=10 if warned else 9
                )
                made.setSymbol("d" if warned else "o")
                self.plot.addItem(made)
        held = [(max(low, one.other), m + 0.82) for m, one in enumerate(self.rows) if one.other is not None]
        if held:
            made = dots([x for x, _ in held], [y for _, y in held], theme.colour("second"), size=7)
            made.setSymbol("s")
            self.plot.addItem(made)
        for m, one in enumerate(self.rows):
            if one.value < low:
                made = dots([low], [m + 0.5], theme.colour("wrong" if one.warned else "accent"), size=9)
                made.setSymbol("t3")
                self.plot.addItem(made)
                after = max(low, one.high if one.high is not None else low) + 0.03 * (high - low)
                told = text("below this scale", after, m + 0.5, "soft", (0, 0.5))
                self.plot.addItem(told, ignoreBounds=True)

    def _draw_marks(self) -> None:
        low, _ = self.scale
        for kind, ink in ((ASKED, pen("wrong", 1.6)), (CLAIMED, pen("ink", 1.4, Qt.PenStyle.DashLine))):
            found = [(max(low, at), m) for m, one in enumerate(self.rows) for at, which in one.marks if which == kind]
            if found:
                across = [at for at, _ in found for _ in range(2)]
                self.plot.addItem(line(across, [y for _, m in found for y in (m + 0.06, m + 0.94)], ink, pairs=True))


class IntervalRows(QWidget):
    """Rows with their names and numbers; a click anywhere on a row selects what it stands for."""

    def __init__(self, workspace: Workspace, name: str, *, scaled: bool = False, names: int = 0) -> None:
        """``scaled`` puts a scale above; ``names`` is the width of the names, else they take what they need."""
        super().__init__()
        self.bars = IntervalBars(workspace, name, scaled)
        self._names, self._values, self._besides = list[Elided](), list[QLabel](), list[QLabel]()
        self._scaled, self._width, self._below = scaled, names, 0
        self._grid = QGridLayout(self)
        self._grid.setContentsMargins(0, 0, 0, 0)
        self._grid.setVerticalSpacing(0)
        self._grid.setHorizontalSpacing(8)
        self._grid.setColumnStretch(2, 1)
        if names:
            self._grid.setColumnMinimumWidth(0, names)
            self._grid.setColumnStretch(0, 1)
        if scaled:
            self._grid.setRowMinimumHeight(0, SCALE)

    def show_rows(self, rows: Sequence[IntervalRow], scale: tuple[float, float]) -> None:
        first = 1 if self._scaled else 0
        self._grid.removeWidget(self.bars)
        self._grid.addWidget(self.bars, 0, 2, first + max(1, len(rows)), 1)
        # Beside longer rows the room that is left stays below, so that names and bars keep to one line.
        self._grid.setRowStretch(self._below, 0)
        self._below = first + max(1, len(rows))
        self._grid.setRowStretch(self._below, 1)
        right = Qt.AlignmentFlag.AlignRight
        self._fit(self._names, len(rows), 0, lambda: Elided(mode=Qt.TextElideMode.ElideMiddle))
        self._fit(self._values, len(rows), 1, label, right)
        self._fit(self._besides, len(rows), 3, lambda: label(soft=True), right)
        mode = words.elided_by([one.name for one in rows])
        for one, name, value, beside in zip(rows, self._names, self._values, self._besides, strict=True):
            name.whole = one.about
            name.cut_by(mode)
            name.set_text(one.name)
            value.setText(one.shown)
            beside.setText(one.beside)
            set_role(value, "heading" if self._scaled else "")
            for shown in (value, beside):
                shown.setVisible(bool(shown.text()))
                tip(shown, one.about)
        if not self._width:
            width = max((name.fontMetrics().horizontalAdvance(name.full_text) + 6 for name in self._names), default=0)
            self._grid.setColumnMinimumWidth(0, min(200, width))
        self.bars.show_rows(rows, scale)

    def _fit(
        self,
        kept: list[_Label],
        wanted: int,
        column: int,
        make: Callable[[], _Label],
        side: Qt.AlignmentFlag | None = None,
    ) -> None:
        while len(kept) > wanted:
            gone = kept.pop()
            self._grid.removeWidget(gone)
            gone.hide()
            gone.deleteLater()
        while len(kept) < wanted:
            made = make()
            made.setFixedHeight(ROW)
            self._grid.addWidget(made, len(kept) + (1 if self._scaled else 0), column)
            if side is not None:
                made.setAlignment(side | Qt.AlignmentFlag.AlignVCenter)
            kept.append(made)

    def mousePressEvent(self, event: QMouseEvent) -> None:
        mark = self.bars.mark_at(self.bars.mapFrom(self, event.position()))
        if event.button() == Qt.MouseButton.LeftButton and mark >= 0:
            self.bars.select(mark, bool(event.modifiers() & Qt.KeyboardModifier.ControlModifier))

    def sizeHint(self) -> QSize:
        return QSize(200, super().sizeHint().height())


def scale_from(least: float) -> tuple[float, float]:
    """A scale of shares that ends at 1 and begins at the tens below ``least``, 20 points long at least."""
    return max(0.0, min(0.8, int(10 * least + 1e-9) / 10)), 1.0
