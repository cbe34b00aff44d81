"""Runs: stopped and resumed, with unreadable and failing images, in memory and in a study."""

from __future__ import annotations

import sqlite3
from pathlib import Path

import numpy as np
import onnx
import pytest
from onnx import helper

from mivrat.core.answers.answers import FAILED, UNREADABLE
from mivrat.core.answers.judging import judge
from mivrat.core.base.errors import InputError
from mivrat.core.base.job import Meter, StopSignal, duration, stopped_by
from mivrat.core.models.onnx_model import OnnxModel
from mivrat.core.models.prediction_table import PredictionTable
from mivrat.core.pictures.image_sets import ImageItem, ImageSet, read_image_set
from mivrat.core.pictures.prepare import prepare_file
from mivrat.core.running.evaluation import Evaluation
from mivrat.core.study.file import Study
from mivrat.core.study.image_sets import add_image_set, load_references
from mivrat.core.study.runs import list_runs, load_run
from mivrat.core.study.settings import load_setting, save_setting
from tests.support.networks import classifier, loaded
from tests.support.sets import CLASSES, write_set


@pytest.fixture
def model(tmp_path: Path) -> OnnxModel:
    return loaded(classifier(), tmp_path / "m.onnx", 3)


@pytest.fixture
def images(tmp_path: Path) -> ImageSet:
    root = write_set(tmp_path / "set", per_class=5)
    (root / "alder" / "broken.jpg").write_text("no picture")
    (root / "loose.png").write_bytes((root / "birch" / "0.png").read_bytes())
    return read_image_set(root, CLASSES)


def test_scores_are_those_of_each_image_alone(model: OnnxModel, images: ImageSet) -> None:
    evaluation = Evaluation(model, images)
    progress = list(evaluation.run(batch_size=4, threads=3))
    assert [p.done for p in progress] == sorted(p.done for p in progress)
    assert progress[-1].done == progress[-1].total == 17
    for i in range(17):
        if evaluation.answers.state[i] == UNREADABLE:
            assert images.items[i].path == "alder/broken.jpg"
            assert "decoded" in evaluation.answers.reasons[i]
        else:
            alone = model.scores(prepare_file(images.file(i), model.recipe)[None])
            np.testing.assert_allclose(evaluation.answers.rows[i], alone[0], atol=2e-5)
    counts = judge(evaluation.answers, [item.label for item in images.items]).counts()
    assert (counts.listed, counts.evaluated, counts.unreadable, counts.unlabelled, counts.failed, counts.pending) == (
        17,
        15,
        1,
        1,
        0,
        0,
    )


def test_a_stopped_run_goes_on_where_it_was(tmp_path: Path, model: OnnxModel, images: ImageSet) -> None:
    whole = Evaluation(model, images)
    list(whole.run())
    study, stop = Study.create(tmp_path / "s.mivrat", CLASSES), StopSignal()
    first = Evaluation(model, images, study)
    with stopped_by(stop):
        for progress in first.run(batch_size=4):
            if progress.done >= 4:
                stop.stop()
    assert 4 <= progress.done < 17
    study.close()
    study = Study.open(tmp_path / "s.mivrat")
    second = Evaluation(model, images, study)
    assert second.run_id == first.run_id
    assert len(second.answers.pending) == 17 - progress.done
    list(second.run(batch_size=4))
    assert (second.answers.rows == load_run(study, first.run_id or 0).answers.rows).all()
    np.testing.assert_allclose(second.answers.rows, whole.answers.rows, atol=2e-5)
    assert second.answers.reasons == whole.answers.reasons
    assert list(Evaluation(model, images, study).run())[-1].done == 17
    assert len(list_runs(study)) == 1


