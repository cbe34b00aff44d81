"""The reliability diagram: accuracy against confidence, bin by bin, with counts; a bin selects its images."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray
from PySide6.QtCore import QEvent, QPointF, QRectF, QSize, Qt
from PySide6.QtGui import QHelpEvent, QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen, QPolygonF
from PySide6.QtWidgets import QStackedWidget, QToolTip, QVBoxLayout, QWidget

from mivrat.core.answers.judged import Judged
from mivrat.core.figures.calibration import Calibration, ReliabilityBin, adaptive_calibration, calibration
from mivrat.core.figures.units import calibration_over_units
from mivrat.core.selecting.selection import Confidence
from mivrat.ui import words
from mivrat.ui.measure.coverage import Coverage
from mivrat.ui.measure.threshold import ThresholdPage
from mivrat.ui.theme import font, mix, theme
from mivrat.ui.widgets import Choice, button, label, plain, row, tip
from mivrat.workspace import study_edits
from mivrat.workspace.executors import Task
from mivrat.workspace.workspace import Workspace


class ReliabilityDiagram(QWidget):
    """Paints the diagram above a bar chart of the counts."""

    def __init__(self, workspace: Workspace) -> None:
        super().__init__()
        self.workspace = workspace
        self.cursor_bin = -1
        self.equal_count = self.with_temperature = False
        self.of_class: Calibration | None = None
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setMinimumSize(QSize(260, 260))
        self.setAccessibleName("reliability diagram; arrow keys move over the bins, Enter selects")
        workspace.topics.measured.connect(self.update)
        workspace.topics.selection.connect(self.update)
        theme.changed.connect(self.update)

    @property
    def _calibration(self) -> Calibration | None:
        measured = self.workspace.shown.measured
        if self.of_class is not None:
            return self.of_class
        if self.equal_count and measured.deep is not None:
            return measured.deep.adaptive
        return measured.figures.calibration

    def bins(self) -> list[ReliabilityBin]:
        """The bins shown."""
        return self._calibration.bins if self._calibration else []

    def after(self) -> Calibration | None:
        """What is drawn over the bins: the reliability after temperature scaling, out of fold."""
        measured = self.workspace.shown.measured
        deep = measured.deep
        if not self.with_temperature or self.of_class is not None or deep is None or deep.temperature is None:
            return None
        return deep.temperature.reliability_after

    def _places(self) -> tuple[QRectF, QRectF]:
        counts_height = max(70.0, self.height() * 0.2)
        side = min(self.width() - 70.0, self.height() - counts_height - 84.0, 460.0)
        plot = QRectF(54, 8, side, side)
        return plot, QRectF(plot.left(), plot.bottom() + 44, side, counts_height - 10)

    def bin_rect(self, m: int) -> QRectF:
        """The column of a bin in the upper diagram."""
        plot, _ = self._places()
        one = self.bins()[m]
        left, right = plot.left() + one.low * plot.width(), plot.left() + one.high * plot.width()
        return QRectF(left, plot.top(), max(2.0, right - left), plot.height())

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
        chosen = {r for c in self.workspace.shown.conditions if isinstance(c, Confidence) for r in c.ranges}
        most = max(1, *(b.count for b in self._calibration.bins))
        for m, one in enumerate(self._calibration.bins):
            self._paint_bin(painter, plot, counts, m, one, most, (one.low, one.high) in chosen)
        if (after := self.after()) is not None:
            self._paint_after(painter, plot, after)

    def _paint_after(self, painter: QPainter, plot: QRectF, after: Calibration) -> None:
        """Rings joined by a line, so that they cannot be taken for the points before."""
        points = [
            QPointF(plot.left() + b.confidence * plot.width(), plot.bottom() - b.accuracy.value * plot.height())
            for b in after.bins
            if b.confidence is not None and b.accuracy.value is not None
        ]
        painter.setPen(QPen(theme.colour("ink"), 1.5))
        painter.drawPolyline(QPolygonF(points))
        painter.setBrush(theme.colour("sheet"))
        for point in points:
            painter.drawEllipse(point, 4, 4)
        painter.setBrush(Qt.BrushStyle.NoBrush)

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
            QRectF(plot.left(), plot.bottom() + 20, plot.width(), 16),
            Qt.AlignmentFlag.AlignCenter,
            "its probability" if self.of_class else "confidence",
        )
        painter.save()
        painter.translate(9, plot.center().y())
        painter.rotate(-90)
        painter.drawText(
            QRectF(-80, -8, 160, 16), Qt.AlignmentFlag.AlignCenter, "share labelled so" if self.of_class else "accuracy"
        )
        painter.restore()
        told = QRectF(0, counts.top(), plot.left() - 8, 46)
        painter.drawText(told, Qt.AlignmentFlag.AlignRight, "images" if self.of_class else "images,\nwrong\non top")
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
        wrong = height * (one.count - one.accuracy.hits) / one.count if self.of_class is None else 0.0
        bar = QRectF(column.left() + 1, counts.bottom() - height, column.width() - 2, height)
        painter.fillRect(bar, mix(theme.colour("sheet"), theme.colour("accent"), 0.55))
        painter.fillRect(
            QRectF(bar.left(), bar.top(), bar.width(), wrong), mix(theme.colour("sheet"), theme.colour("wrong"), 0.6)
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
        share = (point.x() - plot.left()) / plot.width()
        return next((m for m, one in enumerate(self.bins()) if one.low <= share <= one.high), -1)

    def select(self, m: int, beside: bool, *, enter: bool = False) -> None:
        # Bins of one class's probability are not bins of confidence: there is nothing to select by.
        if self.of_class is None and self._calibration and 0 <= m < len(self._calibration.bins):
            one = self._calibration.bins[m]
            choose = self.workspace.shown.enter if enter else self.workspace.shown.choose
            choose(Confidence(frozenset({(one.low, one.high)})), beside=beside)

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
                plain(self.describe(self.cursor_bin)),
                self,
            )
            self.update()
        elif event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter, Qt.Key.Key_Space):
            beside = bool(event.modifiers() & Qt.KeyboardModifier.ControlModifier)
            self.select(self.cursor_bin, beside, enter=event.key() != Qt.Key.Key_Space)
        else:
            super().keyPressEvent(event)

    def describe(self, m: int) -> str:
        """A bin in words."""
        assert self._calibration is not None
        one = self._calibration.bins[m]
        head = f"confidence {one.low:.2f} – {one.high:.2f}: {words.images(one.count)}"
        if one.confidence is None:
            return head
        return f"{head}\nmean confidence {words.percent(one.confidence)}, right {words.with_bounds(one.accuracy)}"

    def event(self, event: QEvent) -> bool:
        if event.type() == QEvent.Type.ToolTip and isinstance(event, QHelpEvent):
            m = self._bin_at(QPointF(event.pos()))
            if m >= 0:
                QToolTip.showText(event.globalPos(), plain(self.describe(m)), self)
            else:
                QToolTip.hideText()
            return True
        return super().event(event)


class Reliability(QWidget):
    """The diagram under a sentence with its figures; or accuracy against coverage in its place."""

    def __init__(self, workspace: Workspace) -> None:
        super().__init__()
        self.workspace = workspace
        self.summary, self.further = label(wrap=True), label(soft=True, wrap=True)
        self.diagram, self.coverage = ReliabilityDiagram(workspace), Coverage(workspace)
        self.threshold = ThresholdPage(workspace)
        self.view = Choice(
            [
                "reliability, bins of equal width",
                "reliability, bins of equal count",
                "reliability, with temperature",
                "accuracy and coverage",
                "threshold and costs",
            ],
            "what is drawn",
        )
        self.view.currentIndexChanged.connect(self._choose)
        self.one_class = Choice(["all classes"], "confidence, or one class's probability")
        self.one_class.setMaximumWidth(220)
        self.one_class.activated.connect(lambda _: self._start())
        self._workers = self.workspace.parallel.group(1)
        self._working: Task | None = None
        self.pages = QStackedWidget()
        for page in (self.diagram, self.coverage, self.threshold):
            self.pages.addWidget(page)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 8, 0, 8)
        self.adopt = button("", self._adopt, kind="small")
        tip(self.adopt, "The close look ranks classes by the scores at this temperature; no figure changes by it")
        self.adopt.hide()
        layout.addLayout(row(self.view, self.one_class, None, self.adopt))
        layout.addWidget(self.summary)
        layout.addWidget(self.further)
        layout.addWidget(self.pages, 1)
        workspace.topics.measured.connect(self._refresh)
        workspace.topics.measured.connect(self._start)
        workspace.topics.run.connect(self._list_classes)

    def _fitted(self) -> float | None:
        """The temperature that fits best, where it can be told."""
        deep = self.workspace.shown.measured.deep
        found = deep.temperature if deep is not None else None
        return found.value if found is not None and found.identifiable else None

    def _offer(self) -> None:
        snapshot, fitted = self.workspace.shown.snapshot, self._fitted()
        now = snapshot.record.temperature
        self.adopt.setVisible(self.diagram.with_temperature and (fitted is not None or now is not None))
        self.adopt.setText("Scores as they are" if now is not None else "Apply to the scores shown")
        self.adopt.setEnabled(not self.workspace.busy)

    def _adopt(self) -> None:
        snapshot = self.workspace.shown.snapshot
        now = snapshot.record.temperature
        wanted = self._fitted() if now is None else None
        self.workspace.edits.take(study_edits.set_temperature(snapshot.record.info.model_id, wanted, now))

    def _list_classes(self) -> None:
        self.one_class.clear()
        self.one_class.addItems(["all classes", *(words.clipped(name, 40) for name in self.workspace.shown.classes)])

    def _start(self) -> None:
        """Work out the calibration of one class's probability: the share labelled so, bin by bin."""
        k = self.one_class.currentIndex() - 1 if not self.diagram.with_temperature else -1
        snapshot, measured = self.workspace.shown.snapshot, self.workspace.shown.measured
        if self._working is not None:
            self._working.cancel()
        if k < 0 or not snapshot.judged.has_scores:
            self._take(None)
            return
        judged, use = snapshot.judged, np.flatnonzero(snapshot.judged.evaluated)
        if measured.of_selection:
            use = np.intersect1d(use, self.workspace.shown.images)
        self._working = self._workers.start(
            lambda work: _of_class(judged, k, use, self.diagram.equal_count), done=self._take
        )

    def _take(self, found: Calibration | None) -> None:
        self.diagram.of_class = found
        self.diagram.update()
        self._refresh()

    def _choose(self, index: int) -> None:
        self.diagram.equal_count, self.diagram.with_temperature = index == 1, index == 2
        self.one_class.setVisible(index < 2)
        self._start()
        self.pages.setCurrentIndex(max(0, index - 2))
        self._offer()
        self.summary.setVisible(index < 3)
        self.further.setVisible(index < 3)

    def _refresh(self) -> None:
        self._offer()
        measured = self.workspace.shown.measured
        gap = measured.figures.calibration.signed_gap
        if gap is None:
            self.summary.setText("No labelled image has been scored yet.")
            self.further.setText("")
            return
        found, deep = measured.figures.calibration, measured.deep
        one = self.diagram.of_class
        if one is not None:
            total = sum(each.count for each in one.bins)
            self.summary.setText(
                f"Probability of {self.one_class.currentText()} against the share labelled so: mean gap "
                f"{words.percent(one.ece)} over {len(one.bins)} bins (N = {total})."
            )
            self.further.setText("")
            return
        lean = (
            "Confidence and accuracy agree on average"
            if abs(gap) < 0.005
            else f"On average {abs(100 * gap):.1f} points {'over' if gap > 0 else 'under'}confident"
        )
        chance = ""
        if deep is not None and deep.chance is not None and found.ece is not None:
            beyond = "more than chance explains" if found.ece > deep.chance.high else "no more than chance would show"
            chance = f"; by chance {words.percent(deep.chance.median)}, 95 % below {words.percent(deep.chance.high)}: {beyond}"
        self.summary.setText(f"{lean}.  ECE {words.percent(found.ece)} (N = {measured.figures.total}){chance}.")
        tip(
            self.summary,
            f"ECE: mean gap between confidence and accuracy over {len(found.bins)} bins of equal width, weighted by images (Naeini 2015; Guo 2017); largest gap {words.percent(found.mce)}. It reads too high at small N: by chance is what a perfectly calibrated model would show on as many images.",
        )
        self.further.setText(self._temperature())
        tip(
            self.further,
            "Dashed: perfect calibration. Points: share right, with 95 % interval. Broad bar: the gap.",
        )

    def _temperature(self) -> str:
        deep = self.workspace.shown.measured.deep
        found = deep.temperature if deep is not None else None
        if deep is None:
            return "Temperature, chance and coverage are being worked out …"
        if found is None:
            return "Temperature scaling needs a score for every class."
        if not found.identifiable or found.log_loss_after is None:
            return "No temperature can be fitted to these images (too few, one class only, or all right)."
        return (
            f"Temperature {found.value:.2f}: out of fold, log loss {words.decimal(found.log_loss_before)} → "
            f"{words.decimal(found.log_loss_after)}, ECE {words.percent(found.ece_before)} → {words.percent(found.ece_after)} (5 folds)."
            + (" Points: as it is. Rings: with that temperature, out of fold." if self.diagram.with_temperature else "")
        )

    @property
    def settled(self) -> bool:
        return not self._workers.busy

    def stop(self) -> None:
        self._workers.stop_all()

    def as_table(self) -> list[list[str]]:
        """The bins, for the clipboard."""
        after = self.diagram.after()
        found = [("as it is", self.diagram.bins()), ("with temperature", after.bins if after is not None else [])]
        lines = []
        for which, bins in found:
            for one in bins:
                share = one.accuracy
                digits = ["" if v is None else f"{v:.6f}" for v in (one.confidence, share.value, share.low, share.high)]
                lines.append([which, f"{one.low:.6f}", f"{one.high:.6f}", str(one.count), *digits])
        return [["scores", "from", "to", "images", "mean confidence", "right", "low", "high"], *lines]


def _of_class(judged: Judged, k: int, use: NDArray[np.integer], equal_count: bool) -> Calibration:
    """The calibration of one class's probability over some images."""
    column, of_it = judged.column(k, use), judged.labels[use] == k
    found = (adaptive_calibration if equal_count else calibration)(column, of_it)
    if judged.units is None:
        return found
    return calibration_over_units(found, column, of_it, judged.units.of(use), equal_count)
