"""The forms a graph comes in: tokens before images, and operators that the engine has made one of several."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

import numpy as np
import onnx
import pytest

from mivrat.core.heatmaps.maps import HeatmapMaker, Target
from mivrat.core.models.engine import new_session
from tests.support.differences import Probe
from tests.support.networks import Net, loaded, random_batch

CLASSES = 3


def tokens_before_images(net: Net, class_token: bool, opset: int) -> None:
    """A block of attention over tokens x images x channels; queries, keys and values lie on the first axis of one tensor."""
    x = net.add("Conv", "image", net.weight(6, 3, 4, 4), kernel_shape=[4, 4], strides=[4, 4], name="patches")
    x = net.add("Transpose", net.add("Reshape", x, net.weight(values=np.array([0, 6, 12]))), perm=[2, 0, 1])
    x = net.add("Identity", x, name="tokens")
    count = 12
    if class_token:
        images = net.add("Slice", net.add("Shape", x), *(net.weight(values=np.array([n])) for n in (1, 2, 0)))
        shape = net.add("Concat", net.weight(values=np.array([1])), images, net.weight(values=np.array([6])), axis=0)
        x = net.add("Concat", net.add("Expand", net.weight(1, 1, 6), shape), x, axis=0, name="joined")
        count = 13
    mixed = net.add("MatMul", x, net.weight(6, 18))  # tokens x images x three times heads and channels
    mixed = net.add("Reshape", mixed, net.weight(values=np.array([count, -1, 3, 2, 3])))
    mixed = net.add("Transpose", mixed, perm=[2, 1, 3, 0, 4])
    q, k, v = (net.add("Gather", mixed, net.weight(values=np.array(i)), axis=0) for i in range(3))
    scores = net.add("MatMul", q, net.add("Transpose", k, perm=[0, 1, 3, 2]))
    seen = net.add("MatMul", net.add("Softmax", scores, axis=-1), v)  # images x heads x tokens x channels
    seen = net.add(
        "Reshape", net.add("Transpose", seen, perm=[2, 0, 1, 3]), net.weight(values=np.array([count, -1, 6]))
    )
    x = net.add("Add", x, seen, name="attended")
    x = net.add("Add", x, net.add("Tanh", net.add("MatMul", x, net.weight(6, 6))), name="mixed")
    if class_token:
        rows = net.add("Gather", x, net.weight(values=np.array(0)), axis=0)
    else:
        rows = net.add("ReduceMean", x, axes=[0], keepdims=0)
    net.add("MatMul", rows, net.weight(6, CLASSES, scale=2), name="scores")


@pytest.mark.parametrize("opset", [11, 13, 17])
@pytest.mark.parametrize("class_token", [False, True])
@pytest.mark.parametrize("images", ["n", 1, 3])
def test_tokens_before_images(class_token: bool, opset: int, images: int | str, tmp_path: Path) -> None:
    net = Net(seed=4)
    tokens_before_images(net, class_token, opset)
    model = loaded(net.model([images, 3, 12, 16], {"scores": [images, CLASSES]}, opset=opset), tmp_path / "m.onnx")
    maker = HeatmapMaker(model)
    assert not [one.reason for one in maker.layers if one.reason and "images of a batch" in one.reason]
    # The class token alone is read at the end: before the attention places have a say, behind it none.
    default = maker.layer(None)
    assert default.tensor == ("joined" if class_token else "mixed")
    assert default.grid == (3, 4)
    assert default.as_json()["shape"] == [13 if class_token else 12, "n", 6]
    count = images if isinstance(images, int) else 3
    batch = random_batch(model, count)
    targets = [Target(k % CLASSES) for k in range(count)]
    weights = np.eye(CLASSES)[[t.of for t in targets]]
    layers = [one for one in maker.layers if one.heatmap]
    laid = dict(
        zip((one.tensor for one in layers), maker.activations_and_gradients(batch, targets, layers), strict=True)
    )
    np.testing.assert_allclose(laid["tokens"][0], laid["patches"][0], atol=1e-5)
    np.testing.assert_allclose(laid["tokens"][1], laid["patches"][1], atol=1e-6)
    assert np.any(laid["attended"][1]) != class_token
    raw, feeds = laid["tokens"][1].reshape(count, 6, 12).transpose(2, 0, 1), {"image": batch.astype(np.float64)}
    assert Probe(maker.view.proto, "tokens", "scores").worst_error(feeds, weights, raw, directions=4) < 1e-4
    maps = maker.maps(batch, targets, [default], "signed")[0]
    if images == "n":  # a batch of five or of one says the same as one of three
        five = maker.maps(np.concatenate([batch, batch[:2]]), [*targets, *targets[:2]], [default], "signed")[0]
        np.testing.assert_allclose(five, np.concatenate([maps, maps[:2]]), rtol=1e-4, atol=1e-6)
        np.testing.assert_allclose(
            maker.maps(batch[1:2], targets[1:2], [default], "signed")[0], maps[1:2], rtol=1e-4, atol=1e-6
        )
        np.testing.assert_allclose(maker.activations(batch, default), laid[default.tensor][0], atol=1e-6)
    a, g = laid[default.tensor]
    np.testing.assert_allclose(maps, (a * g).sum(axis=1), rtol=1e-3, atol=1e-5)


def test_what_mixes_images_is_refused_wherever_they_stand(tmp_path: Path) -> None:
    """A mean over the images of a batch is no tokens' mean, though both stand first somewhere."""
    net = Net(seed=4)
    x = net.add("Conv", "image", net.weight(6, 3, 4, 4), strides=[4, 4], name="patches")
    x = net.add("Transpose", net.add("Reshape", x, net.weight(values=np.array([0, 6, 9]))), perm=[2, 0, 1])
    x = net.add("Sub", x, net.add("ReduceMean", x, axes=[1], keepdims=1))
    net.add("MatMul", net.add("ReduceMean", x, axes=[0], keepdims=0), net.weight(6, CLASSES), name="scores")
    maker = HeatmapMaker(loaded(net.model(["n", 3, 12, 12], {"scores": ["n", CLASSES]}), tmp_path / "m.onnx"))
    (layer,) = (one for one in maker.layers if one.tensor == "patches")
    assert not layer.heatmap
    assert "ReduceMean over the images of a batch" in str(layer.reason)


