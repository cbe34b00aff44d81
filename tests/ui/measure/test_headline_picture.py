"""The headline as a picture: rows that select, claims and criteria marked, what is worst, and what a screen reader is told."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace

import numpy as np
from PySide6.QtCore import QPoint, Qt
from PySide6.QtGui import QAccessible
from PySide6.QtWidgets import QGraphicsSimpleTextItem
from pytestqt.qtbot import QtBot

from mivrat.core.figures.metrics import COUNTED
from mivrat.core.figures.significance import below_rest, holm
from mivrat.core.selecting.selection import InGroup, Labelled
from mivrat.ui.measure.group_table import _grouped
from mivrat.ui.measure.worst import worst_groups
from mivrat.ui.parts.interval_rows import ASKED, CLAIMED, IntervalRow, IntervalRows, scale_from
from mivrat.ui.window import MainWindow
from mivrat.workspace.study_edits import set_criteria
from tests.support.kept_window import KeptWindow

Settle = Callable[[], None]
LEFT = Qt.MouseButton.LeftButton
PLANTAIN = 6


def test_rows_mark_what_is_claimed_and_asked_and_select_what_they_lack(
    qtbot: QtBot, demo: MainWindow, settle: Settle
) -> None:
    headline, shown = demo.bench.measure.headline, demo.workspace.shown
    bars = headline.picture.rows.bars
    names = [one.name for one in bars.rows]
    assert names == [
        "top-1 accuracy",
        "top-3 accuracy",
        "top-5 accuracy",
        *(one.called for one in COUNTED if one.in_headline and one.in_percent),
        "worst class: plantain",
    ]
    assert bars.scale == (0.7, 1.0)
    assert not bars.rows[0].warned
    assert not bars.rows[0].marks
    texts = ("top1 >= 0.9", "low(macro_f1) >= 0.5", 'recall["plantain"] >= 0.4', 'recall["birch"] >= 0.99')
    demo.workspace.edits.take(set_criteria(shown.record.info.model_id, "criteria", texts, ()))
    settle()
    headline.criteria.claim.setFocus()
    qtbot.keyClicks(headline.criteria.claim, "95")
    qtbot.keyClick(headline.criteria.claim, Qt.Key.Key_Return)
    settle()
    marks = {one.name: one.marks for one in bars.rows if one.marks}
    assert marks == {
        "top-1 accuracy": ((0.9, ASKED), (0.95, CLAIMED)),
        "macro F1": ((0.5, ASKED),),
        "worst class: plantain": ((0.4, ASKED),),
    }
    assert [one.warned for one in bars.rows] == [True, False, False, False, False, True]
    assert "Claimed: 95.0 %" in bars.rows[0].about
    assert "top1 >= 0.9: missed" in bars.rows[0].about
    assert "dashed: claimed · upright: asked" in headline.picture.legend.text()
    for row, expected in ((0, shown.judged.wrong), (1, shown.judged.evaluated & (shown.judged.rank > 3))):
        qtbot.mouseClick(bars.viewport(), LEFT, pos=bars.mark_rect(row).center().toPoint())
        assert (shown.shown_mask() == expected).all()
        shown.clear()
    # A click beside the bar, on its name, is one on the row.
    at = QPoint(10, bars.mapTo(headline.picture.rows, bars.mark_rect(5).center().toPoint()).y())
    qtbot.mouseClick(headline.picture.rows, LEFT, pos=at)
    assert shown.conditions == (Labelled(frozenset({PLANTAIN})),)
    assert [item for _, item in bars.chosen()]


def test_what_is_worst_stands_beneath_and_selects(qtbot: QtBot, demo: MainWindow, settle: Settle) -> None:
    worst, shown = demo.bench.measure.headline.worst, demo.workspace.shown
    recalls = {one.name: one for one in worst.classes.bars.rows}
    assert list(recalls)[:2] == ["plantain", "ragweed"]
    assert [one.warned for one in recalls.values()] == [True, True, False, False, False]
    assert "2 of 8 significantly below the accuracy; 3 not shown" in worst.of_classes.text()
    assert "9.4 points overconfident" in worst.of_confidence.text()
    worst.classes.bars.setFocus()
    qtbot.keyClick(worst.classes.bars, Qt.Key.Key_Down)
    read = QAccessible.queryAccessibleInterface(worst.classes.bars)
    assert read.text(QAccessible.Text.Name).startswith("worst classes: recall")
    assert read.text(QAccessible.Text.Description).startswith("recall of plantain: 44.0 %")
    qtbot.keyClick(worst.classes.bars, Qt.Key.Key_Space)
    assert shown.conditions == (Labelled(frozenset({PLANTAIN})),)
    shown.clear()
    qtbot.mouseClick(worst.groups.bars.viewport(), LEFT, pos=worst.groups.bars.mark_rect(0).center().toPoint())
    (group,) = shown.conditions
    assert isinstance(group, InGroup)
    assert (group.column, worst.groups.bars.rows[0].name) == ("focus", "soft")
    assert shown.shown_mask().sum() == 56
    more = next(b for b in worst.parts[2].children() if b.property("quiet"))
    qtbot.mouseClick(more, LEFT)
    assert demo.bench.measure.tabs.current_name == "Groups"
    settle()
    assert demo.bench.measure.groups.column.currentText() == "focus"  # the column that was looked at


def test_the_worst_group_is_that_of_the_smallest_p_over_all_columns(demo: MainWindow) -> None:
    snapshot = demo.workspace.shown.snapshot
    found = worst_groups(snapshot)
    assert found is not None
    column, groups = found
    judged, items = snapshot.judged, snapshot.record.image_set.items
    use, asked = judged.evaluated, []
    columns = [one for one in items[0].columns if 1 < len({item.columns[one][:7] for item in items}) <= 200]
    for one in columns:
        values = np.array([item.columns[one][:7] if one == "date" else item.columns[one] for item in items])
        asked += [
            (
                one,
                below_rest(
                    int((judged.right & of).sum()), int(of.sum()), int((judged.right & rest).sum()), int(rest.sum())
                ),
            )
            for value in sorted(set(values[use]))
            for of, rest in [(use & (values == value), use & (values != value))]
        ]
    # Whoever looks for the worst group has asked for all groups of all columns.
    corrected = holm([p for _, p in asked])
    assert column == asked[int(np.argmin(corrected))][0]
    assert np.isclose(groups[0].p, min(corrected))
    shown = _grouped(snapshot, column, None, None).groups
    assert [one.p for one in shown] == [one.p for one in groups]  # one p, on the Headline and under Groups
    bare = replace(snapshot.record.image_set, items=[replace(one, columns={}) for one in items])
    assert worst_groups(replace(snapshot, record=replace(snapshot.record, image_set=bare))) is None


def test_rows_beyond_the_scale_are_told_and_any_number_fits(
    qtbot: QtBot, demo: MainWindow, kept_window: KeptWindow
) -> None:
    kept_window.spoil()  # they listen to its workspace
    rows = IntervalRows(demo.workspace, "shares", scaled=True)
    qtbot.addWidget(rows)
    rows.resize(420, 300)
    rows.show()
    one = IntervalRow("a class with a name far too long for its place in the row", 0.31, None, None, "31.0 %", "", "31")
    for number in (3, 1, 0, 5):
        rows.show_rows([one] * number, (0.6, 1.0))
        assert rows.bars.marks() == number
        assert rows.bars.height() == 20 + 23 * max(1, number)
    qtbot.waitUntil(rows.bars.isVisible)
    told = [item.text() for item in rows.bars.plot.items if isinstance(item, QGraphicsSimpleTextItem)]
    assert told == ["below this scale"] * 5
    assert rows.width() == 420
    assert [scale_from(least) for least in (0.788, 0.0, 0.999, 0.8)] == [(0.7, 1), (0, 1), (0.8, 1), (0.8, 1)]