def test_rows_with_nan_fail_and_stay_out_of_the_figures(tmp_path: Path, images: ImageSet) -> None:
    """A model that divides by the mean of a channel's brightness below a bound: NaN for dark pictures."""
    made = classifier()
    made.graph.node[-1].output[0] = "before"
    made.graph.initializer.append(onnx.numpy_helper.from_array(np.float32(-1.5), "lift"))
    made.graph.node.extend(
        [helper.make_node("Add", ["before", "lift"], ["low"]), helper.make_node("Log", ["low"], ["scores"])]
    )
    model = loaded(made, tmp_path / "m.onnx", 3)
    evaluation = Evaluation(model, images)
    list(evaluation.run())
    judged = judge(evaluation.answers, [item.label for item in images.items])
    failed = judged.state == FAILED
    assert failed.any()
    assert np.isnan(judged.probabilities(np.flatnonzero(failed))).all()
    assert (judged.predicted[failed] == -1).all()
    assert judged.counts().failed == failed.sum()
    assert judged.figures([1]).total == judged.counts().evaluated


def test_study_keeps_everything(tmp_path: Path, model: OnnxModel, images: ImageSet) -> None:
    study = Study.create(tmp_path / "deep" / "s.mivrat", CLASSES)
    evaluation = Evaluation(model, images, study)
    list(evaluation.run())
    add_image_set(study, ImageSet("atlas", tmp_path, [ImageItem("alder.png", 1, {}, "alder")], "reference"))
    save_setting(study, "run", "1")
    study.close()
    moved = tmp_path / "deep" / "t.mivrat"
    (tmp_path / "deep" / "s.mivrat").rename(moved)
    study = Study.open(moved)
    record = load_run(study, 1)
    assert record.classes == CLASSES
    assert record.model_path == model.path
    assert record.recipe == model.recipe
    assert record.image_set.root == images.root
    assert record.image_set.items == images.items
    assert record.answers.kind == evaluation.answers.kind == "logits"
    assert load_references(study) == {1: tmp_path / "alder.png"}
    assert load_setting(study, "run") == "1"
    with pytest.raises(InputError, match="no run 7"):
        load_run(study, 7)


def test_files_that_are_no_study(tmp_path: Path) -> None:
    (tmp_path / "text.mivrat").write_text("text " * 100)
    with pytest.raises(InputError, match="not a Mivrat study, or is damaged"):
        Study.open(tmp_path / "text.mivrat")
    sqlite3.connect(tmp_path / "other.mivrat").executescript(
        "CREATE TABLE t (x); PRAGMA user_version = 1;"
    ).connection.close()
    with pytest.raises(InputError, match="not a Mivrat study"):
        Study.open(tmp_path / "other.mivrat")
    Study.create(tmp_path / "new.mivrat", ["a"]).close()
    newer = sqlite3.connect(tmp_path / "new.mivrat")
    newer.execute("PRAGMA user_version = 99")
    newer.close()
    with pytest.raises(InputError, match="newer Mivrat"):
        Study.open(tmp_path / "new.mivrat")
    with pytest.raises(InputError, match="exists already"):
        Study.create(tmp_path / "new.mivrat", ["a"])


def test_progress_in_words() -> None:
    assert [duration(s) for s in (0.2, 59, 61, 3700)] == ["1 s", "1 min 0 s", "1 min 2 s", "1 h 1 min"]
    assert Meter(10).at(0).sentence() == "0 of 10"


def test_a_table_is_looked_up_at_once_and_what_it_does_not_list_has_failed(tmp_path: Path, images: ImageSet) -> None:
    items = images.items
    lines = [
        "path,predicted,confidence",
        *(f"{one.path},{CLASSES[i % 2]},0.{5 + i % 5}" for i, one in enumerate(items[:-1])),
    ]
    (tmp_path / "t.csv").write_text("\n".join(lines))
    evaluation = Evaluation(PredictionTable(tmp_path / "t.csv", CLASSES), images)
    assert [one.done for one in evaluation.run()] == [0, len(items)]
    judged = evaluation.judging.judged()
    assert judged.predicted.tolist() == [i % 2 for i in range(len(items) - 1)] + [-1]
    assert judged.confidence[:3].tolist() == pytest.approx([0.5, 0.6, 0.7])
    assert list(evaluation.answers.reasons) == [len(items) - 1]
