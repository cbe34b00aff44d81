"""Another kind of model is one module and one entry: a made-up service is scored, kept, opened again and examined."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from numpy.typing import NDArray

from mivrat.core.answers.answers import SCORED
from mivrat.core.base.blob_cache import BlobCache
from mivrat.core.base.errors import InputError
from mivrat.core.checks.catalogue import CHECKS
from mivrat.core.checks.run_checks import KeptResult, check_run
from mivrat.core.likeness.store import Features
from mivrat.core.models.kinds import KINDS, load_model
from mivrat.core.models.model import Capabilities, ModelKind
from mivrat.core.models.onnx_model import ONNX
from mivrat.core.models.prediction_table import TABLE
from mivrat.core.models.scores import Kind
from mivrat.core.pictures.image_sets import ImageSet, read_image_set
from mivrat.core.pictures.recipe import Recipe, guess_recipe
from mivrat.core.running.evaluation import Evaluation
from mivrat.core.running.loading import load_judged
from mivrat.core.running.two_classes import TwoClasses, find_two_classes
from mivrat.core.study.file import Study
from mivrat.core.study.runs import load_run
from tests.support.sets import CLASSES, write_set


class Service:
    """Answers with the mean of each colour; it is reached by an address, and knows nothing of layers."""

    def __init__(self, path: Path, recipe: Recipe | None) -> None:
        self.path, self.name, self.remarks = path, path.stem, list[str]()
        self.recipe, self.recipe_is_guess = recipe or guess_recipe((None, 3, 16, 16), "float32"), recipe is None
        self.columns, self.asked = 3, 0

    kind = property(lambda self: SERVICE)

    @property
    def content(self) -> str:
        return f"service {self.path.read_text()}"

    @property
    def settled(self) -> Kind | None:
        return None

    @property
    def class_count(self) -> int:
        return self.columns

    def misfit(self, shape: tuple[int, ...]) -> str:
        return ""

    def scores(self, batch: NDArray[Any]) -> NDArray[np.float32]:
        self.asked += len(batch)
        return 9 * batch.mean(axis=(2, 3), dtype=np.float32)

    @property
    def row_dtype(self) -> type[np.float32]:
        return np.float32

    def looked_up(self, image_set: ImageSet) -> tuple[NDArray[np.float64], NDArray[np.bool_]]:
        raise NotImplementedError


def load(path: Path, classes: Sequence[str], recipe: Recipe | None, threads: int) -> Service:
    return Service(path, recipe)


SERVICE = ModelKind("service", "a service", frozenset({".toml"}), Capabilities(True, False, False), load)


def test_a_made_up_kind_is_scored_kept_and_examined(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setitem(KINDS, "service", SERVICE)
    images = read_image_set(write_set(tmp_path / "set", per_class=4), CLASSES)
    for version in ("1", "2"):
        (tmp_path / f"{version}.toml").write_text(f"here, colours, {version}")
    study = Study.create(tmp_path / "s.mivrat", CLASSES)
    runs = []
    for version in ("1", "2"):
        model = load_model(tmp_path / f"{version}.toml", CLASSES)
        evaluation = Evaluation(model, images, study)
        list(evaluation.run())
        assert isinstance(model, Service)
        assert model.asked == 12, "each version has answers of its own"
        runs.append(evaluation.run_id)
        again = Evaluation(load_model(model.path, CLASSES), images, study)
        list(again.run())
        assert again.model.asked == 0  # type: ignore[attr-defined]
    assert len({load_run(study, run).model_sha256 for run in runs if run}) == 2
    study.close()
    with Study.open(tmp_path / "s.mivrat") as study:
        record, judging = load_judged(study, runs[1] or 0)
        judged = judging.judged()
        assert (record.kind, record.kind.can.gradients, record.info.model) == (SERVICE, False, "2")
        assert (judged.state == SCORED).all()
        with pytest.raises(InputError, match="a service has no features"):
            list(Features(record, {}, BlobCache(tmp_path / "cache")).run())
        found = [
            one for one in check_run(study, record, judged, [c.name for c in CHECKS]) if isinstance(one, KeptResult)
        ]
        assert len(found) == len(CHECKS)
        assert not [one.result for one in found if one.result.state == "stop"]
        looked = list(find_two_classes(load_model(record.model_path, CLASSES), images.files(), judged))
        assert all(one.views >= 6 for one in looked if isinstance(one, TwoClasses))


def test_a_kind_is_told_by_the_ending(tmp_path: Path) -> None:
    assert ".csv" in TABLE.endings
    with pytest.raises(InputError):
        load_model(tmp_path / "none.weights", CLASSES)
    assert TABLE.lacks("Heatmaps need") == "Heatmaps need the ONNX model; a table of predictions is not enough."
    assert ONNX.can == Capabilities(True, True, True)
