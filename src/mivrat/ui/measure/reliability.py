"""The reliability diagram: accuracy against confidence, bin by bin, with counts; a bin selects its images."""

from __future__ import annotations

from PySide6.QtCore import QEvent, QPointF, QRectF, QSize, Qt
from PySide6.QtGui import QHelpEvent, QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen
from PySide6.QtWidgets import QToolTip, QVBoxLayout, QWidget

from mivrat.core.figures.calibration import Calibration, ReliabilityBin
from mivrat.core.study.selection import Confidence
from mivrat.ui import words
from mivrat.ui.session import Session
from mivrat.ui.theme import font, mix, theme
from mivrat.ui.widgets import label


class ReliabilityDiagram(QWidget):
    """Paints the diagram above a bar chart of the counts."""

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        self.cursor_bin = -1
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setMinimumSize(QSize(260, 260))
        self.setAccessibleName("reliability diagram; arrow keys move over the bins, Enter selects")
        session.figures_changed.connect(self.update)
        session.selection_changed.connect(self.update)
        theme.changed.connect(self.update)

    @property
    def _calibration(self) -> Calibration | None:
        return self.session.snapshot.figures.calibration if self.session.snapshot else None

    def _places(self) -> tuple[QRectF, QRectF]:
        counts_height = max(70.0, self.height() * 0.2)
        side = min(self.width() - 70.0, self.height() - counts_height - 84.0, 460.0)
        plot = QRectF(54, 8, side, side)
        return plot, QRectF(plot.left(), plot.bottom() + 44, side, counts_height - 10)

    def bin_rect(self, m: int) -> QRectF:
        """The column of a bin in the upper diagram."""
        plot, _ = self._places()
        bins = len(self._calibration.bins) if self._calibration else 1
        return QRectF(plot.left() + m * plot.width() / bins, plot.top(), plot.width() / bins, plot.height())

    def paintEvent(self, event: QPaintEvent) -> None:  # noqa: N802
        with QPainter(self) as painter:
            self._paint(painter)

    def _paint(self, painter: QPainter) -> None:
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        plot, counts = self._places()
        painter.setFont(font(11))
        self._paint_axes(painter, plot, counts)
        if self._calibration is None:
            return
        chosen = {r for c in self.session.conditions if isinstance(c, Confidence) for r in c.ranges}
        most = max(1, *(b.count for b in self._calibration.bins))
        for m, one in enumerate(self._calibration.bins):
            self._paint_bin(painter, plot, counts, m, one, most, (one.low, one.high) in chosen)

    def _paint_axes(self, painter: QPainter, plot: QRectF, counts: QRectF) -> None:
        painter.fillRect(plot, theme.colour("sheet"))
        for tick in range(6):
            share = tick / 5
            x, y = plot.left() + share * plot.width(), plot.bottom() - share * plot.height()
            painter.setPen(theme.colour("line"))
            painter.drawLine(QPointF(plot.left(), y), QPointF(plot.right(), y))
            painter.setPen(theme.colour("soft"))
            painter.drawText(
                QRectF(0, y - 9, plot.left() - 8, 18),
                Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter,
                f"{share:.0%}".replace("%", " %"),
            )
            painter.drawText(QRectF(x - 25, plot.bottom() + 4, 50, 16), Qt.AlignmentFlag.AlignCenter, f"{share:.1f}")
        painter.drawText(
            QRectF(plot.left(), plot.bottom() + 20, plot.width(), 16), Qt.AlignmentFlag.AlignCenter, "confidence"
        )
        painter.save()
        painter.translate(9, plot.center().y())
        painter.rotate(-90)
        painter.drawText(QRectF(-80, -8, 160, 16), Qt.AlignmentFlag.AlignCenter, "accuracy")
        painter.restore()
        painter.drawText(QRectF(0, counts.top(), plot.left() - 8, 16), Qt.AlignmentFlag.AlignRight, "images")
        painter.setPen(QPen(theme.colour("soft"), 1, Qt.PenStyle.DashLine))
        painter.drawLine(plot.bottomLeft(), plot.topRight())
        painter.setPen(theme.colour("line"))
        painter.drawLine(counts.bottomLeft(), counts.bottomRight())

    def _paint_bin(
        self, painter: QPainter, plot: QRectF, counts: QRectF, m: int, one: ReliabilityBin, most: int, chosen: bool
    ) -> None:
        column = self.bin_rect(m)
        if chosen or (m == self.cursor_bin and self.hasFocus()):
            painter.fillRect(column, theme.colour("accent_wash"))
            painter.fillRect(
                QRectF(column.left(), counts.top(), column.width(), counts.height()), theme.colour("accent_wash")
            )
        if not one.count or one.confidence is None or one.accuracy.value is None:
            return
        height = one.count / most * (counts.height() - 16)
        painter.fillRect(
            QRectF(column.left() + 1, counts.bottom() - height, column.width() - 2, height),
            mix(theme.colour("sheet"), theme.colour("accent"), 0.55),
        )
        painter.setPen(theme.colour("ink"))
        if column.width() >= 18:
            painter.drawText(
                QRectF(column.left() - 10, counts.bottom() - height - 15, column.width() + 20, 14),
                Qt.AlignmentFlag.AlignCenter,
                str(one.count),
            )
        x = plot.left() + one.confidence * plot.width()
        y = plot.bottom() - one.accuracy.value * plot.height()
        expected = plot.bottom() - one.confidence * plot.height()
        thickness = min(12.0, column.width() * 0.5)
        painter.fillRect(
            QRectF(x - thickness / 2, min(y, expected), thickness, abs(y - expected)),
            mix(theme.colour("sheet"), theme.colour("wrong"), 0.45),
        )
        if one.accuracy.low is not None and one.accuracy.high is not None:
            painter.setPen(QPen(theme.colour("accent"), 1))
            painter.drawLine(
                QPointF(x, plot.bottom() - one.accuracy.low * plot.height()),
                QPointF(x, plot.bottom() - one.accuracy.high * plot.height()),
            )
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(theme.colour("accent"))
        painter.drawEllipse(QPointF(x, y), 4, 4)
        painter.setBrush(Qt.BrushStyle.NoBrush)

    def _bin_at(self, point: QPointF) -> int:
        plot, counts = self._places()
        if self._calibration is None or not (
            plot.left() <= point.x() <= plot.right() and plot.top() <= point.y() <= counts.bottom()
        ):
            return -1
        bins = len(self._calibration.bins)
        return min(bins - 1, int((point.x() - plot.left()) / plot.width() * bins))

    def select(self, m: int, beside: bool) -> None:
        if self._calibration and 0 <= m < len(self._calibration.bins):
            one = self._calibration.bins[m]
            self.session.choose(Confidence(frozenset({(one.low, one.high)})), beside=beside)

    def mousePressEvent(self, event: QMouseEvent) -> None:  # noqa: N802
        if event.button() == Qt.MouseButton.LeftButton:
            self.cursor_bin = self._bin_at(event.position())
            self.select(self.cursor_bin, bool(event.modifiers() & Qt.KeyboardModifier.ControlModifier))

    def keyPressEvent(self, event: QKeyEvent) -> None:  # noqa: N802
        bins = len(self._calibration.bins) if self._calibration else 0
        if (
            event.key() in (Qt.Key.Key_Left, Qt.Key.Key_Right)
            and bins
            and not event.modifiers() & Qt.KeyboardModifier.AltModifier
        ):
            self.cursor_bin = min(bins - 1, max(0, self.cursor_bin + (1 if event.key() == Qt.Key.Key_Right else -1)))
            QToolTip.showText(
                self.mapToGlobal(self.bin_rect(self.cursor_bin).bottomRight().toPoint()),
                self.describe(self.cursor_bin),
                self,
            )
            self.update()
        elif event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter, Qt.Key.Key_Space):
            self.select(self.cursor_bin, bool(event.modifiers() & Qt.KeyboardModifier.ControlModifier))
        else:
            super().keyPressEvent(event)

    def describe(self, m: int) -> str:
        """A bin in words."""
        assert self._calibration is not None
        one = self._calibration.bins[m]
        head = f"confidence {one.low:.2f} – {one.high:.2f}: {words.images(one.count)}"
        if one.confidence is None:
            return head
        return f"{head}\nmean confidence {words.percent(one.confidence)}, right {words.percent(one.accuracy.value)} ({words.bounds(one.accuracy)})"

    def event(self, event: QEvent) -> bool:
        if event.type() == QEvent.Type.ToolTip and isinstance(event, QHelpEvent):
            m = self._bin_at(QPointF(event.pos()))
            if m >= 0:
                QToolTip.showText(event.globalPos(), self.describe(m), self)
            else:
                QToolTip.hideText()
            return True
        return super().event(event)


