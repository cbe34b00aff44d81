"""Maps by hand, on whole networks, over pictures in their place, and layers that cannot be used."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import numpy as np
import onnx
import pytest
from onnx import TensorProto

from mivrat.core.base.errors import InputError
from mivrat.core.gradients.emit import Emitter
from mivrat.core.gradients.filters import as_pictures, first_filters
from mivrat.core.gradients.layers import Layer, choose_layer, stages
from mivrat.core.heatmaps.emitted import convolution_of, emit_map
from mivrat.core.heatmaps.maps import HeatmapMaker, Target, target_from_text
from mivrat.core.heatmaps.overlay import (
    edge_drawing,
    heat_colours,
    normalised,
    on_picture,
    overlay,
    place_on_map,
)
from mivrat.core.models.engine import new_session
from mivrat.core.models.onnx_model import OnnxModel
from mivrat.core.pictures.classes import ClassMatcher
from mivrat.core.pictures.prepare import geometry
from mivrat.core.pictures.recipe import Crop, Recipe, Resize
from tests.support.differences import Probe
from tests.support.networks import Net, classifier, loaded, random_batch


@pytest.mark.parametrize("opset", [9, 13, 18])
@pytest.mark.parametrize("channel_axis", [1, 3])
@pytest.mark.parametrize(("method", "expected"), [("gradient", [0, 1]), ("elementwise", [0, 5]), ("signed", [-9, 5])])
def test_combination_by_hand(opset: int, channel_axis: int, method: Any, expected: list[int]) -> None:
    """Two channels over two places, A = (1 2 | 3 1), G = (0 2 | -3 1): the mean gradients are 1 and -1."""
    a = np.array([[[[1, 2]], [[3, 1]]]], np.float32)
    g = np.array([[[[0, 2]], [[-3, 1]]]], np.float32)
    if channel_axis == 3:
        a, g = a.transpose(0, 2, 3, 1), g.transpose(0, 2, 3, 1)
    emit = Emitter(opset)
    layer = Layer("a", "Conv", a.shape[1:], True, None, True, channel_axis)
    out = emit_map(emit.value("a"), emit.value("g"), method, layer)
    ports = [onnx.helper.make_tensor_value_info(n, TensorProto.FLOAT, a.shape) for n in "ag"]
    graph = onnx.helper.make_graph(emit.nodes, "m", ports, [onnx.ValueInfoProto(name=out.name)], emit.constants)
    made = onnx.helper.make_model(graph, opset_imports=[onnx.helper.make_opsetid("", opset)], ir_version=8)
    found = new_session(made.SerializeToString()).run(None, {"a": a, "g": g})[0]
    np.testing.assert_allclose(found, [[expected]])


def test_pooling_and_one_linear_layer_give_the_class_activation_map(tmp_path: Path) -> None:
    """Behind global average pooling the weights are the linear layer's, divided by the number of places (Zhou 2016)."""
    made = classifier(seed=3)
    maker = HeatmapMaker(loaded(made, tmp_path / "m.onnx", 3))
    layer = maker.layer(None)
    assert (layer.tensor, layer.grid) == ("features", (6, 6))
    batch = random_batch(maker.model, 4)
    ((a, _),) = maker.activations_and_gradients(batch, [Target(1)] * 4, [layer])
    linear = next(onnx.numpy_helper.to_array(t) for t in made.graph.initializer if tuple(t.dims) == (8, 3))
    expected = np.maximum(0, np.einsum("c,nchw->nhw", linear[:, 1] / 36, a))
    np.testing.assert_allclose(maker.maps(batch, [Target(1)] * 4, [layer])[0], expected, rtol=1e-5, atol=1e-7)
    assert expected.max() > 0


HEADS = (
    "rounded",
    "softmax, rounded",
    "rounded, softmax",
    "rounded, softmax, rounded",
    "sigmoids",
    "rounded, sigmoids",
)


@pytest.mark.parametrize("head", HEADS)
@pytest.mark.parametrize("step", [1e-4, 0.004, 0.05])
def test_the_target_is_the_score_before_its_last_rounding_and_before_sigmoids(
    head: str, step: float, tmp_path: Path
) -> None:
    """Scores far beyond the range of their quantiser, beyond it, and within: the map is that of the plain scores."""

    def made(with_head: str) -> HeatmapMaker:
        net = Net(seed=3)
        x = net.add("Relu", net.add("Conv", "image", net.weight(6, 3, 3, 3), kernel_shape=[3, 3], name="stem"))
        x = net.add("Gemm", net.add("Flatten", net.add("GlobalAveragePool", x), axis=1), net.weight(6, 3, scale=2))
        for part in with_head.split(", ") if with_head else ():
            if part == "rounded":
                zero, scale = net.weight(values=np.uint8(128)), net.weight(values=np.float32(step))
                x = net.add("DequantizeLinear", net.add("QuantizeLinear", x, scale, zero), scale, zero)
            else:
                x = net.add("Softmax", x, axis=1) if part == "softmax" else net.add("Sigmoid", x)
        net.add("Identity", x, name="scores")
        return HeatmapMaker(loaded(net.model(["n", 3, 9, 9], {"scores": ["n", 3]}), tmp_path / f"{with_head}.onnx"))

    whole, headed = made(""), made(head)
    batch = random_batch(whole.model, 4)
    for target in (Target(1), Target(2, 0)):
        expected, found = (one.maps(batch, [target] * 4, [one.layer("stem")], "signed")[0] for one in (whole, headed))
        np.testing.assert_allclose(found, expected, atol=1e-6 * np.abs(expected).max())
        assert np.abs(found).max() > 0


