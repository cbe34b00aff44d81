"""Small things that others see: dropped files, menus by the right button, where files went, lists shown whole, names that begin alike,
studies that cannot be written to, and what nobody foresaw."""

from __future__ import annotations

import os
import shutil
from collections.abc import Callable
from itertools import pairwise
from pathlib import Path

import pytest
from PySide6.QtCore import QMimeData, QPoint, QPointF, Qt, QUrl
from PySide6.QtGui import QDesktopServices, QDropEvent, QFontMetrics, QGuiApplication
from PySide6.QtWidgets import QAbstractButton, QApplication, QLabel, QMenu, QPushButton, QTableView, QWidget
from pytestqt.qtbot import QtBot

from mivrat.core.base.log import log_path
from mivrat.core.reporting.image_lists import list_of_images
from mivrat.core.study.file import Study
from mivrat.ui import application
from mivrat.ui.actions import sheet as key_sheet
from mivrat.ui.keys import ShortcutSheet
from mivrat.ui.parts.columns import fit_columns
from mivrat.ui.parts.loop import QtLoop
from mivrat.ui.parts.pictures import Thumbnails
from mivrat.ui.parts.tables import FigureTable
from mivrat.ui.parts.widgets import Choice
from mivrat.ui.steps import STEPS
from mivrat.ui.theme import font
from mivrat.ui.window import MainWindow
from mivrat.workspace.executors import Executor
from tests.support.networks import classifier, saved
from tests.support.sets import write_classes, write_set

Settle = Callable[[], None]
LEFT, RIGHT = Qt.MouseButton.LeftButton, Qt.MouseButton.RightButton


def drop(widget: QWidget, *paths: Path) -> None:
    """Drop files on a widget, as the desktop does."""
    data = QMimeData()
    data.setUrls([QUrl.fromLocalFile(str(path)) for path in paths])
    event = QDropEvent(QPointF(5, 5), Qt.DropAction.CopyAction, data, LEFT, Qt.KeyboardModifier.NoModifier)
    widget.dropEvent(event)  # type: ignore[arg-type]  # the application itself delivers it only in a real drag


def test_files_dropped_on_a_field_are_its_path(window: MainWindow, tmp_path: Path) -> None:
    page = window.new_page
    window.new_study()
    saved(classifier(), tmp_path / "net.onnx")
    drop(page.model.edit, tmp_path / "net.onnx")
    assert page.model.edit.text() == str(tmp_path / "net.onnx")
    (tmp_path / "predictions.csv").write_text("path,predicted\n")
    drop(page.model.edit, tmp_path / "predictions.csv")  # a table is a model here, though elsewhere it is images
    assert page.model.edit.text() == str(tmp_path / "predictions.csv")
    root = write_set(tmp_path / "set", 1)
    drop(page.recipe.edit, write_classes(tmp_path / "c.txt"), root)  # several find their fields
    assert (page.classes.edit.text(), page.images.edit.text()) == (str(tmp_path / "c.txt"), str(root))
    drop(page.images.edit, root / "birch" / "0.png")
    assert page.images.path == root / "birch" / "0.png"


def test_a_guess_that_crops_much_away_is_said_before_the_run(qtbot: QtBot, window: MainWindow, tmp_path: Path) -> None:
    from PIL import Image

    saved(classifier(), tmp_path / "net.onnx")
    (tmp_path / "set" / "birch").mkdir(parents=True)
    Image.new("RGB", (90, 30)).save(tmp_path / "set" / "birch" / "wide.png")
    window.new_study()
    page = window.new_page
    page.drop([tmp_path / "net.onnx", tmp_path / "set", write_classes(tmp_path / "c.txt")])
    qtbot.waitUntil(page.start.isEnabled, timeout=10000)
    assert "1 image, all labelled" in page.message.text()
    assert "The guessed recipe crops away 67 % of these pictures" in page.message.text()
    assert page.message.property("role") == "look"


def shown_menu() -> QMenu:
    menu = QApplication.activePopupWidget()
    assert isinstance(menu, QMenu)
    return menu


def right_click(widget: QWidget, at: QPoint) -> list[str]:
    """Press the right button and ask for the menu, as the desktop does; what it offers."""
    from PySide6.QtGui import QContextMenuEvent
    from PySide6.QtTest import QTest

    QTest.mouseClick(widget, RIGHT, pos=at)
    QApplication.sendEvent(widget, QContextMenuEvent(QContextMenuEvent.Reason.Mouse, at, widget.mapToGlobal(at)))
    menu = shown_menu()
    found = [action.text() for action in menu.actions() if action.text()]
    menu.close()
    return found


