"""Training: the curves from a training log, its columns guessed and open to correction; kept for the model in the study."""

from __future__ import annotations

from pathlib import Path

from PySide6.QtCore import Qt
from PySide6.QtGui import QDragEnterEvent, QDropEvent
from PySide6.QtWidgets import QVBoxLayout, QWidget

from mivrat.core.base.errors import InputError
from mivrat.core.base.numbers import decimal
from mivrat.core.comparing.training import SERIES, Roles, Training
from mivrat.ui.compare.compared_page import ComparedPage
from mivrat.ui.compare.training_diagram import TrainingDiagram
from mivrat.ui.parts.file_dialogs import ALL_FILES, ask_to_open, file_kinds
from mivrat.ui.parts.late import Late
from mivrat.ui.parts.widgets import Choice, Elided, button, label, row, tip
from mivrat.ui.parts.wrapping import flowing
from mivrat.workspace.training_logs import TrainingLogs
from mivrat.workspace.workspace import Workspace

NONE = "– none –"
WINDOWS = {"as logged": 1, "mean of 3": 3, "mean of 5": 5, "mean of 11": 11, "mean of 31": 31}
LOGS = file_kinds("Training logs (*.csv *.tsv *.tab *.jsonl *.ndjson)", ALL_FILES)


class TrainingPage(ComparedPage, QWidget):
    """A log to be chosen, what its columns are, the curves, and what they say."""

    title, place_id = "Training", "training"
    help = "The curves of a training log, read from its file and kept with the model."

    def __init__(self, workspace: Workspace) -> None:
        super().__init__()
        self.workspace, self.logs = workspace, TrainingLogs(workspace)
        self.setAcceptDrops(True)
        self.pick = button("Choose a training log…", self._choose, kind="small")
        self.name = Elided(mode=Qt.TextElideMode.ElideMiddle)
        self.off = button("×", self.logs.take_away, kind="quiet")
        self.off.setFixedWidth(24)
        self.off.setAccessibleName("take the training log away")
        tip(self.off, "Take the log away from this model; the file stays")
        self.empty = label(
            "Curves of the training, from a table with a row for each epoch or step: CSV, TSV or JSON Lines, with a column for it and "
            "any columns of loss and accuracy. It is kept for this model, and shows whether it was trained too long.",
            soft=True,
            wrap=True,
        )
        self.problem = label(role="problem", wrap=True)
        self.roles = {field: Choice((), field.replace("_", " ")) for field in ("step", *SERIES)}
        pairs = []
        for field, choice in self.roles.items():
            pair = QWidget()
            pair.setLayout(row(label(field.replace("_", " "), soft=True), choice, spacing=2))
            pairs.append(pair)
            choice.setMinimumContentsLength(10)
            choice.setSizeAdjustPolicy(Choice.SizeAdjustPolicy.AdjustToMinimumContentsLengthWithIcon)
            choice.activated.connect(lambda _: self._correct())
        self.columns = QWidget()
        self.smoothing = Choice(tuple(WINDOWS), "smoothing")
        self.smoothing.currentIndexChanged.connect(lambda _: self.refresh())
        smooth = QWidget()
        smooth.setLayout(row(label("curves", soft=True), self.smoothing, spacing=2))
        self.columns.setLayout(flowing(*pairs, smooth, spacing=10))
        self.told = label(wrap=True)
        self.legend = label(soft=True, wrap=True)
        self.diagram = TrainingDiagram()
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 8, 8, 8)
        head = row(self.pick, self.name, self.off, spacing=6)
        head.setStretch(1, 1)
        layout.addLayout(head)
        for widget in (self.empty, self.problem, self.columns, self.told):
            layout.addWidget(widget)
        layout.addWidget(self.diagram, 1)
        layout.addWidget(self.legend)
        layout.addStretch(0)
        self.logs.changed.connect(self._list)
        self._late = Late(self, self.refresh, workspace.topics.figures)

    # --- choosing ---

    def _choose(self) -> None:
        found = ask_to_open(self, "Choose a training log", kinds=LOGS)
        if found is not None:
            self.logs.read(found)

    def dragEnterEvent(self, event: QDragEnterEvent) -> None:
        if event.mimeData().hasUrls():
            event.acceptProposedAction()

    def dropEvent(self, event: QDropEvent) -> None:
        paths = [Path(url.toLocalFile()) for url in event.mimeData().urls() if url.isLocalFile()]
        if paths:
            self.logs.read(paths[0])

    def _correct(self) -> None:
        said = {field: choice.currentText() for field, choice in self.roles.items()}
        self.logs.set_roles(Roles(**{field: "" if text == NONE else text for field, text in said.items()}))

    # --- showing ---

    def _list(self) -> None:
        """Offer the columns of another log."""
        log = self.logs.log
        names = [NONE, *log.columns] if log is not None else []
        for field, choice in self.roles.items():
            if [choice.itemText(i) for i in range(choice.count())] != names:
                choice.clear()
                choice.addItems(names)
            choice.setCurrentText(getattr(self.logs.roles, field) or NONE)
        self.refresh()

    def refresh(self) -> None:
        log, problem = self.logs.log, self.logs.problem
        found: Training | None = None
        if log is not None:
            try:
                found = self.logs.training()
            except InputError as error:
                problem = error.line()
        self.name.set_text(str(log.path) if log is not None else "")
        self.off.setVisible(log is not None or bool(problem))
        self.empty.setVisible(log is None and not problem)
        self.problem.setVisible(bool(problem))
        self.problem.setText(problem)
        self.columns.setVisible(log is not None)
        for widget in (self.told, self.diagram, self.legend):
            widget.setVisible(found is not None)
        if found is None:
            return
        self.told.setText(" ".join(found.sentences()))
        window = WINDOWS[self.smoothing.currentText()]
        snapshot = self.workspace.shown.snapshot
        self.diagram.show_curves(
            found, window, (f"top-1 on {snapshot.record.info.image_set}", snapshot.figures.top_k[1])
        )
        smooth = (
            f" Smoothed: the mean of {window} points around each; the thin lines are as logged. What is said above goes by what was logged."
            if window > 1
            else ""
        )
        percent = f" {', '.join(found.in_percent)}: read as percentages." if found.in_percent else ""
        self.legend.setText(
            f"Broken line: training. Full line: validation. Dots and dashes: the accuracy of this run.{smooth}{percent}"
        )

    def as_table(self) -> list[list[str]]:
        """The curves, for the clipboard."""
        if self.logs.log is None:
            return [["no training log"]]
        found = self.logs.training()
        names = list(found.curves)
        lines = [
            [f"{step:g}", *(decimal(float(found.curves[n][i]), 6) for n in names)] for i, step in enumerate(found.step)
        ]
        return [["step", *names], *lines]

    @property
    def settled(self) -> bool:
        return self.logs.settled

    def stop(self) -> None:
        self.logs.stop()