@pytest.mark.parametrize(
    ("op", "reason"),
    [
        ("Cast to int64", "Cast to whole numbers"),
        ("Cast to uint8", "Cast to whole numbers"),
        ("Dropout", "Dropout in training mode"),
    ],
)
def test_what_would_silently_be_wrong_is_refused_with_its_reason(op: str, reason: str, tmp_path: Path) -> None:
    net = Net(seed=3)
    x = net.add("Conv", "image", net.weight(4, 3, 3, 3), kernel_shape=[3, 3], name="stem")
    if op == "Dropout":
        x = net.add("Dropout", x, net.weight(values=np.float32(0.5)), net.weight(values=np.array(True)))
    else:
        kind = onnx.TensorProto.INT64 if op.endswith("int64") else onnx.TensorProto.UINT8
        large = net.add("Abs", net.add("Mul", x, net.weight(values=np.float32(20))))
        x = net.add("Cast", net.add("Cast", large, to=kind), to=onnx.TensorProto.FLOAT)
    behind = net.add("Relu", x, name="behind")
    net.add("Gemm", net.add("Flatten", net.add("GlobalAveragePool", behind), axis=1), net.weight(4, 3), name="scores")
    maker = HeatmapMaker(loaded(net.model(["n", 3, 9, 9], {"scores": ["n", 3]}), tmp_path / "m.onnx"))
    stem = next(one for one in maker.layers if one.tensor == "stem")
    assert not stem.heatmap
    assert reason in (stem.reason or "")
    assert maker.layer(None).tensor == "behind"


def test_the_map_of_a_convolution_of_points_from_one_channel(tmp_path: Path) -> None:
    """Its weighted sum is taken from its input: as by the definition."""
    net = Net(seed=3)
    one = net.add("ReduceMean", "image", axes=[1], keepdims=1)
    x = net.add("Conv", one, net.weight(5, 1, 1, 1), net.weight(5), kernel_shape=[1, 1], name="points")
    pooled = net.add("GlobalAveragePool", net.add("Relu", x))
    net.add("Gemm", net.add("Flatten", pooled, axis=1), net.weight(5, 3, scale=2), name="scores")
    maker = HeatmapMaker(loaded(net.model(["n", 3, 6, 7], {"scores": ["n", 3]}), tmp_path / "m.onnx"))
    layer, batch = maker.layer("points"), random_batch(maker.model, 3)
    ((a, g),) = maker.activations_and_gradients(batch, [Target(1)] * 3, [layer])
    expected = np.maximum(0, np.einsum("nc,nchw->nhw", g.mean(axis=(2, 3)), a))
    np.testing.assert_allclose(maker.maps(batch, [Target(1)] * 3, [layer])[0], expected, rtol=1e-4, atol=1e-6)


@pytest.mark.parametrize(("left", "zero"), [(0.0, True), (1e-6, True), (1e-3, False)])
@pytest.mark.parametrize("order", ["NCHW", "NHWC"])
def test_a_map_of_which_rounding_alone_is_left_is_zero(left: float, zero: bool, order: str, tmp_path: Path) -> None:
    """Two channels that are the same count against each other, but for a share of ``left``."""
    net, first = Net(seed=3), order == "NCHW"
    x = net.add("Conv", "image", net.weight(1, 3, 3, 3), net.weight(values=np.float32([1])), kernel_shape=[3, 3])
    twice = net.add("Concat", x, x, axis=1)
    layer = net.add("Relu", twice if first else net.add("Transpose", twice, perm=[0, 2, 3, 1]), name="layer")
    pooled = net.add("ReduceMean", layer, axes=[2, 3] if first else [1, 2], keepdims=0)
    weights = np.array([[1, 0.5], [-1 + left, 0.5]], np.float32)
    net.add("MatMul", pooled, net.weight(values=weights), name="scores")
    maker = HeatmapMaker(loaded(net.model(["n", 3, 9, 9], {"scores": ["n", 2]}), tmp_path / "m.onnx"))
    batch = random_batch(maker.model, 3)
    wanted = maker.layer("layer")
    ((a, g),) = maker.activations_and_gradients(batch, [Target(0)] * 3, [wanted])
    found = maker.maps(batch, [Target(0)] * 3, [wanted], "signed")[0]
    assert (np.abs(found).max() == 0) == zero
    if not zero:
        np.testing.assert_allclose(found, (a * g).sum(axis=1), rtol=1e-2)
    assert maker.maps(batch, [Target(1)] * 3, [wanted], "elementwise")[0].max() > 0


