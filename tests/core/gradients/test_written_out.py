"""Quantised operators and recurrent layers written out: the same answers, and maps like those of the unquantised network."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import onnx
import pytest
from onnxruntime.quantization import CalibrationDataReader, QuantFormat, QuantType, quantize_dynamic, quantize_static

from mivrat.core.heatmaps.maps import HeatmapMaker, Target
from mivrat.core.heatmaps.shuffled import rank_correlation
from mivrat.core.models.engine import new_session
from tests.support.differences import Probe
from tests.support.networks import Net, classifier, loaded, random_batch


class _Samples(CalibrationDataReader):
    def __init__(self, batch: np.ndarray) -> None:
        self._left = [{"image": one[None]} for one in batch]

    def get_next(self) -> dict[str, np.ndarray] | None:
        return self._left.pop() if self._left else None


def plain(opset: int = 17) -> onnx.ModelProto:
    """A residual network of the operators that quantisers know."""
    net = Net(seed=9)
    x = net.add("Relu", net.add("Conv", "image", net.weight(6, 3, 3, 3), net.weight(6), pads=[1] * 4, name="first"))
    y = net.add("Conv", x, net.weight(6, 6, 3, 3, scale=0.2), net.weight(6), pads=[1] * 4)
    x = net.add("Relu", net.add("Add", x, y), name="joined")
    x = net.add("MaxPool", x, kernel_shape=[2, 2], strides=[2, 2])
    x = net.add("Relu", net.add("Conv", x, net.weight(8, 6, 3, 3, scale=0.2), net.weight(8), pads=[1] * 4), name="last")
    x = net.add("Flatten", net.add("GlobalAveragePool", x))
    net.add("Gemm", x, net.weight(3, 8, scale=1.0), net.weight(3), transB=1, name="scores")
    return net.model(["n", 3, 16, 16], {"scores": ["n", 3]}, opset=opset)


@pytest.mark.parametrize("kind", ["operators", "per channel", "16 bit", "dynamic"])
def test_maps_of_a_quantised_network_are_like_those_of_the_plain_one(kind: str, tmp_path: Path) -> None:
    source, target = tmp_path / "plain.onnx", tmp_path / "quantised.onnx"
    model = loaded(plain(), source, 3)
    batch = random_batch(model, 24)
    if kind == "dynamic":
        quantize_dynamic(source, target, weight_type=QuantType.QUInt8, op_types_to_quantize=["Conv", "MatMul", "Gemm"])
    else:
        wide = kind == "16 bit"
        quantize_static(
            source,
            target,
            _Samples(batch),
            quant_format=QuantFormat.QDQ if wide else QuantFormat.QOperator,
            per_channel=kind == "per channel",
            activation_type=QuantType.QUInt16 if wide else QuantType.QUInt8,
            weight_type=QuantType.QInt8,
        )
    quantised = HeatmapMaker(loaded(onnx.load(target), tmp_path / "q.onnx", 3))
    assert quantised.view.quantised
    whole = HeatmapMaker(model)
    answers = whole.model.scores(batch)
    np.testing.assert_allclose(quantised.model.scores(batch), answers, atol=0.1 * np.abs(answers).max())
    layer = quantised.layer(None)
    assert layer.grid == (8, 8)
    targets = [Target(1, 0)] * len(batch)
    found = quantised.maps(batch, targets, [layer], "signed")[0]
    expected = whole.maps(batch, targets, [whole.layer(None)], "signed")[0]
    alike = [rank_correlation(one, other) for one, other in zip(expected, found, strict=True)]
    assert np.median(alike) > 0.9, kind
    # What was written out gives what the engine's own operators give.
    proto, names = quantised.view.proto, [quantised.model.output.name]
    again = new_session(proto.SerializeToString()).run(names, {"image": batch})[0]
    np.testing.assert_allclose(again, quantised.model.scores(batch), atol=0.05 * np.abs(answers).max())


@pytest.mark.parametrize("direction", ["forward", "reverse", "bidirectional"])
@pytest.mark.parametrize("states", [False, True])
@pytest.mark.parametrize("kind", ["LSTM", "GRU", "GRU, reset after", "RNN"])
def test_a_recurrent_layer_is_written_out_step_by_step(kind: str, direction: str, states: bool, tmp_path: Path) -> None:
    """Lines of text: columns of a picture as steps of a recurrent layer; derivatives against finite differences."""
    op, gates = kind.partition(",")[0], {"LSTM": 4, "GRU": 3, "RNN": 1}[kind.partition(",")[0]]
    net, sides, hidden = Net(seed=2), 2 if direction == "bidirectional" else 1, 4
    x = net.add("Conv", "image", net.weight(5, 3, 3, 3), kernel_shape=[3, 3], strides=[2, 2], name="places")
    x = net.add("Tanh", x, name="turned")
    x = net.add("ReduceMean", x, axes=[2], keepdims=0)
    x = net.add("Transpose", x, perm=[2, 0, 1])
    shapes = (gates * hidden, 5), (gates * hidden, hidden), (2 * gates * hidden,)
    weights = [net.weight(sides, *shape) for shape in shapes]
    further: list[str] = []
    if states:
        flat = net.add("MatMul", net.add("ReduceMean", "image", axes=[2, 3], keepdims=0), net.weight(3, hidden))
        state = net.add("Unsqueeze", flat, net.weight(values=np.array([0])))
        state = net.add("Concat", *[state] * sides, axis=0)
        further = ["", *[state] * (2 if op == "LSTM" else 1)]
    about = {"linear_before_reset": 1} if "after" in kind else {}
    outputs = 3 if op == "LSTM" else 2
    out = net.add(op, x, *weights, *further, outputs=outputs, hidden_size=hidden, direction=direction, **about)
    x = net.add("Transpose", out, perm=[2, 0, 1, 3])
    x = net.add(
        "ReduceMean", net.add("Reshape", x, net.weight(values=np.array([0, 0, sides * hidden]))), axes=[1], keepdims=0
    )
    net.add("MatMul", x, net.weight(sides * hidden, 3, scale=2), name="scores")
    maker = HeatmapMaker(loaded(net.model(["n", 3, 9, 15], {"scores": ["n", 3]}), tmp_path / "m.onnx", 3))
    layer = maker.layer("turned")
    batch = random_batch(maker.model, 2)
    np.testing.assert_allclose(
        new_session(maker.view.proto.SerializeToString()).run(["scores"], {"image": batch})[0],
        maker.model.scores(batch),
        atol=1e-5,
    )
    ((_, g),) = maker.activations_and_gradients(batch, [Target(0), Target(2)], [layer])
    probe = Probe(maker.view.proto, "turned", "scores")
    feeds, weights_of = {"image": batch.astype(np.float64)}, np.array([[1.0, 0, 0], [0, 0, 1]])
    assert probe.worst_error(feeds, weights_of, g, directions=3, step=1e-7) < 1e-4
    assert maker.layer(None).tensor in ("places", "turned")


FORMS = {
    "lengths": ("LSTM", 17, True, False, {}),
    "lengths, GRU": ("GRU", 17, True, False, {}),
    "looks at its memory": ("LSTM", 17, False, True, {}),
    "keeps what it takes in": ("LSTM", 17, False, True, {"input_forget": 1}),
    "within bounds": ("LSTM", 17, False, False, {"clip": 0.3}),
    "within bounds, GRU": ("GRU", 17, True, False, {"clip": 0.3}),
    "other activations": (
        "LSTM",
        17,
        False,
        False,
        {
            "activations": ["HardSigmoid", "Softsign", "Relu"] * 2,
            "activation_alpha": [0.3, 0.25],
            "activation_beta": [0.45, 0.55],
        },
    ),
    "other activations, GRU": (
        "GRU",
        17,
        False,
        False,
        {
            "activations": ["Sigmoid", "LeakyRelu", "HardSigmoid", "Elu"],
            "activation_alpha": [0.2, 0.3, 0.7],
            "activation_beta": [0.4],
        },
    ),
    "affine": (
        "RNN",
        17,
        True,
        False,
        {"activations": ["Affine", "ScaledTanh"], "activation_alpha": [0.5, 0.8], "activation_beta": [0.1, 1.2]},
    ),
    "version 11": ("LSTM", 11, True, False, {}),
    "version 9": ("GRU", 9, False, False, {"linear_before_reset": 1}),
}


@pytest.mark.parametrize("name", FORMS)
def test_further_forms_of_recurrent_layers(name: str, tmp_path: Path) -> None:
    """Sequences of unequal length, gates that look at the memory, bounds, other activations, older versions: what is written out
    gives the engine's answers, and the derivatives are those of finite differences through it."""
    op, opset, lengths, looks, about = FORMS[name]
    net, hidden, gates = Net(seed=3), 4, {"LSTM": 4, "GRU": 3, "RNN": 1}[op]
    x = net.add("Conv", "image", net.weight(5, 3, 3, 3), kernel_shape=[3, 3], strides=[2, 2])
    x = net.add("Tanh", x, name="turned")
    x = net.add("Transpose", net.add("ReduceMean", x, axes=[2], keepdims=0), perm=[2, 0, 1])
    operands = [
        net.weight(2, gates * hidden, 5),
        net.weight(2, gates * hidden, hidden),
        net.weight(2, 2 * gates * hidden),
    ]
    operands.append(net.weight(values=np.array([7, 4], np.int32)) if lengths else "")
    operands += ["", "", net.weight(2, 3 * hidden)] if looks else []
    outputs = 3 if op == "LSTM" else 2
    out = net.add(op, x, *operands, outputs=outputs, hidden_size=hidden, direction="bidirectional", **about)
    ends = [net.add("Transpose", f"{out}_{k}", perm=[1, 0, 2]) for k in range(1, outputs)]
    moments = net.add("Reshape", net.add("Transpose", out, perm=[2, 0, 1, 3]), net.weight(values=np.array([0, -1])))
    flat = [net.add("Reshape", one, net.weight(values=np.array([0, -1]))) for one in ends]
    joined = net.add("Concat", moments, *flat, axis=1)
    net.add("MatMul", joined, net.weight(7 * 8 + 8 * len(ends), 3, scale=2), name="scores")
    made = net.model([2, 3, 9, 15], {"scores": [2, 3]}, opset=opset)
    maker = HeatmapMaker(loaded(made, tmp_path / "m.onnx", 3))
    assert not [node.op_type for node in maker.view.nodes if node.op_type == op]
    batch = random_batch(maker.model, 2)
    again = new_session(maker.view.proto.SerializeToString()).run(["scores"], {"image": batch})[0]
    np.testing.assert_allclose(again, maker.model.scores(batch), atol=1e-5)
    ((_, g),) = maker.activations_and_gradients(batch, [Target(0), Target(2)], [maker.layer("turned")])
    probe, weights = Probe(maker.view.proto, "turned", "scores"), np.array([[1.0, 0, 0], [0, 0, 1]])
    assert probe.worst_error({"image": batch.astype(np.float64)}, weights, g, directions=3, step=1e-7) < 1e-4


def test_classifiers_that_hold_no_such_operator_stay_as_they_are(tmp_path: Path) -> None:
    made = classifier()
    maker = HeatmapMaker(loaded(made, tmp_path / "m.onnx", 3))
    assert [node.op_type for node in maker.view.proto.graph.node] == [node.op_type for node in made.graph.node]