Fused = Callable[[Net, str], str]


def fused(net: Net, op: str, *inputs: str, outputs: int = 1, **attributes: object) -> str:
    made = net.add(op, *inputs, outputs=outputs, **attributes)
    net.nodes[-1].domain = "com.microsoft"
    return made


def by_rows(body: Fused) -> Fused:
    """On images x 20 x 4 values instead of images x 4 x 4 x 5, and back."""

    def made(net: Net, x: str) -> str:
        rows = net.add("Transpose", net.add("Reshape", x, net.weight(values=np.array([0, 4, 20]))), perm=[0, 2, 1])
        return body(net, rows)

    return made


def convolution(kind: str, *parameters: float, further: bool = False) -> Fused:
    def body(net: Net, x: str) -> str:
        about = {"activation_params": list(parameters)} if parameters else {}
        added = [net.add("Tanh", x)] if further else []
        return fused(
            net,
            "FusedConv",
            x,
            net.weight(4, 4, 3, 3),
            net.weight(4),
            *added,
            kernel_shape=[3, 3],
            pads=[1] * 4,
            activation=kind,
            **about,
        )

    return body


def product(**about: float) -> Fused:
    """Pairs of matrices, square and by images, so that each may be turned round."""

    def body(net: Net, x: str) -> str:
        left = net.add("Reshape", x, net.weight(values=np.array([0, 5, 4, 4])))
        right = net.add("Tanh", net.add("Reshape", x, net.weight(values=np.array([0, 5, 4, 4]))))
        if about.get("transBatchA"):
            left = net.add("Transpose", left, perm=[2, 0, 1, 3])
        if about.get("transBatchB"):
            right = net.add("Transpose", right, perm=[2, 0, 1, 3])
        return fused(net, "FusedMatMul", left, right, **about)

    return body


