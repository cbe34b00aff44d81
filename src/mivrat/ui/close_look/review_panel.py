"""What the analyst decides of the image looked at: causes with keys, a note, another label, reviewed or not."""

from __future__ import annotations

from functools import partial

from PySide6.QtCore import QEvent, QObject, Qt
from PySide6.QtGui import QKeyEvent
from PySide6.QtWidgets import QCheckBox, QComboBox, QFrame, QLineEdit, QPushButton, QVBoxLayout

from mivrat.ui import words
from mivrat.ui.close_look.other_readers import OtherReaders
from mivrat.ui.parts.widgets import Choice, button, clear, label, row, tip
from mivrat.ui.parts.wrapping import Flow, flowing
from mivrat.workspace.reviewing import Reviewer
from mivrat.workspace.workspace import Workspace

AS_IT_IS, NO_LABEL = "the label is right", "no label"


class ReviewPanel(QFrame):
    """Shows and takes the decisions; several images marked are decided on together."""

    def __init__(self, workspace: Workspace, reviewer: Reviewer) -> None:
        super().__init__()
        self.workspace, self.reviewer = workspace, reviewer
        self._image: int | None = None
        self.chips: dict[int, QPushButton] = {}
        self._flow = Flow(6)
        self.progress = label(soft=True)
        self.reviewed = QCheckBox("reviewed (R)")
        self.reviewed.clicked.connect(lambda _: reviewer.toggle_reviewed())
        self.next = button("next unreviewed (N) ›", reviewer.go_to_next, kind="quiet")
        self.note = QLineEdit()
        self.note.setPlaceholderText("a note on this image (E)")
        self.note.setAccessibleName("note on this image")
        self.note.editingFinished.connect(self._keep_note)
        self.note.installEventFilter(self)
        self.proposed = Choice(name="another label")
        tip(
            self.proposed,
            "Propose another label. Files and source labels stay as they are; figures can be shown as labelled and as corrected.",
        )
        self.proposed.setSizeAdjustPolicy(QComboBox.SizeAdjustPolicy.AdjustToMinimumContentsLengthWithIcon)
        self.proposed.setMinimumContentsLength(12)
        self.proposed.activated.connect(lambda i: reviewer.propose(self.proposed.itemData(i)))
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 6, 0, 6)
        layout.setSpacing(6)
        layout.addLayout(flowing(self.reviewed, self.progress, self.next))
        layout.addLayout(self._flow)
        line = row(self.note, self.proposed)
        line.setStretch(0, 1)
        layout.addLayout(line)
        self.others = OtherReaders(workspace)
        layout.addWidget(self.others)
        workspace.topics.current.connect(self.refresh)
        workspace.topics.selection.connect(self.refresh)
        workspace.topics.reviews.connect(self._reviews_changed)
        workspace.topics.run.connect(self._list_classes)

    def _list_classes(self) -> None:
        self.proposed.clear()
        self.proposed.addItem(AS_IT_IS, None)
        for k, name in enumerate(self.workspace.shown.classes):
            self.proposed.addItem(f"label: {words.clipped(name, 36)}", k)

    def _reviews_changed(self) -> None:
        names = [(one.id, one.name) for one in self.workspace.shown.reviews.causes]
        if names != [(cause, chip.property("cause")) for cause, chip in self.chips.items()]:
            self._make_chips(names)
        self.refresh()

    def _make_chips(self, names: list[tuple[int, str]]) -> None:
        clear(self._flow)
        self.chips = {}
        for i, (cause, name) in enumerate(names, 1):
            shown = words.clipped(name, 24)
            chip = button(f"{i}  {shown}" if i <= 9 else shown, partial(self.reviewer.toggle_cause, cause), kind="chip")
            chip.setCheckable(True)
            chip.setProperty("cause", name)
            tip(chip, f"Cause: {name}" + (f" (key {i})" if i <= 9 else ""))
            self._flow.addWidget(chip)
            self.chips[cause] = chip

    def show_causes(self, wanted: bool) -> None:
        """Show what mistakes can be put down to, and other labels, or leave them out where keys mean something else."""
        for widget in (*self.chips.values(), self.proposed):
            widget.setVisible(wanted)

    def refresh(self) -> None:
        """Show what is known of the images acted on."""
        some, reviews = self.workspace.shown.focus.acted_on, self.workspace.shown.reviews
        image = self.workspace.shown.focus.current
        if image != self._image:
            self._keep_note()
            self._image = image
            self.note.setText(reviews[image].note if image is not None else "")
        elif image is not None and not self.note.hasFocus():
            self.note.setText(reviews[image].note)
        self.setEnabled(image is not None)
        for cause, chip in self.chips.items():
            chip.setChecked(bool(some) and all(cause in reviews[i].causes for i in some))
        self.reviewed.setChecked(bool(some) and all(reviews[i].reviewed for i in some))
        label_now = reviews[image].label if image is not None else None
        labelled = self.reviewer.some_labelled(some)
        self.proposed.setItemText(0, AS_IT_IS if labelled else NO_LABEL)
        self.proposed.setCurrentIndex(0 if label_now is None else label_now + 1)
        if reviews.wrong_label in self.chips:
            wrong = self.chips[reviews.wrong_label]
            wrong.setEnabled(labelled or wrong.isChecked())
        told = self.reviewer.progress().sentence()
        self.progress.setText(f"{words.count(len(some))} images marked  ·  {told}" if len(some) > 1 else told)

    def _keep_note(self) -> None:
        if self._image is not None and self.note.text() != self.workspace.shown.reviews[self._image].note:
            self.reviewer.write_note(self._image, self.note.text())

    def eventFilter(self, watched: QObject, event: QEvent) -> bool:
        """Enter and Escape leave the note's field, so that keys act on the image again."""
        if watched is self.note and isinstance(event, QKeyEvent) and event.type() == QEvent.Type.KeyPress:
            if event.key() == Qt.Key.Key_Escape:
                self.note.setText(self.workspace.shown.reviews[self._image].note if self._image is not None else "")
            if event.key() in (Qt.Key.Key_Escape, Qt.Key.Key_Return, Qt.Key.Key_Enter):
                parent = self.parentWidget()
                while parent is not None and parent.focusPolicy() != Qt.FocusPolicy.StrongFocus:
                    parent = parent.parentWidget()
                if parent is not None:
                    parent.setFocus()
                return True
        return super().eventFilter(watched, event)
