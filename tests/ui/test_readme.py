"""The README's five minutes, walked to the letter: by mouse and by keys, with its figures read off its own text."""

from __future__ import annotations

import re
from collections.abc import Callable
from pathlib import Path

import pytest
from PySide6.QtCore import QPoint, Qt, QTimer
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication, QLineEdit, QMenu, QPushButton, QWidget
from pytestqt.qtbot import QtBot

from mivrat.core.selecting.selection import Labelled, Predicted
from mivrat.core.study.file import Study
from mivrat.ui.parts.plot import Diagram
from mivrat.ui.window import MainWindow
from tests.support.demo import CLASSES

Settle = Callable[[], None]
TEXT = " ".join((Path(__file__).parents[2] / "README.md").read_text("utf-8").split())


def said(pattern: str) -> tuple[str, ...]:
    """What the README says at one place."""
    found = re.search(pattern, TEXT)
    assert found is not None, pattern
    return found.groups()


def press(key: Qt.Key | str, ctrl: bool = False) -> None:
    """Press a key wherever the focus is."""
    modifier = Qt.KeyboardModifier.ControlModifier if ctrl else Qt.KeyboardModifier.NoModifier
    target = QApplication.focusWidget()
    assert target is not None
    QTest.keyClick(target, key, modifier)


def to(widget: QWidget) -> None:
    """Travel to a widget with Tab, as somebody without a mouse does."""
    for _ in range(120):
        if QApplication.focusWidget() is widget:
            return
        press(Qt.Key.Key_Tab)
    raise AssertionError(f"Tab does not lead to {widget.accessibleName() or widget}")


class Hand:
    """Does what the README asks for, by mouse or by keys."""

    def __init__(self, window: MainWindow, settle: Settle, keys: bool) -> None:
        self.window, self.settle, self.keys = window, settle, keys

    def click(self, widget: QWidget, at: QPoint | None = None) -> None:
        if self.keys:
            to(widget)
            press(Qt.Key.Key_Return)
        else:
            QTest.mouseClick(widget, Qt.MouseButton.LeftButton, pos=at or widget.rect().center())
        self.settle()

    def choose(self, where: QPushButton, menu: QMenu, name: str) -> None:
        """Choose an entry of a button's menu, which may hold up whoever opens it."""
        done = list[bool]()

        def pick() -> None:
            for _ in range([one.text() for one in menu.actions()].index(name) + 1):
                QTest.keyClick(menu, Qt.Key.Key_Down)
            QTest.keyClick(menu, Qt.Key.Key_Return)
            done.append(True)

        QTimer.singleShot(300, pick)
        self.click(where)
        while not done:
            QTest.qWait(20)
        self.settle()

    def click_mark(self, diagram: Diagram, mark: int) -> None:
        """Choose a mark of a diagram."""
        if self.keys:
            to(diagram)
            for _ in range(mark + 1):
                press(Qt.Key.Key_Right)
            press(Qt.Key.Key_Space)
        else:
            place = diagram.mark_rect(mark).center().toPoint()
            QTest.mouseClick(diagram.viewport(), Qt.MouseButton.LeftButton, pos=place)
        self.settle()

    def hold(self, key: str, name: str) -> None:
        """Press a key, and choose an entry of the menu that it opens."""
        menu = self.window.bench.header.held.menu

        def choose() -> None:
            entries = [one for one in menu.actions() if one.isEnabled()]
            for _ in range([one.text().strip() for one in entries].index(name) + 1):
                QTest.keyClick(menu, Qt.Key.Key_Down)
            QTest.keyClick(menu, Qt.Key.Key_Return)

        if isinstance(QApplication.focusWidget(), QLineEdit):
            press(Qt.Key.Key_F6)  # out of a field that takes letters
        QTimer.singleShot(300, choose)
        press(key)
        self.settle()

    def step(self, index: int, tabs: QWidget, tab: str) -> None:
        """Go to a step of the rail, by its number, and one of its tabs."""
        if self.keys:
            press(str(index), ctrl=True)
            self.settle()
            names = [one.text() for one in tabs.findChildren(QPushButton)]
            while not tabs.findChildren(QPushButton)[names.index(tab)].isChecked():
                press(Qt.Key.Key_PageDown, ctrl=True)
        else:
            self.click(self.window.bench.rail.steps[index - 1])
            self.click(next(one for one in tabs.findChildren(QPushButton) if one.text() == tab))
        self.settle()