def pooled_gemm(net: Net, x: str) -> str:
    rows = net.add("Flatten", net.add("GlobalAveragePool", net.add("Mul", x, x)))
    return fused(
        net,
        "FusedGemm",
        rows,
        net.weight(5, 4),
        net.weight(5),
        transB=1,
        alpha=0.5,
        activation="LeakyRelu",
        activation_alpha=0.2,
    )


def skipped(simplified: bool, bias: bool, both: bool) -> Fused:
    def body(net: Net, x: str) -> str:
        vectors = [net.weight(4) for _ in range((1 if simplified else 2) + bias)]
        op = "SkipSimplifiedLayerNormalization" if simplified else "SkipLayerNormalization"
        made = fused(net, op, x, net.add("Tanh", x), *vectors, outputs=4 if both else 1, epsilon=0.01)
        node = net.nodes[-1]
        if not both:
            return made
        node.output[1:3] = ["", ""]
        return net.add("Add", made, net.add("Sin", node.output[3]))

    return body


def rounded_product(dynamic: bool) -> Fused:
    def body(net: Net, x: str) -> str:
        levels = net.weight(values=net.rng.integers(-90, 90, (4, 3)).astype(np.int8))
        scale, bias = net.weight(values=np.float32(0.02)), net.weight(3)
        if dynamic:
            return fused(net, "DynamicQuantizeMatMul", x, levels, scale, net.weight(values=np.int8(3)), bias)
        whole = net.add("DynamicQuantizeLinear", x, outputs=3)
        return fused(
            net,
            "MatMulIntegerToFloat",
            whole,
            levels,
            f"{whole}_1",
            scale,
            f"{whole}_2",
            net.weight(values=np.int8(0)),
            bias,
        )

    return body


FUSED: dict[str, Fused] = {
    **{f"convolution, {kind}": convolution(kind) for kind in ("Relu", "Sigmoid", "Tanh")},
    "convolution, LeakyRelu": convolution("LeakyRelu", 0.3),
    "convolution, Clip": convolution("Clip", -0.4, 0.6),
    "convolution, HardSigmoid": convolution("HardSigmoid", 0.3, 0.4),
    "convolution and sum": convolution("Relu", further=True),
    "gemm": pooled_gemm,
    **{
        f"product {a}{b}{c}{d}": product(transA=a, transB=b, transBatchA=c, transBatchB=d, alpha=0.7)
        for a, b, c, d in ((0, 0, 0, 0), (1, 0, 0, 0), (0, 1, 0, 0), (1, 1, 0, 0), (0, 0, 1, 0), (1, 0, 1, 1))
    },
    "gelu": lambda net, x: fused(net, "Gelu", x),
    "gelu with bias": by_rows(lambda net, x: fused(net, "BiasGelu", x, net.weight(4))),
    "fast gelu": by_rows(lambda net, x: fused(net, "FastGelu", x)),
    "fast gelu with bias": by_rows(lambda net, x: fused(net, "FastGelu", x, net.weight(4))),
    "quick gelu": lambda net, x: fused(net, "QuickGelu", x, alpha=1.3),
    "swish": lambda net, x: fused(net, "QuickGelu", x, alpha=1.0),
    "norm": by_rows(lambda net, x: net.add("SimplifiedLayerNormalization", x, net.weight(4), axis=-1, epsilon=0.01)),
    **{
        f"skip {simplified}{bias}{both}": by_rows(skipped(bool(simplified), bool(bias), bool(both)))
        for simplified, bias, both in ((0, 0, 0), (0, 1, 1), (1, 0, 1), (1, 1, 0))
    },
    "rounded product": by_rows(rounded_product(dynamic=False)),
    "dynamic product": by_rows(rounded_product(dynamic=True)),
}


