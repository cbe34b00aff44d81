"""The question whether images may be sent to a prediction service: once for each host, above the foot, in nobody's way."""

from __future__ import annotations

from collections.abc import Callable

from PySide6.QtCore import Qt
from PySide6.QtGui import QKeyEvent
from PySide6.QtWidgets import QApplication, QFrame, QVBoxLayout, QWidget

from mivrat.core.base.errors import InputError, NotAgreed
from mivrat.core.models.service.agreement import agree
from mivrat.ui.parts.widgets import button, label, row, tip
from mivrat.workspace.notices import Notices


class SendingConsent(QFrame):
    """Shows what would be sent where, how often and for how long; goes on where that is agreed to. Refusing changes nothing."""

    def __init__(self, notices: Notices) -> None:
        super().__init__()
        self.setObjectName("agreement")
        self._notices = notices
        self._again: Callable[[], object] | None = None
        self._agreement = ""
        self._had_focus: QWidget | None = None
        self.question = label(wrap=True)
        self.yes = button("Agree", self._agree)
        self.no = button("Send nothing", self.refuse, kind="primary")
        tip(self.no, "Nothing leaves this machine, and nothing is lost (Escape)")
        layout = QVBoxLayout(self)
        layout.setContentsMargins(18, 10, 18, 10)
        layout.setSpacing(8)
        layout.addWidget(label("Nothing has been sent yet.", "heading"))
        layout.addWidget(self.question)
        layout.addLayout(row(self.no, self.yes, None))
        notices.asked.connect(self.ask)
        self.hide()

    def ask(self, asked: NotAgreed, again: Callable[[], object]) -> None:
        """Ask, and do it again where it is agreed to; a question before this one is taken back."""
        self._agreement, self._again = asked.agreement, again
        self.question.setText(asked.question)
        self.yes.setText(f"Agree for {asked.host}")
        tip(self.yes, f"You are asked once for {asked.agreement}: what is sent there later is not asked about again")
        if not self.isVisible():
            self._had_focus = QApplication.focusWidget()
        self.show()
        self.no.setFocus()

    def _agree(self) -> None:
        again = self._away()
        try:
            agree(self._agreement)
        except InputError as error:
            self._notices.fail(error)
            return
        if again is not None:
            again()

    def refuse(self) -> None:
        """Send nothing."""
        self._away()
        self._notices.say("Nothing was sent.")

    def keyPressEvent(self, event: QKeyEvent) -> None:
        if event.key() == Qt.Key.Key_Escape:
            self.refuse()
        else:
            super().keyPressEvent(event)

    def _away(self) -> Callable[[], object] | None:
        again, self._again = self._again, None
        self.hide()
        if self._had_focus is not None and self._had_focus.isVisible():
            self._had_focus.setFocus()
        return again
