"""What stays as it is: the window's size and life at any width, focus while a job runs, lists under the wheel, names as text."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator
from pathlib import Path

import pytest
from PySide6.QtCore import QAbstractListModel, QPoint, QPointF, Qt
from PySide6.QtGui import QWheelEvent
from PySide6.QtWidgets import (
    QAbstractItemView,
    QApplication,
    QComboBox,
    QLabel,
    QPushButton,
    QTabBar,
    QWidget,
)
from pytestqt.qtbot import QtBot

from mivrat.core.base.job import Progress, current_stop
from mivrat.core.pictures.image_sets import list_images, match_labels
from mivrat.core.running.evaluation import Evaluation
from mivrat.core.study.file import Study
from mivrat.ui.bench import EXPLAIN
from mivrat.ui.parts.widgets import Choice, plain
from mivrat.ui.steps import STEPS
from mivrat.ui.window import BENCH, NEW, MainWindow
from mivrat.workspace.jobs import Job
from tests.support.networks import classifier, loaded
from tests.support.sets import write_set

Settle = Callable[[], None]
LEFT = Qt.MouseButton.LeftButton
HOSTILE = ['<img src="file:///dev/zero">', "<b>bold</b> & co", "<a href='x'>alder</a>"]


def pages(window: MainWindow) -> Iterator[str]:
    """Every page of every step, one after the other, with the light table and with the close look."""
    for step in range(len(STEPS)):
        window.bench.show_step(step)
        tabs = getattr(window.bench.figures.currentWidget(), "tabs", None)
        for page in range(len(tabs._group.buttons()) if tabs is not None else 1):
            if tabs is not None:
                tabs.choose(page)
            yield f"{STEPS[step]} {page}"


SIZES = [
    (900, 640),
    (1000, 640),
    (1008, 721),
    (1043, 738),
    *((w, 800) for w in range(1161, 1176, 3)),
    (1280, 800),
    (1400, 900),
]


def sweep(window: MainWindow, sizes: list[tuple[int, int]]) -> None:
    for _ in pages(window):
        for size in sizes:
            window.resize(*size)
            for _ in range(3):
                QApplication.processEvents()
            view = window.bench.explain.board.view
            before = view.height()
            QApplication.processEvents()
            assert view.height() == before


def test_every_page_lives_at_any_size(qtbot: QtBot, demo: MainWindow, settle: Settle) -> None:
    demo.workspace.shown.focus.look_at(int(demo.workspace.shown.images[0]))
    demo.bench.show_step(EXPLAIN)
    settle()
    sweep(demo, SIZES[::3])


@pytest.mark.slow
def test_every_page_lives_at_every_width(qtbot: QtBot, demo: MainWindow, settle: Settle) -> None:
    demo.workspace.shown.focus.look_at(int(demo.workspace.shown.images[0]))
    demo.bench.show_step(EXPLAIN)
    settle()
    for wishes in (1, 3, 6):
        demo.bench.explain.board.set_wishes([(k, None) for k in range(wishes)])
        settle()
        sweep(demo, [(width, height) for width in range(900, 1401) for height in (640, 721, 738, 800)])


def test_names_are_never_taken_for_markup(qtbot: QtBot, window: MainWindow, settle: Settle, tmp_path: Path) -> None:
    """Hostile names of classes, files, groups and causes, on every page: each tooltip and label shows them as they are."""
    model = loaded(classifier(seed=3), tmp_path / "m.onnx", 3)
    root = write_set(tmp_path / "set", 4, classes=["a", "b", "c"])
    lines = ["path,label,<i>group</i>,<b>slide</b>"]
    for k, folder in enumerate("abc"):
        for i in range(4):
            name = f"<img src=x>{i}.png"
            (root / folder / f"{i}.png").rename(root / folder / name)
            quoted = HOSTILE[k].replace('"', '""')
            lines.append(f'set/{folder}/{name},"{quoted}",<u>{i % 2}</u>,{HOSTILE[1]} {i}')
    (tmp_path / "t.csv").write_text("\n".join(lines))
    with Study.create(tmp_path / "s.mivrat", HOSTILE) as study:
        for _ in Evaluation(model, match_labels(list_images(tmp_path / "t.csv"), HOSTILE).image_set, study).run():
            pass
    window.open_study(tmp_path / "s.mivrat")
    qtbot.waitUntil(lambda: window.pages.currentIndex() == BENCH, timeout=10000)
    settle()
    window.workspace.shown.focus.look_at(0)
    seen = 0
    for close in (False, True):
        if close:
            window.bench.look_closely()
            settle()
        for page in pages(window) if not close else ("close look",):
            settle()
            for widget in [window, *window.findChildren(QWidget)]:
                if widget.isVisible():
                    seen += check_plain(widget, page)
    assert seen > 40


def check_plain(widget: QWidget, page: str) -> int:
    """Fail where a text of a widget would be taken for markup; how many texts held something that looks like it."""
    texts = [widget.toolTip()]
    if isinstance(widget, QLabel) and widget.textFormat() != Qt.TextFormat.PlainText:
        texts.append(widget.text())
    if isinstance(widget, QAbstractItemView) and (model := widget.model()) is not None:
        for r in range(min(model.rowCount(), 30)):
            for c in range(1 if isinstance(model, QAbstractListModel) else model.columnCount()):
                texts.append(str(model.index(r, c).data(Qt.ItemDataRole.ToolTipRole) or ""))
    if isinstance(widget, QTabBar):
        texts += [widget.tabToolTip(i) for i in range(widget.count())]
    for action in widget.actions():
        texts.append(action.toolTip() if action.toolTip() != action.text() else "")
    for text in texts:
        inner = text.removeprefix("<qt>").removesuffix("</qt>").replace("<br>", "") if text.startswith("<qt>") else text
        assert not re.search(r"<[A-Za-z!/?]", inner), (page, widget, text)
    return sum("&lt;" in text for text in texts)


def test_plain_text_is_what_is_shown() -> None:
    assert plain("p < 0.05\n2 > 1") == "p < 0.05\n2 > 1"
    assert plain("a <b>\nc") == "<qt>a &lt;b&gt;<br>c</qt>"


def test_the_wheel_changes_nothing_that_is_only_scrolled_over(qtbot: QtBot, demo: MainWindow, settle: Settle) -> None:
    def turn(widget: QWidget) -> None:
        middle = QPointF(widget.rect().center())
        QApplication.sendEvent(
            widget,
            QWheelEvent(
                middle,
                widget.mapToGlobal(middle),
                QPoint(),
                QPoint(0, -240),
                LEFT & ~LEFT,
                Qt.KeyboardModifier.NoModifier,
                Qt.ScrollPhase.NoScrollPhase,
                False,
            ),
        )

    demo.bench.show_step(0)
    demo.bench.prepare.tabs.choose(2)
    settle()
    tried = 0
    for choice in demo.findChildren(Choice):
        if choice.count() > 1 and choice.isVisible() and choice.isEnabled():
            demo.bench.light_table.thumbs.setFocus()
            before = choice.currentIndex()
            turn(choice)
            assert (choice.currentIndex(), choice.hasFocus()) == (before, False)
            tried += 1
    assert tried > 4
    order = demo.bench.light_table.findChild(QComboBox)
    assert isinstance(order, Choice)
    order.setFocus()
    turn(order)
    assert order.currentIndex() == 1


def until_stopped(ended: list[int] | None = None) -> Iterator[object]:
    """A job that does nothing until it is stopped."""
    yield Progress(0, 1, 0.0, None)
    current_stop().wait(20)
    if ended is not None:
        ended.append(1)
    return False


def test_what_is_said_never_hides_the_job_and_what_is_refused_is_not_kept(
    qtbot: QtBot, demo: MainWindow, settle: Settle
) -> None:
    stop: list[int] = []
    demo.workspace.jobs.begin(Job("write", "Writing a lot"), lambda: until_stopped(stop))
    assert demo.foot.stop.isVisible()
    demo.workspace.shown.focus.look_at(3)
    demo.bench.reviewer.toggle_reviewed()
    demo.workspace.edits.undo()
    assert "Undone" in demo.foot.notice.full_text
    assert demo.foot.stop.isVisible()
    assert demo.foot.what.text() == "Writing a lot"
    qtbot.keyClick(demo.bench.light_table.thumbs, Qt.Key.Key_S)
    assert "“Writing a lot” has to end first" in demo.foot.notice.full_text
    qtbot.mouseClick(demo.foot.stop, LEFT)
    settle()
    assert stop == [1]
    assert demo.workspace.shown.results.vectors is None
    assert not demo.workspace.shown.conditions
    demo.workspace.jobs.read_again([5])
    settle()
    assert demo.foot.notice.full_text == "Read again: 1 image."


def test_the_focus_stays_while_a_job_runs_and_comes_back(qtbot: QtBot, demo: MainWindow, settle: Settle) -> None:
    demo.bench.show_step(1)
    settle()
    begin = next(
        one for one in demo.bench.check.findChildren(QPushButton) if one.isVisible() and one is demo.bench.check.all
    )
    begin.setFocus()
    order = demo.workspace.shown.order.by
    demo.workspace.jobs.begin(Job("check", "Checking"), until_stopped)
    assert not begin.isEnabled()
    assert demo.bench.waiting.hasFocus()
    qtbot.keyClicks(demo.bench.waiting, "name it")
    assert demo.workspace.shown.order.by == order
    demo.stop_job()
    settle()
    assert begin.hasFocus()


def test_the_place_of_a_new_study_is_proposed_once_and_left_alone(
    qtbot: QtBot, window: MainWindow, tmp_path: Path
) -> None:
    write_set(tmp_path / "held")
    window.new_study()
    assert window.pages.currentIndex() == NEW
    images, study = window.new_page.images.edit, window.new_page.study.edit
    images.setFocus()
    for letter in str(tmp_path / "held"):
        qtbot.keyClicks(images, letter)
        assert study.text() == ""
    qtbot.keyClick(images, Qt.Key.Key_Tab)
    assert study.text() == str(tmp_path / "held.mivrat")
    study.setFocus()
    study.selectAll()
    qtbot.keyClick(study, Qt.Key.Key_Delete)
    images.setFocus()
    qtbot.keyClicks(images, "/birch")
    qtbot.keyClick(images, Qt.Key.Key_Tab)
    assert study.text() == ""


def test_rows_of_the_headline_stay_when_slower_figures_come(qtbot: QtBot, demo: MainWindow, settle: Settle) -> None:
    headline = demo.bench.measure.headline
    demo.bench.show_step(2)
    demo.bench.measure.tabs.choose(0)
    settle()
    row = headline._rows[1]
    qtbot.mouseClick(row, LEFT)
    chosen = demo.workspace.shown.conditions
    assert chosen == row.conditions
    headline._shown = None
    headline.refresh()  # as when intervals come in
    settle()
    focused = QApplication.focusWidget()
    assert focused in headline._rows
    assert focused.conditions == chosen
    qtbot.keyClick(focused, Qt.Key.Key_Return)
    assert demo.workspace.shown.conditions == chosen


def test_every_page_is_found_again_by_its_id_and_by_what_it_was_once_called(demo: MainWindow, settle: Settle) -> None:
    """A bookmark of an earlier version has what stood on the tab."""
    bench, before = demo.bench, {"hand back": "Hand back"}
    for number, step in enumerate(bench.steps):
        ids = [page.place_id for page in step.parts]
        assert len(set(ids)) == len(ids)
        for i, page in enumerate(step.parts):
            for said in (page.place_id, before.get(page.place_id, page.title)):
                step.choose(len(step.parts) - 1 - i)
                bench.show_step(0)
                bench.go_to({"step": STEPS[number].name, "page": said})
                assert (bench.step, step.page) == (step, page)
                assert bench.place()["page"] == page.place_id
    bench.go_to({"step": STEPS[0].name, "page": "no such page"})
    assert bench.step is bench.steps[0]
