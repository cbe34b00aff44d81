"""Which layer is the default, what layers are called, and in which order they are offered."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import onnx
import pytest

from mivrat.core.gradients.default_layer import passed_by_everything
from mivrat.core.gradients.layer_names import LIKELY, in_groups, likely
from mivrat.core.heatmaps.maps import HeatmapMaker
from tests.support.networks import Net, classifier, loaded


def tokens(net: Net) -> str:
    x = net.add("Conv", "image", net.weight(6, 3, 4, 4), strides=[4, 4], name="patches")
    x = net.add("Reshape", x, net.weight(values=np.array([0, 6, -1])), name="flat")
    return net.add("Transpose", x, perm=[0, 2, 1], name="tokens")


def attention_pool(net: Net) -> str:
    x = tokens(net)
    keys, values = (net.add("MatMul", x, net.weight(6, 6), name=name) for name in ("keys", "values"))
    scores = net.add("MatMul", net.weight(1, 1, 6), net.add("Transpose", keys, perm=[0, 2, 1]))
    seen = net.add("MatMul", net.add("Softmax", scores, axis=-1), values)
    return net.add("Reshape", seen, net.weight(values=np.array([0, 6])))


def class_attention(net: Net) -> str:
    """A class token that no image changes looks at the patches, and is all that is read."""
    x = tokens(net)
    vectors = [net.weight(values=np.ones(6, np.float32)), net.weight(6)]
    normed = net.add("LayerNormalization", x, *vectors, name="normed")
    both = net.add("MatMul", normed, net.weight(6, 12), name="keys and values")
    keys = net.add("Split", both, net.weight(values=np.array([6, 6])), outputs=2, axis=2)
    scores = net.add("MatMul", net.weight(1, 1, 6), net.add("Transpose", keys, perm=[0, 2, 1]))
    seen = net.add("MatMul", net.add("Softmax", scores, axis=-1), f"{keys}_1")
    return net.add("Reshape", seen, net.weight(values=np.array([0, 6])))


def gated(net: Net) -> str:
    """The gate comes last in the file, but is only one side of a product."""
    x = tokens(net)
    worked = net.add("Tanh", net.add("MatMul", x, net.weight(6, 6)), name="worked")
    summed = net.add("ReduceMean", worked, axes=[1], keepdims=0)
    gate = net.add("Sigmoid", net.add("MatMul", x, net.weight(6, 6)), name="gate")
    return net.add(
        "Mul", summed, net.add("ReduceMean", net.add("Mul", gate, worked, name="kept"), axes=[1], keepdims=0)
    )


@pytest.mark.parametrize(
    ("body", "default"), [(attention_pool, "tokens"), (class_attention, "normed"), (gated, "kept")]
)
def test_the_default_is_no_side_of_a_product(body, default: str, tmp_path: Path) -> None:  # type: ignore[no-untyped-def]
    net = Net(seed=3)
    net.add("MatMul", body(net), net.weight(6, 3, scale=2), name="scores")
    maker = HeatmapMaker(loaded(net.model(["n", 3, 12, 20], {"scores": ["n", 3]}), tmp_path / "m.onnx", 3))
    assert maker.layer(None).tensor == default
    assert likely(maker.layers)[0].tensor == default


def test_what_everything_passes_by_hand(tmp_path: Path) -> None:
    net = Net(seed=3)
    x = net.add("Relu", "image", name="a")
    one, other = net.add("Sigmoid", x, name="b"), net.add("Tanh", x, name="c")
    joined = net.add("Concat", one, other, axis=1, name="d")
    further = net.add("Add", joined, net.add("Abs", joined, name="e"), name="f")
    net.add(
        "MatMul", net.add("ReduceMean", further, axes=[2, 3], keepdims=0, name="g"), net.weight(6, 3), name="scores"
    )
    maker = HeatmapMaker(loaded(net.model(["n", 3, 8, 8], {"scores": ["n", 3]}), tmp_path / "m.onnx", 3))
    assert passed_by_everything(maker.view) == {"image", "a", "d", "f", "g", "scores"}


def test_blocks_and_plain_names(tmp_path: Path) -> None:
    maker = HeatmapMaker(loaded(classifier(side=16), tmp_path / "m.onnx", 3))
    assert {one.tensor: one.plain for one in maker.layers}["features"] == "activation (Relu)"
    net, paths = Net(seed=1), []
    x = "image"
    for k in range(2):
        start = x
        for part in ("first", "second"):
            channels = 3 if x == "image" else 4
            x = net.add("Conv", x, net.weight(4, channels, 3, 3), pads=[1] * 4)
            paths.append(f"/blocks/blocks.{k}/{part}/Conv")
            x = net.add("Mul", x, net.add("Sigmoid", x))
            paths += [f"/blocks/blocks.{k}/{part}/Sigmoid", f"/blocks/blocks.{k}/{part}/Mul"]
        if start != "image":
            x = net.add("Add", x, start)
            paths.append("/Add")  # written outside of the module
    x = net.add("AveragePool", x, kernel_shape=[2, 2], strides=[2, 2])
    pooled = net.add("ReduceMean", x, axes=[2, 3], keepdims=0)
    net.add("MatMul", pooled, net.weight(4, 3), name="scores")
    for node, path in zip(net.nodes, [*paths, "/head/AveragePool", "/head/ReduceMean", "/head/MatMul"], strict=True):
        node.name = path
    maker = HeatmapMaker(loaded(net.model(["n", 3, 8, 8], {"scores": ["n", 3]}), tmp_path / "n.onnx", 3))
    groups = in_groups(maker.layers)
    assert [heading for heading, _ in groups] == [LIKELY, "head", "blocks.1", "blocks.0"]
    assert [(one.block, one.plain) for one in groups[0][1]] == [
        ("head", "average pooling"),
        ("blocks.1", "sum"),
        ("blocks.0", "activation (x · sigmoid x)"),
    ]
    assert {one.plain for one in groups[2][1]} == {
        "activation (x · sigmoid x)",
        "activation (Sigmoid)",
        "convolution 3 × 3",
    }
    listed = [one.tensor for _, some in groups for one in some]
    assert sorted(listed) == sorted(one.tensor for one in maker.layers)
    for node in net.nodes:  # without any names: a block ends with its sum
        node.name = ""
    nameless = HeatmapMaker(loaded(net.model(["n", 3, 8, 8], {"scores": ["n", 3]}), tmp_path / "o.onnx", 3))
    assert [heading for heading, _ in in_groups(nameless.layers)] == [LIKELY, "block 2", "block 1"]


def test_a_layer_without_a_name_in_the_file_says_which_it_follows(tmp_path: Path) -> None:
    """What stands inside a function is named by what writes it out."""
    net = Net(seed=1)
    x = net.add("Conv", "image", net.weight(4, 3, 3, 3), name="stem")
    x = net.add("Two", x, name="worked")
    net.nodes[-1].domain = "own"
    net.add("MatMul", net.add("ReduceMean", x, axes=[2, 3], keepdims=0), net.weight(4, 3), name="scores")
    made = net.model(["n", 3, 8, 8], {"scores": ["n", 3]})
    steps = [onnx.helper.make_node("Tanh", ["x"], ["m"]), onnx.helper.make_node("Relu", ["m"], ["y"])]
    version = onnx.helper.make_opsetid("", 17)
    made.functions.append(onnx.helper.make_function("own", "Two", ["x"], ["y"], steps, [version]))
    made.opset_import.append(onnx.helper.make_opsetid("own", 1))
    maker = HeatmapMaker(loaded(made, tmp_path / "m.onnx", 3))
    (inside,) = (one for one in maker.layers if one.op == "Tanh")
    assert inside.plain == "activation (Tanh), behind stem"
    assert maker.layer(None).plain == "activation (Relu)"
    assert maker.layer(None).tensor == "worked"
