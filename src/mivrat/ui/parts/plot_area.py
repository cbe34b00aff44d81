"""One plot of a diagram: a range of numbers to draw on, with axes where they are wanted.

The library's own plot comes with menus and controls that are never shown here, and take most of its time to be made.
"""

from __future__ import annotations

from typing import Any

import pyqtgraph as pg
from PySide6.QtWidgets import QGraphicsGridLayout

# Where the axes stand around the range drawn on, and the order in which they are drawn.
_PLACES = {"top": (1, 1), "left": (2, 0), "right": (2, 2), "bottom": (3, 1)}
_MIDDLE, _ABOVE_ALL = (2, 1), 0.5
# As a window goes, Python may have taken the attributes of a drawn thing away before the toolkit asks for its bounds the last time.
for _name in ("_previousGeometry", "_boundingRectCache", "_painterPathCache"):
    setattr(pg.GraphicsWidget, _name, None)


class PlotArea(pg.GraphicsWidget):  # type: ignore[misc]
    """A range with a left and a bottom axis; others are made when they are first asked for. ``items`` are those drawn on it."""

    def __init__(self) -> None:
        super().__init__()
        self.items: list[Any] = []
        self._axes: dict[str, pg.AxisItem] = {}
        self._title: pg.LabelItem | None = None
        self._range = pg.ViewBox(parent=self, enableMenu=False)
        self._range.setMouseEnabled(False, False)
        self.layout = QGraphicsGridLayout()
        self.layout.setContentsMargins(1, 1, 1, 1)
        self.layout.setHorizontalSpacing(0)
        self.layout.setVerticalSpacing(0)
        self.setLayout(self.layout)
        self.layout.addItem(self._range, *_MIDDLE)
        for row in range(4):
            self.layout.setRowPreferredHeight(row, 0)
            self.layout.setRowMinimumHeight(row, 0)
            self.layout.setRowSpacing(row, 0)
            self.layout.setRowStretchFactor(row, int(row == _MIDDLE[0]))
        for column in range(3):
            self.layout.setColumnPreferredWidth(column, 0)
            self.layout.setColumnMinimumWidth(column, 0)
            self.layout.setColumnSpacing(column, 0)
            self.layout.setColumnStretchFactor(column, int(column == _MIDDLE[1]))
        self.layout.setRowFixedHeight(0, 0)
        for side in ("left", "bottom"):
            self.getAxis(side)

    # Named as the library names them, since what is drawn is the library's.

    def getViewBox(self) -> pg.ViewBox:
        """The range that is drawn on."""
        return self._range

    def getAxis(self, side: str) -> pg.AxisItem:
        """The axis on a side: left, bottom, top or right."""
        if side not in self._axes:
            axis = pg.AxisItem(orientation=side, parent=self)
            axis.linkToView(self._range)
            axis.setZValue(_ABOVE_ALL)
            axis.setFlag(axis.GraphicsItemFlag.ItemNegativeZStacksBehindParent)
            self._axes[side] = axis
            self.layout.addItem(axis, *_PLACES[side])
        return self._axes[side]

    @property
    def axes(self) -> list[pg.AxisItem]:
        """The axes that have been made."""
        return list(self._axes.values())

    def showAxis(self, side: str) -> None:
        self.getAxis(side).show()

    def hideAxis(self, side: str) -> None:
        self.getAxis(side).hide()

    def setLabel(self, side: str, text: str, **style: str) -> None:
        """Name an axis."""
        self.getAxis(side).setLabel(text=text, **style)

    def setTitle(self, text: str, **style: Any) -> None:
        """Write a line above the plot."""
        if self._title is None:
            self._title = pg.LabelItem("", parent=self)
            self.layout.addItem(self._title, 0, 1)
        self._title.setMaximumHeight(30)
        self.layout.setRowFixedHeight(0, 30)
        self._title.setText(text, **style)

    def addItem(self, item: Any, ignoreBounds: bool = False) -> None:
        """Draw something on it."""
        self.items.append(item)
        self._range.addItem(item, ignoreBounds=ignoreBounds)

    def removeItem(self, item: Any) -> None:
        if item in self.items:
            self.items.remove(item)
            self._range.removeItem(item)

    def clear(self) -> None:
        """Take everything off it."""
        for item in list(self.items):
            self.removeItem(item)

    def viewRange(self) -> list[list[float]]:
        """The ends of what is shown, across and upright."""
        found: list[list[float]] = self._range.viewRange()
        return found

    def setRange(self, **given: Any) -> None:
        self._range.setRange(**given)

    def setXRange(self, low: float, high: float, **given: Any) -> None:
        self._range.setXRange(low, high, **given)

    def setYRange(self, low: float, high: float, **given: Any) -> None:
        self._range.setYRange(low, high, **given)

    def invertY(self, upside_down: bool = True) -> None:
        """Count from above."""
        self._range.invertY(upside_down)
