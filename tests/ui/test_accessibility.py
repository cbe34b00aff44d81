"""What a screen reader is told: every control on every page has a name, and the diagrams say what they show."""

from __future__ import annotations

from collections.abc import Callable, Iterator

from PySide6.QtGui import QAccessible
from PySide6.QtWidgets import (
    QAbstractButton,
    QAbstractItemView,
    QAbstractSlider,
    QAbstractSpinBox,
    QComboBox,
    QLineEdit,
    QPlainTextEdit,
    QScrollBar,
    QTextEdit,
    QWidget,
)
from pytestqt.qtbot import QtBot

from mivrat.ui.window import MainWindow
from tests.ui.test_what_stays import pages

Settle = Callable[[], None]
CONTROLS = (
    QAbstractButton,
    QAbstractItemView,
    QAbstractSlider,
    QAbstractSpinBox,
    QComboBox,
    QLineEdit,
    QPlainTextEdit,
    QTextEdit,
)


def controls(root: QWidget) -> Iterator[QWidget]:
    """The controls that can be seen; without the parts that a larger one is made of."""
    for one in root.findChildren(QWidget):
        inside = one.parentWidget()
        if not isinstance(one, CONTROLS) or isinstance(one, QScrollBar) or not one.isVisible():
            continue
        if isinstance(one, QLineEdit | QAbstractItemView) and isinstance(inside, QAbstractSpinBox | QComboBox):
            continue
        if one.objectName().startswith("qt_") or type(one).__name__ in ("QHeaderView", "QTableCornerButton"):
            continue
        yield one


def name_of(one: QWidget) -> str:
    found = QAccessible.queryAccessibleInterface(one)
    assert found is not None, one
    return found.text(QAccessible.Text.Name).strip()


def unnamed(window: MainWindow) -> tuple[list[str], int]:
    told, seen = [], 0
    for one in controls(window):
        seen += 1
        if not name_of(one):
            above, place = one.parentWidget(), []
            while above is not None and len(place) < 4:
                place.append(type(above).__name__)
                above = above.parentWidget()
            told.append(f"{type(one).__name__} in {' in '.join(place)}: {one.toolTip()[:60]!r}")
    return told, seen


def test_every_control_on_every_page_has_a_name(qtbot: QtBot, demo: MainWindow, settle: Settle) -> None:
    demo.workspace.shown.focus.look_at(int(demo.workspace.shown.images[0]))
    missing: dict[str, list[str]] = {}
    seen = 0
    for page in pages(demo):
        settle()
        told, number = unnamed(demo)
        seen += number
        if told:
            missing[page] = sorted(set(told))
    assert not missing, "\n".join(f"{page}: {one}" for page, some in missing.items() for one in some)
    assert seen > 500
