"""The report as it will be printed, page by page, beside the figures."""

from __future__ import annotations

from PySide6.QtCore import Qt
from PySide6.QtGui import QKeyEvent, QPixmap, QResizeEvent, QShowEvent
from PySide6.QtWidgets import QLabel, QVBoxLayout, QWidget

from mivrat.core.pictures.decode import Pixels
from mivrat.ui.parts.pictures import to_image
from mivrat.ui.parts.widgets import Choice, Scrolled, button, label, tip
from mivrat.ui.parts.wrapping import flowing
from mivrat.workspace.executors import LatestOnly
from mivrat.workspace.pdf_pages import count_pages, draw_page
from mivrat.workspace.reporting import Reporter

ZOOMS = ("whole width", "whole page", "twice as large")
MARGIN = 14


class ReportPreview(QWidget):
    """One page at a time; PgUp and PgDown turn it."""

    def __init__(self, reporter: Reporter) -> None:
        super().__init__()
        self.setObjectName("lightTable")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAccessibleName("the report as it will be printed")
        self.reporter, self.workspace = reporter, reporter.workspace
        self.page, self.pages = 0, 0
        self._pdf: bytes | None = None
        self._workers = self.workspace.group(1)
        self._drawing = LatestOnly(self._workers)
        self._soon = self.workspace.soon(60, self._draw)
        self.where = label("Report")
        self.back, self.on = (
            button("‹", lambda: self.turn(-1), kind="quiet"),
            button("›", lambda: self.turn(1), kind="quiet"),
        )
        for one, what in ((self.back, "page before"), (self.on, "page after")):
            one.setAccessibleName(what)
            tip(one, f"{what[:1].upper()}{what[1:]} ({'PgUp' if one is self.back else 'PgDown'})")
            one.setFixedWidth(30)
        self.zoom = Choice(ZOOMS, "size of the page")
        self.zoom.activated.connect(lambda _: self._draw())
        self.state = label(soft=True)
        self.halt = button("Stop", reporter.halt, kind="quiet")
        self.halt.setAccessibleName("stop making the pages")
        self.picture = QLabel()
        self.picture.setAlignment(Qt.AlignmentFlag.AlignHCenter | Qt.AlignmentFlag.AlignTop)
        self.told = label("", soft=True, wrap=True)
        body = QWidget()
        inside = QVBoxLayout(body)
        inside.setContentsMargins(MARGIN, 4, MARGIN, MARGIN)
        inside.addWidget(self.told)
        inside.addWidget(self.picture)
        inside.addStretch(1)
        self.scrolled = Scrolled(body)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(12, 10, 8, 0)
        layout.addLayout(flowing(self.where, self.back, self.on, self.zoom, self.state, self.halt))
        layout.addWidget(self.scrolled, 1)
        reporter.pages_changed.connect(self.refresh)

    def refresh(self) -> None:
        """Follow the report."""
        reporter = self.reporter
        if reporter.pdf is not self._pdf:
            self._pdf = reporter.pdf
            self.pages = count_pages(self._pdf) if self._pdf else 0
            self.page = max(0, min(self.page, self.pages - 1))
            if self._pdf is None:
                self.picture.clear()
            self._draw()
        making = f"making the {reporter.making} …" if reporter.making else ""
        self.state.setText(making if self.pages else "")
        self.halt.setVisible(bool(reporter.making))
        self.told.setText(reporter.problem or ("" if self.pages else making[:1].upper() + making[1:]))
        self.told.setVisible(bool(self.told.text()))
        self._notify()

    def _notify(self) -> None:
        self.where.setText(f"Report   page {self.page + 1} of {self.pages}" if self.pages else "Report")
        self.back.setEnabled(self.page > 0)
        self.on.setEnabled(self.page + 1 < self.pages)
        self.zoom.setVisible(bool(self.pages))

    def turn(self, by: int) -> None:
        """Turn pages."""
        to = max(0, min(self.page + by, self.pages - 1))
        if to != self.page:
            self.page = to
            self.scrolled.verticalScrollBar().setValue(0)
            self._notify()
            self._draw()

    def resizeEvent(self, event: QResizeEvent) -> None:
        super().resizeEvent(event)
        self._soon.start()

    def _width(self) -> int:
        room, bar = self.scrolled.size(), self.scrolled.verticalScrollBar().sizeHint().width()
        whole = max(200, room.width() - 2 * MARGIN - bar)  # the bar comes with the page
        return (whole, min(whole, round((room.height() - 2 * MARGIN) / 2**0.5)), 2 * whole)[self.zoom.currentIndex()]

    def _draw(self) -> None:
        pdf, page, ratio = self._pdf, self.page, self.devicePixelRatioF()
        if pdf is None or not self.isVisible():
            return
        width = round(self._width() * ratio)
        self._drawing.start(lambda task: draw_page(pdf, page, width), done=lambda pixels: self._show(pixels, ratio))

    def _show(self, pixels: Pixels, ratio: float) -> None:
        picture = QPixmap.fromImage(to_image(pixels))
        picture.setDevicePixelRatio(ratio)
        self.picture.setPixmap(picture)
        self.picture.setAccessibleName(f"page {self.page + 1} of {self.pages}")

    def showEvent(self, event: QShowEvent) -> None:
        super().showEvent(event)
        self._draw()

    def keyPressEvent(self, event: QKeyEvent) -> None:
        if event.key() in (Qt.Key.Key_PageDown, Qt.Key.Key_PageUp):
            self.turn(1 if event.key() == Qt.Key.Key_PageDown else -1)
        elif event.key() in (Qt.Key.Key_Home, Qt.Key.Key_End):
            self.turn(-self.page if event.key() == Qt.Key.Key_Home else self.pages)
        elif event.key() in (Qt.Key.Key_Down, Qt.Key.Key_Up):
            bar = self.scrolled.verticalScrollBar()
            bar.setValue(bar.value() + (60 if event.key() == Qt.Key.Key_Down else -60))
        else:
            super().keyPressEvent(event)

    @property
    def settled(self) -> bool:
        return not self._workers.busy and not self._soon.waiting

    def stop(self) -> None:
        self._soon.stop()
        self._workers.stop_all()
