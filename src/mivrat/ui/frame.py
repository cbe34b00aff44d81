"""The parts around the work: the header with what is judged, the rail of steps, the foot with long work and keys."""

from __future__ import annotations

from PySide6.QtCore import QSize, Qt, Signal
from PySide6.QtGui import QPainter, QPaintEvent
from PySide6.QtWidgets import QFrame, QHBoxLayout, QMenu, QProgressBar, QPushButton, QToolButton, QVBoxLayout

from mivrat.core.running.job import Progress
from mivrat.ui import words
from mivrat.ui.session import Session
from mivrat.ui.theme import theme
from mivrat.ui.widgets import Elided, button, label


class Header(QFrame):
    """What is being judged, at a glance: image set, model, recipe, N, top-1 accuracy with its interval."""

    run_wanted = Signal(int)

    def __init__(self, session: Session, menu: QMenu) -> None:
        super().__init__()
        self.setObjectName("header")
        self.setFixedHeight(56)
        self.session = session
        self.menu_button = QToolButton()
        self.menu_button.setText("Mivrat ▾")
        self.menu_button.setPopupMode(QToolButton.ToolButtonPopupMode.InstantPopup)
        self.menu_button.setMenu(menu)
        self.menu_button.setToolTip("Studies, theme, keys (Alt+M)")
        self.run_button = QToolButton()
        self.run_button.setPopupMode(QToolButton.ToolButtonPopupMode.InstantPopup)
        self.run_button.setProperty("quiet", True)
        self.run_button.setStyleSheet("font-size: 15px; font-weight: 600;")
        self.run_button.setToolTip("The run shown: a model on an image set. Click to show another (Alt+R).")
        self.runs_menu = QMenu(self.run_button)
        self.run_button.setMenu(self.runs_menu)
        self.facts = Elided(mode=Qt.TextElideMode.ElideRight)
        self.facts.setProperty("soft", True)
        self.badge = label(role="look")
        self.value, self.detail = label(role="big"), label(soft=True)
        layout = QHBoxLayout(self)
        layout.setContentsMargins(14, 0, 18, 0)
        layout.setSpacing(14)
        for widget in (self.menu_button, self.run_button):
            layout.addWidget(widget)
        layout.addWidget(self.facts, 1)
        for shown in (self.badge, self.value, self.detail):
            layout.addWidget(shown)
        session.figures_changed.connect(self.refresh)

    def refresh(self) -> None:
        snapshot = self.session.snapshot
        if snapshot is None:
            return
        info, figures, counts = snapshot.record.info, snapshot.figures, snapshot.counts
        self.run_button.setText(
            f"{words.clipped(info.image_set, 34)} ▾"
            if len(self.session.runs) > 1
            else words.clipped(info.image_set, 34)
        )
        guess = " (a guess)" if snapshot.record.recipe_is_guess else ""
        self.facts.set_text(
            f"model {words.clipped(info.model, 30)}     recipe {snapshot.record.recipe.summary()}{guess}     {words.images(counts.listed)}"
        )
        left_out = [
            f"{n} {name}"
            for n, name in (
                (counts.unreadable, "unreadable"),
                (counts.failed, "failed"),
                (counts.unlabelled, "unlabelled"),
                (counts.pending, "not yet scored"),
            )
            if n
        ]
        self.badge.setText(" · ".join(left_out))
        self.badge.setToolTip("These images are not in the figures.")
        top1 = figures.top_k[1]
        self.value.setText(words.percent(top1.value))
        self.detail.setText(
            f"top-1   {words.bounds(top1)}   N = {words.count(top1.total)}"
            if top1.total
            else "top-1, no labelled image scored"
        )
        for widget in (self.value, self.detail):
            widget.setToolTip(
                f"{top1.hits} right of {top1.total} labelled, scored images. Interval: Wilson score, 95 %."
            )
        self.runs_menu.clear()
        for run in self.session.runs:
            action = self.runs_menu.addAction(f"{run.image_set}   —   {run.model}".replace("&", "&&"))
            action.setCheckable(True)
            action.setChecked(run.id == info.id)
            action.triggered.connect(lambda _=False, i=run.id: self.run_wanted.emit(i))


