"""Models in the shapes exporters give them: what loads scores alike, what cannot be judged says why."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import Any

import numpy as np
import onnx
import pytest
from onnx import TensorProto, helper

from mivrat.core.base.errors import InputError
from mivrat.core.gradients.graph import GraphView
from mivrat.core.heatmaps.maps import HeatmapMaker, Target
from mivrat.core.models.bounds import is_plainly_bounded, values_stay_small
from mivrat.core.models.onnx_model import OnnxModel
from mivrat.core.models.scores import as_rows, guess_kind, ranking_scores, to_probabilities
from mivrat.core.pictures.recipe import Recipe
from tests.support.networks import Net, classifier, loaded, random_batch, recipe_for, saved


@pytest.mark.parametrize("as_constants", [False, True])
@pytest.mark.parametrize(
    ("order", "channels", "dtype", "batch", "opset"),
    [
        ("NCHW", 3, "float32", "n", 9),
        ("NHWC", 3, "float32", 1, 13),
        ("NCHW", 1, "float16", 4, 17),
        ("NHWC", 3, "uint8", "n", 21),
        ("NHWC", 1, "float32", 2, 11),
    ],
)
def test_forms_of_input_score_one_by_one_as_in_batches(
    tmp_path: Path, order: Any, channels: int, dtype: str, batch: Any, opset: int, as_constants: bool
) -> None:
    made = classifier(order=order, channels=channels, dtype=dtype, batch=batch, opset=opset, as_constants=as_constants)
    model = loaded(made, tmp_path / "m.onnx", 3)
    images = random_batch(model, 5)
    together = model.scores(images)
    assert together.shape == (5, 3)
    one_by_one = np.concatenate([model.scores(images[i : i + 1]) for i in range(5)])
    np.testing.assert_allclose(together, one_by_one, atol=2e-5)
    assert np.ptp(together, axis=0).min() > 0 or dtype == "uint8"
    assert model.batch_limit == (None if batch == "n" else batch)


def test_weights_listed_among_the_inputs(tmp_path: Path) -> None:
    made = classifier()
    for tensor in made.graph.initializer:
        made.graph.input.append(helper.make_tensor_value_info(tensor.name, tensor.data_type, list(tensor.dims)))
    assert loaded(made, tmp_path / "m.onnx", 3).class_count == 3


def test_a_batch_said_to_be_free_that_is_not(tmp_path: Path) -> None:
    """A reshape with the batch written in: one image at a time is found out and used."""
    net = Net()
    x = net.add("Conv", "image", net.weight(2, 3, 3, 3), kernel_shape=[3, 3])
    x = net.add("Reshape", net.add("GlobalAveragePool", x), net.weight(values=np.array([1, 2])))
    net.add("Gemm", x, net.weight(2, 3), name="scores")
    model = loaded(net.model(["n", 3, 8, 8], {"scores": ["n", 3]}), tmp_path / "m.onnx", 3)
    assert model.batch_limit == 1
    assert model.scores(random_batch(model, 3)).shape == (3, 3)


@pytest.mark.parametrize(
    ("head", "classes", "kind"),
    [
        ("logits", 3, "logits"),
        ("probabilities", 3, "probabilities"),
        ("softmax-4d", 3, "probabilities"),
        ("sigmoid", 2, "sigmoid"),
    ],
)
def test_kinds_of_scores_are_told_apart(tmp_path: Path, head: Any, classes: int, kind: str) -> None:
    model = loaded(classifier(head=head), tmp_path / "m.onnx", classes)
    rows = model.scores(random_batch(model, 4))
    assert guess_kind(rows) == kind
    p = to_probabilities(rows, kind)  # type: ignore[arg-type]
    assert p.shape == (4, classes)
    np.testing.assert_allclose(p.sum(axis=1), 1, atol=1e-5)
    assert (p.argmax(axis=1) == ranking_scores(rows, kind).argmax(axis=1)).all()  # type: ignore[arg-type]


def test_scores_to_probabilities_by_hand() -> None:
    np.testing.assert_allclose(
        to_probabilities(np.array([[1000.0, 1000.0 + np.log(3)]], np.float32), "logits"), [[0.25, 0.75]], atol=1e-4
    )
    np.testing.assert_allclose(
        to_probabilities(np.array([[0.2], [0.9]], np.float32), "sigmoid"), [[0.8, 0.2], [0.1, 0.9]], atol=1e-6
    )
    np.testing.assert_allclose(to_probabilities(np.array([[np.log(4)]], np.float32), "logits"), [[0.2, 0.8]], atol=1e-6)
    failed = to_probabilities(np.array([[1.0, np.nan], [0.0, 0.0]], np.float32), "logits")
    assert np.isnan(failed[0]).all()
    assert failed[1].tolist() == [0.5, 0.5]
    assert guess_kind(np.array([[np.inf, 0.0], [0.4, 0.6005]], np.float32)) == "probabilities"
    assert guess_kind(np.array([[0.4, 0.61]], np.float32)) == "logits"
    assert as_rows(np.zeros((2, 1, 1, 5))).shape == (2, 5)


def test_one_of_several_outputs(tmp_path: Path) -> None:
    made = classifier(extra_output=True)
    assert loaded(made, tmp_path / "m.onnx", 3).output.name == "scores"
    twice = classifier(head="probabilities")
    twice.graph.output.insert(0, helper.make_tensor_value_info("raw", TensorProto.FLOAT, ["n", 3]))
    model = loaded(twice, tmp_path / "n.onnx", 3)
    assert model.output.name == "raw"
    assert "several outputs fit" in model.remarks[0]
    chosen = recipe_for(twice).model_copy(
        update={"tensor": recipe_for(twice).tensor.model_copy(update={"output": "scores"})}
    )
    assert OnnxModel(tmp_path / "n.onnx", chosen, 3).output.name == "scores"


def broken(kind: str) -> onnx.ModelProto:
    net = Net()
    if kind == "text":
        net.add("Gather", net.weight(10, 3), "image", name="scores")
        made = net.model(["n", 5], {"scores": ["n", 5, 3]})
        made.graph.input[0].type.tensor_type.elem_type = TensorProto.INT64
        return made
    if kind == "two inputs":
        made = classifier()
        made.graph.input.append(helper.make_tensor_value_info("mask", TensorProto.FLOAT, ["n", 1]))
        made.graph.node.append(helper.make_node("Identity", ["mask"], ["unused"]))
        return made
    if kind == "pixels out":
        net.add("Relu", "image", name="scores")
        return net.model(["n", 3, 8, 8], {"scores": ["n", 3, 8, 8]})
    return classifier(channels=5)


@pytest.mark.parametrize(
    ("kind", "what"),
    [
        ("text", "not an image classifier.*2 axes"),
        ("two inputs", "2 inputs.*mask"),
        ("pixels out", "no output gives one score"),
        ("five channels", "neither 1 nor 3"),
    ],
)
def test_what_cannot_be_judged(tmp_path: Path, kind: str, what: str) -> None:
    with pytest.raises(InputError, match=what):
        OnnxModel(saved(broken(kind), tmp_path / "m.onnx"))


def test_both_sides_of_a_mismatch_are_named(tmp_path: Path) -> None:
    path = saved(classifier(classes=7), tmp_path / "m.onnx")
    with pytest.raises(InputError, match=r"'scores' \[\?, 7\].*names 3 classes"):
        OnnxModel(path, None, 3)
    with pytest.raises(InputError, match=r"takes float32, the recipe makes uint8"):
        OnnxModel(path, Recipe.model_validate({"tensor": {"dtype": "uint8"}}), 7)
    with pytest.raises(InputError, match=r"\[\?, 3, 12, 12\].*\[n, 3, 20, 20\]"):
        OnnxModel(path, Recipe.model_validate({"crop": {"size": [20, 20]}}), 7)
    (tmp_path / "not.onnx").write_bytes(b"\x08\x01garbage")
    with pytest.raises(InputError, match="not an ONNX model"):
        OnnxModel(tmp_path / "not.onnx")


def test_weights_outside_the_models_folder_are_refused(tmp_path: Path) -> None:
    made = classifier()
    folder = tmp_path / "inner"
    folder.mkdir()
    onnx.save(made, folder / "m.onnx", save_as_external_data=True, location="w.bin", size_threshold=0)
    assert OnnxModel(folder / "m.onnx", None, 3).class_count == 3
    moved = onnx.load(folder / "m.onnx", load_external_data=False)
    for tensor in moved.graph.initializer:
        for entry in tensor.external_data:
            if entry.key == "location":
                entry.value = "../w.bin"
    (folder / "w.bin").rename(tmp_path / "w.bin")
    (folder / "m.onnx").write_bytes(moved.SerializeToString())
    with pytest.raises(InputError, match="outside its own folder"):
        OnnxModel(folder / "m.onnx", None, 3)


def doubled(times: int) -> onnx.ModelProto:
    """A constant of 64 numbers beside a classifier, joined to itself over and over; its first number stands before the scores."""
    model = classifier()
    graph, out = model.graph, model.graph.output[0].name
    graph.node[-1].output[0] = "before"
    graph.initializer.append(onnx.numpy_helper.from_array(np.zeros(64, np.int64), "d0"))
    for k in range(times):
        graph.node.append(onnx.helper.make_node("Concat", [f"d{k}", f"d{k}"], [f"d{k + 1}"], axis=0))
    graph.initializer.append(onnx.numpy_helper.from_array(np.array(0, np.int64), "first"))
    graph.node.append(onnx.helper.make_node("Gather", [f"d{times}", "first"], ["zero"]))
    graph.node.append(onnx.helper.make_node("Cast", ["zero"], ["none"], to=1))
    graph.node.append(onnx.helper.make_node("Add", ["before", "none"], [out]))
    return model


def test_a_constant_joined_to_itself_is_not_worked_out_unasked() -> None:
    """Neither what tells whether a graph is harmless nor what follows it may double a constant forty times."""
    assert is_plainly_bounded(doubled(3), "image", (2, 3, 12, 12))
    assert values_stay_small(doubled(3).graph)
    assert not is_plainly_bounded(doubled(40), "image", (2, 3, 12, 12))
    assert not values_stay_small(doubled(40).graph)


def test_residual_sums_with_small_biases_are_plain(tmp_path: Path) -> None:
    """What an image has a part in is not worked out of constants, however often it is added to itself."""
    net = Net(seed=1)
    x = net.add("Conv", "image", net.weight(4, 3, 3, 3), pads=[1] * 4)
    for _ in range(40):
        x = net.add("Add", x, net.add("Tanh", net.add("Add", x, net.weight(4, 1, 1))))
    net.add("MatMul", net.add("Flatten", net.add("GlobalAveragePool", x)), net.weight(4, 3), name="scores")
    model = net.model(["n", 3, 12, 12], {"scores": ["n", 3]})
    assert values_stay_small(model.graph)
    assert is_plainly_bounded(model, "image", (2, 3, 12, 12))


def _without_data(model: onnx.ModelProto, path: Path) -> None:
    model.graph.initializer.append(onnx.TensorProto(name="none", data_type=onnx.TensorProto.FLOAT, dims=[5, 5]))


def _text_that_is_none(model: onnx.ModelProto, path: Path) -> None:
    text = onnx.helper.make_tensor("text", onnx.TensorProto.STRING, [1], [b"\xff\xfe"])
    model.graph.initializer.append(text)
    model.graph.node.insert(0, onnx.helper.make_node("Constant", [], ["said"], value=text))
    model.graph.node.insert(1, onnx.helper.make_node("Identity", ["text"], ["again"]))


def _longer_than_it_says(model: onnx.ModelProto, path: Path) -> None:
    weight = model.graph.initializer[0]
    (path.parent / "weights.bin").write_bytes(weight.raw_data + bytes(400))
    weight.ClearField("raw_data")
    weight.data_location = onnx.TensorProto.EXTERNAL
    place = weight.external_data.add()
    place.key, place.value = "location", "weights.bin"


def _out_of_order(model: onnx.ModelProto, path: Path) -> None:
    nodes = [onnx.NodeProto.FromString(node.SerializeToString()) for node in model.graph.node]
    del model.graph.node[:]
    model.graph.node.extend(reversed(nodes))


@pytest.mark.parametrize("spoil", [_without_data, _text_that_is_none, _longer_than_it_says, _out_of_order])
def test_what_the_engine_reads_over_is_read_over_by_maps_too(
    spoil: Callable[[onnx.ModelProto, Path], None], tmp_path: Path
) -> None:
    plain, model = (HeatmapMaker(loaded(classifier(), tmp_path / "plain.onnx", 3)), classifier())
    spoil(model, tmp_path / "m.onnx")
    maker = HeatmapMaker(loaded(model, tmp_path / "m.onnx", 3, checked=False))
    batch = random_batch(plain.model, 2)
    targets = [Target(0), Target(1)]
    found, expected = (one.maps(batch, targets, [one.layer(None)], "signed")[0] for one in (maker, plain))
    np.testing.assert_allclose(found, expected, atol=1e-6)


def test_a_plain_chain_is_followed_without_being_run(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    net = Net(seed=1)
    x = net.add("Conv", "image", net.weight(4, 3, 3, 3))
    for _ in range(300):
        x = net.add("Sigmoid", x)
    net.add("MatMul", net.add("Flatten", net.add("GlobalAveragePool", x)), net.weight(4, 3), name="scores")
    model = loaded(net.model(["n", 3, 200, 200], {"scores": ["n", 3]}), tmp_path / "m.onnx", 3)
    monkeypatch.setattr(GraphView, "_by_running", lambda *_: pytest.fail("it was run"))
    assert len(HeatmapMaker(model).layers) == 304
