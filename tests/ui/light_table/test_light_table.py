"""The light table: travel by keys, sizes, and what an empty selection says."""

from __future__ import annotations

from PySide6.QtCore import QPointF, Qt
from pytestqt.qtbot import QtBot

from mivrat.core.selecting.selection import Outcome
from mivrat.ui.light_table.table import LightTable
from mivrat.ui.parts.pictures import Thumbnails
from mivrat.workspace.workspace import Workspace

LEFT = Qt.MouseButton.LeftButton


def test_light_table_travels_by_keys_and_fills_its_width(
    qtbot: QtBot, workspace: Workspace, thumbnails: Thumbnails
) -> None:
    table = LightTable(workspace, thumbnails)
    qtbot.addWidget(table)
    table.resize(560, 600)
    table.show()
    qtbot.waitExposed(table)
    workspace.shown.clear()
    workspace.shown.set_order("confident mistakes")
    thumbs = table.thumbs
    assert thumbs.columns == 4
    assert thumbs.cell_rect(3).right() > thumbs.viewport().width() - 24
    qtbot.keyClick(thumbs, Qt.Key.Key_Right)
    assert workspace.shown.focus.position == 0
    for key, position in (
        (Qt.Key.Key_Right, 1),
        (Qt.Key.Key_Down, 5),
        (Qt.Key.Key_Left, 4),
        (Qt.Key.Key_Up, 0),
        (Qt.Key.Key_Up, 0),
        (Qt.Key.Key_End, 59),
    ):
        qtbot.keyClick(thumbs, key)
        assert workspace.shown.focus.position == position
    assert thumbs.verticalScrollBar().value() > thumbs.verticalScrollBar().maximum() - 20
    assert thumbs.cell_rect(59).bottom() <= thumbs.viewport().height()
    assert table.count.text() == "60 of 60"
    assert 0 <= thumbs.cell_rect(59).top() < thumbs.viewport().height()
    qtbot.keyClick(thumbs, Qt.Key.Key_Home)
    assert thumbs.cell_rect(0).top() >= 0
    assert thumbs.position_at(QPointF(thumbs.cell_rect(2).center())) == 2
    table.size_box.setCurrentText("large")
    assert thumbs.columns == 2
    file = workspace.shown.snapshot.record.image_set.file(0)
    qtbot.waitUntil(lambda: thumbnails.get(file)[1], timeout=5000)
    picture, final = thumbnails.get(file)
    assert final
    assert picture is not None
    assert (picture.width(), picture.height()) == (30, 20)
    described = thumbs.describe(int(workspace.shown.images[0]))
    assert "labelled class" in described
    assert "site: " in described
    opened: list[bool] = []
    thumbs.opened.connect(lambda: opened.append(True))
    qtbot.keyClick(thumbs, Qt.Key.Key_Return)
    assert opened == [True]


def test_an_empty_selection_says_what_to_do(qtbot: QtBot, workspace: Workspace, thumbnails: Thumbnails) -> None:
    table = LightTable(workspace, thumbnails)
    qtbot.addWidget(table)
    table.show()
    workspace.shown.replace(Outcome(frozenset({"unreadable"})))
    assert table.count.text() == "0 images"
    table.thumbs.viewport().repaint()
    qtbot.keyClick(table.thumbs, Qt.Key.Key_Return)
    assert workspace.shown.focus.current is None
    assert workspace.shown.accuracy().value is None