def test_a_right_click_offers_what_the_three_dots_offer(demo: MainWindow, settle: Settle) -> None:
    thumbs = demo.bench.light_table.thumbs
    at = thumbs.cell_rect(2).center()
    offered = right_click(thumbs.viewport(), at)
    menu = demo.bench.light_table.more.menu()
    assert menu is not None
    assert offered == [action.text() for action in menu.actions() if action.text()]
    assert "Copies, sorted into folders…" in offered
    assert demo.workspace.shown.focus.current == int(demo.workspace.shown.images[2])  # what the menu is about
    demo.workspace.shown.focus.look_at(
        int(demo.workspace.shown.images[0]), frozenset(demo.workspace.shown.images[:4].tolist())
    )
    right_click(thumbs.viewport(), at)
    assert len(demo.workspace.shown.focus.marked) == 4  # one of those marked: they stay marked
    matrix = demo.bench.measure.confusions.matrix
    demo.bench.measure.tabs.choose(2)
    settle()
    assert right_click(matrix, matrix.rect().center()) == [
        "Copy as a table (Ctrl+Shift+C)",
        "Add to a finding (F)",
        "Save as a picture…",
    ]
    demo.workspace.shown.focus.look_at(int(demo.workspace.shown.images[0]))
    demo.bench.show_step(4)
    settle()
    board = demo.bench.explain.board.view
    assert "Save the board (PNG or SVG)…" in right_click(board, board.rect().center())


