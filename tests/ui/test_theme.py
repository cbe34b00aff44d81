"""Themes restyle what is shown, and the rest when it is shown."""

from __future__ import annotations

from PySide6.QtWidgets import QWidget
from pytestqt.qtbot import QtBot

from mivrat.ui.parts.widgets import restyle
from mivrat.ui.theme import LAMP, PAPER, theme


def test_a_theme_restyles_what_is_shown_and_the_rest_when_it_is_shown(qtbot: QtBot) -> None:
    shown, hidden = QWidget(), QWidget()
    for one in (shown, hidden):
        qtbot.addWidget(one)
    theme.use("paper")
    theme.style(shown, hidden)
    shown.show()
    theme.use("lamp")
    try:
        assert LAMP.paper in shown.styleSheet()
        assert hidden.styleSheet() == ""
        hidden.show()
        assert LAMP.paper in hidden.styleSheet()
        hidden.hide()
        theme.use("paper")
        assert PAPER.paper in shown.styleSheet()
        assert LAMP.paper in hidden.styleSheet()
        hidden.show()
        assert PAPER.paper in hidden.styleSheet()
    finally:
        theme.use("paper")
    restyle(shown, "color: red")
    assert shown.styleSheet() == "color: red"
