"""What each class adds to the difference between two sets, as bars to both sides of none: by its share of the images, and by being
recognised better or worse."""

from __future__ import annotations

import numpy as np
import pyqtgraph as pg
from PySide6.QtCore import QPointF, QRectF, QSize

from mivrat.core.base.numbers import percent, points, signed
from mivrat.core.figures.two_sets import TwoSets
from mivrat.core.selecting.selection import Labelled
from mivrat.ui import words
from mivrat.ui.parts.plot import Diagram, bars, line, pen
from mivrat.ui.parts.plot_area import PlotArea
from mivrat.ui.theme import mix, theme
from mivrat.workspace.workspace import Workspace

MOST, ROW, AXIS = 20, 24, 40


class DropDiagram(Diagram):
    """Its marks are the classes with the largest parts; they select the images labelled so."""

    def __init__(self, workspace: Workspace) -> None:
        super().__init__("what each class adds to the difference; arrow keys move over the classes, Enter selects")
        self.workspace = workspace
        self.classes: list[int] = []
        self.setMinimumWidth(260)
        self.plot = self.add(0, x=(-1, 1), y=(0, 1))
        workspace.topics.selection.connect(self.remark)

    @property
    def sets(self) -> TwoSets | None:
        compared = self.workspace.shown.compared if self.workspace.is_open else None
        return compared.found.sets if compared is not None else None

    def refresh(self) -> None:
        """Take over what is compared."""
        sets = self.sets
        if sets is not None:
            size = [abs(one.class_mix) + abs(one.within) for one in sets.drop.classes]
            order = sorted(range(len(size)), key=lambda k: (-size[k], k))[:MOST]
            self.classes = [k for k in order if size[k] > 0]
        self.setFixedHeight(AXIS + 24 + ROW * max(1, len(self.classes)))
        self.redraw()

    def sizeHint(self) -> QSize:
        return QSize(500, AXIS + 24 + ROW * max(1, len(self.classes)))

    def marks(self) -> int:
        return len(self.classes)

    def mark_rect(self, mark: int) -> QRectF:
        left, right = self.plot.viewRange()[0]
        top = len(self.classes) - mark
        return QRectF(self.place(self.plot, left, top), self.place(self.plot, right, top - 1))

    def mark_at(self, point: QPointF) -> int:
        at = len(self.classes) - self.numbers(self.plot, point).y()
        return int(at) if 0 <= at < len(self.classes) else -1

    def describe(self, mark: int) -> str:
        sets, compared = self.sets, self.workspace.shown.compared
        if sets is None or compared is None or not 0 <= mark < len(self.classes):
            return ""
        k = self.classes[mark]
        part, one = sets.drop.classes[k], sets.classes[k]
        return (
            f"{compared.found.classes[k]}: {points(part.class_mix)} by its share of the images ({one.support_a} of {sets.total_a}, {one.support_b} of {sets.total_b}), "
            f"{points(part.within)} by recall ({percent(one.recall.a)}, {percent(one.recall.b)})"
        )

    def select(self, mark: int, beside: bool, *, enter: bool = False) -> None:
        if 0 <= mark < len(self.classes):
            choose = self.workspace.shown.enter if enter else self.workspace.shown.choose
            choose(Labelled(frozenset({self.classes[mark]})), beside=beside)

    def draw(self) -> None:
        sets, compared = self.sets, self.workspace.shown.compared if self.workspace.is_open else None
        if sets is None or compared is None or not self.classes:
            return
        parts = [sets.drop.classes[k] for k in self.classes]
        mix_of, within = (np.array([getattr(one, name) for one in parts]) * 100 for name in ("class_mix", "within"))
        reach = max(1.0, float(np.abs(np.concatenate([mix_of, within])).max())) * 1.08
        count = len(parts)
        self.plot.setRange(xRange=(-reach, reach), yRange=(0, count), padding=0)
        names = [words.clipped(compared.found.classes[k], 20) for k in self.classes]
        self.plot.getAxis("left").setWidth(min(150, 16 + 7 * max(len(name) for name in names)))
        self.tick(self.plot, "left", [(count - i - 0.5, name) for i, name in enumerate(names)])
        step = next(s for s in (0.5, 1, 2, 5, 10, 20, 50, 100) if reach / s <= 5)
        ticks = np.arange(-np.floor(reach / step), np.floor(reach / step) + 1) * step
        self.tick(self.plot, "bottom", [(float(v), signed(float(v), 0 if step >= 1 else 1)) for v in ticks])
        self.name_axes(self.plot, "points of the difference", "")
        for v in ticks:
            self.plot.addItem(line([v, v], [0, count], pen("line")))
        middle = count - np.arange(count) - 0.5
        zero = np.zeros(count)
        sheet = theme.colour("sheet")
        for token, ends in (("wrong", (np.minimum(within, zero), zero)), ("accent", (zero, np.maximum(within, zero)))):
            self.plot.addItem(bars(ends[0], ends[1], middle, middle + 0.34, mix(sheet, theme.colour(token), 0.75)))
        self.plot.addItem(
            bars(np.minimum(mix_of, zero), np.maximum(mix_of, zero), middle - 0.34, middle, theme.colour("faint"))
        )
        self.plot.addItem(line([0, 0], [0, count], pen("soft", 1.2)))

    def chosen(self) -> list[tuple[PlotArea, pg.GraphicsObject]]:
        """A wash behind the classes selected."""
        if not self.workspace.is_open:
            return []
        chosen = {k for one in self.workspace.shown.conditions if isinstance(one, Labelled) for k in one.classes}
        left, right = self.plot.viewRange()[0]
        lines = [i for i, k in enumerate(self.classes) if k in chosen or (i == self.cursor and self.hasFocus())]
        if not lines:
            return []
        low = [float(len(self.classes) - i - 1) for i in lines]
        return [
            (
                self.plot,
                bars([left] * len(lines), [right] * len(lines), low, [v + 1 for v in low], theme.colour("accent_wash")),
            )
        ]
