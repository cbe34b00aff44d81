"""What a strain test can meet: nothing left of a picture, a thousand classes, a model or a service that fails on the way."""

from __future__ import annotations

import json
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest

from mivrat.core.base.errors import InputError
from mivrat.core.models.onnx_model import OnnxModel
from mivrat.core.models.scores import Kind
from mivrat.core.pictures.decode import read_picture
from mivrat.core.pictures.distorting.kinds import Distortion, sweep_from_text
from mivrat.core.pictures.image_sets import read_image_set
from mivrat.core.reporting.strain import as_json
from mivrat.core.running.evaluation import Evaluation
from mivrat.core.straining.curves import losses, strain_figures
from mivrat.core.straining.sweep import StrainPlan, Sweep, checked
from tests.core.straining.test_curves import run_of
from tests.support.networks import classifier, loaded
from tests.support.services import described, met, saying
from tests.support.sets import CLASSES, write_set


def evaluated(tmp_path: Path, model: object | None = None) -> tuple[Evaluation, OnnxModel]:
    made = loaded(classifier(seed=5, side=16), tmp_path / "m.onnx", 3)
    evaluation = Evaluation(made, read_image_set(write_set(tmp_path / "set", 12), CLASSES))
    for _ in evaluation.run():
        pass
    return evaluation, made


def plan_of(evaluation: Evaluation, *texts: str) -> StrainPlan:
    strains = checked([one for text in texts for one in sweep_from_text(text)])
    return StrainPlan(tuple(np.flatnonzero(evaluation.judging.judged().predicted >= 0).tolist()), strains)


def test_where_nothing_is_left_of_a_picture_every_image_has_one_answer(tmp_path: Path) -> None:
    evaluation, model = evaluated(tmp_path)
    square = tuple(i for i, file in enumerate(evaluation.image_set.files()) if read_picture(file).shape[:2] == (16, 16))
    plan = replace(plan_of(evaluation, "cover@x=0.5;y=0.5:1", "contrast:-1"), images=square)
    sweep = Sweep(evaluation.judging.judged(), evaluation.image_set, model, plan)
    for _ in sweep.run():
        pass
    covered, flat = sweep.predicted
    assert len(covered) == 3
    assert len(np.unique(covered)) == 1
    assert (flat >= 0).all()
    level = sweep.figures().levels[0]
    assert level.accuracy.hits == int((evaluation.image_set.labels[list(square)] == covered[0]).sum())
    black = np.zeros((16, 16, 3), np.uint8)
    for one in (
        sweep_from_text("brightness")
        + sweep_from_text("gamma")
        + sweep_from_text("saturation")
        + sweep_from_text("blur")
    ):
        assert not one.apply(black, 1.0, b"c" * 32, 0).any(), one.spelled  # black stays black
    assert Distortion("noise", 0.1).apply(black, 1.0, b"c" * 32, 0).any()


def test_a_thousand_classes_and_ten_images(tmp_path: Path) -> None:
    rng = np.random.default_rng(0)
    labels = rng.integers(0, 1000, 10)
    judged = run_of(labels, labels, 1000)
    strains = sweep_from_text("blur:1,2")
    predicted = np.stack([labels, (labels + 1) % 1000])
    found = strain_figures(judged, np.arange(10), strains, predicted, np.full((2, 10), 0.5))
    (curve,) = found.curves
    assert [one.accuracy.hits for one in curve.levels] == [10, 0]
    assert losses(found, curve) == dict.fromkeys(sorted(set(labels.tolist())), 0.5)
    assert len(found.by_class) == 1000
    four = run_of(np.array([0, 0, 0, 0, 1]), np.array([0, 0, 0, 1, 1]), 3)
    worse = strain_figures(
        four, np.arange(5), strains, np.array([[0, 0, 1, 1, 1], [0, 1, 1, 1, 0]]), np.full((2, 5), 0.5)
    )
    assert losses(worse, worse.curves[0]) == pytest.approx({0: 3 / 4 - (2 / 4 + 1 / 4) / 2, 1: 1 - 1 / 2})
    assert curve.breaks_at == 2.0
    sweep = Sweep(
        judged,
        read_image_set(write_set(tmp_path / "set", 4), CLASSES),
        None,
        StrainPlan(tuple(range(10)), tuple(strains)),
    )
    told = as_json(found, sweep, [f"class {k}" for k in range(1000)])
    assert len(json.dumps(told)) < 400_000


def test_a_model_that_fails_on_the_way_says_so_and_what_was_done_stays(tmp_path: Path) -> None:
    evaluation, model = evaluated(tmp_path)

    class Failing:
        """Answers for some batches, then no more."""

        path, recipe, kind, columns, batches = model.path, model.recipe, model.kind, 3, 0

        def misfit(self, shape: tuple[int, ...]) -> str:
            return ""

        def scores(self, batch: np.ndarray) -> np.ndarray:
            self.batches += 1
            if self.batches > 2:
                raise InputError("the model failed", where=self.path)
            return model.scores(batch)

    rows: list[tuple[bytes, str, int, float]] = []
    plan = plan_of(evaluation, "blur:1,2")
    judged, contents = evaluation.judging.judged(), evaluation.answers.contents
    sweep = Sweep(judged, evaluation.image_set, Failing(), plan, contents, None, rows.extend)  # type: ignore[arg-type]
    with pytest.raises(InputError, match="the model failed"):
        for _ in sweep.run():
            pass
    assert rows
    assert not sweep.complete
    known = {(content, name): (k, p) for content, name, k, p in rows}
    again = Sweep(judged, evaluation.image_set, model, plan, contents, known)
    assert again.to_ask == sweep.to_ask == sweep.predicted.size - len(rows)
    for _ in again.run():
        pass
    whole = Sweep(judged, evaluation.image_set, model, plan)
    for _ in whole.run():
        pass
    assert again.predicted.tobytes() == whole.predicted.tobytes()


def test_a_service_that_refuses_strained_images_ends_in_a_line(tmp_path: Path) -> None:
    evaluation, _ = evaluated(tmp_path)
    kind: Kind = "logits"
    assert evaluation.judging.judged().kind == kind
    asked = 0

    def say(method: str, path: str, body: bytes, headers: dict[str, str]) -> tuple[int, dict[str, str], bytes]:
        nonlocal asked
        asked += 1
        if asked <= 3:
            return 200, {}, json.dumps({"scores": [0.2, 0.5, 0.3]}).encode()
        return 403, {}, b'{"error": "no more today"}'

    with saying(say) as root:
        service = met(
            tmp_path, described(f"{root}/s", send="json", image="/image", response={"scores": "/scores"}), CLASSES
        )
        sweep = Sweep(evaluation.judging.judged(), evaluation.image_set, service, plan_of(evaluation, "blur:1"))
        with pytest.raises(InputError) as caught:
            for _ in sweep.run():
                pass
    assert "no more today" in caught.value.line() or "403" in caught.value.line()
    assert not sweep.complete
