"""The demonstration shows what it is meant to show, through the same code that users run."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest

from mivrat.core.answers.judged import EvaluatedRun
from mivrat.core.answers.judging import judge
from mivrat.core.base.files import sha256_of
from mivrat.core.figures.summary import Figures
from mivrat.core.heatmaps.maps import HeatmapMaker, Target
from mivrat.core.heatmaps.overlay import on_picture
from mivrat.core.models.onnx_model import OnnxModel
from mivrat.core.pictures.decode import read_picture
from mivrat.core.pictures.prepare import fitted_pixels, to_tensor
from mivrat.core.region_masking.lookalikes import sampled_colour
from mivrat.core.region_masking.region_plan import RegionPlan
from mivrat.core.region_masking.transplant import TransplantPlan, TransplantTest, run_transplant
from mivrat.core.study.file import Study
from mivrat.core.study.image_sets import load_references
from mivrat.core.study.runs import list_runs, load_run
from mivrat.demo.study import DATA, MODELS, SETS, demo_inputs, make_demo_study
from tests.support.demo import CLASSES, planted
from tools.demo_draw import Scene, draw

RAGWEED, PLANTAIN = CLASSES.index("ragweed"), CLASSES.index("plantain")
Runs = dict[tuple[str, str], tuple[EvaluatedRun, Figures]]


@pytest.fixture(scope="module")
def runs(tmp_path_factory: pytest.TempPathFactory) -> Runs:
    path = tmp_path_factory.mktemp("demo") / "demo.mivrat"
    progress = list(make_demo_study(path))
    assert progress[-1].done == progress[-1].total == 1600
    study, found = Study.open(path), {}
    assert len(load_references(study)) == len(CLASSES)
    for run in list_runs(study):
        record = load_run(study, run.id)
        judged = judge(record.answers, [item.label for item in record.image_set.items])
        found[run.model, run.image_set] = judged, judged.figures([1])
    study.close()
    assert set(found) == {(m, s) for m in MODELS for s in SETS}
    return found


def test_the_story(runs: Runs) -> None:
    first, later = MODELS
    spring, late = runs[first, "spring-check"][1], runs[first, "late-summer-field"][1]
    assert spring.top_k[1].low is not None
    assert late.top_k[1].high is not None
    assert 0.93 <= (spring.top_k[1].value or 0) <= 0.985
    assert late.top_k[1].high < spring.top_k[1].low
    assert (spring.classes[RAGWEED].recall.value or 0) > 0.9
    assert (late.classes[RAGWEED].recall.value or 1) < 0.6
    assert late.matrix[PLANTAIN, RAGWEED] > 20
    fixed = runs[later, "late-summer-field"][1]
    assert (fixed.classes[RAGWEED].recall.value or 0) > 0.85
    assert fixed.matrix[PLANTAIN, RAGWEED] <= 3
    lost = (spring.top_k[1].value or 0) - (late.top_k[1].value or 0)
    left = (runs[later, "spring-check"][1].top_k[1].value or 0) - (fixed.top_k[1].value or 0)
    assert left < 0.4 * lost


def test_plantain_with_a_dot_goes_to_ragweed_and_without_does_not(runs: Runs) -> None:
    judged, _ = runs[MODELS[0], "late-summer-field"]
    items = demo_inputs().sets["late-summer-field"].items
    dotted = np.array(["ink dot" in planted().get(item.path, []) for item in items])
    is_plantain = judged.labels == PLANTAIN
    assert (judged.predicted[is_plantain & dotted] == RAGWEED).mean() > 0.7
    assert (judged.predicted[is_plantain & ~dotted] == RAGWEED).mean() < 0.1


def test_the_evidence_for_ragweed_lies_on_the_dot(runs: Runs) -> None:
    """For plantain taken for ragweed, the map's peak falls on the violet dot; the later model's does not."""
    judged, _ = runs[MODELS[0], "late-summer-field"]
    inputs = demo_inputs()
    image_set, recipe = inputs.sets["late-summer-field"], inputs.recipe
    wrong = np.flatnonzero((judged.labels == PLANTAIN) & (judged.predicted == RAGWEED))[:20]
    hits = {}
    for name in MODELS:
        maker = HeatmapMaker(OnnxModel(DATA / f"{name}.onnx", recipe, len(CLASSES)))
        on_dot = 0
        for i in wrong:
            pixels = read_picture(image_set.file(int(i)))
            fitted, place = fitted_pixels(pixels, recipe)
            heat = maker.maps(to_tensor(fitted, recipe)[None], [Target(RAGWEED)], [maker.layer(None)])[0][0]
            field, _ = on_picture(heat, place)
            red, green, blue = (pixels[..., c].astype(int) for c in range(3))
            violet = (blue > red + 25) & (blue > green + 40) & (green < 110)
            y, x = np.unravel_index(field.argmax(), field.shape)
            on_dot += bool(violet.any()) and bool(violet[max(0, y - 6) : y + 7, max(0, x - 6) : x + 7].any())
        hits[name] = on_dot / len(wrong)
    assert hits[MODELS[0]] > 0.85
    assert hits[MODELS[1]] < 0.3


def test_the_dots_alone_carry_clean_plantain_over_under_the_first_model_only(runs: Runs) -> None:
    """Cut out by their colour and pasted onto plantain without a dot; nothing carries grass over, which is far from ragweed."""
    inputs = demo_inputs()
    image_set = inputs.sets["late-summer-field"]
    items, labels = image_set.items, image_set.labels
    dotted = {i for i, item in enumerate(items) if "ink dot" in planted().get(item.path, [])}
    donors, clean, grass = (
        tuple(np.flatnonzero(labels == k).tolist()) for k in (PLANTAIN, PLANTAIN, CLASSES.index("grass"))
    )
    donors, clean = tuple(i for i in donors if i in dotted), tuple(i for i in clean if i not in dotted)
    violet = RegionPlan(
        "colour", colour=sampled_colour(np.array([[[0x68, 0x50, 0xA0]]], np.uint8), "RGB", np.ones((1, 1), bool))
    )
    for name in MODELS:
        maker = HeatmapMaker(OnnxModel(DATA / f"{name}.onnx", inputs.recipe, len(CLASSES)))
        for receivers in (clean, grass):
            plan = TransplantPlan(donors, receivers, violet, "ragweed", soft=True)
            *_, test = run_transplant(CLASSES, image_set, plan, maker, maker)
            assert isinstance(test, TransplantTest)
            found = test.enough
            assert found.total > 15
            assert found.control.became.hits == 0
            if name == MODELS[0] and receivers is clean:
                assert (found.piece.became.value or 0) > 0.5
                assert (found.difference.p or 1) < 0.001
            else:
                assert found.piece.became.hits <= 1


def test_what_is_planted_is_there() -> None:
    inputs, known = demo_inputs(), planted()
    training = {sha256_of(p) for p in (DATA / "training-sample").rglob("*.jpg")}
    assert len(training) == 200
    spring = inputs.sets["spring-check"]
    leaked = [item.path for item in spring.items if sha256_of(spring.root / item.path) in training]
    assert sorted(leaked) == sorted(
        p for p, what in known.items() if any(w.startswith("also in training") for w in what)
    )
    assert len(leaked) == 6
    assert sum("unreadable" in what for what in known.values()) == 1
    assert sum(any(w.startswith("wrong label") for w in what) for what in known.values()) >= 12
    for image_set in inputs.sets.values():
        assert len(image_set.items) == 400
        assert {"station", "date", "focus"} <= set(image_set.items[0].columns)


def test_shipped_data_is_small_and_models_are_smaller() -> None:
    assert sum(p.stat().st_size for p in DATA.rglob("*") if p.is_file()) < 12_000_000
    assert all((DATA / f"{name}.onnx").stat().st_size < 1_500_000 for name in MODELS)


def test_drawing_is_fixed_by_its_seed() -> None:
    scene = Scene("ragweed", ink_dot=True)
    first, dot = draw(scene, np.random.default_rng(5))
    again, _ = draw(scene, np.random.default_rng(5))
    assert (first == again).all()
    assert dot is not None
    x, y, _ = dot
    red, green, blue = (int(v) for v in first[int(y), int(x)])
    assert blue > red > green or blue > green + 30


def test_a_stopped_making_goes_on_and_a_moved_one_is_made_anew(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    from mivrat.core.base.job import StopSignal, stopped_by

    path, stop = tmp_path / "demo.mivrat", StopSignal()
    with stopped_by(stop):
        for progress in make_demo_study(path):
            if progress.done > 100:
                stop.stop()
    assert progress.done < 400
    assert next(iter(make_demo_study(path))).done >= 100
    monkeypatch.setattr("mivrat.demo.study._fingerprint", lambda: "another place")
    assert next(iter(make_demo_study(path))).done == 0
    assert (tmp_path / "demo (earlier).mivrat").is_file()
