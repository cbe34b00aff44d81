"""Accuracy against coverage: a threshold that can be dragged reads out how much is answered, and how right that is."""

from __future__ import annotations

import numpy as np
from PySide6.QtCore import QPointF, QRectF, QSize, Qt
from PySide6.QtGui import QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen, QPolygonF
from PySide6.QtWidgets import QSizePolicy, QVBoxLayout, QWidget

from mivrat.core.figures.selective import Selective
from mivrat.core.selecting.selection import Confidence
from mivrat.ui import words
from mivrat.ui.parts.late import Late
from mivrat.ui.parts.widgets import button, label, row
from mivrat.ui.theme import font, theme
from mivrat.workspace.workspace import Workspace


class CoverageCurve(QWidget):
    """Paints the curve with its threshold; drag it, or move it with the arrow keys."""

    def __init__(self, page: Coverage) -> None:
        super().__init__()
        self._page = page
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setMinimumSize(QSize(260, 220))
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Expanding)
        self.setAccessibleName("accuracy against coverage; arrow keys move the threshold")
        self.setCursor(Qt.CursorShape.SizeHorCursor)
        theme.changed.connect(self.update)

    def place(self) -> QRectF:
        """Where the plot stands."""
        return QRectF(54, 10, max(50.0, self.width() - 74.0), max(50.0, self.height() - 56.0))

    def _least(self, found: Selective) -> float:
        """The lowest accuracy drawn, a multiple of ten percent below all of the curve."""
        shares = found.hits / np.maximum(found.answered, 1)
        steady = shares[found.answered >= min(20, found.total)]
        return max(0.0, np.floor(float(steady.min()) * 10 - 0.3) / 10) if len(steady) else 0.0

    def paintEvent(self, event: QPaintEvent) -> None:  # noqa: N802
        with QPainter(self) as painter:
            self._paint(painter)

    def _paint(self, painter: QPainter) -> None:
        found, plot = self._page.selective, self.place()
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.fillRect(plot, theme.colour("sheet"))
        painter.setFont(font(11))
        if found is None or not found.total:
            return
        least = self._least(found)

        def at(coverage: float, accuracy: float) -> QPointF:
            share = (min(1.0, max(least, accuracy)) - least) / max(1e-9, 1 - least)
            return QPointF(plot.left() + coverage * plot.width(), plot.bottom() - share * plot.height())

        right = Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter
        steps = round((1 - least) * 10)
        for tick in range(steps + 1):
            spot = at(0, least + tick / 10)
            painter.setPen(theme.colour("line"))
            painter.drawLine(spot, QPointF(plot.right(), spot.y()))
            painter.setPen(theme.colour("soft"))
            painter.drawText(QRectF(0, spot.y() - 9, plot.left() - 8, 18), right, f"{100 * least + 10 * tick:.0f} %")
        for tick in range(6):
            spot = at(tick / 5, least)
            where = QRectF(spot.x() - 25, plot.bottom() + 4, 50, 16)
            painter.drawText(where, Qt.AlignmentFlag.AlignCenter, f"{20 * tick} %")
        painter.drawText(
            QRectF(plot.left(), plot.bottom() + 22, plot.width(), 16),
            Qt.AlignmentFlag.AlignCenter,
            "images answered, surest first (upright: share of them right)",
        )
        some = np.unique(np.linspace(0, len(found.answered) - 1, 600).astype(int))
        points = [
            at(found.answered[i] / found.total, found.hits[i] / found.answered[i])
            for i in some
            if found.answered[i] >= min(20, found.total)
        ]
        painter.setPen(QPen(theme.colour("accent"), 2))
        painter.drawPolyline(QPolygonF(points))
        share = found.at(self._page.threshold)
        if share.value is None or share.low is None or share.high is None:
            return
        coverage = share.total / found.total
        painter.setPen(QPen(theme.colour("ink"), 1))
        painter.drawLine(at(coverage, 1.0), at(coverage, least))
        painter.setPen(QPen(theme.colour("ink"), 3))
        painter.drawLine(at(coverage, share.low), at(coverage, share.high))
        painter.setBrush(theme.colour("ink"))
        painter.drawEllipse(at(coverage, share.value), 4, 4)
        painter.setBrush(Qt.BrushStyle.NoBrush)
        if self.hasFocus():
            painter.setPen(QPen(theme.colour("accent"), 1, Qt.PenStyle.DotLine))
            painter.drawRect(plot.adjusted(-3, -3, 3, 3))

    def _drag(self, x: float) -> None:
        found, plot = self._page.selective, self.place()
        if found is not None and found.total:
            wanted = min(1.0, max(0.0, (x - plot.left()) / plot.width())) * found.total
            i = min(len(found.answered) - 1, int(np.searchsorted(found.answered, wanted)))
            self._page.set_threshold(float(found.thresholds[i]))

    def mousePressEvent(self, event: QMouseEvent) -> None:  # noqa: N802
        self._drag(event.position().x())

    def mouseMoveEvent(self, event: QMouseEvent) -> None:  # noqa: N802
        self._drag(event.position().x())

    def keyPressEvent(self, event: QKeyEvent) -> None:  # noqa: N802
        steps = {Qt.Key.Key_Left: 0.01, Qt.Key.Key_Right: -0.01}
        if event.key() in steps and not event.modifiers() & Qt.KeyboardModifier.AltModifier:
            self._page.set_threshold(min(1.0, max(0.0, self._page.threshold + steps[Qt.Key(event.key())])))
        else:
            super().keyPressEvent(event)