@pytest.mark.parametrize("name", FUSED)
def test_an_operator_of_the_engines_own_is_what_is_written_for_it(name: str, tmp_path: Path) -> None:
    """The graph written out gives the engine's scores, and the gradient is that of finite differences through it."""
    net = Net(seed=7)
    x = net.add("Conv", "image", net.weight(4, 3, 3, 3), pads=[1] * 4, strides=[2, 2], name="stem")
    x = FUSED[name](net, net.add("Add", x, net.weight(4, 1, 1)))
    flat = net.add("Reshape", x, net.weight(values=np.array([2, -1])))
    made = net.model([2, 3, 8, 10], {"scores": [2, CLASSES]}, opset=17)
    made.opset_import.append(onnx.helper.make_opsetid("com.microsoft", 1))
    width = (
        new_session(_with_output(made, flat), as_written=True)
        .run([flat], {"image": np.zeros((2, 3, 8, 10), np.float32)})[0]
        .shape[1]
    )
    made.graph.initializer.append(
        onnx.numpy_helper.from_array(net.rng.normal(size=(width, CLASSES)).astype(np.float32), "head")
    )
    made.graph.node.append(onnx.helper.make_node("MatMul", [flat, "head"], ["scores"]))
    maker = HeatmapMaker(loaded(made, tmp_path / "m.onnx", checked=False))
    assert not [
        node.op_type for node in maker.view.nodes if node.domain == "com.microsoft" or "Simplified" in node.op_type
    ]
    batch = random_batch(maker.model, 2)
    answers = maker.model.scores(batch)
    again = new_session(maker.view.proto.SerializeToString()).run(["scores"], {"image": batch})[0]
    np.testing.assert_allclose(again, answers, rtol=1e-4, atol=1e-4 * np.abs(answers).max())
    ((_, gradient),) = maker.activations_and_gradients(batch, [Target(0), Target(2)], [maker.layer("stem")])
    probe = Probe(maker.view.proto, "stem", "scores")
    weights, feeds = np.array([[1.0, 0, 0], [0, 0, 1]]), {"image": batch.astype(np.float64)}
    if name in ("rounded product", "dynamic product"):
        assert np.abs(gradient).max() > 0  # rounding has no slope to be found by differences
    else:
        worst = 2e-3 if "gelu" in name else 2e-5
        assert (
            probe.worst_error(feeds, weights, gradient, step=1e-2 if name in ("gelu", "gelu with bias") else 1e-6)
            < worst
        )


def _with_output(model: onnx.ModelProto, name: str) -> bytes:
    made = onnx.ModelProto()
    made.CopyFrom(model)
    del made.graph.output[:]
    made.graph.output.append(onnx.ValueInfoProto(name=name))
    return made.SerializeToString()


def test_several_kinds_are_written_out_of_one_graph(tmp_path: Path) -> None:
    """Each takes names of its own, wherever in the graph it stands."""
    net = Net(seed=7)
    x = net.add("Conv", "image", net.weight(4, 3, 3, 3), pads=[1] * 4, name="stem")
    x = fused(net, "QuickGelu", x, alpha=1.3)
    grid = net.weight(values=net.rng.uniform(-1, 1, (2, 4, 5, 2)).astype(np.float32))
    x = net.add("GridSample", x, grid)
    x = net.add("MaxPool", x, kernel_shape=[2, 2], strides=[2, 2], pads=[1, 1, 1, 1], ceil_mode=1)
    rows = net.add("Transpose", net.add("ReduceMean", x, axes=[2], keepdims=0), perm=[2, 0, 1])
    weights = net.weight(1, 5, 4), net.weight(1, 5, 5)
    x = net.add("RNN", rows, *weights, outputs=2, hidden_size=5)
    net.add("MatMul", net.add("Squeeze", f"{x}_1", net.weight(values=np.array([0]))), net.weight(5, 3), name="scores")
    made = net.model([2, 3, 8, 10], {"scores": [2, CLASSES]}, opset=17)
    made.opset_import.append(onnx.helper.make_opsetid("com.microsoft", 1))
    maker = HeatmapMaker(loaded(made, tmp_path / "m.onnx", checked=False))
    assert not {"QuickGelu", "GridSample", "RNN"} & {node.op_type for node in maker.view.nodes}
    batch = random_batch(maker.model, 2)
    again = new_session(maker.view.proto.SerializeToString()).run(["scores"], {"image": batch})[0]
    np.testing.assert_allclose(again, maker.model.scores(batch), atol=1e-5)
    assert maker.maps(batch, [Target(0)] * 2, [maker.layer("stem")])[0].any()
