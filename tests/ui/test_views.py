"""Single views: the light table's travel and sizes, chips, keys in matrix and diagram, many classes, background work."""

from __future__ import annotations

import threading
import time
from collections.abc import Callable, Iterator
from pathlib import Path

import numpy as np
import pytest
from PIL import Image
from PySide6.QtCore import QPoint, QPointF, Qt
from PySide6.QtGui import QWheelEvent
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication, QPushButton
from pytestqt.qtbot import QtBot

from mivrat.core.base.errors import InputError
from mivrat.core.selecting.selection import Labelled, Outcome
from mivrat.ui import words
from mivrat.ui.light_table.table import LightTable
from mivrat.ui.measure.confusions import Confusions
from mivrat.ui.measure.headline import headline_lines
from mivrat.ui.measure.matrix import READABLE_CELL
from mivrat.ui.measure.step import MeasureStep
from mivrat.ui.parts.loop import QtLoop
from mivrat.ui.parts.pictures import Thumbnails
from mivrat.ui.selection_line import SelectionLine
from mivrat.workspace.executors import Executor, Task
from mivrat.workspace.workspace import Workspace
from tests.support.workspaces import Remembered, made_up_run, opened, show

LEFT = Qt.MouseButton.LeftButton


@pytest.fixture
def workspace(qapp: object, tmp_path: Path) -> Workspace:
    return opened(made_up_run(tmp_path, 4, 60), QtLoop())


@pytest.fixture
def thumbnails(qapp: object) -> Iterator[Thumbnails]:
    made = Thumbnails(Executor(QtLoop()), most=40)
    yield made
    made.stop()


def test_light_table_travels_by_keys_and_fills_its_width(
    qtbot: QtBot, workspace: Workspace, thumbnails: Thumbnails
) -> None:
    table = LightTable(workspace, thumbnails)
    qtbot.addWidget(table)
    table.resize(560, 600)
    table.show()
    qtbot.waitExposed(table)
    workspace.shown.clear()
    workspace.shown.set_order("surest mistake first")
    thumbs = table.thumbs
    assert thumbs.columns == 4
    assert thumbs.cell_rect(3).right() > thumbs.viewport().width() - 24
    qtbot.keyClick(thumbs, Qt.Key.Key_Right)
    assert workspace.shown.position == 0
    for key, position in (
        (Qt.Key.Key_Right, 1),
        (Qt.Key.Key_Down, 5),
        (Qt.Key.Key_Left, 4),
        (Qt.Key.Key_Up, 0),
        (Qt.Key.Key_Up, 0),
        (Qt.Key.Key_End, 59),
    ):
        qtbot.keyClick(thumbs, key)
        assert workspace.shown.position == position
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
    assert workspace.shown.current is None
    assert workspace.shown.accuracy().value is None


def test_unreadable_thumbnails_are_final_and_the_cache_is_bounded(
    qtbot: QtBot, thumbnails: Thumbnails, tmp_path: Path
) -> None:
    (tmp_path / "bad.png").write_text("no")
    thumbnails.get(tmp_path / "bad.png")
    qtbot.waitUntil(lambda: thumbnails.settled, timeout=5000)
    assert thumbnails.get(tmp_path / "bad.png") == (None, True)
    for i in range(60):
        Image.new("L", (4, 4)).save(tmp_path / f"{i}.png")
        thumbnails.get(tmp_path / f"{i}.png")
    qtbot.waitUntil(lambda: thumbnails.settled, timeout=10000)
    assert len(thumbnails._cache) == 40


