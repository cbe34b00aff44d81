"""Models that never answer, want all memory or bring the engine down; and that nothing is collected of anybody."""

from __future__ import annotations

import os
import subprocess
import sys
import threading
import time
from pathlib import Path
from typing import Any

import numpy as np
import onnx
import pytest
from hypothesis import given
from hypothesis import strategies as st
from onnx import TensorProto, helper, numpy_helper
from PIL import Image

from mivrat.core.base.errors import InputError
from mivrat.core.base.job import Stopped, StopSignal, stopped_by
from mivrat.core.heatmaps.maps import HeatmapMaker, Target
from mivrat.core.models import trial
from mivrat.core.models.bounds import is_plainly_bounded
from mivrat.core.models.onnx_model import OnnxModel
from mivrat.core.pictures.image_sets import read_image_set
from mivrat.core.running.evaluation import Evaluation
from tests.support.networks import Net, classifier, recipe_for
from tests.support.sets import CLASSES, write_set

pytestmark = pytest.mark.trials


def with_more_behind(name: str) -> tuple[onnx.ModelProto, str]:
    """The classifier with its scores called so, and what they were called before: something else is to give those."""
    model = classifier()
    out = model.graph.output[0].name
    for node in model.graph.node:
        for i, made in enumerate(node.output):
            if made == out:
                node.output[i] = name
    return model, out


def looping(trips: int | None) -> onnx.ModelProto:
    """The classifier with a loop of so many rounds behind its scores; None: the brighter the image, the more."""
    model, out = with_more_behind("before")
    graph = model.graph
    body = helper.make_graph(
        [helper.make_node("Identity", ["on"], ["still_on"]), helper.make_node("Identity", ["x"], ["same"])],
        "round",
        [
            helper.make_tensor_value_info("i", TensorProto.INT64, []),
            helper.make_tensor_value_info("on", TensorProto.BOOL, []),
            helper.make_tensor_value_info("x", TensorProto.FLOAT, None),
        ],
        [
            helper.make_tensor_value_info("still_on", TensorProto.BOOL, []),
            helper.make_tensor_value_info("same", TensorProto.FLOAT, None),
        ],
    )
    if trips is None:
        graph.initializer.append(numpy_helper.from_array(np.array(1e12, np.float32), "many"))
        graph.node.append(helper.make_node("ReduceMax", [graph.input[0].name], ["brightest"], keepdims=0))
        graph.node.append(helper.make_node("Mul", ["brightest", "many"], ["rounds"]))
        graph.node.append(helper.make_node("Cast", ["rounds"], ["trips"], to=TensorProto.INT64))
    else:
        graph.initializer.append(numpy_helper.from_array(np.array(trips, np.int64), "trips"))
    graph.node.append(helper.make_node("Loop", ["trips", "", "before"], [out], body=body))
    return model


def huge() -> onnx.ModelProto:
    """The classifier with a constant of 60 000 x 60 000 numbers that it adds to its scores."""
    model, out = with_more_behind("before")
    graph = model.graph
    graph.initializer.append(numpy_helper.from_array(np.array([60_000, 60_000], np.int64), "size"))
    graph.node.append(helper.make_node("ConstantOfShape", ["size"], ["wide"]))
    graph.node.append(helper.make_node("ReduceMax", ["wide"], ["zero"], keepdims=0))
    graph.node.append(helper.make_node("Add", ["before", "zero"], [out]))
    return model


def written(model: onnx.ModelProto, path: Path) -> Path:
    path.write_bytes(model.SerializeToString())
    return path


