"""The table of classes sorts and marks."""

from __future__ import annotations

from pathlib import Path

from PySide6.QtCore import Qt
from PySide6.QtTest import QTest
from pytestqt.qtbot import QtBot

from mivrat.core.base.numbers import percent
from mivrat.core.selecting.selection import Labelled
from mivrat.ui.measure.headline_lines import headline_lines
from mivrat.ui.measure.step import MeasureStep
from mivrat.ui.parts.pictures import Thumbnails
from mivrat.workspace.workspace import Workspace

LEFT = Qt.MouseButton.LeftButton


def test_class_table_sorts_and_marks(qtbot: QtBot, workspace: Workspace, tmp_path: Path) -> None:

    step = MeasureStep(workspace, Thumbnails(workspace.parallel))
    qtbot.addWidget(step)
    step.resize(640, 600)
    step.show()
    workspace.shown.show(workspace.shown.snapshot)
    qtbot.waitUntil(lambda: step.settled, timeout=10000)
    table, snapshot = step.class_table, workspace.shown.snapshot
    assert snapshot is not None
    for column, key in ((1, "support"), (2, "predicted")):
        table.sortByColumn(column, Qt.SortOrder.DescendingOrder)
        shown = [int(table.model().index(r, column).data()) for r in range(4)]
        assert shown == sorted((getattr(c, key) for c in snapshot.figures.classes), reverse=True)
    table.sortByColumn(4, Qt.SortOrder.AscendingOrder)
    names = [table.model().index(r, 0).data() for r in range(4)]
    order = sorted(range(4), key=lambda k: snapshot.figures.classes[k].recall.value or 0)
    assert names == [workspace.shown.classes[k] for k in order]
    assert "Few images" in table.model().index(0, 0).data(Qt.ItemDataRole.ToolTipRole)
    workspace.shown.choose(Labelled(frozenset({order[2]})))
    assert [i.row() for i in table.selectionModel().selectedRows()] == [2]
    table.setFocus()
    QTest.keyClick(table, Qt.Key.Key_Up)
    QTest.keyClick(table, Qt.Key.Key_Return)
    assert workspace.shown.conditions == (Labelled(frozenset({order[1]})),)
    lines = {line.name: line for line in headline_lines(workspace)}
    assert lines["top-1 accuracy"].value == percent(snapshot.figures.top_k[1].value)
    assert all(line.total == 60 and line.how for line in lines.values())
