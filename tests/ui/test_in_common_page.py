"""What wrong images have in common, by clicks and keys: a property, a range of it, a weak spot kept as a finding, photos measured late."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

import numpy as np
import pytest
from PySide6.QtCore import QPoint, Qt
from PySide6.QtTest import QTest
from pytestqt.qtbot import QtBot

from mivrat.core.selecting.ordering import BY_PROPERTY
from mivrat.core.selecting.ranges import InRange
from mivrat.core.selecting.selection import Labelled
from mivrat.core.study.file import Study
from mivrat.ui.bench import EXAMINE
from mivrat.ui.examine.in_common_page import InCommonPage
from mivrat.ui.parts.tables import FigureTable
from mivrat.ui.window import BENCH, MainWindow
from tests.support.demo import CLASSES
from tests.support.studies import scored_study

Settle = Callable[[], None]
LEFT = Qt.MouseButton.LeftButton
PLANTAIN = CLASSES.index("plantain")


def looked_at(window: MainWindow, settle: Settle) -> InCommonPage:
    window.bench.show_step(EXAMINE)
    window.bench.examine.go_to("in common")
    settle()
    return window.bench.examine.in_common


def click(table: FigureTable, line: int) -> None:
    item = table.item(line, 0)
    assert item is not None
    QTest.mouseClick(table.viewport(), LEFT, pos=table.visualItemRect(item).center())


def cell(table: FigureTable, line: int, column: int) -> str:
    item = table.item(line, column)
    assert item is not None
    return item.text()


def test_properties_a_range_and_a_spot_that_becomes_a_finding(qtbot: QtBot, demo: MainWindow, settle: Settle) -> None:
    page, workspace = looked_at(demo, settle), demo.workspace
    shown = workspace.shown
    assert page.told.text().startswith("68 of 399 images are wrong. In 4 of 6 properties and columns")
    assert "JPEG quality" in page.same.text()
    names = [cell(page.properties, line, 0) for line in range(page.properties.rowCount())]
    assert names[:2] == ["bytes per pixel", "contrast"]
    click(page.properties, names.index("contrast"))
    settle()
    (condition,) = shown.conditions
    assert isinstance(condition, InRange)
    values = shown.measures.of("contrast")
    assert cell(page.properties, 1, 4) == f"{100 * shown.accuracy().value:.1f} % of {shown.accuracy().total}"  # type: ignore[operator]
    assert shown.order.by == f"{BY_PROPERTY}contrast, highest first"
    assert (np.diff(values[shown.images]) <= 0).all()
    assert values[shown.images].min() > np.nanquantile(values, 0.74)
    assert f"contrast: {values[shown.images[0]]:.3f}" in demo.bench.light_table.thumbs.describe(int(shown.images[0]))
    # By keys: from bar to bar, widened, and taken.
    spread = page.spread
    assert spread.name == "contrast"
    spread.setFocus()
    for key, modifier in (
        (Qt.Key.Key_Right, Qt.KeyboardModifier.NoModifier),
        (Qt.Key.Key_Right, Qt.KeyboardModifier.ShiftModifier),
    ):
        QTest.keyClick(spread, key, modifier)
    QTest.keyClick(spread, Qt.Key.Key_Space)
    settle()
    (condition,) = shown.conditions
    assert isinstance(condition, InRange)
    ((low, high),) = condition.ranges
    inside = (values > low) & (values <= high)
    assert set(np.flatnonzero(inside).tolist()) == set(shown.images.tolist())
    # By the mouse: from one bar to another.
    first, last = (spread.mark_rect(m).center().toPoint() for m in (3, 6))
    QTest.mousePress(spread.viewport(), LEFT, pos=first)
    QTest.mouseMove(spread.viewport(), last)
    QTest.mouseRelease(spread.viewport(), LEFT, pos=last)
    settle()
    (dragged,) = shown.conditions
    assert isinstance(dragged, InRange)
    assert dragged.ranges == frozenset({spread.range_of(spread.bins()[3], spread.bins()[6])})
    # A weak spot, and the finding it makes: with what the other half came to.
    spots = [cell(page.spots, line, 0) for line in range(page.spots.rowCount())]
    assert spots[0] == "labelled plantain"
    click(page.spots, 0)
    settle()
    assert shown.conditions == (Labelled(frozenset({PLANTAIN})),)
    QTest.mouseClick(page.keep, LEFT)
    qtbot.waitUntil(lambda: bool(demo.bench.concluder.findings), timeout=20000)
    (finding,) = demo.bench.concluder.findings
    assert finding.title == "Weak spot: labelled plantain"
    assert finding.confirmed is not None
    assert (finding.confirmed.hits, finding.confirmed.total) == (18, 25)
    assert (finding.before.hits, finding.before.total) == (28, 50)
    demo.undo()
    settle()
    # The same spots as criteria of this model: of a class, and of a range of the photos' numbers to the last digit.
    ranged = next(line for line, name in enumerate(spots) if name.startswith("luminance"))
    for line in (0, ranged):
        shown.clear()
        click(page.spots, line)
        settle()
        selected = shown.accuracy()
        QTest.mouseClick(page.as_criterion, LEFT)
        settle()
        text = shown.results.criteria[-1].outcome.text
        assert text.startswith('recall["plantain"] >= 0.82' if not line else 'top1["luminance" ')
        outcome = shown.results.criteria[-1].outcome
        assert (outcome.value, outcome.images) == (selected.value, selected.total)
    QTest.mouseClick(page.as_criterion, LEFT)
    settle()
    assert "criterion already" in demo.foot.notice.full_text
    for _ in range(2):
        demo.undo()
        settle()
    assert not shown.results.criteria
    # Images stand in bands by a property, too; the selection is kept and found again.
    shown.clear()
    shown.set_bands(f"{BY_PROPERTY}sharpness")
    settle()
    assert len(shown.bands) == 5
    assert shown.bands[-1].name == "not measured"
    shown.set_bands("not grouped")


def test_another_set_has_its_own(demo: MainWindow, settle: Settle) -> None:
    page, workspace = looked_at(demo, settle), demo.workspace
    workspace.shown.choose(InRange("sharpness", frozenset({(-np.inf, 1.0)}), workspace.shown.measures))
    before = len(workspace.shown.images)
    assert before
    spring = next(one for one in workspace.runs if (one.image_set, one.model) == ("spring-check", "grain-net-1"))
    demo.show_run(spring.id)
    settle()
    # What is said of any image goes on to be asked.
    assert len(workspace.shown.images) not in (0, before)
    assert workspace.shown.measures.of("sharpness")[workspace.shown.images].max() <= 1.0
    assert page.told.text().startswith("15 of 400 images are wrong. In 1 of 6")
    assert "none of 10 spots was confirmed" in page.spots_told.text()
    assert len(workspace.shown.measures.of("sharpness")) == 400


def test_photos_that_an_earlier_version_scored_are_measured_on_demand(
    qtbot: QtBot, window: MainWindow, settle: Settle, tmp_path: Path
) -> None:
    path = scored_study(tmp_path / "study", 3, {"one": [30, 30, 30]}, 1)
    with Study.open(path) as study, study.writing() as db:
        db.execute("DELETE FROM property")
    window.open_study(path)
    qtbot.waitUntil(lambda: window.pages.currentIndex() == BENCH, timeout=30000)
    settle()
    page = looked_at(window, settle)
    assert page.told.text().endswith("No photo has been measured yet, and the image table has no column of numbers.")
    assert page.measure.text() == "Measure 90 photos"
    assert not page.properties.isVisible()
    QTest.mouseClick(page.measure, LEFT)
    qtbot.waitUntil(lambda: window.workspace.jobs.going_on is None, timeout=30000)
    settle()
    assert not page.measure.isVisible()
    # This model says one class always: the properties are known, and it is said why they tell nothing.
    assert len(window.workspace.shown.measures.names) == 11
    assert "(no class has wrong and right images)" in page.same.text()
    assert page.told.text().endswith("separates wrong images from right ones of the same class.")


@pytest.mark.parametrize("width", [1000, 1280])
def test_names_stay_readable_where_there_is_little_room(demo: MainWindow, settle: Settle, width: int) -> None:
    demo.resize(width, 640)
    page = looked_at(demo, settle)
    for table in (page.properties, page.spots):
        assert table.columnWidth(0) >= 85
        assert not table.horizontalScrollBar().isVisible()
    assert page.mapTo(demo, QPoint(0, 0)).x() > 0