def branches(head: str) -> onnx.ModelProto:
    """A residual block with squeeze-and-excitation beside a pooled branch, joined, with one of several heads."""
    net = Net(seed=5)
    x = net.add(
        "Relu",
        net.add(
            "Conv",
            "image",
            net.weight(6, 3, 3, 3),
            net.weight(6),
            kernel_shape=[3, 3],
            pads=[1] * 4,
            strides=[2, 2],
            name="stem",
        ),
    )
    y = net.add("Conv", x, net.weight(6, 1, 3, 3), kernel_shape=[3, 3], pads=[1] * 4, group=6)
    y = net.add(
        "Mul",
        y,
        net.add(
            "Sigmoid", net.add("Conv", net.add("GlobalAveragePool", y), net.weight(6, 6, 1, 1), kernel_shape=[1, 1])
        ),
    )
    y = net.add("Add", x, y, name="joined")
    z = net.add(
        "Conv", net.add("MaxPool", x, kernel_shape=[3, 3], pads=[1] * 4), net.weight(4, 6, 1, 1), kernel_shape=[1, 1]
    )
    x = net.add("Concat", y, z, axis=1, name="wide")
    rows = net.add("ReduceMean", x, axes=[2, 3], keepdims=0)
    raw = net.add("Gemm", rows, net.weight(10, 1 if head == "sigmoid" else 4, scale=2), name="raw")
    if head == "softmax":
        net.add("Identity", net.add("Softmax", raw, axis=1), name="scores")
    elif head == "sigmoid":
        net.add("Sigmoid", raw, name="scores")
    elif head == "exp":  # a softmax written out, whose logits are not found: the target is ln p
        powers = net.add("Exp", raw)
        net.add(
            "Div", powers, net.add("ReduceSum", powers, net.weight(values=np.array([1])), keepdims=1), name="scores"
        )
    else:
        net.add("Identity", raw, name="scores")
    return net.model(["n", 3, 13, 11], {"scores": ["n", 1 if head == "sigmoid" else 4]})


@pytest.mark.parametrize("head", ["logits", "softmax", "sigmoid", "exp"])
@pytest.mark.parametrize("target", [Target(1), Target(1, against=0)])
def test_gradients_of_the_target_on_a_branching_network(tmp_path: Path, head: str, target: Target) -> None:
    """The target is the logit before softmax or sigmoid, and ln p where there is none to be found."""
    maker = HeatmapMaker(loaded(branches(head), tmp_path / "m.onnx"))
    batch = random_batch(maker.model, 3)
    layers = [maker.layer(name) for name in ("stem", "joined", "wide")]
    assert maker.view.logits == ("scores" if head in ("logits", "exp") else "raw")
    feeds = {"image": batch.astype(np.float64)}
    for layer, (a, g) in zip(layers, maker.activations_and_gradients(batch, [target] * 3, layers), strict=True):
        probe = Probe(maker.view.proto, layer.tensor, maker.view.logits)
        scores = probe(feeds, probe.at(feeds))
        if head == "sigmoid":
            weights = np.full((3, 1), 1.0 + (target.against == 0))
        else:
            weights = np.zeros((3, 4))
            weights[:, 1] = 1 / scores[:, 1] if head == "exp" else 1
            if target.against is not None:
                weights[:, 0] = -1 / scores[:, 0] if head == "exp" else -1
        np.testing.assert_allclose(a, probe.at(feeds), atol=1e-4)
        assert probe.worst_error(feeds, weights, g) < 5e-5


@pytest.mark.parametrize(
    ("batch", "dtype", "order"),
    [(1, "float32", "NCHW"), (4, "float32", "NHWC"), ("n", "float16", "NCHW"), ("n", "uint8", "NHWC")],
)
def test_fixed_batches_and_other_types_give_the_same_maps(tmp_path: Path, batch: Any, dtype: str, order: Any) -> None:
    model = loaded(classifier(batch=batch, dtype=dtype, order=order, seed=4), tmp_path / "m.onnx", 3)
    maker = HeatmapMaker(model)
    images = (
        random_batch(model, 3)
        if dtype != "uint8"
        else np.random.default_rng(0).integers(0, 3, model.sample_shape(3), dtype=np.uint8)
    )
    layer = maker.layer(None)
    together = maker.maps(images, [Target(0), Target(1), Target(2)], [layer])[0]
    assert together.shape == (3, 6, 6)
    for i in range(3):
        np.testing.assert_allclose(
            maker.maps(images[i : i + 1], [Target(i)], [layer])[0][0], together[i], rtol=1e-4, atol=1e-6
        )


