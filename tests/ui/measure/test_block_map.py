"""Many classes in blocks: the overview first, a block opened by click and key, the largest cell for its neighbours, two studies."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest
from PySide6.QtCore import Qt
from PySide6.QtGui import QAccessible
from PySide6.QtTest import QTest
from pytestqt.qtbot import QtBot

from mivrat.core.selecting.selection import MatrixCells
from mivrat.ui.measure.block_map import LEAST
from mivrat.ui.measure.confusions import BLOCKS, ORDERS, Confusions
from mivrat.ui.parts.loop import QtLoop
from mivrat.workspace.workspace import Workspace
from tests.support.workspaces import Remembered, made_up_run, show

LEFT = Qt.MouseButton.LeftButton


@pytest.fixture
def page(qtbot: QtBot) -> Confusions:
    made = Confusions(Workspace(QtLoop(), Remembered()))
    qtbot.addWidget(made)
    made.resize(560, 640)
    made.show()
    qtbot.waitExposed(made)
    return made


def test_a_block_opens_into_a_matrix_of_its_own(qtbot: QtBot, page: Confusions, tmp_path: Path) -> None:
    workspace, blocks = page.workspace, page.map
    show(workspace, made_up_run(tmp_path, 60, 700))
    qtbot.waitUntil(lambda: page.settled)
    counts = workspace.shown.results.measured.figures.matrix
    assert blocks.isVisible()
    assert not page.matrix.isVisible()
    assert blocks.counts.sum() == counts.sum() - np.trace(counts)
    assert f"{len(page.blocks)} blocks" in page.opened.full_text
    assert page.worst_blocks.isVisible()
    assert page.worst_blocks.item(0, 2).text() == str(page.blocks[0].inside)
    # By click: the cell on the diagonal of the worst block.
    qtbot.mouseClick(blocks.viewport(), LEFT, pos=blocks.mark_rect(0).center().toPoint())
    worst = page.blocks[0]
    assert page.matrix.isVisible()
    assert page.matrix.order.tolist() == list(worst.classes)
    (chosen,) = workspace.shown.conditions
    assert isinstance(chosen, MatrixCells)
    assert len(workspace.shown.images) == worst.inside
    first, last = worst.classes[0], worst.classes[-1]
    assert page.matrix._at(page.matrix.cell_rect(first, last).center()) == (first, last)
    assert page.matrix.cell_rect(last, last).bottom() <= page.matrix.height()
    assert not page.matrix.grab().toImage().isNull()
    assert [len(line) for line in page.as_table()] == [len(worst.classes) + 1] * (len(worst.classes) + 1)
    QTest.keyClick(page.matrix, Qt.Key.Key_Escape)
    assert blocks.isVisible()
    # By keys, from the cell that was clicked: right and down, back to one between two blocks, Enter.
    blocks.setFocus()
    for key in (Qt.Key.Key_Right, Qt.Key.Key_Down):
        QTest.keyClick(blocks, key)
    a, b = blocks.cell(blocks.cursor)
    assert (a, b) == (1, 1)
    QTest.keyClick(blocks, Qt.Key.Key_Left)
    read = QAccessible.queryAccessibleInterface(blocks)
    assert read.text(QAccessible.Text.Description).startswith(f"labelled one of {page.blocks[1].name}")
    QTest.keyClick(blocks, Qt.Key.Key_Return)
    assert page.matrix.order.tolist() == [*page.blocks[1].classes, *page.blocks[0].classes]
    assert len(workspace.shown.images) == blocks.counts[1, 0]
    qtbot.mouseClick(page.all_blocks, LEFT)
    page.worst_blocks.cellClicked.emit(2, 0)
    assert page.matrix.order.tolist() == list(page.blocks[2].classes)
    page.stop()


def test_cells_are_never_too_small_and_the_largest_stands_for_them(
    qtbot: QtBot, page: Confusions, tmp_path: Path
) -> None:
    show(page.workspace, made_up_run(tmp_path, 1000, 6000))
    qtbot.waitUntil(lambda: page.settled, timeout=20000)
    blocks = page.map
    for width in (560, 333, 900):
        page.resize(width, 640)
        qtbot.wait(10)
        rect = blocks.mark_rect(0)
        assert rect.width() >= LEAST - 1
        assert abs(rect.width() - rect.height()) < 1
        assert blocks.mark_at(blocks.mark_rect(blocks.marks() - 1).center()) == blocks.marks() - 1
        by = blocks.by
        for mark in range(0, blocks.marks(), 7):
            line, column = divmod(mark, blocks.cells)
            part = blocks.counts[line * by : (line + 1) * by, column * by : (column + 1) * by]
            assert blocks.counts[blocks.cell(mark)] == part.max()
    # The whole matrix in the order of the list: a drawn cell says which of those beneath it is the largest.
    page.order.setFocus()
    QTest.keyClick(page.order, Qt.Key.Key_Home)
    qtbot.waitUntil(lambda: page.settled, timeout=20000)
    matrix, counts = page.matrix, page.workspace.shown.results.measured.figures.matrix.copy()
    assert matrix.isVisible()
    assert not matrix.grab().toImage().isNull()
    np.fill_diagonal(counts, 0)
    i, j = matrix._at(matrix.cell_rect(400, 700).center()) or (-1, -1)
    by = matrix._by(matrix.cell_rect(0, 0).width())
    assert by > 1
    part = counts[400 // by * by :, 700 // by * by :][:by, :by]
    assert counts[i, j] == part.max()
    page.stop()


def test_a_study_of_few_classes_after_one_of_many_shows_its_matrix(
    qtbot: QtBot, page: Confusions, tmp_path: Path
) -> None:
    for folder, classes, overview in (("a", 60, True), ("b", 8, False), ("c", 60, True)):
        (tmp_path / folder).mkdir()
        show(page.workspace, made_up_run(tmp_path / folder, classes, 400))
        qtbot.waitUntil(lambda: page.settled)
        assert page.map.isVisible() is overview
        assert (ORDERS[page.order.currentIndex()] == BLOCKS) is overview
        if overview:
            page.open_blocks(0, 0)
        assert page.matrix.isVisible()
        assert len(page.matrix.order) == (len(page.blocks[0].classes) if overview else 8)
    page.stop()