@pytest.mark.parametrize("keys", [False, pytest.param(True, marks=pytest.mark.slow)], ids=["mouse", "keys"])
def test_the_five_minutes_of_the_readme(window: MainWindow, qtbot: QtBot, settle: Settle, keys: bool) -> None:
    hand, workspace = Hand(window, settle, keys), window.workspace
    # 1. The headline; spring and back.
    hand.click(window.start.demo)
    qtbot.waitUntil(lambda: workspace.is_open and not workspace.busy, timeout=60_000)
    settle()
    share, number, low, high = said(r"says ([\d.]+) % top-1 on (\d+) images, 95 % interval ([\d.]+) to ([\d.]+)\.")
    top1 = workspace.shown.snapshot.figures.top_k[1]
    assert top1.value is not None
    assert top1.low is not None
    assert top1.high is not None
    assert (f"{100 * top1.value:.1f}", str(top1.total)) == (share, number)
    assert (f"{100 * top1.low:.1f}", f"{100 * top1.high:.1f}") == (low, high)
    assert "1 unreadable" in window.bench.header.badge.text()
    runs = {(one.image_set, one.model): one.id for one in workspace.runs}
    window.show_run(runs["spring-check", "grain-net-1"])
    settle()
    assert said(r"there it was ([\d.]+) %")[0] in window.bench.header.value.text()
    window.show_run(runs["late-summer-field", "grain-net-1"])
    settle()
    # 2. The most frequent mistake.
    label, called, count = said(r"first line reads \*(\w+) → (\w+), (\d+) images")
    first = window.bench.measure.headline._rows[0]
    assert first.accessibleName().startswith(f"{label} → {called}: {count}, 50.0 %")
    hand.click(first)
    assert len(workspace.shown.images) == int(count)
    # 3. The close look, by Enter alone; and 4. on to the next mistakes.
    assert "**Press Enter**" in TEXT
    press(Qt.Key.Key_Return)
    settle()
    assert window.bench.right.currentWidget() is window.bench.close_look
    assert workspace.shown.focus.current == workspace.shown.images[0]
    assert window.bench.close_look.heat_predicted.emphasis == called
    assert window.bench.close_look.heat_other.emphasis == label
    before = workspace.shown.focus.current
    press("M")
    settle()
    press("M")
    settle()
    assert workspace.shown.focus.position == 2
    assert workspace.shown.focus.current != before
    layer = window.bench.close_look.layer.currentText()
    press("L")
    settle()
    assert window.bench.close_look.layer.currentText() != layer
    press("L") if window.bench.close_look.layer.count() == 2 else QTest.keyClick(
        window.bench.close_look, "L", Qt.KeyboardModifier.ShiftModifier
    )
    settle()
    press("H")
    press("H")
    press("Z")
    assert not window.bench.figures.isVisible()
    press("Z")
    press(Qt.Key.Key_Escape)
    assert window.bench.right.currentWidget() is window.bench.light_table
    # 5. Groups, and a name.
    hand.step(4, window.bench.examine.tabs, "Groups")
    (begin,) = said(r"\*Groups\*, \*\*([^*]+)\*\* puts")
    assert window.bench.examine.groups.begin.text() == begin
    hand.click(window.bench.examine.groups.begin)
    qtbot.waitUntil(lambda: workspace.shown.results.vectors is not None and not workspace.busy, timeout=60_000)
    settle()
    mistakes, largest = said(r"puts the (\d+) mistakes into groups: the largest, (\d+) images")
    cards = window.bench.examine.groups.cards
    assert sum(len(one.members) for one in cards) == int(mistakes)
    assert len(cards[0].members) == int(largest)
    if keys:
        to(cards[0].name)
    else:
        QTest.mouseClick(cards[0].name, Qt.MouseButton.LeftButton)
    QTest.keyClicks(cards[0].name, "ink dot")
    press(Qt.Key.Key_Return)
    settle()
    assert [one.name for one in workspace.shown.kept] == ["ink dot"]
    assert len(workspace.shown.images) == int(count)
    hand.step(4, window.bench.examine.tabs, "Review")
    for _ in range(2):
        press("N")
        settle()
        press("1")
        settle()
    assert int(workspace.shown.reviews.mask(400, "cause").sum()) == 2
    # 6. The cover test of what is shown.
    hand.step(5, window.bench.explain.tabs, "Cover test")
    cover = window.bench.explain.cover
    (button,) = said(r"\*\*(Cover the \d+ images shown)\*\*")
    assert cover.begin.text() == button
    hand.click(cover.begin)
    qtbot.waitUntil(lambda: window.bench.explain.explainer.test is not None and not workspace.busy, timeout=60_000)
    settle()
    changed, fixed, control = said(
        r"changes all (\d+) answers, (\d+) become right; hiding as much elsewhere changes (\d+),"
    )
    result = window.bench.explain.explainer.test.result
    assert (result.region.changed.hits, result.region.fixed) == (int(changed), int(fixed))
    assert (result.control.changed.hits, result.control.fixed) == (int(control), 0)
    assert QApplication.focusWidget() is cover.result.keep_name  # what is typed next is its name
    QTest.keyClicks(cover.result.keep_name, "pen dot")
    press(Qt.Key.Key_Return)
    settle()
    assert workspace.study_path is not None
    with Study.open(workspace.study_path, again=True) as study:
        assert study.rows("SELECT name FROM cover_test") == [("pen dot",)]
    assert cover.result.finding_button.text() == said(r"it is saved; \*\*([^*]+)\*\*")[0]
    hand.click(cover.result.finding_button)
    hand.step(5, window.bench.explain.tabs, "Transplant")
    transplant = window.bench.explain.transplant
    label, edge = said(r"choose \*([^*]+)\* behind \*onto\* and \*([^*]+)\*")
    for box, text in ((transplant.form.label, label), (transplant.form.edge, edge)):
        box.setFocus()
        while box.currentText() != text:
            press(Qt.Key.Key_Down)
        settle()
    assert transplant.begin.text() == said(r"then \*\*(Paste from \d+ images onto \d+ images)\*\*")[0]
    hand.click(transplant.begin)
    qtbot.waitUntil(lambda: transplant.transplanter.test is not None and not workspace.busy, timeout=60_000)
    settle()
    (carried,) = said(r"images\*\*: (\d+) plantain grains become ragweed")
    enough = transplant.transplanter.test.enough
    assert (enough.piece.became.hits, enough.control.became.hits) == (int(carried), 0)
    # 7. Recall.
    (recall,) = said(r"see \*Classes\* under \*\*Measure\*\*: recall ([\d.]+) %")
    hand.step(3, window.bench.measure.tabs, "Classes")
    classes = workspace.shown.snapshot.figures.classes[workspace.shown.classes.index(called)]
    assert f"{100 * (classes.recall.value or 0):.1f}" == recall
    story, k = window.bench.measure.classes_page, workspace.shown.classes.index(called)
    at = story.table.rows.index(story.table.rows.row_of(frozenset({k})), 0)
    if keys:
        to(story.table)
        press(Qt.Key.Key_Home, ctrl=True)
        while story.table.currentIndex().row() != at.row():
            press(Qt.Key.Key_Down)
        press(Qt.Key.Key_Space)
    else:
        QTest.mouseClick(story.table.viewport(), Qt.MouseButton.LeftButton, pos=story.table.visualRect(at).center())
    settle()
    lost, own, gained, of = said(
        r"beneath: (\d+) of its (\d+)\s+images are predicted as plantain, and of the (\d+) called ragweed (\d+) are plantain"
    )
    assert story.story.isVisible()
    assert story.story.found is not None
    assert (gained, of) == (
        str(story.story.found.taken_for_it[0][1].total),
        str(story.story.found.taken_for_it[0][1].hits),
    )
    assert f"plantain: {lost} of {own}" in " ".join(one.about for one in story.story.taken_for.bars.rows)
    # 8. The later model, held against this one.
    (key, name) = said(r"Press \*\*(\w)\*\* and choose \*([\w-]+)\*: it was trained")
    hand.hold(key, name)
    hand.step(6, window.bench.compare.tabs, "Difference")
    page = window.bench.compare.difference
    better, low, high = said(r"better by ([\d.]+) points \(([\d.]+) to ([\d.]+)\), plantain and ragweed significantly")
    assert f"better than grain-net-1 by {better} points ({low} to {high})" in page.verdict.sentences[0]
    assert "plantain and ragweed are significantly better; no class is significantly worse" in page.verdict.sentences[1]
    hand.click(page.square.boxes["fixed"])  # whatever was in force before: a figure shows its own images
    assert len(workspace.shown.images) == int(said(r"\*\*fixed\*\*: (\d+) images")[0])
    window.bench.light_table.thumbs.setFocus()
    press(Qt.Key.Key_Return)
    settle()
    assert window.bench.close_look.other_heat.isVisible()
    assert window.bench.close_look.other_heat.panels[0].image is not None
    press(Qt.Key.Key_Escape)
    # 9. From spring to late summer.
    window.show_run(runs["spring-check", "grain-net-1"])
    settle()
    window.bench.light_table.thumbs.setFocus()
    (key, name) = said(r"press \*\*(\w)\*\* and choose \*([\w-]+)\*: 13")
    hand.hold(key, name)
    fell, pair = said(
        r"choose \*late-summer-field\*: ([\d.]+) points lower, none of them by another class mix, ([\d.]+) by ragweed"
    )
    assert f"lower by {fell} points" in page.verdict.sentences[0]
    assert (
        f"0.0 are another class mix and −{fell} the same classes recognised worse; −{pair} of these"
        in page.verdict.sentences[1]
    )
    # 10. What has become of the finding, and the report.
    window.show_run(runs["late-summer-field", "grain-net-1"])
    settle()
    hand.step(7, window.bench.conclude.tabs, "Findings")
    here, there = said(r"came to (\d+ of \d+) here, and on the later model it is \*(gone: \d+ of \d+)\*")
    assert window.bench.conclude.findings.as_table()[1:] == [["pen dot", "matters", here, there]]
    assert window.bench.conclude.findings.target.currentText() == "grain-net-2 on late-summer-field"
    press("P", ctrl=True)
    settle()
    assert window.bench.conclude.preview.pages > 5
    assert window.bench.conclude.report.save.text() in TEXT
    hand.step(3, window.bench.measure.tabs, "Headline")  # the light table is back beside it
    window.bench.comparer.let_go()
    # On the later model nothing is left of the most frequent mistake.
    window.show_run(runs["late-summer-field", "grain-net-2"])
    settle()
    workspace.shown.replace(Labelled(frozenset({CLASSES.index(label)})), Predicted(frozenset({CLASSES.index(called)})))
    settle()
    assert not len(workspace.shown.images)
    assert window.bench.light_table.all.isVisible()
    hand.click(window.bench.light_table.all)
    assert len(workspace.shown.images) == 400
    # The test kept on the earlier model says whose it is.
    window.bench.explain.cover.kept_tests.choose(0)
    assert window.bench.explain.cover.result.of_model.text().startswith("Done on grain-net-1")
    assert "not on grain-net-2" in window.bench.explain.cover.result.of_model.text()
    # 11. The cause found the other way round: by adding it.
    strain = window.bench.measure.strain
    kind, level = said(r"\*\*Add a kind\*\* choose \*([^*]+)\*, type `([\d.]+)` as its level")
    changed, of, other = said(r"changed: (\d+) of the (\d+) (\w+) are called ragweed now")
    for model, expected in (("grain-net-1", int(changed)), ("grain-net-2", 0)):
        window.show_run(runs["spring-check", model])
        settle()
        hand.step(3, window.bench.measure.tabs, "Strain")
        if model == "grain-net-1":
            while strain.away:
                hand.click(next(iter(strain.away.values())))
            hand.choose(strain.add, strain.menu, kind)
            QTest.keyClicks(QApplication.focusWidget(), level)
            press(Qt.Key.Key_Return)
            settle()
            assert strain.begin.text().startswith(said(r"click \*\*(Strain \d+ images)\*\*")[0])
        hand.click(strain.begin)
        qtbot.waitUntil(lambda: not workspace.busy, timeout=60_000)
        settle()
        assert strain.strainer.found is not None
        assert strain.strainer.found.to_ask == 0
        hand.click_mark(strain.diagram, 0)
        flipped = set(workspace.shown.images.tolist())
        labels, called_now = workspace.shown.judged.labels, strain.strainer.found.sweep
        plantain = [i for i in called_now.plan.images if labels[i] == CLASSES.index(other)]
        assert len(plantain) == int(of)
        ragweed = [i for i in plantain if called_now.answered(i)[0] == CLASSES.index(called)]
        assert len(ragweed) == expected
        assert flipped >= set(ragweed)
