"""The window's foot: long work with its stop button, what is said, the keys of the moment."""

from __future__ import annotations

from pathlib import Path

from PySide6.QtCore import QSize, Qt, QTimer, Signal
from PySide6.QtGui import QResizeEvent
from PySide6.QtWidgets import QFrame, QHBoxLayout, QProgressBar

from mivrat.core.base.job import Progress
from mivrat.core.base.text import clipped
from mivrat.ui.actions import tooltip
from mivrat.ui.parts.widgets import Elided, Plain, button, label, open_folder_of, set_role, tip

# How long what is said stays, in ms: a sentence is read in that time; a folder is opened later.
LASTS, LASTS_WITH_FOLDER = 15_000, 120_000


class _Keys(Plain):
    """The keys of the moment: as many of them, whole, as there is room for."""

    BETWEEN = "      "

    def __init__(self) -> None:
        super().__init__()
        self.setProperty("soft", True)
        self.setMinimumWidth(0)
        self._keys: list[str] = []

    def show_keys(self, keys: list[str]) -> None:
        self._keys = keys
        self._fit()
        self.updateGeometry()

    def sizeHint(self) -> QSize:
        return QSize(
            self.fontMetrics().horizontalAdvance(self.BETWEEN.join(self._keys)) + 4, super().sizeHint().height()
        )

    def minimumSizeHint(self) -> QSize:
        return QSize(0, super().minimumSizeHint().height())

    def resizeEvent(self, event: QResizeEvent) -> None:
        super().resizeEvent(event)
        self._fit()

    def _fit(self) -> None:
        some = list(self._keys)
        # The last one tells of all others, so it stays the longest.
        while len(some) > 1 and self.fontMetrics().horizontalAdvance(self.BETWEEN.join(some)) > self.width():
            del some[-2]
        self.setText(self.BETWEEN.join(some))


class Foot(QFrame):
    """On the left the long job that is going on, with its progress and stop button, for as long as it does; beside it what there
    is to be said; on the right the keys of the moment."""

    stop_wanted = Signal()
    reader_wanted = Signal()

    def __init__(self) -> None:
        super().__init__()
        self.setObjectName("foot")
        self.setFixedHeight(30)
        self.what, self.detail, self.notice = (
            label(soft=True),
            label(soft=True),
            Elided(mode=Qt.TextElideMode.ElideRight),
        )
        self.notice.setProperty("soft", True)
        self.bar = QProgressBar()
        self.bar.setTextVisible(False)
        self.bar.setFixedWidth(160)
        self.stop = button("Stop", self.stop_wanted.emit, kind="quiet")
        tip(self.stop, tooltip("stop"))
        self.resume = button("Go on", kind="quiet")
        self.resume.hide()
        self.folder = button("Open the folder", self._open_folder, kind="quiet")
        self._place: Path | None = None
        self.problem = Elided(mode=Qt.TextElideMode.ElideRight)
        set_role(self.problem, "problem")
        self.reader = button("", self.reader_wanted.emit, kind="quiet")
        tip(self.reader, "Who reviews here: change the name, or let another reader go on")
        self.reader.hide()
        self.keys = _Keys()
        self._leaving = QTimer(self)
        self._leaving.setSingleShot(True)
        self._leaving.timeout.connect(lambda: self.say(""))
        layout = QHBoxLayout(self)
        layout.setContentsMargins(18, 0, 18, 0)
        layout.setSpacing(12)
        for widget in (self.what, self.bar, self.detail, self.stop):
            layout.addWidget(widget)
        layout.addWidget(self.notice, 500)
        layout.addWidget(self.folder)
        layout.addWidget(self.problem, 1000)
        layout.addWidget(self.resume)
        layout.addStretch(1)
        layout.addWidget(self.reader)
        layout.addWidget(self.keys)
        self._working = False
        self._resumable = False
        self._refresh()

    # --- the job ---

    def begin(self, title: str, *, stoppable: bool = True) -> None:
        """Show that something is going on, until ``end``: no notice takes its place, nor its stop button away."""
        self._working = True
        self.what.setText(title)
        self.detail.setText("")
        self.bar.setRange(0, 0)
        self.stop.setEnabled(True)
        self.stop.setVisible(stoppable)
        self.say("")

    def describe(self, what: str) -> None:
        """Say what part of the job is being done."""
        if self._working:
            self.what.setText(what)

    def stopping(self, how: str = "stopping after the current batch …") -> None:
        """The stop button was pressed."""
        self.stop.setEnabled(False)
        self.detail.setText(how)

    def show_progress(self, progress: Progress) -> None:
        self.bar.setRange(0, max(1, progress.total))
        self.bar.setValue(progress.done)
        if self.stop.isEnabled():
            self.detail.setText(progress.sentence())

    def end(self, notice: str = "", place: Path | None = None) -> None:
        """The job has ended."""
        self._working = False
        self.say(notice, place)

    # --- notices ---

    def say(self, notice: str, place: Path | None = None) -> None:
        """Say something, for some seconds or until something else is said; of what was written also where, with a way to open the
        folder, and for longer."""
        self._leaving.stop()
        if notice:
            self._leaving.start(LASTS_WITH_FOLDER if place is not None else LASTS)
        self._place = place
        self.notice.set_text(notice)
        self.problem.set_text("")
        self._refresh()

    def show_problem(self, line: str) -> None:
        """Say what went wrong; it stays until something else is said."""
        self._leaving.stop()
        self._place = None
        self.notice.set_text("")
        self.problem.set_text(line)
        self._refresh()

    def show_reader(self, name: str, blind: bool) -> None:
        """Say who reviews, and whether they read blind; nothing where nobody has said."""
        told = f"{clipped(name, 20)} reads" if name else ""
        self.reader.setText(f"{told or 'reading'} blind" if blind else told)
        self.reader.setVisible(bool(self.reader.text()))

    def offer_to_go_on(self, text: str) -> None:
        """Offer to score what is not scored yet, under these words; without any, nothing is offered."""
        self._resumable = bool(text)
        if text:
            self.resume.setText(text)
        self._refresh()

    def _refresh(self) -> None:
        for widget in (self.what, self.bar, self.detail):
            widget.setVisible(self._working)
        if not self._working:
            self.stop.hide()
        self.resume.setVisible(self._resumable and not self._working)
        self.notice.setVisible(bool(self.notice.full_text))
        self.folder.setVisible(self._place is not None)
        self.problem.setVisible(bool(self.problem.full_text))
        self.keys.setVisible(not self.problem.full_text)

    def _open_folder(self) -> None:
        if self._place is not None:
            open_folder_of(self._place)

    def show_keys(self, *keys: tuple[str, str]) -> None:
        self.keys.show_keys([f"{key}  {meaning}" for key, meaning in keys])

    def sizeHint(self) -> QSize:
        return QSize(600, 30)