def test_what_was_written_is_counted_and_its_folder_opened(
    qtbot: QtBot, demo: MainWindow, settle: Settle, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    opened: list[str] = []
    monkeypatch.setattr(QDesktopServices, "openUrl", lambda url: opened.append(url.toLocalFile()) or True)
    demo.workspace.shown.focus.look_at(
        int(demo.workspace.shown.images[0]), frozenset(demo.workspace.shown.images[:3].tolist())
    )
    demo.bench.exporter.write_folders(tmp_path / "out", "copies")
    qtbot.waitUntil(lambda: not demo.workspace.busy, timeout=20000)
    settle()
    assert demo.foot.notice.full_text == f"Written: 3 files, in {tmp_path / 'out'}."
    assert demo.foot.folder.isVisible()
    qtbot.mouseClick(demo.foot.folder, LEFT)
    assert opened == [str(tmp_path / "out")]
    demo.bench.exporter.write_list(tmp_path / "list.csv", list_of_images)
    settle()
    assert demo.foot.notice.full_text == f"Written: list.csv, 3 images, in {tmp_path}."
    demo.foot.say("something else")
    assert not demo.foot.folder.isVisible()


def test_a_list_of_images_not_scored_says_so(qtbot: QtBot, window: MainWindow, settle: Settle, tmp_path: Path) -> None:
    """Of twelve tried images the run is finished, which nobody stopped; the list of all says what is missing."""
    network = classifier()
    saved(network, tmp_path / "net.onnx")
    root = write_set(tmp_path / "set", 9)
    window.new_study()
    page = window.new_page
    page.drop([tmp_path / "net.onnx", root, write_classes(tmp_path / "c.txt")])
    qtbot.waitUntil(page.few.isEnabled, timeout=10000)
    qtbot.mouseClick(page.few, LEFT)
    qtbot.waitUntil(lambda: window.workspace.is_open and not window.workspace.busy, timeout=20000)
    settle()
    assert window.foot.notice.full_text == "15 images not scored yet."
    window.bench.exporter.write_list(tmp_path / "list.csv", list_of_images)
    settle()
    assert (tmp_path / "list.csv").read_text().startswith("path,label,")
    assert (
        window.foot.notice.full_text
        == f"Written: list.csv, 27 images, without an answer: 15 not scored yet, in {tmp_path}."
    )


def test_where_the_log_is_and_what_nobody_foresaw(
    qtbot: QtBot, window: MainWindow, monkeypatch: pytest.MonkeyPatch
) -> None:
    opened: list[str] = []
    monkeypatch.setattr(QDesktopServices, "openUrl", lambda url: opened.append(url.toLocalFile()) or True)
    next(one for one in window.menu.actions() if one.text() == "Where the log is").trigger()
    assert str(log_path()) in window.foot.notice.full_text
    assert opened == [str(log_path().parent)]
    hooks = application.sys.excepthook, application.threading.excepthook
    try:
        application.report_failures(window)
        application.sys.excepthook(ValueError, ValueError("odd"), None)
        qtbot.waitUntil(lambda: bool(window.foot.problem.full_text), timeout=2000)
    finally:
        application.sys.excepthook, application.threading.excepthook = hooks
        application.qInstallMessageHandler(None)
    assert "ValueError: odd" in window.foot.problem.full_text
    assert str(log_path()) in window.foot.problem.full_text


def test_drop_down_lists_show_all_their_rows(qtbot: QtBot, demo: MainWindow, settle: Settle) -> None:
    demo.bench.measure.tabs.choose(3)
    settle()
    looked_at = 0
    for choice in demo.findChildren(Choice):
        if not choice.isVisible() or choice.count() < 2:
            continue
        qtbot.mouseClick(choice, LEFT)
        qtbot.wait(60)  # the list is laid out once more after it has opened
        view, rows = choice.view(), min(choice.count(), choice.maxVisibleItems())
        last = view.visualRect(view.model().index(rows - 1, 0))
        assert last.bottom() <= view.viewport().height(), choice.accessibleName()
        assert view.verticalScrollBar().maximum() <= choice.count() - rows
        looked_at += 1
        choice.hidePopup()
    assert looked_at >= 4


def test_the_window_and_the_key_sheet_fit_the_screen(qtbot: QtBot, settings: object, window: MainWindow) -> None:
    room = QGuiApplication.primaryScreen().availableGeometry()
    fresh = MainWindow(settings)  # type: ignore[arg-type]
    assert fresh.width() <= room.width()
    assert fresh.height() <= room.height() - 40
    fresh.close()
    fresh.deleteLater()
    sheet = ShortcutSheet(window)
    qtbot.addWidget(sheet)
    sheet.show()
    assert sheet.width() <= room.width()
    assert sheet.height() <= room.height() - 40
    said = {one.text() for one in sheet.findChildren(QLabel)}
    assert {key for _, keys in key_sheet([step.name for step in STEPS]) for key, _ in keys} <= said


def test_every_page_says_what_it_is_for(
    demo: MainWindow, settle: Settle, monkeypatch: pytest.MonkeyPatch, qtbot: QtBot
) -> None:
    """Over its tab, and with F1 above the keys: of the page shown, and of no page where no study is."""
    said, helps = list[set[str]](), list[str]()

    def read(sheet: ShortcutSheet) -> int:
        qtbot.addWidget(sheet)
        said.append({one.text() for one in sheet.findChildren(QLabel)})
        assert sheet.height() <= QGuiApplication.primaryScreen().availableGeometry().height() - 40
        return 0

    monkeypatch.setattr(ShortcutSheet, "exec", read)
    for number, step in enumerate(demo.bench.steps):
        demo.bench.show_step(number)
        for i, page in enumerate(step.parts):
            step.choose(i)
            assert step.help == (page.title, page.help)
            helps.append(page.help)
            if len(step.parts) > 1:
                (tab,) = (one for one in step.tabs.findChildren(QAbstractButton) if one.isChecked())
                assert tab.toolTip() == page.help
        demo.show_keys()
        assert ": ".join(step.help) in said[-1]
    assert len(set(helps)) == len(helps) > 25
    demo.close_study()
    settle()
    demo.show_keys()
    assert not said[-1] & {f"{page.title}: {page.help}" for step in demo.bench.steps for page in step.parts}


def test_columns_give_their_room_to_the_names(qtbot: QtBot) -> None:
    table = FigureTable(("name", "kind", "n"), (60, 200), "some", (2,))
    qtbot.addWidget(table)
    table.resize(400, 200)
    table.show()
    names = [f"northern something {i}" for i in range(30)]
    table.show_lines([(name, "a", "1") for name in names])
    assert table.columnWidth(0) > 250  # the others take what they need
    assert table.columnWidth(2) < 60
    table.show_lines([(name, "a kind that is long", "1 234 567") for name in names])
    letters = QFontMetrics(font(13))
    assert table.columnWidth(2) >= letters.horizontalAdvance("1 234 567") + 12  # numbers are never cut
    table.resize(200, 200)
    assert table.columnWidth(2) >= letters.horizontalAdvance("1 234 567") + 12
    assert table.textElideMode() == Qt.TextElideMode.ElideMiddle
    plain = QTableView()
    qtbot.addWidget(plain)
    plain.setModel(table.model())
    fit_columns(plain, {1: 10}, (1,))  # not shown yet: known all the same
    assert plain.columnWidth(1) >= letters.horizontalAdvance("a kind that is long")


def test_no_tab_is_cut_and_nothing_scrolls_sideways_when_narrow(demo: MainWindow, settle: Settle) -> None:
    for width in (900, 1000, 1280):
        demo.resize(width, 640)
        for step, tabs in ((2, demo.bench.measure.tabs), (3, demo.bench.examine.tabs), (4, demo.bench.explain.tabs)):
            demo.bench.show_step(step)
            settle()
            for tab in tabs.findChildren(QPushButton):
                bold = QFontMetrics(font(13, font().Weight.DemiBold)).horizontalAdvance(tab.text())
                assert tab.width() >= bold, (width, tab.text())
            edges = [tab.geometry() for tab in tabs.findChildren(QPushButton)]
            assert all(a.right() < b.left() for a, b in pairwise(edges))


def test_what_cannot_be_kept_does_not_look_kept(
    qtbot: QtBot, demo: MainWindow, settle: Settle, monkeypatch: pytest.MonkeyPatch
) -> None:
    workspace = demo.workspace
    workspace.shown.focus.look_at(int(workspace.shown.images[0]))
    path, access = workspace.study_path, os.access
    assert path is not None
    with monkeypatch.context() as closed:
        closed.setattr(os, "access", lambda where, how: how != os.W_OK and access(where, how))
        qtbot.keyClick(demo.bench.light_table.thumbs, "1")
        settle()
    assert not workspace.shown.reviews[int(workspace.shown.images[0])].causes
    assert "cannot be written to, so nothing is decided in it" in demo.foot.problem.full_text
    assert demo.workspace.edits.last is None
    # A disk that fills up is found out only on writing: then what is in the study is shown again.
    with monkeypatch.context() as full:
        full.setattr(
            "mivrat.workspace.study_jobs.write", lambda *_: (_ for _ in ()).throw(application_error("no room left"))
        )
        qtbot.keyClick(demo.bench.light_table.thumbs, "1")
        qtbot.waitUntil(lambda: "no room left" in demo.foot.problem.full_text, timeout=5000)
        settle()
    assert not workspace.shown.reviews[int(workspace.shown.images[0])].causes
    qtbot.keyClick(demo.bench.light_table.thumbs, "1")
    settle()
    assert workspace.shown.reviews[int(workspace.shown.images[0])].causes == frozenset({1})
    with Study.open(path, again=True) as study:
        assert study.rows("SELECT causes FROM review") == [("[1]",)]


def application_error(what: str) -> Exception:
    from mivrat.core.base.errors import InputError

    return InputError(what, where="study")


def test_thumbnails_come_when_their_folder_comes_back(
    qtbot: QtBot, qapp: QApplication, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr("mivrat.ui.parts.pictures.LOOKED_AGAIN", 40)
    root = write_set(tmp_path / "set", 1)
    shutil.move(root, tmp_path / "away")
    thumbnails, file, broken = Thumbnails(Executor(QtLoop())), root / "birch" / "0.png", tmp_path / "broken.png"
    broken.write_bytes(b"no picture")
    made: list[Path] = []
    get = thumbnails._store.get
    thumbnails._store.get = lambda path, side: made.append(path) or get(path, side)  # type: ignore[method-assign]
    thumbnails.want("view", {file, broken})
    for path in (file, broken):
        thumbnails.get(path)
    qtbot.waitUntil(lambda: all(thumbnails.known(path)[1] for path in (file, broken)), timeout=5000)
    assert thumbnails.known(file) == (None, True)
    qtbot.wait(200)
    assert made.count(broken) == 1  # a file that is as it was is not read again and again
    shutil.move(tmp_path / "away", root)
    qtbot.waitUntil(lambda: thumbnails.known(file)[0] is not None, timeout=5000)
    thumbnails.want("view", set())
    qtbot.waitUntil(lambda: not thumbnails._again.isActive(), timeout=2000)
    thumbnails.stop()


def test_enter_on_what_is_selected_looks_at_it(qtbot: QtBot, demo: MainWindow, settle: Settle) -> None:
    workspace = demo.workspace
    for tab, widget in (
        (1, demo.bench.measure.class_table),
        (2, demo.bench.measure.confusions.matrix),
        (3, demo.bench.measure.reliability),
    ):
        demo.bench.measure.tabs.choose(tab)
        settle()
        target = widget if tab != 3 else demo.bench.measure.reliability.diagram
        target.setFocus()
        if tab == 1:
            demo.bench.measure.class_table.setCurrentIndex(demo.bench.measure.class_table.rows.index(0, 0))
        else:
            qtbot.keyClick(target, Qt.Key.Key_Right)
        qtbot.keyClick(target, Qt.Key.Key_Return)
        settle()
        before = workspace.shown.conditions
        assert before
        assert demo.bench.right.currentWidget() is demo.bench.light_table
        qtbot.keyClick(target, Qt.Key.Key_Return)
        settle()
        assert workspace.shown.conditions == before
        if len(workspace.shown.images):
            assert demo.bench.right.currentWidget() is demo.bench.close_look
            demo.bench.leave_close_look()
        target.setFocus()
        qtbot.keyClick(target, Qt.Key.Key_Space)  # which takes it away again
        assert workspace.shown.conditions != before
        workspace.shown.clear()