def inverted_residual(whole_numbers: bool) -> onnx.ModelProto:
    """Channels in whole blocks: points, bounds, each channel by itself (padded unevenly, spread, strided), points again, a sum."""
    net = Net(seed=7)

    def weight(*shape: int) -> str:
        return (
            net.weight(values=net.rng.integers(-1, 2, shape).astype(np.float32))
            if whole_numbers
            else net.weight(*shape)
        )

    def conv(x: str, name: str, *shape: int, **how: Any) -> str:
        return net.add("Conv", x, weight(*shape), weight(shape[0]), kernel_shape=list(shape[2:]), name=name, **how)

    x = net.add("Relu", conv("image", "first", 16, 3, 3, 3, pads=[1, 1, 1, 1]))
    low, high = (net.weight(values=np.float32(v)) for v in (-1.0, 6.0))
    y = net.add("Clip", conv(x, "wide", 32, 16, 1, 1), low, high)
    y = net.add("Relu", conv(y, "alone", 32, 1, 3, 3, group=32, auto_pad="SAME_LOWER"))
    x = net.add("Relu", net.add("Add", x, conv(y, "narrow", 16, 32, 1, 1)))
    y = net.add("Clip", conv(x, "further", 48, 16, 1, 1), net.weight(values=np.float32(0.0)))
    y = conv(y, "spread", 48, 1, 2, 3, group=48, dilations=[2, 1], pads=[1, 0, 1, 2])
    y = net.add("Relu", conv(net.add("Relu", y), "strided", 48, 1, 3, 3, group=48, strides=[2, 2]))
    flat = net.add("Flatten", net.add("GlobalAveragePool", conv(y, "last", 24, 48, 1, 1)), axis=1)
    net.add("Gemm", flat, weight(24, 3), net.weight(3), name="scores")
    return net.model(["n", 3, 9, 12], {"scores": ["n", 3]})


@pytest.mark.parametrize("images", [1, 3, 6])
def test_maps_of_channels_in_blocks_are_those_of_their_activations_and_gradients(images: int, tmp_path: Path) -> None:
    """A sum taken from a convolution's input is that of its output, whatever its padding, spread, bias and the batch."""
    maker = HeatmapMaker(loaded(inverted_residual(False), tmp_path / "m.onnx", 3))
    batch, targets = random_batch(maker.model, images), [Target(i % 3) for i in range(images)]
    layers = [one for one in maker.layers if one.op == "Conv"]
    assert [one.tensor for one in layers if convolution_of(maker.view, one)] == ["wide", "alone", "further", "spread"]
    maps = maker.maps(batch, targets, layers)
    for layer, heat, (a, g) in zip(layers, maps, maker.activations_and_gradients(batch, targets, layers), strict=True):
        expected = np.maximum(0, np.einsum("nc,nchw->nhw", g.mean(axis=(2, 3), dtype=np.float64), a))
        np.testing.assert_allclose(heat, expected, rtol=1e-4, atol=1e-5 * expected.max(), err_msg=layer.tensor)
        probe, feeds = Probe(maker.view.proto, layer.tensor, maker.view.logits), {"image": batch.astype(np.float64)}
        assert probe.worst_error(feeds, np.eye(3)[[one.of for one in targets]], g) < 5e-5


