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
from mivrat.ui import changes
from mivrat.ui.window import BENCH, EXPLAIN, MEASURE, PREPARE, START, MainWindow
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
            lambda: window.session.study_path == path and window.pages.currentIndex() == BENCH, timeout=20000
        )
        settle()

    return opened


def agrees(window: MainWindow, path: Path, classes: list[str], settle: Settle) -> None:
    """What the window shows of an image is this study's: classes, figures, answers, maps, layers, recipe."""
    session = window.session
    assert session.snapshot is not None
    record, judged = session.snapshot.record, session.snapshot.judged
    assert record.model_path == path.parent / "m.onnx"
    assert session.classes == classes
    assert f"{100 * (session.snapshot.figures.top_k[1].value or 0):.1f} %" == window.header.value.text()
    session.look_at(int(session.shown[0]))
    window.look_closely()
    settle()
    image = session.current
    assert image is not None
    maker = HeatmapMaker(OnnxModel(record.model_path, record.recipe, len(classes)))
    tensor = prepare_file(record.image_set.file(image), record.recipe)[None]
    np.testing.assert_allclose(maker.probabilities(tensor), judged.probabilities([image]), atol=1e-5)
    evidence = window.close_look.evidence
    assert evidence is not None
    expected = maker.maps(np.repeat(tensor, 2, axis=0), [Target(k) for k in evidence.classes], [maker.layer(None)])[0]
    np.testing.assert_allclose(evidence.maps, expected, rtol=1e-3, atol=1e-5)
    offered = window.close_look.review.proposed
    assert [offered.itemText(i) for i in range(1, offered.count())] == [f"label: {name}" for name in classes]
    window.show_step(EXPLAIN)
    settle()
    explainer = window.explain.explainer
    assert [one.tensor for one in explainer.layers] == [one.tensor for one in maker.layers]
    assert [one.parameters for one in explainer.layers] == [one.parameters for one in maker.layers]
    explainer.make_maps()
    settle()
    for i, heat in explainer.maps.items():
        tensor = prepare_file(record.image_set.file(i), record.recipe)[None]
        alone = maker.maps(tensor, [Target(int(judged.predicted[i]))], [maker.layer(None)])[0][0]
        np.testing.assert_allclose(heat, alone, rtol=1e-3, atol=1e-5)
    assert len(explainer.maps) == len(session.shown)
    window.show_step(PREPARE)
    page = window.prepare.recipe_page
    window.prepare.tabs.choose(2)
    settle()
    assert page.draft is not None
    assert page.draft.recipe == record.recipe
    assert not page.adopt.isEnabled()
    window.leave_close_look()


@pytest.mark.parametrize("others", [CLASSES, CLASSES[::-1], ["oak", "birch"]], ids=["same", "other order", "others"])
def test_nothing_of_the_first_study_is_taken_for_the_second(
    qtbot: QtBot, window: MainWindow, settle: Settle, show: Callable[[Path], None], tmp_path: Path, others: list[str]
) -> None:
    first, second = made(tmp_path / "one", CLASSES, 3, 5), made(tmp_path / "two", others, 8, 2)
    show(first)
    agrees(window, first, CLASSES, settle)
    window.session.set_order("name")
    window.prepare.recipe_page.put(window.session.snapshot.record.recipe.model_copy(update={"crop": None}))  # type: ignore[union-attr]
    window.session.look_at(14)
    show(second)
    assert (window.session.current, window.session.order) == (None, "surest mistake first")
    agrees(window, second, others, settle)
    window.session.look_at(1)
    window.close_look.review.proposed.setCurrentIndex(1)
    window.close_look.review.proposed.activated.emit(1)
    settle()
    window.keeper.after_writing(lambda: None)
    with Study.open(second) as study:
        (label,) = load_reviews(study, 1).proposed().values()
        assert study.classes[label] == others[0]
    window.close_study()
    assert window.pages.currentIndex() == START
    assert window.session.snapshot is None
    show(first)
    agrees(window, first, CLASSES, settle)
    with Study.open(first) as study:
        assert load_reviews(study, 1).proposed() == {}


def test_a_run_that_was_adopted_is_the_one_opened_again(
    qtbot: QtBot, window: MainWindow, settle: Settle, show: Callable[[Path], None], tmp_path: Path
) -> None:
    path = made(tmp_path / "one", CLASSES, 3, 4)
    show(path)
    assert window.session.snapshot is not None
    record = window.session.snapshot.record
    values = record.recipe.values.model_copy(update={"mean": [0.5]})
    other = record.recipe.model_copy(update={"values": values})
    window.keeper.decide(changes.add_run("recipe adopted", record.model_path, record.info.set_id, other))
    settle()
    window.keeper.score()
    settle()
    window.show_step(MEASURE)
    window.measure.tabs.choose(1)
    window.session.choose(Outcome(frozenset({"wrong"})))
    shown = window.session.shown.tolist()
    window.save_copy(tmp_path / "copy.mivrat")
    qtbot.waitUntil(lambda: window.session.study_path == tmp_path / "copy.mivrat", timeout=10000)
    settle()
    for last in (tmp_path / "copy.mivrat", path):
        window.close_study()
        show(last)
        assert window.session.snapshot.record.recipe == other
        assert window.measure.tabs.current == 1
        assert window.session.shown.tolist() == shown


def test_after_an_unclean_end_the_headline_is_shown_and_it_is_said(
    qtbot: QtBot, window: MainWindow, settings: QSettings, settle: Settle, show: Callable[[Path], None], tmp_path: Path
) -> None:
    path = made(tmp_path / "one", CLASSES, 3, 4)
    show(path)
    window.show_step(EXPLAIN)
    window.place.keep()
    settle()
    window.keeper.close()  # as if it had died: the mark that it was open stays
    window.session.study_path = None
    show(path)
    assert (window.figures.currentIndex(), window.measure.tabs.current) == (MEASURE, 0)
    assert "did not close properly" in window.foot.notice.full_text
    window.show_step(EXPLAIN)
    window.close_study()
    show(path)
    assert window.figures.currentIndex() == EXPLAIN
    assert "properly" not in window.foot.notice.full_text