class Coverage(QWidget):
    """The curve under its reading, with the lowest thresholds for usual targets."""

    def __init__(self, workspace: Workspace) -> None:
        super().__init__()
        self.workspace, self.threshold = workspace, 0.5
        self.reading = label("", "heading", wrap=True)
        self.targets = label(soft=True, wrap=True)
        self.curve = CoverageCurve(self)
        self.pick = button("Show those below the threshold", self._pick, kind="small")
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 4, 0, 0)
        layout.addWidget(self.reading)
        layout.addWidget(self.targets)
        layout.addWidget(self.curve, 1)
        layout.addLayout(row(self.pick, None))
        self._late = Late(self, self.refresh)
        workspace.topics.measured.connect(self._late.ask)

    @property
    def selective(self) -> Selective | None:
        measured = self.workspace.shown.measured
        return measured.deep.selective if measured.deep is not None else None

    def set_threshold(self, threshold: float) -> None:
        """Answer only where confidence is at least this."""
        self.threshold = threshold
        self.refresh()

    def refresh(self) -> None:
        found = self.selective
        self.pick.setEnabled(found is not None and bool(found.total))
        if found is None or not found.total:
            self.reading.setText("Being worked out …" if found is None else "No labelled image has been scored yet.")
            self.targets.setText("")
            self.curve.update()
            return
        share = found.at(self.threshold)
        answered = share.total / found.total
        right = f"right {words.with_bounds(share)}" if share.total else "none"
        self.reading.setText(
            f"At {self.threshold:.2f}: answers {words.percent(answered)} of {words.images(found.total)}, {right}"
        )
        texts = []
        for target in (0.9, 0.95, 0.99):
            reached = found.lowest_for(target)
            text = (
                "no threshold"
                if reached is None
                else f"from {reached[0]:.3f} on ({words.percent(reached[1].total / found.total)})"
            )
            texts.append(f"at least {100 * target:.0f} % right: {text}")
        self.targets.setText(
            f"{'; '.join(texts)}. The guarantee fails in at most 5 % of studies. Area under risk and coverage {words.decimal(found.aurc)}."
        )
        self.curve.update()

    def _pick(self) -> None:
        self.workspace.shown.choose(Confidence(frozenset({(0.0, float(np.nextafter(self.threshold, 0)))})))
