"""Which images to label, by clicks: a list drawn, shown and written, labels read back, and a difference of two models."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

from PySide6.QtCore import Qt
from PySide6.QtTest import QTest

from mivrat.demo.study import DATA
from mivrat.ui.bench import CONCLUDE
from mivrat.ui.window import MainWindow

Settle = Callable[[], None]
LEFT = Qt.MouseButton.LeftButton


def test_a_list_is_drawn_written_and_read_back(demo: MainWindow, settle: Settle, tmp_path: Path) -> None:
    workspace = demo.workspace
    demo.bench.show_step(CONCLUDE)
    demo.bench.conclude.go_to("to label")
    settle()
    page = demo.bench.conclude.to_label
    page.number.setValue(80)
    settle()
    assert page.told.text().startswith("80 labels over 399 images: the figure is expected to within ±")
    assert "A simple random sample would need about 1" in page.told.text()
    assert not page.of_class.isVisible()
    labels = [int(item.text()) for line in range(page.table.rowCount()) if (item := page.table.item(line, 2))]
    assert sum(labels) == 80
    QTest.mouseClick(page.show_all, LEFT)
    settle()
    assert len(workspace.shown.images) == 80
    item = page.table.item(1, 0)
    assert item is not None
    QTest.mouseClick(page.table.viewport(), LEFT, pos=page.table.visualItemRect(item).center())
    settle()
    assert len(workspace.shown.images) == labels[1]
    page.write_to(tmp_path)
    page.read_back(tmp_path, DATA / "late-summer-field.csv")
    assert "from 80 labels over a pool of 399" in page.said.text()
    assert "is not valid" in page.said.text()
    # Labels that are not there yet: what is missing is said in place of a figure.
    page.read_back(tmp_path, tmp_path / "sample.csv")
    assert "80 of 80 listed images have no label" in page.said.text()
    # A class, to within so many points; then the other model.
    page.figure.setCurrentIndex(1)
    page.how.setCurrentIndex(1)
    page.points.setValue(10)
    page.figure.activated.emit(1)
    settle()
    assert page.of_class.isVisible()
    assert page.points.isVisible()
    assert not page.number.isVisible()
    assert page.drawn is not None
    assert page.drawn.sample.half_width <= 0.1
    page.figure.setCurrentIndex(3)
    page.figure.activated.emit(3)
    settle()
    assert "needs another run on the same images" in page.problem.text()
    assert not page.table.isVisible()
    runs = {(one.image_set, one.model): one for one in workspace.runs}
    demo.bench.comparer.hold(runs["late-summer-field", "grain-net-2"])
    settle()
    assert "347 images are answered alike by both models" in page.told.text()
    demo.bench.comparer.hold(runs["spring-check", "grain-net-1"])
    settle()
    assert page.problem.isVisible()
