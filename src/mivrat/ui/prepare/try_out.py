"""The try-out: twelve random images scored and shown large, with labels and answers, before the full run."""

from __future__ import annotations

from PySide6.QtCore import QPointF, QRectF, QSize, Qt, Signal
from PySide6.QtGui import (
    QFont,
    QHideEvent,
    QKeyEvent,
    QMouseEvent,
    QPainter,
    QPaintEvent,
    QPen,
    QPolygonF,
    QResizeEvent,
)
from PySide6.QtWidgets import QVBoxLayout, QWidget

from mivrat.core.answers.answers import PENDING, SCORED
from mivrat.core.pictures.subsets import pick
from mivrat.ui import words
from mivrat.ui.parts.late import Late
from mivrat.ui.parts.page import Page
from mivrat.ui.parts.pictures import Thumbnails
from mivrat.ui.parts.widgets import Scrolled, button, label, row
from mivrat.ui.theme import font, theme
from mivrat.workspace.study_jobs import FEW
from mivrat.workspace.workspace import Workspace

COLUMNS, GAP, TEXT = 3, 14, 54


class TryOutPage(Page, QWidget):
    """Scores a few images and shows them; whether pictures, labels and answers belong together is seen here first."""

    title, place_id = "Try-out", "try out"
    help = "Twelve random images, scored and shown with their labels, to see that pictures and classes fit before the full run."

    looked = Signal()

    def __init__(self, workspace: Workspace, thumbnails: Thumbnails) -> None:
        super().__init__()
        self.workspace, self.seed = workspace, 0
        self.told = label(wrap=True)
        self.note = label(soft=True, wrap=True)
        self.score = button(f"Score these {FEW}", lambda: workspace.jobs.score(self.positions()), kind="primary")
        self.others = button(f"Another {FEW}", self.draw_others)
        self.full = button("Start the full run", lambda: workspace.jobs.score())
        self.cards = Cards(workspace, thumbnails)
        self.cards.opened.connect(self._look)
        self.area = Scrolled(self.cards)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 10, 0, 0)
        layout.setSpacing(8)
        layout.addWidget(self.told)
        layout.addLayout(row(self.score, self.others, self.full, None))
        layout.addWidget(self.note)
        layout.addWidget(self.area, 1)
        self._late = Late(self, self.refresh, workspace.topics.figures, workspace.topics.busy)

    def positions(self) -> list[int]:
        """The images drawn: the same ones for the same set and seed."""
        snapshot = self.workspace.shown.snapshot
        return pick(snapshot.counts.listed, FEW, self.seed)

    def draw_others(self) -> None:
        """Draw other images."""
        self.seed += 1
        self.refresh()

    def refresh(self) -> None:
        snapshot = self.workspace.shown.snapshot
        positions, judged = self.positions(), snapshot.judged
        waiting = int((judged.state[positions] == PENDING).sum())
        labelled = int(judged.evaluated[positions].sum())
        right = int(judged.right[positions].sum())
        drawn = f"{words.images(len(positions))} sampled (seed {self.seed}) of {words.count(snapshot.counts.listed)}"
        if waiting:
            self.told.setText(f"{drawn}; {waiting} of them not scored yet.")
        elif labelled:
            self.told.setText(f"{drawn}: {right} of {labelled} labelled images correct.")
        else:
            self.told.setText(f"{drawn}; none has a label and an answer.")
        self.note.setText(
            "So few images say nothing about accuracy. They show whether pictures, labels and answers match."
        )
        free = not self.workspace.busy
        self.score.setVisible(bool(waiting))
        self.score.setText(f"Score these {len(positions)}")
        self.score.setEnabled(free)
        self.others.setVisible(snapshot.counts.listed > FEW)
        self.full.setVisible(bool(snapshot.counts.pending))
        self.full.setEnabled(free)
        self.cards.show_images(positions)

    def _look(self, image: int) -> None:
        if image not in self.workspace.shown.images:
            self.workspace.shown.clear()
        self.workspace.shown.focus.look_at(image)
        self.looked.emit()