def test_masks_in_blocks_decide_on_a_bound_as_comparisons_do(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """With whole numbers many values lie on zero or a bound exactly."""
    model = loaded(inverted_residual(True), tmp_path / "m.onnx", 3)
    batch = np.random.default_rng(2).integers(-2, 3, model.sample_shape(4)).astype(np.float32)

    def gradients() -> list[Any]:
        maker = HeatmapMaker(model)
        layers = [one for one in maker.layers if one.op == "Conv"]
        return maker.activations_and_gradients(batch, [Target(1)] * 4, layers)

    in_blocks = gradients()
    monkeypatch.setattr("mivrat.core.gradients.blocked.BLOCKS", False)
    on_bounds = 0
    for (a, found), (_, expected) in zip(in_blocks, gradients(), strict=True):
        np.testing.assert_allclose(found, expected, rtol=1e-5, atol=1e-6)
        on_bounds += np.count_nonzero((a == 0) | (a == -1) | (a == 6))
    assert on_bounds > 500


def test_channels_last_layers_are_laid_the_right_way(tmp_path: Path) -> None:
    net = Net(seed=1)
    x = net.add(
        "Transpose",
        net.add("Conv", "image", net.weight(5, 3, 3, 3), kernel_shape=[3, 3], name="first"),
        perm=[0, 2, 3, 1],
        name="turned",
    )
    x = net.add("Relu", net.add("MatMul", x, net.weight(5, 5)), name="mixed")
    net.add("MatMul", net.add("ReduceMean", x, axes=[1, 2], keepdims=0), net.weight(5, 3), name="scores")
    maker = HeatmapMaker(loaded(net.model(["n", 3, 8, 11], {"scores": ["n", 3]}), tmp_path / "m.onnx", 3))
    by_name = {layer.tensor: layer for layer in maker.layers}
    assert by_name["mixed"].default
    assert by_name["mixed"].as_json()["shape"] == ["n", 6, 9, 5]
    batch = random_batch(maker.model, 2)
    first, turned, mixed = maker.maps(batch, [Target(0)] * 2, [by_name["first"], by_name["turned"], by_name["mixed"]])
    assert first.shape == turned.shape == mixed.shape == (2, 6, 9)
    np.testing.assert_allclose(first, turned, atol=1e-6)


def test_an_operator_without_a_rule_blocks_what_stands_before_it(tmp_path: Path) -> None:
    net = Net(seed=1)
    x = net.add("Conv", "image", net.weight(4, 3, 3, 3), kernel_shape=[3, 3], name="before")
    x = net.add("Mod", x, net.add("Exp", x), fmod=1, name="between")  # whose divisor depends on the image
    x = net.add("Relu", x, name="behind")
    net.add("MatMul", net.add("ReduceMean", x, axes=[2, 3], keepdims=0), net.weight(4, 3), name="scores")
    maker = HeatmapMaker(loaded(net.model(["n", 3, 8, 8], {"scores": ["n", 3]}), tmp_path / "m.onnx", 3))
    by_name = {layer.tensor: layer for layer in maker.layers}
    assert not by_name["before"].heatmap
    assert "Mod" in str(by_name["before"].reason)
    assert by_name["between"].heatmap
    assert by_name["behind"].default
    assert by_name["scores"].reason == "it has no height and width"
    with pytest.raises(InputError, match="Mod"):
        choose_layer(maker.layers, "before", "m")
    with pytest.raises(InputError, match="no layer 'nowhere'"):
        maker.layer("nowhere")


def transformer(class_token: bool, *, widened: bool = False, attends: bool = True) -> onnx.ModelProto:
    """Patches of 4 x 4 pixels as tokens, one attention block, and a head on the class token or on the mean of the patches.
    ``widened``: all tokens get further channels before the head; ``attends``: the class token takes in the patches."""
    net = Net(seed=4)
    patches = net.add("Conv", "image", net.weight(6, 3, 4, 4), kernel_shape=[4, 4], strides=[4, 4], name="patches")
    flat = net.add("Reshape", patches, net.weight(values=np.array([0, 6, -1])))
    x = net.add("Transpose", flat, perm=[0, 2, 1], name="tokens")
    if class_token:
        zero = net.add("Mul", net.add("ReduceMean", x, axes=[1], keepdims=1), net.weight(values=np.float32(0)))
        x = net.add("Concat", net.add("Add", zero, net.weight(1, 1, 6)), x, axis=1)
    ones = [net.weight(values=np.ones(6, np.float32)), net.weight(6)]
    y = net.add("LayerNormalization", x, *ones, name="normed")
    query, key, value = (net.add("MatMul", y, net.weight(6, 6)) for _ in range(3))
    scores = net.add("Softmax", net.add("MatMul", query, net.add("Transpose", key, perm=[0, 2, 1])), axis=-1)
    if attends:
        x = net.add("Add", x, net.add("MatMul", scores, value), name="out")
    if widened:
        x = net.add("MatMul", x, net.weight(6, 9), name="wide")
    if class_token:
        x = net.add("Gather", x, net.weight(values=np.array(0)), axis=1)
    else:
        x = net.add("ReduceMean", x, axes=[1], keepdims=0)
    net.add("MatMul", x, net.weight(9 if widened else 6, 3, scale=2), name="scores")
    return net.model(["n", 3, 12, 20], {"scores": ["n", 3]})


def test_the_default_layer_is_one_whose_places_have_a_say(tmp_path: Path) -> None:
    """Behind the attention only the class token is read, and the last layer is laid out like no other."""
    maker = HeatmapMaker(loaded(transformer(True, widened=True), tmp_path / "m.onnx", 3))
    batch = random_batch(maker.model, 2)
    wide = next(one for one in maker.layers if one.tensor == "wide")
    assert wide.heatmap
    assert not maker.maps(batch, [Target(1)] * 2, [wide], "signed")[0].any()
    assert maker.layer(None).tensor != "wide"
    assert maker.maps(batch, [Target(1)] * 2, [maker.layer(None)], "signed")[0].any()
    blind = HeatmapMaker(loaded(transformer(True, attends=False), tmp_path / "b.onnx", 3))
    assert any(one.heatmap for one in blind.layers)
    assert not any(one.default for one in blind.layers)
    with pytest.raises(InputError, match="at none of the layers do the places of the image have a say in the scores"):
        blind.layer(None)


@pytest.mark.parametrize("class_token", [False, True])
def test_tokens_are_laid_back_on_their_grid(class_token: bool, tmp_path: Path) -> None:
    """A map of tokens is that of the patches they came from, and without a say of the patches it is all zero."""
    maker = HeatmapMaker(loaded(transformer(class_token), tmp_path / "m.onnx", 3))
    by_name = {layer.tensor: layer for layer in maker.layers}
    batch = random_batch(maker.model, 2)
    patches, normed, out = (by_name[name] for name in ("patches", "normed", "out"))
    assert [one.grid for one in (patches, normed, out)] == [(3, 5)] * 3
    assert "token axis is unknown" in str(next(one for one in maker.layers if one.op == "Softmax").reason)
    ((a, g),) = maker.activations_and_gradients(batch, [Target(1)] * 2, [normed])
    assert a.shape == (2, 6, 3, 5)
    expected = np.maximum(0, (g.mean(axis=(2, 3), keepdims=True) * a).sum(axis=1))
    np.testing.assert_allclose(maker.maps(batch, [Target(1)] * 2, [normed])[0], expected, rtol=1e-4, atol=1e-6)
    if class_token:  # only the class token of the last sum is read
        assert not maker.maps(batch, [Target(1)] * 2, [out], "signed")[0].any()
        assert maker.layer(None).op == "LayerNormalization"  # what the class token attends to, no key or value of it
    else:
        assert out.default
        before, after = maker.maps(batch, [Target(1)] * 2, [patches, by_name["tokens"]], "signed")
        np.testing.assert_allclose(before, after, rtol=1e-5, atol=1e-6)
    assert by_name["patches"].parameters == 6 * 3 * 16
    assert normed.parameters == 12


def test_stages_are_the_last_layer_of_each_resolution(tmp_path: Path) -> None:
    maker = HeatmapMaker(loaded(classifier(side=16), tmp_path / "m.onnx", 3))
    assert [(one.tensor, one.grid) for one in stages(maker.layers)] == [("features", (8, 8))]
    net = Net(seed=1)
    x = net.add("Conv", "image", net.weight(4, 3, 3, 3), kernel_shape=[3, 3], name="first")
    x = net.add("Relu", x, name="second")
    x = net.add("AveragePool", x, kernel_shape=[2, 2], strides=[2, 2], name="third")
    net.add("MatMul", net.add("ReduceMean", x, axes=[2, 3], keepdims=0), net.weight(4, 3), name="scores")
    maker = HeatmapMaker(loaded(net.model(["n", 3, 10, 10], {"scores": ["n", 3]}), tmp_path / "n.onnx", 3))
    assert [one.tensor for one in stages(maker.layers)] == ["third", "second"]


def test_targets_from_text() -> None:
    find = ClassMatcher(["birch", "a:b", "alder"]).target
    assert target_from_text("predicted", find) is None
    assert target_from_text("2", find) == Target(2)
    assert target_from_text("a:b", find) == Target(1)
    assert target_from_text("alder:0", find) == Target(2, 0)
    with pytest.raises(InputError, match="'oak' is not a class"):
        target_from_text("oak", find)


def test_a_map_lies_where_the_crop_lay() -> None:
    """A 2 x 2 map of a centre crop: the hot corner's peak falls on that corner cell's centre in the photo."""
    recipe = Recipe(resize=Resize(rule="shorter-side", size=40), crop=Crop(size=(32, 32)))
    place = geometry(80, 160, recipe)  # resized to 40 x 80, cropped 4 off the top and 24 off the left
    field, seen = on_picture(np.array([[0.0, 1.0], [0.0, 0.0]]), place)
    assert field.shape == (80, 160)
    ys, xs = np.nonzero(seen)
    assert (ys.min(), ys.max() + 1, xs.min(), xs.max() + 1) == (8, 72, 48, 112)
    assert np.unravel_index(field.argmax(), field.shape)[0] in range(8, 25)
    hot = field[8 + 16, 48 + 48]  # the centre of the upper right cell
    assert hot > 0.95
    assert field[8 + 48, 48 + 16] < 0.05
    picture = np.full((80, 160, 3), 128, np.uint8)
    drawn = overlay(picture, np.array([[0.0, 1.0], [0.0, 0.0]]), place)
    assert not (drawn[~seen] == 128).all()
    assert (overlay(picture, np.zeros((2, 2)), geometry(80, 160, Recipe()), opacity=0) == 128).all()


def test_scales() -> None:
    """Lightness of the heat scale rises evenly, by the CIE 1976 formula; the others are what their names say."""
    rgb = heat_colours(np.linspace(0, 1, 101)) / 255
    linear = np.where(rgb <= 0.04045, rgb / 12.92, ((rgb + 0.055) / 1.055) ** 2.4)
    luminance = linear @ [0.2126, 0.7152, 0.0722]
    lightness = np.where(luminance > 0.008856, 116 * np.cbrt(luminance) - 16, 903.3 * luminance)
    steps = np.diff(lightness)
    assert steps.min() > 0.5 * steps.mean()
    assert steps.max() < 1.6 * steps.mean()
    assert heat_colours(np.array([0.5]), "grey").tolist() == [[127.5] * 3]
    assert heat_colours(np.array([0.0]), "difference").tolist() == [[0xF7, 0xF4, 0xEE]]
    assert normalised(np.zeros((2, 2))).max() == 0
    assert normalised(np.array([[-4.0, 2.0]])).tolist() == [[-1.0, 0.5]]


def test_float_types_of_initialisers_do_not_matter(tmp_path: Path) -> None:
    """A half-precision graph is differentiated in single precision."""
    made = classifier(dtype="float16", seed=2)
    assert any(n.op_type == "Cast" for n in made.graph.node)
    maker = HeatmapMaker(loaded(made, tmp_path / "m.onnx", 3))
    assert maker.view.dtypes["features"] == np.float32
    assert all(t.data_type != TensorProto.FLOAT16 for t in maker.view.proto.graph.initializer)


def branching(net: Net, x: str, condition: str) -> str:
    """If the condition holds x squared, else its negative; both branches take x from outside."""
    port = onnx.helper.make_tensor_value_info("inner", TensorProto.FLOAT, None)
    halves = [
        onnx.helper.make_graph(
            [onnx.helper.make_node(op, inputs, ["b"]), onnx.helper.make_node("Identity", ["b"], ["inner"])],
            op,
            [],
            [port],
        )
        for op, inputs in (("Mul", [x, x]), ("Neg", [x]))
    ]
    return net.add("If", condition, then_branch=halves[0], else_branch=halves[1])


@pytest.mark.parametrize("rank", [4, 3])
def test_a_settled_condition_takes_its_branch(rank: int, tmp_path: Path) -> None:
    """Exporters ask after shapes: the branch that is taken is differentiated, and the other way of the sum too."""
    net = Net(seed=6)
    x = net.add("Conv", "image", net.weight(4, 3, 3, 3), kernel_shape=[3, 3], name="stem")
    size = net.add("Size", net.add("Shape", x))
    condition = net.add("Equal", size, net.weight(values=np.array(rank)))
    x = net.add("Add", net.add("Tanh", x), branching(net, x, condition))
    net.add("MatMul", net.add("ReduceMean", x, axes=[2, 3], keepdims=0), net.weight(4, 3), name="scores")
    maker = HeatmapMaker(loaded(net.model(["n", 3, 8, 8], {"scores": ["n", 3]}), tmp_path / "m.onnx", 3))
    batch = random_batch(maker.model, 2)
    ((_, gradient),) = maker.activations_and_gradients(batch, [Target(1)] * 2, [maker.layers[0]])
    probe = Probe(maker.view.proto, "stem", "scores")
    weights = np.eye(3)[[1, 1]]
    assert probe.worst_error({"image": batch.astype(np.float64)}, weights, gradient) < 1e-5
    assert maker.model.scores(batch) == pytest.approx(
        new_session(maker.view.proto.SerializeToString()).run(["scores"], {"image": batch})[0], abs=1e-5
    )


def test_a_condition_on_the_image_blocks_what_stands_before_it(tmp_path: Path) -> None:
    net = Net(seed=6)
    x = net.add("Conv", "image", net.weight(4, 3, 3, 3), kernel_shape=[3, 3], name="stem")
    bright = net.add("Greater", net.add("ReduceMax", x, keepdims=0), net.weight(values=np.float32(0.1)))
    x = net.add("Conv", branching(net, x, bright), net.weight(4, 4, 1, 1), kernel_shape=[1, 1], name="after")
    net.add("MatMul", net.add("ReduceMean", x, axes=[2, 3], keepdims=0), net.weight(4, 3), name="scores")
    maker = HeatmapMaker(loaded(net.model(["n", 3, 8, 8], {"scores": ["n", 3]}), tmp_path / "m.onnx", 3))
    by_name = {layer.tensor: layer for layer in maker.layers}
    assert "branches depend on the image" in str(by_name["stem"].reason)
    assert "their places are unknown" in str(by_name["after"].reason)  # a branch might move them


@pytest.mark.parametrize(
    "recipe",
    [
        Recipe(),
        Recipe(resize=Resize(rule="shorter-side", size=40), crop=Crop(size=(32, 32))),
        Recipe(resize=Resize(rule="fit-pad", size=(48, 48))),
        Recipe(resize=Resize(rule="stretch", size=(20, 60))),
    ],
)
def test_the_cell_under_a_point_is_the_one_drawn_there(recipe: Recipe) -> None:
    """Nearest to a cell's centre the drawn map is that cell's value, whatever the geometry; elsewhere nothing is seen."""
    place, heat = geometry(80, 120, recipe), np.arange(12.0).reshape(3, 4)
    field, seen = on_picture(heat, place)
    found = {}
    for y in range(80):
        for x in range(120):
            at = place_on_map(place, (3, 4), y + 0.5, x + 0.5)
            assert (at is None) == (not seen[y, x])
            if at is not None and abs(field[y, x] - heat[at]) < 0.2:
                found[at] = True
    assert len(found) == 12


def test_an_edge_drawing_is_dark_along_edges_only() -> None:
    picture = np.zeros((40, 60, 3), np.uint8)
    picture[:, 30:] = 200
    drawn = edge_drawing(picture)
    assert drawn.shape == picture.shape
    assert drawn[20, 29:31].max() < 120
    assert drawn[20, :20].min() > 240
    assert drawn[20, 45:].min() > 240


def test_the_first_filters_are_pictures_or_it_is_said_why_not(tmp_path: Path) -> None:
    made = classifier(seed=3)
    tensor, weights = first_filters(HeatmapMaker(loaded(made, tmp_path / "m.onnx", 3)).view)
    expected = onnx.numpy_helper.to_array(made.graph.initializer[0])
    assert tensor == made.graph.node[0].output[0]
    np.testing.assert_array_equal(weights, expected)
    pictures = as_pictures(np.asarray(weights))
    assert len(pictures) == 6
    strongest = np.unravel_index(np.abs(expected).argmax(), expected.shape)
    assert pictures[strongest[0]][strongest[2], strongest[3], strongest[1]] in (0, 255)
    net = Net(seed=1)
    flat = net.add("Flatten", "image", axis=1)
    net.add("MatMul", flat, net.weight(3 * 64, 3), name="scores")
    plain = HeatmapMaker(loaded(net.model(["n", 3, 8, 8], {"scores": ["n", 3]}), tmp_path / "n.onnx", 3))
    assert first_filters(plain.view) == "the network begins with Flatten, not with a convolution"


@pytest.mark.parametrize("order", ["NCHW", "NHWC"])
def test_a_model_of_free_sides_has_maps_of_pictures_of_any_size(order: Any, tmp_path: Path) -> None:
    """Neither model nor recipe settles the size: derivatives are worked out for each size there is, and batches may follow."""
    net = Net(seed=3)
    x = net.add("Transpose", "image", perm=[0, 3, 1, 2]) if order == "NHWC" else "image"
    x = net.add("Relu", net.add("Conv", x, net.weight(5, 3, 3, 3), pads=[1] * 4, strides=[2, 2]), name="features")
    x = net.add("AveragePool", x, kernel_shape=[2, 2], strides=[2, 2], name="pooled")
    net.add("MatMul", net.add("ReduceMean", x, axes=[2, 3], keepdims=0), net.weight(5, 3), name="scores")
    free = ["n", "h", "w", 3] if order == "NHWC" else ["n", 3, "h", "w"]
    path = tmp_path / "m.onnx"
    onnx.save(net.model(free, {"scores": ["n", 3]}), path)
    recipe = Recipe.model_validate({"resize": {"rule": "none"}, "tensor": {"order": order}})
    maker = HeatmapMaker(OnnxModel(path, recipe, 3))
    for height, width in ((12, 48), (48, 12), (20, 20), (12, 48)):
        shape = (2, height, width, 3) if order == "NHWC" else (2, 3, height, width)
        batch = np.random.default_rng(height).normal(size=shape).astype(np.float32)
        for method in ("gradient", "signed", "score"):
            heat = maker.maps(batch, [Target(1)] * 2, [maker.layer("features")], method)[0]  # type: ignore[arg-type]
            assert heat.shape == (2, height // 2, width // 2)
        ((a, g),) = maker.activations_and_gradients(batch, [Target(1)] * 2, [maker.layer("features")])
        assert a.shape == g.shape == (2, 5, height // 2, width // 2)


def test_an_engine_that_fails_is_told_in_one_sentence(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    maker = HeatmapMaker(loaded(classifier(), tmp_path / "m.onnx", 3))

    # A session that has no such output: the engine itself refuses.
    monkeypatch.setattr(maker, "_session", lambda layers, method, images: (maker.model.session, ["x"]))
    with pytest.raises(InputError) as told:
        maker.maps(random_batch(maker.model, 2), [Target(0)] * 2, [maker.layer(None)])
    assert "RuntimeError" not in told.value.line()
    assert "Occlusion and random masks" in told.value.line()
