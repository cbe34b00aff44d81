"""Every diagram of the window: pyqtgraph in the theme's ink, with marks to point at, to walk over by keys and to select by.

A diagram says what its marks are and draws them; keys, hover, accessible names and following the theme are here. It is copied as
a table by the page it stands on, and saved as a picture (PNG or SVG) by rendering it, as any widget is.
"""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any, ClassVar

import numpy as np
import pyqtgraph as pg
from numpy.typing import NDArray
from PySide6.QtCore import QEvent, QPointF, QRectF, QSizeF, Qt
from PySide6.QtGui import (
    QColor,
    QGuiApplication,
    QHelpEvent,
    QKeyEvent,
    QMouseEvent,
    QPainter,
    QPen,
    QResizeEvent,
    QShowEvent,
    QTransform,
)
from PySide6.QtWidgets import QFrame, QGraphicsSimpleTextItem, QToolTip, QWidget

from mivrat.ui.parts.loop import Debouncer
from mivrat.ui.parts.plot_area import PlotArea
from mivrat.ui.parts.widgets import plain
from mivrat.ui.theme import font, theme

# What an axis with numbers takes: left of a plot, and below it with and without its name.
LEFT, BELOW = 46, 38
# So much of its range is left free around a plot, so that a mark at the end is whole.
MARGIN = 0.025
# So much room words on a plot have around them.
AROUND = 4
Numbers = Sequence[float] | NDArray[np.floating]