class Cards(QWidget):
    """Large thumbnails with all that is known of each; arrow keys travel, Enter or a double click opens the close look."""

    opened = Signal(int)

    def __init__(self, workspace: Workspace, thumbnails: Thumbnails) -> None:
        super().__init__()
        self.workspace, self._thumbnails = workspace, thumbnails
        self.images: list[int] = []
        self.at = 0
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAccessibleName("images tried out: arrow keys travel, Enter opens the close look")
        thumbnails.ready.connect(self.update)

    def show_images(self, images: list[int]) -> None:
        self.images = images
        self.at = min(self.at, max(0, len(images) - 1))
        self._fit()
        self.update()

    @property
    def side(self) -> int:
        return max(80, (self.width() - 12 - GAP * (COLUMNS - 1)) // COLUMNS)

    def _fit(self) -> None:
        lines = -(-len(self.images) // COLUMNS)
        self.setMinimumHeight(lines * (self.side + TEXT + GAP) + 8)

    def resizeEvent(self, event: QResizeEvent) -> None:
        self._fit()

    def sizeHint(self) -> QSize:
        return QSize(500, self.minimumHeight())

    def card_rect(self, i: int) -> QRectF:
        """Where the i-th picture stands."""
        line, column = divmod(i, COLUMNS)
        return QRectF(4 + column * (self.side + GAP), 4 + line * (self.side + TEXT + GAP), self.side, self.side)

    def paintEvent(self, event: QPaintEvent) -> None:
        if (snapshot := self.workspace.shown.snapshot) is not None:
            files = snapshot.record.image_set
            self._thumbnails.want(self, {files.file(i) for i in self.images if i < len(files.items)})
        with QPainter(self) as painter:
            painter.setRenderHint(QPainter.RenderHint.SmoothPixmapTransform)
            painter.setRenderHint(QPainter.RenderHint.Antialiasing)
            for i, image in enumerate(self.images):
                if self.card_rect(i).adjusted(0, 0, 0, TEXT).intersects(QRectF(event.rect())):
                    self._paint_card(painter, i, image)

    def hideEvent(self, event: QHideEvent) -> None:
        self._thumbnails.want(self, set())

    def _paint_card(self, painter: QPainter, i: int, image: int) -> None:
        snapshot = self.workspace.shown.snapshot
        if image >= len(snapshot.judged.state):
            return
        square = self.card_rect(i)
        picture, final = self._thumbnails.get(snapshot.record.image_set.file(image))
        place = square
        if picture is not None:
            scale = min(square.width() / picture.width(), square.height() / picture.height())
            place = QRectF(0, 0, picture.width() * scale, picture.height() * scale)
            place.moveCenter(square.center())
            painter.drawImage(place, picture)
        else:
            painter.fillRect(square, theme.colour("sheet"))
            painter.setPen(theme.colour("wrong" if final else "soft"))
            painter.setFont(font(12))
            painter.drawText(square, Qt.AlignmentFlag.AlignCenter, "unreadable" if final else "…")
        if snapshot.judged.wrong[image]:
            notch, corner = self.side * 0.12, place.topRight()
            painter.setPen(QPen(theme.colour("paper"), 1.5))
            painter.setBrush(theme.colour("wrong"))
            painter.drawPolygon(
                QPolygonF([corner, QPointF(corner.x() - notch, corner.y()), QPointF(corner.x(), corner.y() + notch)])
            )
            painter.setBrush(Qt.BrushStyle.NoBrush)
        if i == self.at and self.hasFocus():
            painter.setPen(QPen(theme.colour("accent"), 3))
            painter.drawRect(square.adjusted(-2, -2, 2, 2))
        for line, (text, token, weight) in enumerate(self._lines(image)):
            painter.setFont(font(12 if line < 2 else 11, weight))
            painter.setPen(theme.colour(token))
            area = QRectF(square.left(), square.bottom() + 4 + 16 * line, square.width(), 16)
            shown = painter.fontMetrics().elidedText(text, Qt.TextElideMode.ElideMiddle, int(area.width()))
            painter.drawText(area, Qt.AlignmentFlag.AlignLeft, shown)

    def _lines(self, image: int) -> list[tuple[str, str, QFont.Weight]]:
        """What is written below a card: label, answer, runner-up."""
        judged, record = self.workspace.shown.snapshot.judged, self.workspace.shown.snapshot.record
        classes, item = record.classes, record.image_set.items[image]
        label_index, normal, strong = int(judged.labels[image]), QFont.Weight.Normal, QFont.Weight.Medium
        said = item.said if label_index < 0 and item.said else ""
        about = f"labelled {classes[label_index]}" if label_index >= 0 else f"{said}: no class" if said else "no label"
        lines = [(about, "ink", normal)]
        if judged.state[image] == PENDING:
            lines.append(("not scored yet", "soft", normal))
        elif judged.state[image] != SCORED:
            lines.append((record.answers.reasons.get(image, "its scores hold NaN or infinity"), "wrong", normal))
        else:
            answer = f"answer {classes[judged.predicted[image]]}, {judged.confidence[image]:.2f}"
            lines.append((answer, "wrong" if judged.wrong[image] else "ink", strong))
            if judged.has_scores and len(classes) > 1:
                second = int(judged.ranking(image)[1])
                lines.append(
                    (f"then {classes[second]}, {judged.probabilities([image])[0, second]:.2f}", "soft", normal)
                )
        return lines

    def _card_at(self, point: QPointF) -> int:
        return next(
            (i for i in range(len(self.images)) if self.card_rect(i).adjusted(0, 0, 0, TEXT).contains(point)), -1
        )

    def mousePressEvent(self, event: QMouseEvent) -> None:
        if (i := self._card_at(event.position())) >= 0:
            self.at = i
            self.update()

    def mouseDoubleClickEvent(self, event: QMouseEvent) -> None:
        if (i := self._card_at(event.position())) >= 0:
            self.opened.emit(self.images[i])

    def keyPressEvent(self, event: QKeyEvent) -> None:
        steps = {Qt.Key.Key_Left: -1, Qt.Key.Key_Right: 1, Qt.Key.Key_Up: -COLUMNS, Qt.Key.Key_Down: COLUMNS}
        if event.key() in steps and self.images:
            self.at = min(len(self.images) - 1, max(0, self.at + steps[Qt.Key(event.key())]))
            self.update()
        elif event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter) and self.images:
            self.opened.emit(self.images[self.at])
        else:
            event.ignore()