def test_chips_are_taken_away_by_a_click(qtbot: QtBot, workspace: Workspace) -> None:
    line = SelectionLine(workspace)
    qtbot.addWidget(line)
    line.resize(900, 44)
    line.show()
    workspace.shown.choose(Labelled(frozenset({1})))
    workspace.shown.choose(Outcome(frozenset({"wrong"})))
    qtbot.wait(10)

    def buttons() -> list[QPushButton]:
        return [b for b in line.findChildren(QPushButton) if b.property("chip") and not b.isHidden()]

    assert len(buttons()) == 2
    assert line.summary.text().startswith(f"{len(workspace.shown.images)} of 60 images")
    assert "right 0.0 %" in line.summary.text()
    qtbot.mouseClick(buttons()[0], LEFT)
    assert workspace.shown.conditions == (Outcome(frozenset({"wrong"})),)
    assert line.back.isEnabled()
    qtbot.mouseClick(line.back, LEFT)
    assert len(workspace.shown.conditions) == 2
    qtbot.mouseClick(line.forward, LEFT)
    assert len(workspace.shown.conditions) == 1


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
    qtbot.waitUntil(lambda: page.settled)
    matrix = page.matrix
    whole = matrix.cell_rect(150, 230)
    assert not page.smaller.isEnabled()
    qtbot.mouseClick(page.larger, LEFT)
    qtbot.mouseClick(page.larger, LEFT)
    for _ in range(20):  # the wheel turned over one cell keeps that cell under the pointer
        at = matrix.cell_rect(150, 230).center()
        turn = QPoint(0, 120)
        wheel = QWheelEvent(
            at, QPointF(matrix.mapToGlobal(at.toPoint())), QPoint(), turn, Qt.MouseButton.NoButton,
            Qt.KeyboardModifier.NoModifier, Qt.ScrollPhase.NoScrollPhase, False,
        )  # fmt: skip
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


def test_class_table_sorts_and_marks(qtbot: QtBot, workspace: Workspace, tmp_path: Path) -> None:

    step = MeasureStep(workspace)
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
    assert lines["top-1 accuracy"].value == words.percent(snapshot.figures.top_k[1].value)
    assert all(line.total == 60 and line.how for line in lines.values())


def test_figures_in_words() -> None:
    assert [words.percent(v) for v in (None, 0.0, 0.12345, 1.0)] == ["–", "0.0 %", "12.3 %", "100.0 %"]
    assert words.images(1) == "1 image"
    assert words.images(12345).replace("\u202f", " ") == "12 345 images"
    assert words.clipped("abcdefghij", 5) == "ab…ij"
    assert words.clipped("abc", 5) == "abc"


def test_work_reports_on_the_main_thread_and_stops(qtbot: QtBot) -> None:
    workers, seen, here = Executor(QtLoop()).group(1), [], threading.get_ident()

    def job(work: Task) -> str:
        for i in range(1000):
            if work.stop.stopped:
                return f"stopped at {i}"
            work.report(i)
            time.sleep(0.005)
        return "never stopped"

    def note(value: object) -> None:
        seen.append((value, threading.get_ident() == here))

    work = workers.start(job, done=note, progress=note)
    qtbot.waitUntil(lambda: len(seen) > 2, timeout=5000)
    work.stop.stop()
    qtbot.waitUntil(lambda: not workers.busy, timeout=5000)
    assert all(on_main for _, on_main in seen)
    assert str(seen[-1][0]).startswith("stopped at")


@pytest.mark.parametrize(
    ("error", "what"),
    [
        (InputError("is odd", where="a"), "a: is odd"),
        (ValueError("inner"), "something went wrong inside Mivrat (ValueError: inner)"),
    ],
)
def test_failing_work_says_why(qtbot: QtBot, error: Exception, what: str, caplog: pytest.LogCaptureFixture) -> None:
    workers, seen = Executor(QtLoop()).group(1), []

    def job(work: Task) -> None:
        raise error

    workers.start(job, failed=seen.append)
    qtbot.waitUntil(lambda: bool(seen), timeout=5000)
    assert what in seen[0].line()
    assert bool(caplog.records) == isinstance(error, ValueError)


def test_cancelled_work_tells_nothing(qtbot: QtBot) -> None:
    workers, seen, go = Executor(QtLoop()).group(1), [], threading.Event()
    first = workers.start(lambda work: go.wait(5), done=seen.append)
    second: Callable[[Task], str] = lambda work: "second"  # noqa: E731
    workers.start(second, done=seen.append)
    first.cancel()
    go.set()
    qtbot.waitUntil(lambda: not workers.busy, timeout=5000)
    qtbot.wait(20)
    assert seen == ["second"]
    workers.stop_all()