def test_a_plain_network_needs_no_trial_and_a_tried_one_is_remembered(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    recipe, begun = recipe_for(classifier()), []
    begin = subprocess.Popen
    monkeypatch.setattr(trial.subprocess, "Popen", lambda *a, **o: begun.append(1) or begin(*a, **o))
    HeatmapMaker(OnnxModel(written(classifier(), tmp_path / "plain.onnx"), recipe, 3))
    assert not begun
    path = written(looping(3), tmp_path / "loop.onnx")
    for _ in range(2):
        model = OnnxModel(path, recipe, 3)
    assert len(begun) == 1
    plain = OnnxModel(tmp_path / "plain.onnx", recipe, 3)
    batch = np.random.default_rng(0).normal(size=model.sample_shape(2)).astype(np.float32)
    assert (model.scores(batch) == plain.scores(batch)).all()
    written(looping(4), path)  # another content under the same name is tried anew
    OnnxModel(path, recipe, 3)
    assert len(begun) == 2


@pytest.mark.parametrize(
    ("model", "what"),
    [(looping(1 << 62), "does not answer within 3 s"), (huge(), "wants more than .* GB of memory")],
)
def test_what_never_ends_or_wants_everything_is_refused(
    model: onnx.ModelProto, what: str, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(trial, "LIMIT_SECONDS", 3.0)
    path, began = written(model, tmp_path / "m.onnx"), time.monotonic()
    with pytest.raises(InputError, match=what):
        OnnxModel(path, recipe_for(classifier()), 3)
    assert time.monotonic() - began < 20
    with pytest.raises(InputError, match=what):  # what failed is not remembered as if it had passed
        OnnxModel(path, recipe_for(classifier()), 3)


def test_loading_can_be_stopped(tmp_path: Path) -> None:
    stop = StopSignal()
    threading.Timer(0.7, stop.stop).start()
    began = time.monotonic()
    with stopped_by(stop), pytest.raises(Stopped):
        OnnxModel(written(looping(1 << 62), tmp_path / "m.onnx"), recipe_for(classifier()), 3)
    assert time.monotonic() - began < 10


def test_answers_and_maps_asked_for_after_a_stop_are_stopped_not_failed(tmp_path: Path) -> None:
    model = OnnxModel(written(classifier(), tmp_path / "m.onnx"), recipe_for(classifier()), 3)
    maker, stop = HeatmapMaker(model), StopSignal()
    batch = np.zeros(model.sample_shape(2), np.float32)
    assert len(model.scores(batch)) == 2
    stop.stop()
    with stopped_by(stop):
        with pytest.raises(Stopped):
            model.scores(batch)
        with pytest.raises(Stopped):
            maker.maps(batch, [Target(0)] * 2, [maker.layer(None)])
        with pytest.raises(Stopped):
            OnnxModel(tmp_path / "m.onnx", recipe_for(classifier()), 3)
    (heat,) = maker.maps(batch, [Target(0)] * 2, [maker.layer(None)])
    assert len(heat) == 2  # nothing is left of the stop


def test_a_process_that_is_killed_is_told_of(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(trial, "LIMIT_BYTES", 30_000_000)  # too little for the engine itself
    monkeypatch.setattr(trial, "spare_memory", lambda: 0)
    with pytest.raises(InputError, match=r"brings the engine down, or takes more memory|wants more than"):
        OnnxModel(written(looping(5), tmp_path / "m.onnx"), recipe_for(classifier()), 3)


def test_a_run_that_hangs_at_an_image_can_be_stopped(tmp_path: Path) -> None:
    """The made-up batch is black and passes; the first bright image would go round for years."""
    root = write_set(tmp_path / "set", 2)
    Image.fromarray(np.zeros((16, 16, 3), np.uint8)).save(root / "alder" / "0.png")  # the first one
    model = OnnxModel(written(looping(None), tmp_path / "m.onnx"), recipe_for(classifier()), 3)
    evaluation, stop = Evaluation(model, read_image_set(root, CLASSES)), StopSignal()
    threading.Timer(0.5, stop.stop).start()
    began = time.monotonic()
    with stopped_by(stop):
        list(evaluation.run(batch_size=1))
    assert time.monotonic() - began < 10
    assert 0 < len(evaluation.answers.pending) < 6


def _with_input(model: onnx.ModelProto, dims: list[Any], kind: int = TensorProto.FLOAT) -> onnx.ModelProto:
    model.graph.input[0].CopyFrom(helper.make_tensor_value_info(model.graph.input[0].name, kind, dims))
    return model


def _sequence() -> onnx.ModelProto:
    model = classifier()
    out = model.graph.output[0]
    model.graph.node.append(helper.make_node("SequenceConstruct", [out.name], ["several"]))
    kind = helper.make_sequence_type_proto(helper.make_tensor_type_proto(TensorProto.FLOAT, None))
    out.CopyFrom(helper.make_value_info("several", kind))
    return model


def _weights_elsewhere(place: str, length: str = "4") -> onnx.ModelProto:
    model = classifier()
    tensor = model.graph.initializer[0]
    tensor.data_location = TensorProto.EXTERNAL
    tensor.ClearField("raw_data")
    for key, text in (("location", place), ("offset", "0"), ("length", length)):
        tensor.external_data.add(key=key, value=text)
    return model


@pytest.mark.parametrize(
    ("model", "what"),
    [
        (_with_input(classifier(), ["n", 3, 12, 12], 99), "takes something else than numbers"),
        (_with_input(classifier(), ["n", 3, 99_999, 12]), "longer than 16384"),
        (_with_input(classifier(), [900_000, 3, 12, 12]), "more than Mivrat gives"),
        (_sequence(), "no output gives one score per class"),
        (_weights_elsewhere("a\0b"), "outside its own folder"),
        (_weights_elsewhere("w", "x"), "weights cannot be read"),
        (_weights_elsewhere("w", "9" * 30), "weights cannot be read"),
    ],
)
def test_models_that_are_not_what_they_should_be(model: onnx.ModelProto, what: str, tmp_path: Path) -> None:
    (tmp_path / "w").write_bytes(b"\0" * 8)
    with pytest.raises(InputError, match=what):
        OnnxModel(written(model, tmp_path / "m.onnx"), None, 3)


@given(st.integers(1, 40), st.integers(1, 5), st.sampled_from([None, "Loop", "NonZero"]))
def test_sizes_are_counted_as_the_engine_makes_them(side: int, filters: int, odd: str | None) -> None:
    """Against the sizes by hand: a convolution makes ``filters`` maps of the picture's size."""
    net = Net()
    made = net.add("Conv", "image", net.weight(filters, 3, 3, 3), pads=[1, 1, 1, 1])
    if odd is not None:
        made = net.add(odd, made)
    net.add("ReduceMean", made, axes=[2, 3], keepdims=0, name="scores")
    model = net.model(["n", 3, side, side], {"scores": ["n", filters]})
    assert is_plainly_bounded(model, "image", (2, 3, side, side)) == (odd is None)
    large = 200_000_000 // (2 * filters) + 1
    assert not is_plainly_bounded(model, "image", (2, 3, 1, large))


def test_the_engine_collects_nothing(tmp_path: Path) -> None:
    """No id of the machine, no record of what was done: nothing is there beside our own log."""
    path = written(classifier(), tmp_path / "m.onnx")
    home = tmp_path / "home"
    home.mkdir()
    plain = {key: value for key, value in os.environ.items() if not key.startswith(("XDG_", "ORT_"))}
    run = [sys.executable, "-m", "mivrat", "layers", str(path)]
    done = subprocess.run(run, env={**plain, "HOME": str(home)}, capture_output=True, text=True, check=False)
    assert done.returncode == 0, done.stderr
    found = sorted(str(one.relative_to(home)) for one in home.rglob("*") if one.is_file())
    assert found == [".local/state/mivrat/log/mivrat.log"]
