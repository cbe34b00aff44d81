"""The strain test in the window: by clicks and keys, in two studies, stopped, with levels that are none, and without scores."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

import numpy as np
import pytest
from PySide6.QtCore import QPointF, Qt
from pytestqt.qtbot import QtBot

from mivrat.core.models.prediction_table import PredictionTable
from mivrat.core.pictures.image_sets import read_image_set
from mivrat.core.running.evaluation import Evaluation
from mivrat.core.selecting.selection import Picked
from mivrat.core.study.file import Study
from mivrat.ui.bench import MEASURE
from mivrat.ui.measure.strain_page import StrainPage
from mivrat.ui.window import BENCH, MainWindow
from tests.support.networks import classifier, loaded
from tests.support.sets import CLASSES, write_set

Settle = Callable[[], None]
LEFT = Qt.MouseButton.LeftButton


def made(folder: Path, seed: int, images: int, classes: list[str] = CLASSES) -> Path:
    folder.mkdir()
    model = loaded(classifier(seed=seed, classes=len(classes)), folder / "m.onnx", len(classes))
    images_of = read_image_set(write_set(folder / "set", images, classes=classes, seed=seed), classes)
    with Study.create(folder / "s.mivrat", classes) as study:
        for _ in Evaluation(model, images_of, study).run():
            pass
    return folder / "s.mivrat"


@pytest.fixture
def show(qtbot: QtBot, window: MainWindow, settle: Settle) -> Callable[[Path], StrainPage]:
    def opened(path: Path) -> StrainPage:
        window.open_study(path)
        qtbot.waitUntil(
            lambda: window.workspace.study_path == path and window.pages.currentIndex() == BENCH, timeout=20000
        )
        window.bench.show_step(MEASURE)
        window.bench.measure.go_to("strain")
        settle()
        return window.bench.measure.strain

    return opened


def type_levels(qtbot: QtBot, page: StrainPage, kind: str, text: str, settle: Settle) -> None:
    edit = page.rows[kind]
    edit.setFocus()
    edit.selectAll()
    qtbot.keyClicks(edit, text)
    qtbot.keyClick(edit, Qt.Key.Key_Return)
    settle()


def only(page: StrainPage, settle: Settle, *kinds: str) -> None:
    for key in list(page.rows):
        if key not in kinds:
            page.strainer.wish(key, False)
            settle()


def test_from_levels_to_the_images_that_flip(
    qtbot: QtBot, window: MainWindow, settle: Settle, tmp_path: Path, show: Callable[[Path], StrainPage]
) -> None:
    page = show(made(tmp_path / "one", 5, 14))
    assert not window.bench.measure.scope.isVisible()  # it is of all images
    only(page, settle, "blur", "brightness")
    type_levels(qtbot, page, "blur", "0, 1, 4", settle)
    assert page.begin.text() == "Strain 42 images: 252 answers"
    assert page.diagram.isHidden()
    assert page.preview.shown is not None
    assert len(page.preview.shown.pictures) == 5, "untouched, and four levels of the first kind"
    qtbot.mouseClick(page.begin, LEFT)
    qtbot.waitUntil(lambda: window.workspace.jobs.going_on is None, timeout=30000)
    settle()
    found = page.strainer.found
    assert found is not None
    assert found.to_ask == 0
    assert page.begin.text() == "All answers are known"
    assert not page.begin.isEnabled()
    assert page.table.rowCount() == 6
    levels = found.figures.levels
    assert [page.table.item(i, 0).text() for i in (0, 5)] == ["Brightness −2", "Out of focus 4"]  # type: ignore[union-attr]
    # A point of the diagram selects the images whose answer changes there; so does a row, by key.
    flips = [page.strainer.flipped(one) for one in levels]
    at = max(range(6), key=lambda i: len(flips[i]))
    page.diagram.show()
    qtbot.wait(50)
    middle = page.diagram.mark_rect(at).center()
    assert page.diagram.mark_at(QPointF(middle)) == at
    qtbot.mouseClick(page.diagram.viewport(), LEFT, pos=middle.toPoint())
    settle()
    (condition,) = window.workspace.shown.conditions
    assert isinstance(condition, Picked)
    assert condition.positions == flips[at]
    # As long as they are selected, they are shown as strained: on the light table, and with both answers' evidence in the close look.
    image, look = flips[at][0], window.bench.close_look
    shown = window.workspace.shown
    assert shown.strained is not None
    assert shown.strained.strain == levels[at].strain
    qtbot.waitUntil(
        lambda: window.bench.strained.get(image) is not None and window.bench.strained.settled, timeout=10000
    )
    plain, _ = window.bench.thumbnails.known(shown.record.image_set.file(image))
    strained = window.bench.strained.get(image)
    assert strained is not None
    assert plain is not None
    assert strained.size() == plain.size()
    assert strained != plain
    shown.focus.look_at(image)
    window.bench.look_closely()
    settle()
    assert look.strained_heat.isVisible()
    before, after = (shown.classes[k] for k in (int(shown.judged.predicted[image]), shown.strained.predicted[image]))
    assert look.strained_heat.says.text().startswith(f"{after} at ")
    assert f"before, {before} at " in look.strained_heat.says.text()
    assert [panel.emphasis for panel in look.strained_heat.panels] == [before, after]
    window.bench.leave_close_look()
    s = found.sweep.plan.strains.index(levels[at].strain)
    before = window.workspace.shown.judged.predicted[list(found.sweep.plan.images)]
    assert flips[at] == tuple(np.flatnonzero(found.sweep.predicted[s] != before).tolist())
    page.table.setCurrentCell(0, 0)
    page.table.setFocus()
    qtbot.keyClick(page.table, Qt.Key.Key_Return)
    settle()
    assert window.workspace.shown.conditions[0] != condition
    # All that flip, those that do so at the mildest level first.
    qtbot.mouseClick(page.earliest, LEFT)
    settle()
    listed = window.workspace.shown.images.tolist()
    assert set(listed) == {i for some in flips for i in some}

    def earliest(i: int) -> float:
        sides = [(-1.0, -2.0), (1.0, 2.0), (1.0, 4.0)]
        shares = []
        for kind, side in zip(("brightness", "brightness", "blur"), sides, strict=True):
            hit = [
                n
                for n, at in enumerate(side, 1)
                if i in flips[[one.strain.spelled for one in levels].index(f"{kind}:{at:g}")]
            ]
            shares += [hit[0] / 2] if hit else []
        return min(shares)

    assert [earliest(i) for i in listed] == sorted(earliest(i) for i in listed)
    window.workspace.shown.clear()
    settle()
    assert window.workspace.shown.strained is None
    assert window.bench.strained.get(image) is None
    window.bench.look_closely()
    settle()
    assert not look.strained_heat.isVisible()
    window.bench.leave_close_look()
    # The level is expected in the field: a finding, with the figures that stand here.
    assert "brightness −2 stops" in page.expected.text()
    page.at_least.setValue(90)
    qtbot.mouseClick(page.keep, LEFT)
    settle()
    (finding,) = window.bench.conclude.concluder.findings
    assert finding.title == "Expected in the field: brightness −2 stops, accuracy at least 90 %"
    assert (finding.before.hits, finding.before.total) == (levels[0].accuracy.hits, levels[0].accuracy.total)
    window.bench.show_step(MEASURE)
    settle()
    # Another level costs that level alone; what was known is there at once.
    type_levels(qtbot, page, "blur", "1,4,2", settle)
    assert page.begin.text() == "Strain 42 images: 42 answers"
    assert page.table.rowCount() == 7
    assert "42 answers are still missing" in page.told.text()


def test_two_studies_have_wishes_and_answers_of_their_own(
    qtbot: QtBot, window: MainWindow, settle: Settle, tmp_path: Path, show: Callable[[Path], StrainPage]
) -> None:
    one, other = made(tmp_path / "one", 5, 14), made(tmp_path / "other", 2, 3, ["a", "b"])
    page = show(one)
    only(page, settle, "noise")
    type_levels(qtbot, page, "noise", "0.3", settle)
    qtbot.mouseClick(page.begin, LEFT)
    qtbot.waitUntil(lambda: window.workspace.jobs.going_on is None, timeout=30000)
    settle()
    predicted = page.strainer.found.sweep.predicted.tobytes()  # type: ignore[union-attr]
    page = show(other)
    assert list(page.rows) == ["brightness", "blur", "jpeg", "noise", "rotation"]
    assert page.strainer.found is not None
    assert len(page.strainer.found.sweep.plan.images) == 6
    assert page.strainer.found.to_ask == page.strainer.found.sweep.predicted.size
    assert page.table.isHidden()
    page = show(one)
    assert {key: edit.text() for key, edit in page.rows.items()} == {"noise": "0.3"}
    assert page.strainer.found is not None
    assert page.strainer.found.sweep.predicted.tobytes() == predicted
    assert not page.table.isHidden()


def test_a_run_held_has_its_own_curve_and_classes_lose_each_by_themselves(
    qtbot: QtBot, window: MainWindow, settle: Settle, tmp_path: Path, show: Callable[[Path], StrainPage]
) -> None:
    path = made(tmp_path / "one", 5, 14)
    second = loaded(classifier(seed=8), tmp_path / "one" / "n.onnx", 3)
    with Study.open(path) as study:
        for _ in Evaluation(second, read_image_set(tmp_path / "one" / "set", CLASSES), study).run():
            pass
    page, workspace = show(path), window.workspace
    only(page, settle, "blur")
    type_levels(qtbot, page, "blur", "1, 4 + noise: 0, 0.3", settle)
    runs = {one.model: one for one in workspace.runs}

    def strain() -> None:
        qtbot.mouseClick(page.begin, LEFT)
        qtbot.waitUntil(lambda: workspace.jobs.going_on is None, timeout=30000)
        settle()

    window.show_run(runs["n"].id)
    settle()
    strain()
    assert page.strainer.found is not None
    of_second = page.strainer.found.figures
    assert [curve.spelled for curve in of_second.curves] == ["blur", "blur@with=noise 0.3"]
    window.show_run(runs["m"].id)
    settle()
    window.bench.comparer.hold(runs["n"])
    settle()
    window.bench.show_step(MEASURE)
    settle()
    strain()
    found = page.strainer.found
    assert found.other is not None
    assert (found.other.missing, found.other.figures) == (0, of_second)
    assert page.diagram.other == of_second
    assert found.figures != of_second
    assert "Squares: n" in page.told.text()
    # Another level: the run held lacks it, and it is said; nothing held, nothing is drawn of it.
    type_levels(qtbot, page, "blur", "1, 4, 2 + noise: 0, 0.3", settle)
    assert "84 answers are missing" in page.told.text()
    type_levels(qtbot, page, "blur", "1, 4 + noise: 0, 0.3", settle)
    # Classes: those that lose most first, each cell the images of the class that change there.
    table, levels = page.classes.table, page.strainer.found.figures.levels
    page._choose(levels[2])
    settle()
    assert page.classes.title.text() == "Recall by class: Out of focus, then noise 0.3"
    right, of = page.strainer.found.figures.by_class[CLASSES.index(table.item(0, 0).text())]  # type: ignore[union-attr]
    assert table.item(0, 1).text() == str(of)  # type: ignore[union-attr]
    assert table.item(0, 2).text() == f"{100 * right / of:.0f} %"  # type: ignore[union-attr]
    k = CLASSES.index(table.item(0, 0).text())  # type: ignore[union-attr]
    labels = workspace.shown.judged.labels
    changed = [i for i in page.strainer.flipped(levels[2]) if labels[i] == k]
    table.cellClicked.emit(0, 3)
    settle()
    assert sorted(workspace.shown.images.tolist()) == changed
    window.bench.comparer.let_go()
    settle()
    assert page.strainer.found.other is None
    assert page.diagram.other is None


def test_levels_that_are_none_are_told_and_change_nothing(
    qtbot: QtBot, window: MainWindow, settle: Settle, tmp_path: Path, show: Callable[[Path], StrainPage]
) -> None:
    page = show(made(tmp_path / "one", 1, 3))
    only(page, settle, "jpeg")
    for text, what in (
        ("many", "is not a list of levels"),
        ("500", "500 is out of range"),
        ("5,5", "names a level twice"),
        ("0", "nothing to do"),
    ):
        type_levels(qtbot, page, "jpeg", text, settle)
        assert what in page.problem.text()
        assert not page.begin.isEnabled()
        assert page.table.isHidden()
    type_levels(qtbot, page, "jpeg", "20", settle)
    assert page.problem.isHidden()
    assert page.begin.isEnabled()
    # Kinds are added by the list, and left out by their button.
    entries = {one.text(): one for one in page.menu.actions()}
    assert "JPEG quality" not in entries
    entries["Coloured mark"].trigger()
    settle()
    assert list(page.rows) == ["jpeg", "mark"]
    assert page.rows["mark"].hasFocus()
    assert "Coloured mark" not in [one.text() for one in page.menu.actions()]


def test_a_table_of_predictions_says_why_not(
    window: MainWindow, settle: Settle, tmp_path: Path, show: Callable[[Path], StrainPage]
) -> None:
    root = write_set(tmp_path / "set", 3)
    images = read_image_set(root, CLASSES)
    lines = [f"{one.path},{CLASSES[i % 3]},0.5" for i, one in enumerate(images.items)]
    (tmp_path / "p.csv").write_text("\n".join(["path,predicted,confidence", *lines]))
    with Study.create(tmp_path / "s.mivrat", CLASSES) as study:
        for _ in Evaluation(PredictionTable(tmp_path / "p.csv", CLASSES), images, study).run():
            pass
    page = show(tmp_path / "s.mivrat")
    assert page.begin.isHidden()
    assert page.form.isHidden()
    assert "A strain test needs" in page.told.text()
