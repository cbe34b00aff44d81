"""A small run of a small network, scored into a study of its own."""

from __future__ import annotations

from pathlib import Path

from mivrat.core.answers.judged import EvaluatedRun
from mivrat.core.answers.judging import Judging
from mivrat.core.heatmaps.maps import HeatmapMaker
from mivrat.core.models.onnx_model import OnnxModel
from mivrat.core.pictures.image_sets import read_image_set
from mivrat.core.running.evaluation import Evaluation
from mivrat.core.study.file import Study
from mivrat.core.study.image_sets import load_stamps
from mivrat.core.study.records import RunRecord
from mivrat.core.study.runs import load_run
from tests.support.networks import classifier, loaded
from tests.support.sets import CLASSES, write_set


class Ran:
    """A small run: 3 classes of 14 pictures, one of them unreadable."""

    def __init__(self, path: Path) -> None:
        images = read_image_set(write_set(path / "set", 14), CLASSES)
        (path / "set" / "birch" / "3.png").write_bytes(b"no picture")
        self.model: OnnxModel = loaded(classifier(side=16), path / "m.onnx", 3)
        self.study = Study.create(path / "s.mivrat", CLASSES)
        evaluation = Evaluation(self.model, images, self.study)
        for _ in evaluation.run():
            pass
        assert evaluation.run_id is not None
        self.record: RunRecord = load_run(self.study, evaluation.run_id)
        self.judged: EvaluatedRun = Judging(self.record.answers, self.record.image_set.labels).judged()
        stamps = load_stamps(self.study, self.record.info.set_id)
        self.contents = {i: stamp.content for i, stamp in stamps.items()}
        self.maker = HeatmapMaker(self.model)
