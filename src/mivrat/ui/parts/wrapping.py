"""A layout that sets widgets side by side and goes on in the next line where the width is used up."""

from __future__ import annotations

from PySide6.QtCore import QPoint, QRect, QSize, Qt
from PySide6.QtWidgets import QLayout, QLayoutItem, QWidget, QWidgetItem


class Flow(QLayout):
    """Widgets at their preferred sizes, in lines."""

    def __init__(self, spacing: int) -> None:
        super().__init__()
        self._items: list[QLayoutItem] = []
        # What was asked for already: while a page is laid out, the same is asked for dozens of times.
        self._heights: dict[int, int] = {}
        self.setSpacing(spacing)
        self.setContentsMargins(0, 0, 0, 0)

    def addItem(self, item: QLayoutItem) -> None:
        self._items.append(item)
        self.invalidate()

    def invalidate(self) -> None:
        self._heights.clear()
        super().invalidate()

    def addWidget(self, widget: QWidget) -> None:
        """Put a widget at the end. Its item is made here: one that the toolkit makes may be lost to us while it is in use."""
        self.addChildWidget(widget)
        self.addItem(QWidgetItem(widget))

    def count(self) -> int:
        return len(self._items)

    def itemAt(self, index: int) -> QLayoutItem | None:
        return self._items[index] if 0 <= index < len(self._items) else None

    def takeAt(self, index: int) -> QLayoutItem | None:
        return self._items.pop(index) if 0 <= index < len(self._items) else None

    def expandingDirections(self) -> Qt.Orientation:
        return Qt.Orientation(0)

    def hasHeightForWidth(self) -> bool:
        return True

    def heightForWidth(self, width: int) -> int:
        if width not in self._heights:
            self._heights[width] = self._arrange(QRect(0, 0, width, 0), move=False)
        return self._heights[width]

    def setGeometry(self, rect: QRect) -> None:
        super().setGeometry(rect)
        self._arrange(rect, move=True)

    def sizeHint(self) -> QSize:
        return self.minimumSize()

    def minimumSize(self) -> QSize:
        found = QSize()
        for item in self._items:
            found = found.expandedTo(item.minimumSize())
        return found

    def _arrange(self, rect: QRect, *, move: bool) -> int:
        """Set the widgets into a rectangle (or only see how they would stand), those of a line on one middle; the height they
        take."""
        y, lines = rect.y(), self._lines(rect.width())
        for line in lines:
            height = max(size.height() for _, size in line)
            x = rect.x()
            for item, size in line:
                if move:
                    item.setGeometry(QRect(QPoint(x, y + (height - size.height()) // 2), size))
                x += size.width() + self.spacing()
            y += height + self.spacing()
        return max(0, y - (self.spacing() if lines else 0) - rect.y())

    def _lines(self, width: int) -> list[list[tuple[QLayoutItem, QSize]]]:
        lines: list[list[tuple[QLayoutItem, QSize]]] = []
        left = 0
        for item in self._items:
            if item.isEmpty():  # what is hidden takes no place
                continue
            hint = item.sizeHint()
            size = QSize(max(min(hint.width(), width), item.minimumSize().width()), hint.height())
            if not lines or size.width() > left:
                lines.append([])
                left = width
            lines[-1].append((item, size))
            left -= size.width() + self.spacing()
        return lines


def flowing(*widgets: QWidget, spacing: int = 6) -> Flow:
    """Widgets in a line, or in several where there is no room."""
    made = Flow(spacing)
    for widget in widgets:
        made.addWidget(widget)
    return made
