"""The confusion matrix from two to a thousand classes, by keys, wheel and clicks."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest
from PySide6.QtCore import QPoint, QPointF, Qt
from PySide6.QtGui import QColor, QWheelEvent
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication
from pytestqt.qtbot import QtBot

from mivrat.ui.measure.confusions import Confusions
from mivrat.ui.measure.matrix import READABLE_CELL
from mivrat.ui.parts.loop import QtLoop
from mivrat.ui.theme import theme
from mivrat.workspace.workspace import Workspace
from tests.support.workspaces import Remembered, made_up_run, show

LEFT = Qt.MouseButton.LeftButton


@pytest.mark.parametrize(("classes", "images"), [(2, 10), (8, 80), (40, 300), (1000, 2500)])
def test_matrix_from_two_to_a_thousand_classes(qtbot: QtBot, tmp_path: Path, classes: int, images: int) -> None:
    workspace = Workspace(QtLoop(), Remembered())
    page = Confusions(workspace)
    qtbot.addWidget(page)
    page.resize(620, 640)
    page.show()
    qtbot.waitExposed(page)
    record = made_up_run(tmp_path, classes, images)
    show(workspace, record)
    QTest.keyClick(page.order, Qt.Key.Key_Home)  # many classes are shown in blocks first
    matrix = page.matrix
    counts = workspace.shown.snapshot.figures.matrix
    last = matrix.cell_rect(classes - 1, classes - 1)
    assert last.right() <= matrix.width()
    assert last.bottom() <= matrix.height()
    i, j = (int(v) for v in np.unravel_index(counts.argmax(), counts.shape))
    assert matrix._at(matrix.cell_rect(i, j).center()) == (i, j)
    assert f"{counts[i, j]} image" in matrix.describe(i, j)
    page.mode.setCurrentIndex(1)
    values, _ = matrix.values()
    np.testing.assert_allclose(np.nansum(values, axis=1)[counts.sum(axis=1) > 0], 100)
    page.mode.setCurrentIndex(2)
    values, _ = matrix.values()
    np.testing.assert_allclose(np.nansum(values, axis=0)[counts.sum(axis=0) > 0], 100)
    assert not matrix.grab().toImage().isNull()
    matrix.setFocus()
    QTest.keyClick(matrix, Qt.Key.Key_Right)
    QTest.keyClick(matrix, Qt.Key.Key_Right)
    assert matrix.cursor_cell == (0, 1)
    QTest.keyClick(matrix, Qt.Key.Key_Return)
    assert len(workspace.shown.images) == counts[0, 1]
    qtbot.waitUntil(lambda: page.settled)
    page.stop()


def test_matrix_of_many_classes_is_enlarged_until_it_can_be_read(qtbot: QtBot, tmp_path: Path) -> None:
    workspace = Workspace(QtLoop(), Remembered())
    page = Confusions(workspace)
    qtbot.addWidget(page)
    page.resize(620, 640)
    page.show()
    qtbot.waitExposed(page)
    show(workspace, made_up_run(tmp_path, 300, 900))
    QTest.keyClick(page.order, Qt.Key.Key_Home)
    qtbot.waitUntil(lambda: page.settled)
    matrix = page.matrix
    off = workspace.shown.snapshot.figures.matrix.copy()
    np.fill_diagonal(off, 0)
    most = tuple(int(v) for v in np.unravel_index(off.argmax(), off.shape))

    def seen_at(cell: tuple[int, ...]) -> QColor:
        """The colour in the middle of what stands for a cell on screen."""
        QApplication.processEvents()
        point = matrix.cell_rect(*cell).center().toPoint()
        return matrix.grab().toImage().pixelColor(point * matrix.devicePixelRatioF())

    assert 0 < matrix.cell_rect(*most).width() < 4  # too small to be seen: the largest of several stands for them
    assert seen_at(most) == theme.magnitude(1.0)
    nothing = next(
        c
        for c in np.ndindex(60, 60)
        if not off[c[0] // 4 * 4 : c[0] // 4 * 4 + 4, c[1] // 4 * 4 : c[1] // 4 * 4 + 4].any() and abs(c[0] - c[1]) > 8
    )
    assert seen_at(nothing) == theme.magnitude(0.0)
    whole = matrix.cell_rect(150, 230)
    assert not page.smaller.isEnabled()
    qtbot.mouseClick(page.larger, LEFT)
    qtbot.mouseClick(page.larger, LEFT)
    for _ in range(20):  # the wheel turned over one cell keeps that cell under the pointer
        at = matrix.cell_rect(150, 230).center()
        turn = QPoint(0, 120)
        wheel = QWheelEvent(
            at,
            QPointF(matrix.mapToGlobal(at.toPoint())),
            QPoint(),
            turn,
            Qt.MouseButton.NoButton,
            Qt.KeyboardModifier.NoModifier,
            Qt.ScrollPhase.NoScrollPhase,
            False,
        )
        QApplication.sendEvent(matrix, wheel)
        assert matrix._at(at) == (150, 230)
    assert matrix.cell_rect(150, 230).width() == pytest.approx(READABLE_CELL)
    assert not page.larger.isEnabled()
    before = matrix.cell_rect(150, 230).topLeft()
    middle = matrix.rect().center()
    qtbot.mousePress(matrix, LEFT, pos=middle)
    qtbot.mouseMove(matrix, middle - QPoint(60, 30))
    qtbot.mouseRelease(matrix, LEFT, pos=middle - QPoint(60, 30))
    assert matrix.cell_rect(150, 230).topLeft() - before == QPointF(-60, -30)
    assert not workspace.shown.conditions
    matrix.setFocus()
    matrix.cursor_cell = (0, 0)
    QTest.keyClick(matrix, Qt.Key.Key_Right)
    assert matrix.rect().contains(matrix.cell_rect(0, 1).toRect())  # brought into sight
    qtbot.mouseClick(matrix, LEFT, pos=matrix.cell_rect(0, 2).center().toPoint())
    assert {c.kind for c in workspace.shown.conditions} == {"labelled", "predicted"}
    while matrix.zoom > 1:
        QTest.keyClick(matrix, Qt.Key.Key_Minus)
    assert matrix.cell_rect(150, 230) == whole
    page.stop()
