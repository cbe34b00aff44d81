"""Strain tests that are stopped and gone on with, grow by a level, and meet files that are gone, copied, or without labels."""

from __future__ import annotations

import shutil
from pathlib import Path
from typing import Any

import numpy as np
import pytest

from mivrat.core.base.errors import InputError
from mivrat.core.base.job import StopSignal, stopped_by
from mivrat.core.models.onnx_model import OnnxModel
from mivrat.core.pictures.distorting.kinds import sweep_from_text
from mivrat.core.pictures.image_sets import ImageSet, read_image_set
from mivrat.core.running.evaluation import Evaluation
from mivrat.core.straining.sweep import StrainPlan, Sweep, checked
from mivrat.core.study.file import Study
from mivrat.core.study.kept_strains import keep_strains, load_strains
from mivrat.core.study.models import add_model
from tests.support.networks import classifier, loaded
from tests.support.sets import CLASSES, write_set

STRAINS = checked([one for text in ("blur:0,1,3", "noise:0.2") for one in sweep_from_text(text)])


@pytest.fixture(scope="module")
def made(tmp_path_factory: pytest.TempPathFactory) -> tuple[OnnxModel, ImageSet]:
    folder = tmp_path_factory.mktemp("strain")
    model = loaded(classifier(seed=5), folder / "m.onnx", 3)
    images = read_image_set(write_set(folder / "set", 14, seed=5), CLASSES)
    shutil.copyfile(images.file(1), images.file(2))
    images.file(5).write_text("no picture")
    return model, images


def swept(model: OnnxModel, images: ImageSet, study: Study | None, strains: Any = STRAINS, stop_at: int = 0) -> Sweep:
    evaluation = Evaluation(model, images, study)
    for _ in evaluation.run():
        pass
    judged = evaluation.judging.judged()
    plan = StrainPlan(tuple(np.flatnonzero(judged.predicted >= 0).tolist()), strains)
    model_id = add_model(study, model) if study is not None else 0
    contents = evaluation.answers.contents
    known = load_strains(study, model_id, set(contents.values())) if study is not None else None
    keep = (lambda rows: keep_strains(study, model_id, rows)) if study is not None else lambda rows: None
    sweep, stop = Sweep(judged, images, model, plan, contents, known, keep), StopSignal()
    with stopped_by(stop):
        for progress in sweep.run():
            if stop_at and progress.done >= stop_at:
                stop.stop()
    return sweep


def test_a_sweep_in_a_study_goes_on_where_it_was(
    made: tuple[OnnxModel, ImageSet], tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    whole = swept(*made, None)
    assert whole.complete
    assert whole.to_ask == 0
    assert (whole.predicted >= 0).all()
    assert len(np.unique(whole.predicted)) > 1
    assert (whole.predicted[:, 1] == whole.predicted[:, 2]).all(), "the same picture, the same noise"
    with Study.create(tmp_path / "s.mivrat", CLASSES) as study:
        part = swept(*made, study, stop_at=40)
        assert not part.complete
        assert 0 < part.to_ask < whole.predicted.size
        read = Evaluation(*made, study).answers.contents
        known = load_strains(study, add_model(study, made[0]), set(read.values()))
        first = next(Sweep(part.judged, made[1], made[0], part.plan, read, known).run())
        assert (first.done, first.total) == (whole.predicted.size - part.to_ask, whole.predicted.size)
        again = swept(*made, study)
        assert again.predicted.tobytes() == whole.predicted.tobytes()
        assert again.confidence == pytest.approx(whole.confidence, abs=1e-6)
    # Another level costs that level alone, and another seed what is left to chance; a second study knows nothing.
    with Study.open(tmp_path / "s.mivrat") as study:
        more = checked([*STRAINS, *sweep_from_text("jpeg:20")])
        evaluation = Evaluation(*made, study)
        contents = evaluation.answers.contents
        known = load_strains(study, add_model(study, made[0]), set(contents.values()))
        judged, images = evaluation.judging.judged(), whole.plan.images
        for plan, expected in (
            (StrainPlan(images, more), 41),
            (StrainPlan(images, STRAINS, 1), 3 * 41),
            (whole.plan, 0),
        ):
            assert Sweep(judged, made[1], made[0], plan, contents, known).to_ask == expected
        monkeypatch.setattr("mivrat.core.straining.sweep._VERSION", 2)  # what a kind does has changed since
        assert Sweep(judged, made[1], made[0], whole.plan, contents, known).to_ask == whole.predicted.size
        monkeypatch.undo()
    with Study.create(tmp_path / "t.mivrat", CLASSES) as other:
        assert load_strains(other, add_model(other, made[0]), set(contents.values())) == {}


def test_what_is_gone_since_has_no_answer_and_is_told(made: tuple[OnnxModel, ImageSet], tmp_path: Path) -> None:
    model, images = made
    here = read_image_set(shutil.copytree(images.root, tmp_path / "set"), CLASSES)
    evaluation = Evaluation(model, here)
    for _ in evaluation.run():
        pass
    here.file(7).unlink()
    judged = evaluation.judging.judged()
    plan = StrainPlan((3, 7, 9), STRAINS)
    sweep = Sweep(judged, here, model, plan)
    *_, last = sweep.run()
    assert (last.done, last.total) == (9, 9)
    assert list(sweep.problems) == [7]
    assert (sweep.predicted[:, 1] == -1).all()
    found = sweep.figures()
    assert [one.accuracy.total for one in found.levels] == [2, 2, 2]
    assert found.untouched.total == 3


def test_without_labels_shares_changed_are_told_and_no_accuracy(
    made: tuple[OnnxModel, ImageSet], tmp_path: Path
) -> None:
    flat = tmp_path / "flat"
    flat.mkdir()
    for i, file in enumerate(sorted(made[1].root.rglob("*.png"))[:4]):
        shutil.copyfile(file, flat / f"{i}.png")
    found = swept(made[0], read_image_set(flat, CLASSES), None).figures()
    assert found.untouched.value is None
    assert all(one.changed.value is not None and one.changed.total == 4 for one in found.levels)
    assert all(one.accuracy.value is None and one.p_holm == 1 and one.confidence is None for one in found.levels)
    assert all(curve.retained is None and curve.breaks_at is None for curve in found.curves)


def test_a_kind_named_twice_and_nothing_but_untouched_are_refused() -> None:
    blur = sweep_from_text("blur:1,2")
    with pytest.raises(InputError, match="stands twice"):
        checked([*blur, *sweep_from_text("blur:2,3")])
    with pytest.raises(InputError, match="nothing to do"):
        checked(sweep_from_text("blur:0"))
    assert len(checked([*blur, *sweep_from_text("blur:0")])) == 2
