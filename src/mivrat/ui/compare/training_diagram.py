"""The curves of a training log: losses above, accuracies below; the best epoch, where the gap opens, and the held-out accuracy."""

from __future__ import annotations

import numpy as np
import pyqtgraph as pg
from PySide6.QtCore import QPointF, QRectF, Qt

from mivrat.core.base.numbers import percent
from mivrat.core.comparing.training import Training, smoothed
from mivrat.core.figures.intervals import Proportion
from mivrat.ui import words
from mivrat.ui.parts.plot import Diagram, line, pen, text
from mivrat.ui.parts.plot_area import PlotArea

LOSSES, RIGHT = ("training_loss", "validation_loss"), ("training_accuracy", "validation_accuracy")
INK = {
    "training_loss": "soft",
    "validation_loss": "accent",
    "training_accuracy": "soft",
    "validation_accuracy": "accent",
}


class TrainingDiagram(Diagram):
    """Its marks are the epochs or steps; keys move over them and tell their values."""

    def __init__(self) -> None:
        super().__init__("training curves; arrow keys move over the epochs or steps")
        self.setMinimumSize(260, 300)
        self.found: Training | None = None
        self.window = 1
        self.held_out: tuple[str, Proportion] | None = None
        self.losses, self.right = self.add(0, x=(0, 1), y=(0, 1)), self.add(1, x=(0, 1), y=(0, 1))
        self._cross: pg.PlotCurveItem | None = None

    def show_curves(self, found: Training | None, window: int, held_out: tuple[str, Proportion] | None) -> None:
        """Show these, smoothed over so many points; ``held_out`` is the run's accuracy, drawn across."""
        self.found, self.window, self.held_out = found, window, held_out
        self.cursor = -1
        self.redraw()

    def marks(self) -> int:
        return len(self.found.step) if self.found is not None else 0

    def _plots(self) -> list[tuple[PlotArea, tuple[str, ...]]]:
        return [(self.losses, LOSSES), (self.right, RIGHT)]

    def mark_at(self, point: QPointF) -> int:
        if self.found is None or not len(self.found.step):
            return -1
        x = self.numbers(self.losses if self._has(LOSSES) else self.right, point).x()
        step = self.found.step
        return int(np.abs(step - x).argmin()) if step[0] <= x <= step[-1] else -1

    def mark_rect(self, mark: int) -> QRectF:
        assert self.found is not None
        plot = self.losses if self._has(LOSSES) else self.right
        low, high = plot.viewRange()[1]
        x = float(self.found.step[mark])
        return QRectF(self.place(plot, x, high), self.place(plot, x, low)).adjusted(-2, 0, 2, 0)

    def describe(self, mark: int) -> str:
        assert self.found is not None
        told = [f"at {self.found.step[mark]:g}"]
        for name, values in self.found.curves.items():
            if np.isfinite(values[mark]):
                value = percent(values[mark]) if name.endswith("accuracy") else f"{values[mark]:.4g}"
                told.append(f"{name.replace('_', ' ')} {value}")
        return "\n".join(told)

    def _has(self, names: tuple[str, ...]) -> bool:
        return self.found is not None and any(name in self.found.curves for name in names)

    def lay_out(self) -> None:
        shown = [plot for plot, names in self._plots() if self._has(names)]
        for plot, _ in self._plots():
            plot.setVisible(plot in shown)
        grid = self.ci.layout
        for place, (plot, _) in enumerate(self._plots()):
            room = (self.height() - 24) / max(1, len(shown)) if plot in shown else 0.0
            grid.setRowFixedHeight(place, max(0.0, room))

    def draw(self) -> None:
        self.lay_out()
        found = self.found
        if found is None or not len(found.step):
            return
        first, last = float(found.step[0]), float(found.step[-1])
        for plot, names in self._plots():
            some = {name: found.curves[name] for name in names if name in found.curves}
            if some:
                self._draw_plot(plot, some, found.step, first, last if last > first else first + 1)

    def _draw_plot(
        self, plot: PlotArea, some: dict[str, np.ndarray], step: np.ndarray, first: float, last: float
    ) -> None:
        found = self.found
        assert found is not None
        known = np.concatenate([values[np.isfinite(values)] for values in some.values()])
        accuracy = plot is self.right
        extra = [self.held_out[1].value] if accuracy and self.held_out and self.held_out[1].value is not None else []
        low, high = float(min([*known, *extra])), float(max([*known, *extra]))
        low, high = (max(0.0, low - 0.03), min(1.0, high + 0.03)) if accuracy else (low, high)
        high = high if high > low else low + 1.0
        plot.setRange(xRange=(first, last), yRange=(low, high), padding=0.03)
        ticks = _ticks(low, high)
        self.tick(plot, "left", [(v, percent(v, 0) if accuracy else f"{v:g}") for v in ticks])
        self.tick(plot, "bottom", [(v, f"{v:g}") for v in _ticks(first, last)])
        self.name_axes(plot, "epoch or step", "accuracy" if accuracy else "loss")
        for v in ticks:
            plot.addItem(line([first, last], [v, v], pen("line")))
        for name, values in some.items():
            shown = np.isfinite(values)
            if self.window > 1:
                faint = pen("faint" if INK[name] == "soft" else "line", 1)
                plot.addItem(line(step[shown], values[shown], faint))
                values = smoothed(values, self.window)
            style = Qt.PenStyle.DashLine if name.startswith("training") else Qt.PenStyle.SolidLine
            plot.addItem(line(step[shown], values[shown], pen(INK[name], 1.8, style)))
        if found.best is not None:
            x = float(found.step[found.best])
            plot.addItem(line([x, x], [low, high], pen("ink", 1.2)))
            if plot is (self.losses if self._has(LOSSES) else self.right):
                plot.addItem(
                    text(f"best: {x:g}", x, high, "ink", (0.0 if x < (first + last) / 2 else 1.0, 0.0)),
                    ignoreBounds=True,
                )
        if found.gap_opens is not None and not accuracy:
            x = float(found.step[found.gap_opens])
            plot.addItem(line([x, x], [low, high], pen("wrong", 1.2, Qt.PenStyle.DotLine)))
            plot.addItem(
                text(
                    f"gap opens: {x:g}",
                    x,
                    high - 0.16 * (high - low),
                    "wrong",
                    (0.0 if x < (first + last) / 2 else 1.0, 0.0),
                ),
                ignoreBounds=True,
            )
        if accuracy and self.held_out is not None and self.held_out[1].value is not None:
            value = self.held_out[1].value
            plot.addItem(line([first, last], [value, value], pen("ink", 1.4, Qt.PenStyle.DashDotLine)))
            said = f"{words.clipped(self.held_out[0], 28)} {percent(value)}"
            plot.addItem(text(said, last, low, "ink", (1.0, 1.0)), ignoreBounds=True)

    def chosen(self) -> list[tuple[PlotArea, pg.GraphicsObject]]:
        """A line where the keys have come to."""
        if self.found is None or self.cursor < 0 or not self.hasFocus():
            return []
        x = float(self.found.step[self.cursor])
        told = []
        for plot, names in self._plots():
            if self._has(names):
                low, high = plot.viewRange()[1]
                told.append((plot, line([x, x], [low, high], pen("accent", 1))))
        return told


def _ticks(low: float, high: float) -> list[float]:
    """Four to seven round numbers between two."""
    span = high - low
    raw = span / 5
    power = 10.0 ** np.floor(np.log10(raw)) if raw > 0 else 1.0
    step = next(s for s in (1, 2, 2.5, 5, 10) if s * power >= raw) * power
    first = np.ceil(low / step - 1e-9)
    return [round(float(v * step), 10) for v in np.arange(first, np.floor(high / step + 1e-9) + 1)]
