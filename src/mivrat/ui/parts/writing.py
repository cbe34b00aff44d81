"""A field for a few lines of text, which tells when what stands in it is done."""

from __future__ import annotations

from PySide6.QtCore import Qt, Signal
from PySide6.QtGui import QFocusEvent, QKeyEvent
from PySide6.QtWidgets import QPlainTextEdit

LINE = 20


class Writing(QPlainTextEdit):
    """``written`` tells of the text once it has changed and the field is left; Tab leaves it, Escape takes the changes back."""

    written = Signal(str)

    def __init__(self, name: str, hint: str, lines: int = 3) -> None:
        super().__init__()
        self._before = ""
        self.setAccessibleName(name)
        self.setPlaceholderText(hint)
        self.setTabChangesFocus(True)
        self.setFixedHeight(lines * LINE + 14)

    def show_text(self, text: str) -> None:
        """Show a text, unless another one is just being written."""
        if self.hasFocus() and self.toPlainText() != self._before:
            return
        self._before = text
        if self.toPlainText() != text:
            self.setPlainText(text)

    def _done(self) -> None:
        text = self.toPlainText().strip()
        if text != self._before:
            self._before = text
            self.written.emit(text)

    def focusOutEvent(self, event: QFocusEvent) -> None:
        super().focusOutEvent(event)
        self._done()

    def keyPressEvent(self, event: QKeyEvent) -> None:
        if event.key() == Qt.Key.Key_Escape:
            self.setPlainText(self._before)
            self.clearFocus()
        elif (
            event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter)
            and event.modifiers() & Qt.KeyboardModifier.ControlModifier
        ):
            self._done()
        else:
            super().keyPressEvent(event)
