"""Answers in a study's file: kept batch by batch, and read again as they were, by who reads them from elsewhere too."""

from __future__ import annotations

from pathlib import Path

import numpy as np

from mivrat.core.pictures.image_sets import read_image_set
from mivrat.core.running.evaluation import Evaluation
from mivrat.core.study.file import Study
from mivrat.core.study.image_sets import load_stamps
from mivrat.core.study.runs import load_run
from tests.support.networks import classifier, loaded
from tests.support.sets import CLASSES, write_set


def test_answers_are_read_as_they_were_scored_from_the_study_and_from_a_copy_of_it(tmp_path: Path) -> None:
    model = loaded(classifier(seed=2, classes=len(CLASSES)), tmp_path / "m.onnx", len(CLASSES))
    images = read_image_set(write_set(tmp_path / "set", 3, classes=CLASSES), CLASSES)
    images.files()[4].write_bytes(b"no picture")
    with Study.create(tmp_path / "s.mivrat", CLASSES) as study:
        evaluation = Evaluation(model, images, study)
        for _ in evaluation.run(batch_size=4):
            pass
        (tmp_path / "elsewhere").mkdir()
        study.copy_to(tmp_path / "elsewhere" / "copy.mivrat")
        stamps = load_stamps(study, 1)
    for path in (tmp_path / "s.mivrat", tmp_path / "elsewhere" / "copy.mivrat"):
        with Study.open(path) as study:
            record = load_run(study, 1)
            assert record.answers.kind == evaluation.answers.kind == "logits"
            assert np.array_equal(record.answers.rows, evaluation.answers.rows, equal_nan=True)
            assert record.answers.reasons == evaluation.answers.reasons
            assert [one.resolve() for one in record.image_set.files()] == [one.resolve() for one in images.files()]
            assert record.model_path.resolve() == model.path.resolve()
            assert load_stamps(study, 1) == stamps
    about = images.files()[0].stat()
    assert (stamps[0].size, stamps[0].changed) == (about.st_size, about.st_mtime_ns)
