"""Class names in a model's own metadata: read in their order, refused where they are none."""

from __future__ import annotations

import json
from pathlib import Path

import onnx
import pytest

import mivrat
from mivrat import cli
from mivrat.core.models.class_names import class_names_in, names_from
from tests.support.networks import classifier, loaded
from tests.support.sets import CLASSES, write_set


def with_metadata(path: Path, **entries: str) -> Path:
    model = onnx.load(path)
    del model.metadata_props[:]
    for key, value in entries.items():
        model.metadata_props.add(key=key, value=value)
    onnx.save(model, path)
    return path


@pytest.mark.parametrize(
    ("text", "names"),
    [
        ('["a", "b"]', ["a", "b"]),
        ('{"1": "b", "0": "a"}', ["a", "b"]),
        ("{0: 'a', 1: 'b'}", ["a", "b"]),
        ("('a', 'b')", ["a", "b"]),
        ("a, b", None),
        ("[]", None),
        ("[1, 2]", None),
        ('{"0": "a", "2": "b"}', None),
        ('{"x": "a"}', None),
        ("[" * 100_000, None),
        ("x" * 3_000_000, None),
        ("__import__('os')", None),
    ],
)
def test_names_are_read_from_lists_and_objects_and_nothing_else(text: str, names: list[str] | None) -> None:
    assert names_from(text) == names


def test_a_model_that_names_its_classes_needs_no_list(tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    model = loaded(classifier(seed=2), tmp_path / "m.onnx", 3)
    write_set(tmp_path / "set", 4, seed=2)
    with pytest.raises(mivrat.InputError, match="no class names in its metadata"):
        mivrat.evaluate(model.path, tmp_path / "set", recipe=model.recipe)
    with_metadata(model.path, Class_Names=json.dumps(CLASSES), note="x")
    assert class_names_in(model.path) == CLASSES
    run = mivrat.evaluate(model.path, tmp_path / "set", recipe=model.recipe)
    assert run.class_names == CLASSES
    assert run.top1 == mivrat.evaluate(model.path, tmp_path / "set", CLASSES, model.recipe).top1
    command = [
        "evaluate",
        "--model",
        str(model.path),
        "--images",
        str(tmp_path / "set"),
        "--out",
        str(tmp_path / "out"),
    ]
    assert cli._code_of(command) == 0
    assert json.loads((tmp_path / "out" / "metrics.json").read_text())["top_k"]["1"]["value"] == run.top1.value
    with_metadata(model.path, classes='["a", "a", "b"]')
    assert cli._code_of(command) == 2
    assert "more than once" in capsys.readouterr().err
    with_metadata(model.path, labels='["a", "b"]')
    with pytest.raises(mivrat.InputError):
        mivrat.evaluate(model.path, tmp_path / "set", recipe=model.recipe)
    (tmp_path / "answers.csv").write_text("path,predicted\nx.png,birch\n")
    with pytest.raises(mivrat.InputError, match="nothing tells the class names"):
        mivrat.evaluate(tmp_path / "answers.csv", tmp_path / "set")