class Diagram(pg.GraphicsLayoutWidget):  # type: ignore[misc]
    """One or more plots with marks on them, numbered from 0; ``cursor`` is the one that keys have come to, -1 for none. To who
    listens to the screen it says its name, and of the mark under the cursor what ``describe`` says."""

    # The keys that go from mark to mark, and what the plots stand on: a colour of the theme, or nothing.
    backward, forward = Qt.Key.Key_Left, Qt.Key.Key_Right
    ground = "sheet"
    # Marks lie below all else, or above it.
    marks_above = False

    def __init__(self, name: str) -> None:
        super().__init__()
        self.cursor = -1
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setFrameShape(QFrame.Shape.NoFrame)
        self.setAccessibleName(name)
        self.setRenderHint(QPainter.RenderHint.Antialiasing)
        self.ci.layout.setContentsMargins(0, 8, 8, 0)
        self.ci.layout.setSpacing(4)
        self.plots: list[PlotArea] = []
        self._marks: list[tuple[PlotArea, pg.GraphicsObject]] = []
        self._drawn_in, self._stale = "", True
        # Sizes come several at a time while a page is laid out: it is drawn once, when they have come.
        self._soon = Debouncer(0, self.redraw)
        theme.changed.connect(self._follow_theme)

    # --- what a diagram says of itself ---

    def draw(self) -> None:
        """Draw everything anew; the plots are empty."""
        raise NotImplementedError

    def lay_out(self) -> None:
        """Give the plots their sides, at the widget's present size."""

    def marks(self) -> int:
        """How many marks there are to walk over."""
        return 0

    def mark_at(self, point: QPointF) -> int:
        """The mark at a place of the widget, -1 for none."""
        return -1

    def mark_rect(self, mark: int) -> QRectF:
        """Where a mark stands in the widget."""
        raise NotImplementedError

    def describe(self, mark: int) -> str:
        """A mark in words."""
        return ""

    def chosen(self) -> Sequence[tuple[PlotArea, pg.GraphicsObject]]:
        """What marks those selected, and the one that keys have come to: items and where they belong."""
        return ()

    def select(self, mark: int, beside: bool, *, enter: bool = False) -> None:
        """Select what a mark stands for."""

    # --- plots ---

    def add(self, line: int, column: int = 0, *, x: tuple[float, float], y: tuple[float, float]) -> PlotArea:
        """A plot over these ranges; nothing in it moves by mouse or wheel."""
        plot = PlotArea()
        self.addItem(plot, line, column)
        plot.setRange(xRange=x, yRange=y, padding=MARGIN)
        plot.getAxis("left").setWidth(LEFT)
        plot.getAxis("bottom").setHeight(BELOW)
        for side in ("left", "bottom"):
            plot.getAxis(side).setStyle(tickFont=font(11), tickLength=0, hideOverlappingLabels=False)
        self.plots.append(plot)
        return plot

    def name_axes(self, plot: PlotArea, across: str, upright: str) -> None:
        """What the axes stand for."""
        style = {"color": theme.tokens.soft, "font-size": "11px"}
        for side, name in (("bottom", across), ("left", upright)):
            plot.setLabel(side, name, **style)
            plot.getAxis(side).resizeEvent()  # which puts the name in the middle

    def tick(self, plot: PlotArea, side: str, ticks: Sequence[tuple[float, str]]) -> None:
        """Numbers along an axis, each with a thin line through the plot."""
        plot.getAxis(side).setTicks([list(ticks)])

    def redraw(self) -> None:
        """Draw everything anew, in the theme in force; what is not shown is drawn once it is."""
        self._stale = not self.isVisible()
        self._soon.stop()
        if self._stale:
            return
        self._marks.clear()
        for plot in self.plots:
            plot.clear()
        if self._drawn_in != theme.tokens.name:
            self._take_ink()
        self.draw()
        self.remark()

    def _take_ink(self) -> None:
        self._drawn_in = theme.tokens.name
        self.setBackground(None)
        for plot in self.plots:
            plot.getViewBox().setBackgroundColor(theme.colour(self.ground) if self.ground else None)
            for axis in plot.axes:
                axis.setPen(theme.colour("line"))
                axis.setTextPen(theme.colour("soft"))

    def remark(self) -> None:
        """Mark what is selected anew, and nothing else."""
        if self.isVisible():
            for plot, item in self._marks:
                plot.removeItem(item)
            self._marks = list(self.chosen())
            for plot, item in self._marks:
                item.setZValue(10 if self.marks_above else -10)
                plot.addItem(item)

    def _follow_theme(self) -> None:
        self.redraw()

    # --- from numbers to places ---

    def place(self, plot: PlotArea, x: float, y: float) -> QPointF:
        """Where a point of a plot stands in the widget."""
        return QPointF(self.mapFromScene(plot.getViewBox().mapViewToScene(QPointF(x, y))))

    def numbers(self, plot: PlotArea, point: QPointF) -> QPointF:
        """The numbers of a plot at a place of the widget."""
        return QPointF(plot.getViewBox().mapSceneToView(self.mapToScene(point.toPoint())))

    # --- mouse, keys, hover ---

    def mousePressEvent(self, event: QMouseEvent) -> None:
        if event.button() == Qt.MouseButton.LeftButton:
            self.setFocus(Qt.FocusReason.MouseFocusReason)
            self.cursor = self.mark_at(event.position())
            self.select(self.cursor, bool(event.modifiers() & Qt.KeyboardModifier.ControlModifier))
            self.remark()

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        event.accept()

    def mouseDoubleClickEvent(self, event: QMouseEvent) -> None:
        event.accept()

    def wheelEvent(self, event: Any) -> None:
        event.ignore()  # the page scrolls

    def keyPressEvent(self, event: QKeyEvent) -> None:
        key, marks = event.key(), self.marks()
        alt = event.modifiers() & Qt.KeyboardModifier.AltModifier
        if key in (self.backward, self.forward) and marks and not alt:
            by = 1 if key == self.forward else -1
            self.cursor = marks - 1 if self.cursor < 0 and by < 0 else min(marks - 1, max(0, self.cursor + by))
            self.show_cursor()
        elif key in (Qt.Key.Key_Return, Qt.Key.Key_Enter, Qt.Key.Key_Space) and marks:
            beside = bool(event.modifiers() & Qt.KeyboardModifier.ControlModifier)
            self.select(self.cursor, beside, enter=key != Qt.Key.Key_Space)
        else:
            QWidget.keyPressEvent(self, event)

    def show_cursor(self) -> None:
        """Mark where keys have come to, and say what it is."""
        corner, told = self.mark_rect(self.cursor).bottomRight().toPoint(), self.describe(self.cursor)
        self.setAccessibleDescription(told)
        QToolTip.showText(self.mapToGlobal(corner), plain(told), self)
        self.remark()

    def keyReleaseEvent(self, event: QKeyEvent) -> None:
        QWidget.keyReleaseEvent(self, event)

    def focusInEvent(self, event: Any) -> None:
        super().focusInEvent(event)
        self.remark()

    def focusOutEvent(self, event: Any) -> None:
        super().focusOutEvent(event)
        self.remark()

    def viewportEvent(self, event: QEvent) -> bool:
        if event.type() == QEvent.Type.ToolTip and isinstance(event, QHelpEvent):
            mark = self.mark_at(QPointF(event.pos()))
            if mark >= 0:
                QToolTip.showText(event.globalPos(), plain(self.describe(mark)), self)
            else:
                QToolTip.hideText()
            return True
        return bool(super().viewportEvent(event))

    def resizeEvent(self, event: QResizeEvent) -> None:
        ready = bool(getattr(self, "plots", None))  # the toolkit sizes it before it is made
        if ready:
            self.lay_out()
        super().resizeEvent(event)
        if ready:
            self._soon.start()

    def showEvent(self, event: QShowEvent) -> None:
        super().showEvent(event)
        if self._stale:
            self._soon.start()
        else:
            self.remark()


