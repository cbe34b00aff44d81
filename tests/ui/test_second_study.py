"""Two studies in one window, one after the other, in every order: nothing of the one is taken for the other's."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

import numpy as np
import pytest
from PySide6.QtCore import QSettings, Qt
from pytestqt.qtbot import QtBot

from mivrat.core.heatmaps.maps import HeatmapMaker, Target
from mivrat.core.models.onnx_model import OnnxModel
from mivrat.core.pictures.image_sets import read_image_set
from mivrat.core.pictures.prepare import prepare_file
from mivrat.core.running.evaluation import Evaluation
from mivrat.core.selecting.selection import Outcome
from mivrat.core.study.file import Study
from mivrat.core.study.reviews import load_reviews
from mivrat.ui.bench import EXPLAIN, MEASURE, PREPARE
from mivrat.ui.explain.board_page import USUAL
from mivrat.ui.window import BENCH, START, MainWindow
from mivrat.workspace import study_edits
from tests.support.networks import classifier, loaded
from tests.support.sets import CLASSES, write_set

Settle = Callable[[], None]
LEFT = Qt.MouseButton.LeftButton


def made(folder: Path, classes: list[str], seed: int, images: int) -> Path:
    """A scored study; its first run, model and set have the number 1, as in any other."""
    folder.mkdir()
    model = loaded(classifier(seed=seed, classes=len(classes)), folder / "m.onnx", len(classes))
    with Study.create(folder / "s.mivrat", classes) as study:
        for _ in Evaluation(
            model, read_image_set(write_set(folder / "set", images, classes=classes), classes), study
        ).run():
            pass
    return folder / "s.mivrat"


@pytest.fixture
def show(qtbot: QtBot, window: MainWindow, settle: Settle) -> Callable[[Path], None]:
    def opened(path: Path) -> None:
        window.open_study(path)
        qtbot.waitUntil(
            lambda: window.workspace.study_path == path and window.pages.currentIndex() == BENCH, timeout=20000
        )
        settle()

    return opened


def agrees(window: MainWindow, path: Path, classes: list[str], settle: Settle) -> None:
    """What the window shows of an image is this study's: classes, figures, answers, maps, layers, recipe."""
    workspace = window.workspace
    record, judged = workspace.shown.snapshot.record, workspace.shown.snapshot.judged
    assert record.model_path == path.parent / "m.onnx"
    assert workspace.shown.classes == classes
    assert f"{100 * (workspace.shown.snapshot.figures.top_k[1].value or 0):.1f} %" == window.bench.header.value.text()
    workspace.shown.focus.look_at(int(workspace.shown.images[0]))
    window.bench.look_closely()
    settle()
    image = workspace.shown.focus.current
    assert image is not None
    maker = HeatmapMaker(OnnxModel(record.model_path, record.recipe, len(classes)))
    tensor = prepare_file(record.image_set.file(image), record.recipe)[None]
    np.testing.assert_allclose(maker.probabilities(tensor), judged.probabilities([image]), atol=1e-5)
    evidence = window.bench.close_look.evidence
    assert evidence is not None
    expected = maker.laid_maps(
        np.repeat(tensor, 2, axis=0), [Target(k) for k in evidence.classes], [maker.layer(None)]
    )[0]
    np.testing.assert_allclose(evidence.maps, expected, rtol=1e-3, atol=1e-5)
    offered = window.bench.close_look.review.proposed
    assert [offered.itemText(i) for i in range(1, offered.count())] == [f"label: {name}" for name in classes]
    window.bench.show_step(EXPLAIN)
    settle()
    explainer = window.bench.explain.explainer
    assert [one.tensor for one in explainer.layers] == [one.tensor for one in maker.layers]
    assert [one.parameters for one in explainer.layers] == [one.parameters for one in maker.layers]
    explainer.make_maps()
    settle()
    for i, heat in explainer.maps.items():
        tensor = prepare_file(record.image_set.file(i), record.recipe)[None]
        alone = maker.laid_maps(tensor, [Target(int(judged.predicted[i]))], [maker.layer(None)])[0][0]
        np.testing.assert_allclose(heat, alone, rtol=1e-3, atol=1e-5)
    assert len(explainer.maps) == len(workspace.shown.images)
    window.bench.show_step(PREPARE)
    page = window.bench.prepare.recipe_page
    window.bench.prepare.tabs.choose(2)
    settle()
    assert page.draft is not None
    assert page.draft.recipe == record.recipe
    assert not page.adopt.isEnabled()
    window.bench.leave_close_look()


