"""One image of the light table with its caption, painted once and kept: scrolling only sets finished pictures side by side."""

from __future__ import annotations

from collections.abc import Callable

from PySide6.QtCore import QPointF, QRect, QRectF, Qt
from PySide6.QtGui import QFont, QImage, QPainter, QPen, QPixmap, QPolygonF

from mivrat.core.answers.answers import FAILED, PENDING, UNREADABLE
from mivrat.core.answers.judged import EvaluatedRun
from mivrat.core.answers.other import Other
from mivrat.core.base.text import printable
from mivrat.ui import words
from mivrat.ui.parts.pictures import Thumbnails
from mivrat.ui.theme import font, mix, theme
from mivrat.workspace.workspace import Workspace

# Below a picture: two lines, and three while another run is held against the one shown.
CAPTION, CAPTION_OF_BOTH = 38, 54
MOST_KEPT = 300


class PictureCache:
    """Finished pictures of images, the least recently used forgotten first."""

    def __init__(self, workspace: Workspace, thumbnails: Thumbnails) -> None:
        self.workspace, self._thumbnails = workspace, thumbnails
        # Gives an image's picture with heat over it, None where there is none (yet).
        self.heat_of: Callable[[int], QImage | None] = lambda image: None
        self._kept: dict[tuple[object, ...], QPixmap] = {}
        self._kept_of: tuple[EvaluatedRun, Other | None] | None = None

    def get(self, image: int, side: int, ratio: float) -> QPixmap:
        """An image's picture, ``side`` wide and as high with its caption below."""
        snapshot, other = self.workspace.shown.snapshot, self.workspace.shown.other
        if self._kept_of is None or self._kept_of[0] is not snapshot.judged or self._kept_of[1] is not other:
            self._kept.clear()
            self._kept_of = snapshot.judged, other
        picture, final = self._thumbnails.known(snapshot.record.image_set.file(image))
        if final and picture is not None:
            picture = picture if self.workspace.shown.blind else self.heat_of(image) or picture
        key: tuple[object, ...] = "…", side, ratio, theme.tokens.name
        if final:
            looks = picture.cacheKey() if picture is not None else 0
            strained = self.workspace.shown.strained
            review, blind = self.workspace.shown.reviews[image], self.workspace.shown.blind
            reviewed = (review.reviewed, review.label if blind else None, blind)
            key = (
                image,
                looks,
                side,
                ratio,
                theme.tokens.name,
                reviewed,
                strained.strain if strained is not None else None,
            )
        found = self._kept.pop(key, None)
        if found is None:
            found = self._painted(image, picture, side, ratio) if final else self._waiting(side, ratio)
            while len(self._kept) >= MOST_KEPT:
                self._kept.pop(next(iter(self._kept)))
        self._kept[key] = found
        return found

    @property
    def caption(self) -> int:
        """The height of what stands below a picture."""
        return CAPTION if self.workspace.shown.other is None or self.workspace.shown.blind else CAPTION_OF_BOTH

    def _sheet(self, side: int, ratio: float) -> QPixmap:
        made = QPixmap(round(side * ratio), round((side + self.caption) * ratio))
        made.setDevicePixelRatio(ratio)
        made.fill(theme.colour("sheet"))
        return made

    def _waiting(self, side: int, ratio: float) -> QPixmap:
        """What stands for every image that is still being decoded."""
        made = self._sheet(side, ratio)
        with QPainter(made) as painter:
            self._paint_message(painter, QRectF(0, 0, side, side), "…", "soft")
        return made

    def _painted(self, image: int, picture: QImage | None, side: int, ratio: float) -> QPixmap:
        made = self._sheet(side, ratio)
        with QPainter(made) as painter:
            place = QRectF(0, 0, side, side)
            if picture is None:
                # Of an image that was answered for there is no picture here: gone since, or a table's, which nobody has read.
                unread = self.workspace.shown.snapshot.judged.state[image] == UNREADABLE
                self._paint_message(painter, place, *(("unreadable", "wrong") if unread else ("no picture", "soft")))
            else:
                place = self._paint_picture(painter, picture, side, ratio)
            if self.workspace.shown.blind:
                self._paint_blind(painter, image, side)
                if self.workspace.shown.reviews[image].reviewed:
                    self._paint_tick(painter, place.bottomLeft())
                return made
            if self._is_wrong(image):
                self._paint_notch(painter, place.topRight(), side)
            other = self.workspace.shown.other
            if other is not None and other.both[image] and other.predicted[image] != other.judged.labels[image]:
                self._paint_notch(painter, place.bottomRight(), -side)
            if self.workspace.shown.reviews[image].reviewed:
                self._paint_tick(painter, place.bottomLeft())
            if other is None:
                self._paint_caption(painter, image, side)
            else:
                self._paint_both(painter, image, side, other)
        return made

    def _is_wrong(self, image: int) -> bool:
        """Whether the answer that the caption tells of is wrong: as strained, while images are shown so."""
        judged, strained = self.workspace.shown.judged, self.workspace.shown.strained
        at = strained.predicted.get(image, -1) if strained is not None else -1
        return bool(judged.wrong[image]) if at < 0 else judged.labels[image] not in (-1, at)

    @staticmethod
    def _paint_message(painter: QPainter, square: QRectF, text: str, ink: str) -> None:
        painter.fillRect(square, theme.colour("paper"))
        painter.setPen(theme.colour(ink))
        painter.setFont(font(11))
        painter.drawText(square, Qt.AlignmentFlag.AlignCenter, text)

    @staticmethod
    def _paint_picture(painter: QPainter, picture: QImage, side: int, ratio: float) -> QRectF:
        """Paint the picture into the square, and give the place it takes there."""
        whole = round(side * ratio)
        smooth = Qt.TransformationMode.SmoothTransformation
        shown = picture.scaled(whole, whole, Qt.AspectRatioMode.KeepAspectRatio, smooth)
        shown.setDevicePixelRatio(ratio)
        width, height = shown.width() / ratio, shown.height() / ratio
        place = QRectF(round((side - width) / 2), round((side - height) / 2), width, height)
        painter.drawImage(place.topLeft(), shown)
        return place

    @staticmethod
    def _paint_notch(painter: QPainter, corner: QPointF, side: int) -> None:
        """A notch cut from the upper corner: a wrong answer; from the lower one (``side`` below 0) one of the run held."""
        notch = side * 0.14
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setPen(QPen(theme.colour("sheet"), 1.5))
        painter.setBrush(theme.colour("wrong" if side > 0 else "second"))
        points = [corner, QPointF(corner.x() - abs(notch), corner.y()), QPointF(corner.x(), corner.y() + notch)]
        painter.drawPolygon(QPolygonF(points))
        painter.setBrush(Qt.BrushStyle.NoBrush)

    @staticmethod
    def _paint_tick(painter: QPainter, corner: QPointF) -> None:
        """A tick where the image has been reviewed, on a small sheet so that it shows on any picture."""
        x, y = corner.x(), corner.y() - 16
        painter.fillRect(QRectF(x, y, 16, 16), theme.colour("sheet"))
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setPen(QPen(theme.colour("ink"), 1.6))
        painter.drawPolyline(QPolygonF([QPointF(x + 4, y + 8), QPointF(x + 7, y + 11), QPointF(x + 12, y + 5)]))

    def _paint_both(self, painter: QPainter, image: int, side: int, other: Other) -> None:
        """Both answers, each with its mark and its confidence; below them the label where neither gives it."""
        judged, classes = self.workspace.shown.snapshot.judged, self.workspace.shown.classes
        label_index = int(judged.labels[image])
        answers = (
            ("accent", int(judged.predicted[image]), float(judged.confidence[image])),
            ("second", int(other.predicted[image]), float(other.confidence[image])),
        )
        for line, (token, predicted, confidence) in enumerate(answers):
            area = QRect(0, side + 4 + 16 * line, side, 16)
            painter.setRenderHint(QPainter.RenderHint.Antialiasing)
            painter.setPen(Qt.PenStyle.NoPen)
            painter.setBrush(theme.colour(token))
            middle = area.center().y() + 0.5
            if token == "accent":
                painter.drawEllipse(QPointF(4, middle), 3.2, 3.2)
            else:
                painter.drawRect(QRectF(1, middle - 3, 6, 6))
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.setFont(font(12, QFont.Weight.Medium))
            number = "" if predicted < 0 or confidence != confidence else f"{confidence:.2f}"
            width = painter.fontMetrics().horizontalAdvance(number) + 4
            wrong = predicted >= 0 and label_index >= 0 and predicted != label_index
            painter.setPen(theme.colour("soft" if predicted < 0 else "wrong" if wrong else "ink"))
            name = "no answer" if predicted < 0 else classes[predicted] if predicted < len(classes) else "another class"
            shown = painter.fontMetrics().elidedText(
                printable(name), words.elided_by(classes), area.width() - width - 12
            )
            painter.drawText(area.adjusted(12, 0, 0, 0), Qt.AlignmentFlag.AlignLeft, shown)
            painter.setPen(theme.colour("soft"))
            painter.drawText(area, Qt.AlignmentFlag.AlignRight, number)
        text = (
            "no label"
            if label_index < 0
            else ""
            if label_index in (a[1] for a in answers)
            else f"labelled {classes[label_index]}"
        )
        painter.setFont(font(11))
        painter.setPen(theme.colour("soft"))
        area = QRect(12, side + 36, side - 12, 16)
        painter.drawText(
            area,
            Qt.AlignmentFlag.AlignLeft,
            painter.fontMetrics().elidedText(printable(text), words.elided_by(classes), area.width()),
        )

    def _paint_blind(self, painter: QPainter, image: int, side: int) -> None:
        """The label, and what this reader says instead; no answer."""
        shown, line = self.workspace.shown, QRect(0, side + 4, side, 16)
        labelled, said = int(shown.judged.labels[image]), shown.reviews[image].label
        told = f"labelled {shown.classes[labelled]}" if labelled >= 0 else "no label"
        for text, size, ink, at in (
            (told, 12, "ink" if labelled >= 0 else "soft", line),
            (f"you said {shown.classes[said]}" if said is not None else "", 11, "soft", line.translated(0, 16)),
        ):
            painter.setFont(font(size))
            painter.setPen(theme.colour(ink))
            cut = painter.fontMetrics().elidedText(printable(text), words.elided_by(shown.classes), side)
            painter.drawText(at, Qt.AlignmentFlag.AlignLeft, cut)

    def _paint_caption(self, painter: QPainter, image: int, side: int) -> None:
        judged, classes = self.workspace.shown.snapshot.judged, self.workspace.shown.classes
        line = QRect(0, side + 4, side, 16)
        label_index, predicted = int(judged.labels[image]), int(judged.predicted[image])
        if predicted < 0:
            words_for = {PENDING: "not scored yet", UNREADABLE: "no answer", FAILED: "scores failed"}
            painter.setFont(font(12))
            painter.setPen(theme.colour("soft"))
            painter.drawText(line, Qt.AlignmentFlag.AlignLeft, words_for.get(int(judged.state[image]), ""))
        else:
            painter.setFont(font(12, QFont.Weight.Medium))
            strained = self.workspace.shown.strained
            at = strained.predicted.get(image, -1) if strained is not None else -1
            number = f"{judged.confidence[image]:.2f}"
            if strained is not None and at >= 0:
                number = f"{strained.confidence[image]:.2f}"
            width = painter.fontMetrics().horizontalAdvance(number) + 4
            painter.setPen(theme.colour("ink"))
            shown = painter.fontMetrics().elidedText(
                printable(f"→ {classes[at]}" if at >= 0 else classes[predicted]),
                words.elided_by(classes),
                line.width() - width,
            )
            painter.drawText(line, Qt.AlignmentFlag.AlignLeft, shown)
            painter.setPen(theme.colour("soft"))
            painter.drawText(line, Qt.AlignmentFlag.AlignRight, number)
        painter.setFont(font(11))
        second = line.translated(0, 16)
        if label_index >= 0 and label_index != predicted:
            painter.setPen(theme.colour("wrong") if predicted >= 0 else theme.colour("soft"))
            text = f"labelled {classes[label_index]}"
        else:
            painter.setPen(theme.colour("soft"))
            text = "no label" if label_index < 0 else ""
        strained = self.workspace.shown.strained
        if strained is not None and strained.predicted.get(image, -1) >= 0 and predicted >= 0:
            text = f"before: {classes[predicted]}"
            painter.setPen(theme.colour("soft"))
        shown = painter.fontMetrics().elidedText(printable(text), words.elided_by(classes), second.width())
        painter.drawText(second, Qt.AlignmentFlag.AlignLeft, shown)
        if not text and predicted >= 0:
            bar = QRectF(second.left(), second.top() + 4, second.width(), 2)
            painter.fillRect(bar, theme.colour("line"))
            painter.fillRect(
                QRectF(bar.left(), bar.top(), bar.width() * float(judged.confidence[image]), 2),
                mix(theme.colour("line"), theme.colour("ink"), 0.55),
            )