class DraggedDiagram(Diagram):
    """A diagram with one value that is dragged, or moved with the arrow keys."""

    # How far a key moves it.
    steps: ClassVar[dict[Qt.Key, float]] = {Qt.Key.Key_Left: -0.01, Qt.Key.Key_Right: 0.01}

    def drag(self, point: QPointF) -> None:
        """Take the value at a place of the widget."""
        raise NotImplementedError

    def shift(self, by: float) -> None:
        """Move the value."""
        raise NotImplementedError

    def mousePressEvent(self, event: QMouseEvent) -> None:
        if event.button() == Qt.MouseButton.LeftButton:
            self.setFocus(Qt.FocusReason.MouseFocusReason)
            self.drag(event.position())

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        if event.buttons() & Qt.MouseButton.LeftButton:
            self.drag(event.position())

    def keyPressEvent(self, event: QKeyEvent) -> None:
        step = self.steps.get(Qt.Key(event.key()))
        if step is None or event.modifiers() & Qt.KeyboardModifier.AltModifier:
            super().keyPressEvent(event)
        else:
            self.shift(step)


def pen(token: str, width: float = 1.0, style: Qt.PenStyle = Qt.PenStyle.SolidLine) -> QPen:
    """A pen in a colour of the theme, so many of the screen's independent pixels wide whatever a plot is stretched to."""
    screen = QGuiApplication.primaryScreen()
    made = QPen(theme.colour(token), width * (screen.devicePixelRatio() if screen is not None else 1.0), style)
    made.setCosmetic(True)
    return made


def line(x: Numbers, y: Numbers, ink: QPen, *, pairs: bool = False) -> pg.PlotCurveItem:
    """A line through points; or with ``pairs`` a line from each first point to the second. One item draws many lines faster."""
    return pg.PlotCurveItem(
        np.asarray(x, float), np.asarray(y, float), pen=ink, connect="pairs" if pairs else "all", skipFiniteCheck=True
    )


def dots(x: Numbers, y: Numbers, fill: QColor, edge: QPen | None = None, size: float = 8) -> pg.ScatterPlotItem:
    """Points, filled and with an edge if wanted."""
    return pg.ScatterPlotItem(
        np.asarray(x, float), np.asarray(y, float), size=size, brush=fill, pen=edge or pg.mkPen(None)
    )


def bars(left: Numbers, right: Numbers, low: Numbers, high: Numbers, fill: QColor) -> pg.BarGraphItem:
    """Filled bars without an edge."""
    return pg.BarGraphItem(
        x0=np.asarray(left, float),
        x1=np.asarray(right, float),
        y0=np.asarray(low, float),
        y1=np.asarray(high, float),
        brush=fill,
        pen=pg.mkPen(None),
    )


def rgb(colours: Sequence[QColor]) -> NDArray[np.uint8]:
    """Colours as numbers, a line each: what a picture is made of."""
    return np.array([(one.red(), one.green(), one.blue()) for one in colours], np.uint8)


def text(
    what: str, x: float, y: float, token: str = "ink", anchor: tuple[float, float] = (0.5, 1.0)
) -> QGraphicsSimpleTextItem:
    """Words at a point, above it unless the ``anchor`` (across, down from the top left of the words) says otherwise. They keep their
    size whatever a plot is stretched to; the library's own text item takes ten times as long to make."""
    made = QGraphicsSimpleTextItem(what)
    made.setFont(font(11))
    made.setBrush(theme.colour(token))
    made.setFlag(QGraphicsSimpleTextItem.GraphicsItemFlag.ItemIgnoresTransformations)
    size = made.boundingRect().size() + QSizeF(2 * AROUND, 2 * AROUND)
    made.setTransform(QTransform.fromTranslate(AROUND - anchor[0] * size.width(), AROUND - anchor[1] * size.height()))
    made.setPos(x, y)
    return made