class Reliability(QWidget):
    """The diagram under a sentence with its figures."""

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        self.summary = label(wrap=True)
        self.diagram = ReliabilityDiagram(session)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 8, 0, 8)
        layout.addWidget(self.summary)
        layout.addWidget(
            label(
                "Points: accuracy of the images in a bin of confidence, with 95 % interval. Dashed: what confidence promises. Broad bar: the gap.",
                soft=True,
                wrap=True,
            )
        )
        layout.addWidget(self.diagram, 1)
        session.figures_changed.connect(self._refresh)

    def _refresh(self) -> None:
        snapshot = self.session.snapshot
        gap = snapshot.figures.calibration.signed_gap if snapshot else None
        if snapshot is None or gap is None:
            self.summary.setText("No labelled image has been scored yet.")
            return
        found = snapshot.figures.calibration
        lean = (
            "Confidence and accuracy agree on average"
            if abs(gap) < 0.005
            else f"On average {abs(100 * gap):.1f} points {'over' if gap > 0 else 'under'}confident"
        )
        self.summary.setText(
            f"{lean}.  ECE {words.percent(found.ece)}, largest gap {words.percent(found.mce)}  ({len(found.bins)} bins, N = {snapshot.figures.total})"
        )
        self.summary.setToolTip(
            "ECE: mean gap between confidence and accuracy over the bins, weighted by images (Naeini 2015; Guo 2017). It reads too high at small N.\nLargest gap: over bins that hold images."
        )
