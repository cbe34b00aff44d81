"""A few thumbnails in a line, each with a word below; a click on one looks at it."""

from __future__ import annotations

from collections.abc import Sequence

from PySide6.QtCore import QEvent, QRect, QRectF, QSize, Qt, Signal
from PySide6.QtGui import QHelpEvent, QHideEvent, QMouseEvent, QPainter, QPaintEvent
from PySide6.QtWidgets import QSizePolicy, QToolTip, QWidget

from mivrat.ui.parts.pictures import Thumbnails
from mivrat.ui.parts.widgets import plain
from mivrat.ui.theme import font, theme
from mivrat.workspace.workspace import Workspace

GAP, LINE = 8, 16


class ThumbStrip(QWidget):
    """As many of the images given as fit the width, with up to ``lines`` lines of text below each."""

    chosen = Signal(int)

    def __init__(self, workspace: Workspace, thumbnails: Thumbnails, side: int = 64, lines: int = 0) -> None:
        super().__init__()
        self.workspace, self._thumbnails, self._side, self._lines = workspace, thumbnails, side, lines
        self.images: list[int] = []
        self._of: object = None
        self._texts: list[list[str]] = []
        self.setFixedHeight(side + lines * LINE + (4 if lines else 0))
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self.setCursor(Qt.CursorShape.PointingHandCursor)
        thumbnails.ready.connect(self.update)
        theme.changed.connect(self.update)

    def show_images(self, images: Sequence[int], texts: Sequence[Sequence[str]] = ()) -> None:
        self.images, self._texts = list(images), [list(lines) for lines in texts]
        self._of = self.workspace.shown.record.set_key if images else None
        self.update()

    def sizeHint(self) -> QSize:
        return QSize(self._side * 4, self.height())

    def _rect(self, i: int) -> QRect:
        return QRect(i * (self._side + GAP), 0, self._side, self._side)

    def _fitting(self) -> int:
        return min(len(self.images), max(1, (self.width() + GAP) // (self._side + GAP)))

    def hideEvent(self, event: QHideEvent) -> None:
        self._thumbnails.want(self, set())

    def paintEvent(self, event: QPaintEvent) -> None:
        with QPainter(self) as painter:
            self._paint(painter)

    def _paint(self, painter: QPainter) -> None:
        if not self.workspace.is_open:
            return
        snapshot = self.workspace.shown.snapshot
        if snapshot.record.set_key != self._of:
            return  # positions in another set, until what shows them has followed
        files = snapshot.record.image_set.file
        self._thumbnails.want(self, {files(i) for i in self.images[: self._fitting()]})
        painter.setRenderHint(QPainter.RenderHint.SmoothPixmapTransform)
        for i, image in enumerate(self.images[: self._fitting()]):
            place = QRectF(self._rect(i))
            picture, _ = self._thumbnails.get(files(image))
            if picture is None:
                painter.fillRect(place, theme.colour("line"))
            else:
                scale = min(place.width() / picture.width(), place.height() / picture.height())
                size = QRectF(0, 0, picture.width() * scale, picture.height() * scale)
                size.moveCenter(place.center())
                painter.drawImage(size, picture)
            painter.setFont(font(11))
            for n, text in enumerate(self._texts[i][: self._lines] if i < len(self._texts) else []):
                painter.setPen(theme.colour("ink" if n == 0 else "soft"))
                line = QRectF(place.left(), place.bottom() + 3 + n * LINE, self._side, LINE)
                shown = painter.fontMetrics().elidedText(text, Qt.TextElideMode.ElideMiddle, self._side)
                painter.drawText(line, Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter, shown)

    def _at(self, x: float, y: float) -> int:
        for i in range(self._fitting()):
            if self._rect(i).adjusted(0, 0, 0, self._lines * LINE).contains(int(x), int(y)):
                return i
        return -1

    def mousePressEvent(self, event: QMouseEvent) -> None:
        at = self._at(event.position().x(), event.position().y())
        if at >= 0 and event.button() == Qt.MouseButton.LeftButton:
            self.chosen.emit(self.images[at])

    def event(self, event: QEvent) -> bool:
        if event.type() == QEvent.Type.ToolTip and isinstance(event, QHelpEvent):
            at = self._at(event.pos().x(), event.pos().y())
            if at >= 0:
                texts = self._texts[at] if at < len(self._texts) else []
                QToolTip.showText(
                    event.globalPos(), plain("\n".join([self.workspace.shown.name_of(self.images[at]), *texts])), self
                )
            else:
                QToolTip.hideText()
            return True
        return super().event(event)