@pytest.mark.parametrize("others", [CLASSES, CLASSES[::-1], ["oak", "birch"]], ids=["same", "other order", "others"])
def test_nothing_of_the_first_study_is_taken_for_the_second(
    qtbot: QtBot, window: MainWindow, settle: Settle, show: Callable[[Path], None], tmp_path: Path, others: list[str]
) -> None:
    first, second = made(tmp_path / "one", CLASSES, 3, 5), made(tmp_path / "two", others, 8, 2)
    show(first)
    agrees(window, first, CLASSES, settle)
    window.workspace.shown.set_order("name")
    window.bench.prepare.recipe_page.put(
        window.workspace.shown.snapshot.record.recipe.model_copy(update={"crop": None})
    )
    window.workspace.shown.focus.look_at(14)
    bench = window.bench
    looked = [
        bench.measure.scope,
        bench.compare.scope,
        bench.examine.groups.what,
        bench.examine.causes.by,
        bench.explain.board.way,
        bench.explain.where.by,
        bench.explain.cover.form.region,
        bench.explain.cover.form.hide_as,
        bench.close_look.way,
    ]
    for choice in looked:
        choice.setCurrentIndex(1)
    bench.explain.board.set_wishes([(2, None)])
    settle()
    show(second)
    assert (window.workspace.shown.focus.current, window.workspace.shown.order.by) == (None, "confident mistakes")
    assert [choice.currentIndex() for choice in looked] == [0] * len(looked)
    assert bench.explain.board.wishes == list(USUAL)
    agrees(window, second, others, settle)
    window.workspace.shown.focus.look_at(1)
    window.bench.close_look.review.proposed.setCurrentIndex(1)
    window.bench.close_look.review.proposed.activated.emit(1)
    settle()
    window.workspace.after_writing(lambda: None)
    with Study.open(second) as study:
        (label,) = load_reviews(study, 1).proposed().values()
        assert study.classes[label] == others[0]
    window.close_study()
    assert window.pages.currentIndex() == START
    assert not window.workspace.is_open
    show(first)
    agrees(window, first, CLASSES, settle)
    with Study.open(first) as study:
        assert load_reviews(study, 1).proposed() == {}


def test_a_run_that_was_adopted_is_the_one_opened_again(
    qtbot: QtBot, window: MainWindow, settle: Settle, show: Callable[[Path], None], tmp_path: Path
) -> None:
    path = made(tmp_path / "one", CLASSES, 3, 4)
    show(path)
    record = window.workspace.shown.snapshot.record
    values = record.recipe.values.model_copy(update={"mean": [0.5]})
    other = record.recipe.model_copy(update={"values": values})
    window.workspace.edits.take(study_edits.add_run("recipe adopted", record.model_path, record.info.set_id, other))
    settle()
    window.workspace.jobs.score()
    settle()
    window.bench.show_step(MEASURE)
    window.bench.measure.tabs.choose(1)
    window.workspace.shown.choose(Outcome(frozenset({"wrong"})))
    shown = window.workspace.shown.images.tolist()
    window.save_copy(tmp_path / "copy.mivrat")
    qtbot.waitUntil(lambda: window.workspace.study_path == tmp_path / "copy.mivrat", timeout=10000)
    settle()
    for last in (tmp_path / "copy.mivrat", path):
        window.close_study()
        show(last)
        assert window.workspace.shown.snapshot.record.recipe == other
        assert window.bench.measure.tabs.current == 1
        assert window.workspace.shown.images.tolist() == shown


def test_after_an_unclean_end_the_headline_is_shown_and_it_is_said(
    qtbot: QtBot, window: MainWindow, settings: QSettings, settle: Settle, show: Callable[[Path], None], tmp_path: Path
) -> None:
    path = made(tmp_path / "one", CLASSES, 3, 4)
    show(path)
    window.bench.show_step(EXPLAIN)
    window.bookmark.keep()
    settle()
    window.workspace.close()  # as if it had died: the mark that it was open stays
    window.workspace.study_path = None
    show(path)
    assert (window.bench.figures.currentIndex(), window.bench.measure.tabs.current) == (MEASURE, 0)
    assert "did not close properly" in window.foot.notice.full_text
    window.bench.show_step(EXPLAIN)
    window.close_study()
    show(path)
    assert window.bench.figures.currentIndex() == EXPLAIN
    assert "properly" not in window.foot.notice.full_text
