"""One group of an evidence sheet: its pieces side by side, how many of its images are right, and what can be done with it."""

from __future__ import annotations

from PySide6.QtCore import QEvent, QRect, QSize, Qt, Signal
from PySide6.QtGui import QHelpEvent, QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen
from PySide6.QtWidgets import QSizePolicy, QToolTip, QVBoxLayout, QWidget

from mivrat.core.base.numbers import percent, with_bounds
from mivrat.core.likeness.pieces import Cutting, CuttingGroup
from mivrat.core.selecting.selection import Picked
from mivrat.ui import words
from mivrat.ui.parts.pictures import to_image
from mivrat.ui.parts.widgets import button, label, plain, row, tip
from mivrat.ui.theme import theme
from mivrat.workspace.workspace import Workspace

SIDE, GAP, LINES = 64, 6, 2


class PieceStrip(QWidget):
    """As many pieces as fit in a few lines; a click, or Enter on the one the arrows chose, looks at its image."""

    chosen = Signal(int)

    def __init__(self, workspace: Workspace, pieces: list[Cutting], bgr: bool, name: str) -> None:
        super().__init__()
        self.workspace, self.pieces, self.at = workspace, pieces, 0
        self._pictures = [to_image(one.picture[..., ::-1] if bgr else one.picture) for one in pieces[: 40 * LINES]]
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self.setFixedHeight(SIDE)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setCursor(Qt.CursorShape.PointingHandCursor)
        self.setAccessibleName(name)
        theme.changed.connect(self.update)

    def sizeHint(self) -> QSize:
        return QSize(SIDE * 4, SIDE)

    def resizeEvent(self, event: QEvent) -> None:
        lines = min(LINES, -(-len(self._pictures) // self._across()))
        self.setFixedHeight(lines * (SIDE + GAP) - GAP)

    def _across(self) -> int:
        return max(1, (self.width() + GAP) // (SIDE + GAP))

    def fitting(self) -> int:
        """How many pieces are in sight."""
        return min(len(self._pictures), LINES * self._across())

    def rect_of(self, i: int) -> QRect:
        """Where a piece is drawn."""
        down, across = divmod(i, self._across())
        return QRect(across * (SIDE + GAP), down * (SIDE + GAP), SIDE, SIDE)

    def paintEvent(self, event: QPaintEvent) -> None:
        with QPainter(self) as painter:
            painter.setRenderHint(QPainter.RenderHint.SmoothPixmapTransform)
            for i in range(self.fitting()):
                painter.drawImage(self.rect_of(i), self._pictures[i])
            if self.hasFocus() and self.fitting():
                painter.setPen(QPen(theme.colour("accent"), 2))
                painter.drawRect(self.rect_of(self.at).adjusted(1, 1, -1, -1))

    def mousePressEvent(self, event: QMouseEvent) -> None:
        for i in range(self.fitting()):
            if self.rect_of(i).contains(event.position().toPoint()) and event.button() == Qt.MouseButton.LeftButton:
                self.at = i
                self.chosen.emit(self.pieces[i].image)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        steps = {
            Qt.Key.Key_Left: -1,
            Qt.Key.Key_Right: 1,
            Qt.Key.Key_Up: -self._across(),
            Qt.Key.Key_Down: self._across(),
        }
        step = steps.get(Qt.Key(event.key()))
        if step is not None and 0 <= self.at + step < self.fitting():
            self.at += step
            self.update()
        elif event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter):
            self.chosen.emit(self.pieces[self.at].image)
        else:
            super().keyPressEvent(event)

    def event(self, event: QEvent) -> bool:
        if event.type() == QEvent.Type.ToolTip and isinstance(event, QHelpEvent):
            for i in range(self.fitting()):
                if self.rect_of(i).contains(event.pos()):
                    one = self.pieces[i]
                    told = f"{self.workspace.shown.name_of(one.image)}\n{percent(one.evidence, 0)} of the hottest part's evidence"
                    QToolTip.showText(event.globalPos(), plain(told), self)
            return True
        return super().event(event)


class PieceCard(QWidget):
    """One group: its images, how many are right, its pieces, and what can be done with them. Signals carry the group."""

    cover_wanted, paste_wanted = Signal(int), Signal(int)

    def __init__(self, workspace: Workspace, number: int, group: CuttingGroup, pieces: list[Cutting]) -> None:
        super().__init__()
        self.workspace, self.number, self.group = workspace, number, group
        many = f"{len(group.members)} piece{'s' if len(group.members) > 1 else ''} of {words.images(len(group.images))}"
        self.see = button(f"Group {number + 1}: {many}", self.select, kind="quiet")
        self.see.setStyleSheet("font-weight: 600; padding-left: 0")
        tip(self.see, "Show these images, the most typical piece first")
        self.right = label()
        right = group.right
        self.right.setText(
            f"correct: {right.hits} of {right.total}  {with_bounds(right)}"
            if right.total
            else "none of them has a label"
        )
        tip(self.right, words.how(right))
        self.cover = button("Cover them", lambda: self.cover_wanted.emit(number))
        tip(self.cover, "Hide these pieces, each in its own image, and see which answers change")
        self.paste = button("Paste elsewhere", lambda: self.paste_wanted.emit(number))
        tip(self.paste, "Paste these pieces onto other images, and see how many answers they carry over")
        bgr = workspace.shown.record.recipe.picture.mode == "BGR"
        self.strip = PieceStrip(workspace, pieces, bgr, f"pieces of group {number + 1}")
        self.strip.chosen.connect(self._look)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setSpacing(5)
        layout.addLayout(row(self.see, None, self.cover, self.paste))
        layout.addWidget(self.strip)
        layout.addWidget(self.right)

    def select(self) -> None:
        """Show this group's images."""
        self.workspace.shown.replace(Picked(f"evidence sheet, group {self.number + 1}", self.group.images))

    def _look(self, image: int) -> None:
        self.select()
        self.workspace.shown.focus.look_at(image)
        self.workspace.topics.look_wanted.emit()
