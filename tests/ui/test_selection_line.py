"""The line of chips that says what is selected."""

from __future__ import annotations

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QPushButton
from pytestqt.qtbot import QtBot

from mivrat.core.selecting.selection import Labelled, Outcome
from mivrat.ui.selection_line import SelectionLine
from mivrat.workspace.workspace import Workspace

LEFT = Qt.MouseButton.LeftButton


def test_chips_are_taken_away_by_a_click(qtbot: QtBot, workspace: Workspace) -> None:
    line = SelectionLine(workspace)
    qtbot.addWidget(line)
    line.resize(900, 44)
    line.show()
    workspace.shown.choose(Labelled(frozenset({1})))
    workspace.shown.choose(Outcome(frozenset({"wrong"})), beside=True)
    qtbot.wait(10)

    def buttons() -> list[QPushButton]:
        return [b for b in line.findChildren(QPushButton) if b.property("chip") and not b.isHidden()]

    assert len(buttons()) == 2
    assert line.summary.text().startswith(f"{len(workspace.shown.images)} of 60 images")
    assert "correct 0.0 %" in line.summary.text()
    qtbot.mouseClick(buttons()[0], LEFT)
    assert workspace.shown.conditions == (Outcome(frozenset({"wrong"})),)
    assert line.back.isEnabled()
    qtbot.mouseClick(line.back, LEFT)
    assert len(workspace.shown.conditions) == 2
    qtbot.mouseClick(line.forward, LEFT)
    assert len(workspace.shown.conditions) == 1
