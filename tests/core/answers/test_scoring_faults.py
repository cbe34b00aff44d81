"""A mistake of ours is never taken for a picture's or a study's: it is told as what it is, and nothing is written."""

from __future__ import annotations

import json
from pathlib import Path

import pytest

from mivrat import cli
from mivrat.core.answers.scoring import score_images
from mivrat.core.base.errors import InputError, arose_in
from mivrat.core.models.engine import EngineFault, new_session, run_session
from mivrat.core.pictures import prepare
from mivrat.core.pictures.decode import UnreadablePicture, picture_faults
from mivrat.core.pictures.image_sets import read_image_set
from mivrat.core.study.file import Study
from mivrat.core.study.image_sets import add_image_set, load_image_set
from mivrat.core.study.soundness import json_of, reading
from tests.support.networks import classifier, loaded
from tests.support.sets import CLASSES, write_classes, write_set


@pytest.mark.parametrize("mistake", [AttributeError("no 'shape'"), TypeError("not a Recipe"), ValueError("axis 3")])
def test_a_mistake_while_pictures_are_prepared_ends_with_70_and_writes_nothing(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch, capsys: pytest.CaptureFixture[str], mistake: Exception
) -> None:
    def fail(*_: object) -> None:
        raise mistake

    loaded(classifier(), tmp_path / "m.onnx", 3)
    monkeypatch.setattr(prepare, "_fitted", fail)
    words = [
        *("evaluate", "--model", tmp_path / "m.onnx", "--images", write_set(tmp_path / "set")),
        *("--classes", write_classes(tmp_path / "c.txt"), "--out", tmp_path / "out"),
    ]
    assert cli._code_of(list(map(str, words))) == 70
    said = capsys.readouterr().err.strip().splitlines()[-1]
    assert f"something went wrong inside Mivrat ({type(mistake).__name__}: {mistake})" in said
    assert not list((tmp_path / "out").glob("*"))


def test_what_the_imaging_library_stumbles_over_is_the_pictures_fault(tmp_path: Path) -> None:
    write_set(tmp_path / "set")
    broken = tmp_path / "set" / "birch" / "0.png"
    broken.write_bytes(broken.read_bytes()[:60])
    model = loaded(classifier(), tmp_path / "m.onnx", 3)
    files = [broken, tmp_path / "set" / "birch" / "1.png"]
    (batch,) = score_images(files, [0, 1], model)
    assert batch.scored.tolist() == [1]
    assert list(batch.unreadable) == [0]
    with pytest.raises(UnreadablePicture, match="enough memory"), picture_faults():
        raise MemoryError


def test_a_failing_engine_is_told_from_a_mistake_in_how_it_is_called(tmp_path: Path) -> None:
    model = loaded(classifier(), tmp_path / "m.onnx", 3)
    session = new_session((tmp_path / "m.onnx").read_bytes())
    with pytest.raises(EngineFault):
        run_session(session, [model.output.name], {})
    with pytest.raises(TypeError) as ours:
        run_session(session, [model.output.name], None, 1)  # type: ignore[call-arg, arg-type]
    assert not arose_in(ours.value, "onnxruntime")


def test_only_what_values_can_raise_says_that_a_study_is_damaged(tmp_path: Path) -> None:
    with Study.create(tmp_path / "s.mivrat", CLASSES) as study:

        @reading
        def mistaken(study: Study) -> None:
            raise TypeError("ours")

        @reading
        def misread(study: Study) -> None:
            json_of("[1, null]", list[int])

        with pytest.raises(TypeError, match="ours"):
            mistaken(study)
        with pytest.raises(InputError, match="damaged"):
            misread(study)


@pytest.mark.parametrize("value", [5, [1], {"site": 3}, {"site": None}, None, "x"])
def test_columns_of_another_kind_are_a_damaged_study(tmp_path: Path, value: object) -> None:
    with Study.create(tmp_path / "s.mivrat", CLASSES) as study:
        set_id = add_image_set(study, read_image_set(write_set(tmp_path / "set"), CLASSES))
        study.db.execute("UPDATE image SET columns = ? WHERE position = 1", (json.dumps(value),))
        with pytest.raises(InputError, match="damaged"):
            load_image_set(study, set_id)