class _Step(QPushButton):
    """A step on the rail with a mark for its state: fine is a dot, needs a look a diamond, untouched a ring."""

    def __init__(self, name: str) -> None:
        super().__init__(f"      {name}")
        self.state = "untouched"
        self.setProperty("rail", True)
        self.setCheckable(True)

    def set_state(self, state: str, why: str) -> None:
        self.state = state
        self.setToolTip(why)
        self.update()

    def paintEvent(self, event: QPaintEvent) -> None:  # noqa: N802
        super().paintEvent(event)
        with QPainter(self) as painter:
            self._paint(painter)

    def _paint(self, painter: QPainter) -> None:
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.translate(20, self.height() / 2)
        painter.setPen(theme.colour("soft") if self.state == "untouched" else Qt.PenStyle.NoPen)
        if self.state == "fine":
            painter.setBrush(theme.colour("accent"))
        elif self.state == "look":
            painter.setBrush(theme.colour("look"))
            painter.rotate(45)
            painter.drawRect(-4, -4, 8, 8)
            return
        painter.drawEllipse(-5, -5, 10, 10)


class Rail(QFrame):
    """The steps that work, in the order of the job."""

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.setObjectName("rail")
        self.setFixedWidth(104)
        self.session = session
        self.measure = _Step("Measure")
        self.measure.setChecked(True)
        self.measure.clicked.connect(lambda: self.measure.setChecked(True))
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 20, 0, 0)
        layout.addWidget(self.measure)
        layout.addStretch(1)
        session.figures_changed.connect(self._refresh)

    def _refresh(self) -> None:
        snapshot = self.session.snapshot
        if snapshot is None or not snapshot.figures.total:
            self.measure.set_state("untouched", "nothing measured yet")
            return
        counts = snapshot.counts
        aside = counts.unreadable + counts.failed + counts.pending
        state = "look" if aside else "fine"
        self.measure.set_state(
            state,
            f"{aside} images are not in the figures: unreadable, failed or not yet scored"
            if aside
            else f"all {counts.evaluated} labelled images are measured",
        )


class Foot(QFrame):
    """Long work with its progress and stop button on the left, the keys of the moment on the right."""

    stop_wanted = Signal()

    def __init__(self) -> None:
        super().__init__()
        self.setObjectName("foot")
        self.setFixedHeight(30)
        self.what, self.detail = label(soft=True), label(soft=True)
        self.bar = QProgressBar()
        self.bar.setTextVisible(False)
        self.bar.setFixedWidth(160)
        self.stop = button("Stop", self.stop_wanted.emit, kind="quiet")
        self.stop.setToolTip("Stop after the batch in hand; what is done is kept (Ctrl+.)")
        self.resume = button("Go on", kind="quiet")
        self.resume.hide()
        self.keys = label(soft=True)
        layout = QHBoxLayout(self)
        layout.setContentsMargins(18, 0, 18, 0)
        layout.setSpacing(12)
        for widget in (self.what, self.bar, self.detail, self.stop, self.resume):
            layout.addWidget(widget)
        layout.addStretch(1)
        layout.addWidget(self.keys)
        self.idle()

    def working(self, what: str) -> None:
        self.what.setText(what)
        self.detail.setText("")
        self.bar.setRange(0, 0)
        for widget in (self.bar, self.stop):
            widget.show()
        self.resume.hide()

    def show_progress(self, progress: Progress) -> None:
        self.bar.setRange(0, max(1, progress.total))
        self.bar.setValue(progress.done)
        self.detail.setText(progress.sentence())

    def idle(self, message: str = "", *, resumable: bool = False) -> None:
        self.what.setText(message)
        self.detail.setText("")
        self.bar.hide()
        self.stop.hide()
        self.resume.setVisible(resumable)

    def show_keys(self, *keys: tuple[str, str]) -> None:
        self.keys.setText("      ".join(f"{key}  {meaning}" for key, meaning in keys))

    def sizeHint(self) -> QSize:  # noqa: N802
        return QSize(600, 30)
