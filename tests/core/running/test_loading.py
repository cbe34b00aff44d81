"""A run is loaded from its columns where it is kept so, else from its rows, and nothing is written by who only reads."""

from __future__ import annotations

from pathlib import Path

import pytest

from mivrat.core.answers.judging import Judging
from mivrat.core.pictures.image_sets import read_image_set
from mivrat.core.running import loading
from mivrat.core.running.evaluation import Evaluation
from mivrat.core.running.loading import load_judged
from mivrat.core.study import kept_columns, score_files
from mivrat.core.study.file import Study
from tests.support.networks import classifier, loaded
from tests.support.sets import CLASSES, write_set


@pytest.fixture
def filled(monkeypatch: pytest.MonkeyPatch) -> list[int]:
    """One entry for each time that rows were read."""
    found, really = list[int](), loading.fill_answers

    def fill(study: Study, record: loading.RunRecord) -> object:
        found.append(record.info.id)
        return really(study, record)

    monkeypatch.setattr(loading, "fill_answers", fill)
    return found


@pytest.mark.parametrize("beside", [True, False])
def test_rows_are_read_only_where_columns_are_not_kept(
    beside: bool, filled: list[int], tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(kept_columns, "LARGE", 0 if beside else 10**9)
    monkeypatch.setattr(score_files, "LARGE", 10**12)
    model = loaded(classifier(seed=1, classes=3), tmp_path / "m.onnx", 3)
    images = read_image_set(write_set(tmp_path / "set", 2, classes=CLASSES), CLASSES)
    with Study.create(tmp_path / "s.mivrat", CLASSES) as study:
        list(Evaluation(model, images, study).run())
        _, judging = load_judged(study, 1)
        assert filled == ([] if beside else [1])
        assert judging.judged().evaluated.all()
        with study.writing() as db:
            db.execute("DELETE FROM kept_columns")
        for keep, kept in ((False, 0), (True, 2 if beside else 0)):
            filled.clear()
            load_judged(study, 1, keep=keep)
            assert filled == [1]
            assert study.rows("SELECT COUNT(*) FROM kept_columns") == [(kept,)]
        monkeypatch.setattr(Judging, "update", lambda _, which: 1 / 0 if len(which) else None)
        if not beside:
            with pytest.raises(ZeroDivisionError):
                load_judged(study, 1)
