"""What is held against the run shown: its name in the header, the menu to choose it from, and the way to let it go."""

from __future__ import annotations

from PySide6.QtWidgets import QMenu, QToolButton, QWidget

from mivrat.ui import words
from mivrat.ui.actions import tooltip
from mivrat.ui.parts.widgets import button, restyle, row, tip
from mivrat.ui.theme import theme
from mivrat.workspace.comparing import Comparer
from mivrat.workspace.workspace import Workspace

LONGEST = 26


class HeldAgainst(QWidget):
    """A button with a menu of all that can be held against the run shown; with what is held it turns plum."""

    def __init__(self, workspace: Workspace, comparer: Comparer) -> None:
        super().__init__()
        self.workspace, self.comparer = workspace, comparer
        self.choose: QToolButton = QToolButton()
        self.choose.setProperty("quiet", True)
        self.choose.setPopupMode(QToolButton.ToolButtonPopupMode.InstantPopup)
        self.menu = QMenu(self.choose)
        self.choose.setMenu(self.menu)
        self.off = button("×", comparer.let_go, kind="quiet")
        self.off.setFixedWidth(24)
        self.off.setAccessibleName("clear comparison")
        tip(self.off, tooltip("stop comparing"))
        self.setLayout(row(self.choose, self.off, spacing=2))
        self.menu.aboutToShow.connect(lambda: fill(self.menu, comparer))
        workspace.topics.held.connect(self.refresh)
        workspace.topics.contents.connect(self.refresh)
        theme.changed.connect(self._follow_theme)
        self.off.hide()

    def _follow_theme(self) -> None:
        if self.workspace.is_open:
            self.refresh()

    def refresh(self) -> None:
        held = self.workspace.shown.held
        self.off.setVisible(held is not None)
        self.choose.setText(
            "compare with ▾" if held is None else f"compared with {words.clipped(held.names.b, LONGEST)} ▾"
        )
        tip(self.choose, tooltip("hold") if held is None else f"{held.names.b}\n{tooltip('hold')}")
        t = theme.tokens
        plum = f"QToolButton {{ color: {t.second}; border: 1px solid {t.second}; border-radius: 12px; padding: 3px 9px; }} QToolButton:focus {{ border: 2px solid {t.second}; padding: 2px 8px; }}"
        restyle(self.choose, "" if held is None else plum)

    def show_menu(self) -> None:
        """Let something be chosen, by keys too."""
        self.choose.showMenu()


def fill(menu: QMenu, comparer: Comparer) -> None:
    """List what can be held against the run shown."""
    menu.clear()
    held = comparer.workspace.shown.held
    now = held.b.record.info.id if held is not None else 0
    choices = comparer.choices()
    for title, runs in choices:
        head = menu.addAction(title)
        head.setEnabled(False)
        for run in runs:
            action = menu.addAction(f"    {comparer.name_of(run)}".replace("&", "&&"))
            action.setCheckable(True)
            action.setChecked(run.id == now)
            action.triggered.connect(lambda _=False, run=run: comparer.hold(run))
    if not choices:
        menu.addAction(
            "This study has no other run. Add a model, a table of predictions or an image set under Prepare."
        ).setEnabled(False)
    if held is not None:
        menu.addSeparator()
        menu.addAction("Nothing").triggered.connect(lambda: comparer.let_go())
