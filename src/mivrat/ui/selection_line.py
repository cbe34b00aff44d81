"""The selection line: the conditions in force as removable chips, how many images they pick, and their accuracy."""

from __future__ import annotations

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QFrame, QHBoxLayout, QSizePolicy, QWidget

from mivrat.core.base.numbers import DASH, percent, with_bounds
from mivrat.core.selecting.selection import Condition
from mivrat.ui import words
from mivrat.ui.actions import tooltip
from mivrat.ui.parts.widgets import button, clear, label, tip
from mivrat.workspace.workspace import Workspace


class SelectionLine(QFrame):
    """Back, forward, the chips, and what they come to."""

    def __init__(self, workspace: Workspace) -> None:
        super().__init__()
        self.setObjectName("selectionLine")
        self.workspace = workspace
        self.setFixedHeight(44)
        layout = QHBoxLayout(self)
        layout.setContentsMargins(12, 0, 18, 0)
        layout.setSpacing(6)
        self.back, self.forward = (
            button("‹", lambda: workspace.shown.back(), kind="quiet"),
            button("›", lambda: workspace.shown.forward(), kind="quiet"),
        )
        tip(self.back, tooltip("selection before"))
        tip(self.forward, tooltip("selection after"))
        self.back.setAccessibleName("selection back")
        self.forward.setAccessibleName("selection forward")
        self.chips = QHBoxLayout()
        self.chips.setSpacing(8)
        holder = QWidget()
        holder.setLayout(self.chips)
        holder.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Preferred)
        self.summary = label()
        for widget in (self.back, self.forward):
            layout.addWidget(widget)
        layout.addWidget(holder, 1)
        layout.addWidget(self.summary)
        workspace.topics.selection.connect(self.refresh)
        workspace.topics.held.connect(self.refresh)
        workspace.topics.blind.connect(self.refresh)

    def refresh(self) -> None:
        self.back.setEnabled(self.workspace.shown.selection.can_go_back)
        self.forward.setEnabled(self.workspace.shown.selection.can_go_forward)
        clear(self.chips)
        for condition in self.workspace.shown.conditions:
            self.chips.addWidget(self._chip(condition))
        if not self.workspace.shown.conditions:
            self.chips.addWidget(label("All images. Click a figure, a row or a cell to pick images by it.", soft=True))
        elif len(self.workspace.shown.conditions) > 1:
            self.chips.addWidget(button("clear", self.workspace.shown.clear, kind="quiet"))
        self.chips.addStretch(1)
        snapshot = self.workspace.shown.snapshot
        share, shown = self.workspace.shown.accuracy(), len(self.workspace.shown.images)
        text = (
            f"{words.count(shown)} of {words.images(snapshot.counts.listed)}"
            if self.workspace.shown.conditions
            else words.images(shown)
        )
        other = self.workspace.shown.other_accuracy()
        if self.workspace.shown.blind:
            self.summary.setText(text)
            tip(self.summary, "How many of them are right is not shown while you read blind (Shift+B).")
            return
        if other is None or not share.total:
            text += f"  ·  correct {with_bounds(share) if share.total else DASH}"
        else:
            text += f"  ·  correct {percent(share.value)} → {percent(other.value)}"
        self.summary.setText(text)
        about = "No labelled image with an answer is among them."
        if share.total:
            about = f"{share.hits} right of {share.total} labelled images with an answer. {words.how(share)}"
            held = self.workspace.shown.held
            if other is not None and held is not None:
                about += f"\n{held.names.b}: {other.hits} right of {other.total} that both have answered, {with_bounds(other)}."
        tip(self.summary, about)

    def _chip(self, condition: Condition) -> QWidget:
        about, value = condition.words(self.workspace.shown.classes)
        chip = button(
            f"{about} {words.clipped(value, 40)}   ×".lstrip(),
            lambda: self.workspace.shown.remove(condition),
            kind="chip",
        )
        tip(chip, f"{about} {value}".lstrip() + "\nClick to remove it (Backspace removes the last one).")
        chip.setCursor(Qt.CursorShape.PointingHandCursor)
        return chip
