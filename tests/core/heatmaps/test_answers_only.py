"""Maps that need no gradient: the activation map against the logit, the others against loops and a model that looks at one spot."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import onnx
import onnxruntime as ort
import pytest
from PIL import Image

from mivrat.core.base.errors import InputError
from mivrat.core.heatmaps.maps import HeatmapMaker, Target
from tests.support.networks import Net, classifier, loaded, random_batch, seeing_one_spot


@pytest.mark.parametrize("head", ["logits", "probabilities", "sigmoid", "softmax-4d"])
def test_an_activation_map_adds_up_to_the_logit(head: str, tmp_path: Path) -> None:
    proto = classifier(head=head)  # type: ignore[arg-type]
    maker = HeatmapMaker(loaded(proto, tmp_path / "m.onnx", 2 if head == "sigmoid" else 3))
    batch = random_batch(maker.model, 3)
    layer = maker.layer_for("activation", None)
    assert layer is not None
    assert layer.tensor == "features"
    before = {"logits": "scores", "probabilities": "raw", "sigmoid": "raw", "softmax-4d": None}[head]
    if before is None:
        before = next(node.input[0] for node in proto.graph.node if node.op_type == "Softmax")
    proto.graph.output.append(onnx.helper.make_tensor_value_info(before, onnx.TensorProto.FLOAT, None))
    session = ort.InferenceSession(proto.SerializeToString(), providers=["CPUExecutionProvider"])
    logits = session.run([before], {"image": batch})[0].reshape(3, -1)
    bias = next(
        (onnx.numpy_helper.to_array(one) for one in proto.graph.initializer if list(one.dims) == [logits.shape[1]]), 0
    )
    logits = logits - (bias if head != "softmax-4d" else 0)
    if head == "sigmoid":
        logits = np.concatenate([-logits, logits], axis=1)
    for of in range(logits.shape[1]):
        (found,) = maker.maps(batch, [Target(of)] * 3, [layer], "activation")
        assert found.mean(axis=(1, 2)) == pytest.approx(logits[:, of], abs=1e-5)
    (found,) = maker.maps(batch, [Target(1, 0)] * 3, [layer], "activation")
    assert found.mean(axis=(1, 2)) == pytest.approx(logits[:, 1] - logits[:, 0], abs=1e-5)


def test_an_activation_map_needs_pooling_before_one_linear_layer(tmp_path: Path) -> None:
    with pytest.raises(InputError, match="does not end in a mean over all places"):
        seeing_one_spot(tmp_path).layer_for("activation", None)
    maker = HeatmapMaker(loaded(classifier(), tmp_path / "c.onnx", 3))
    with pytest.raises(InputError, match="layer before pooling, 'features'"):
        maker.layer_for("activation", "Conv_2")


def test_score_weighted_maps_by_loops(tmp_path: Path) -> None:
    proto = classifier(side=12)
    maker = HeatmapMaker(loaded(proto, tmp_path / "m.onnx", 3))
    batch = random_batch(maker.model, 2)
    layer = maker.layer_for("score", "features")
    assert layer is not None
    (found,) = maker.maps(batch, [Target(2), Target(0, 1)], [layer], "score")
    proto.graph.output.append(onnx.helper.make_tensor_value_info("features", onnx.TensorProto.FLOAT, None))
    activations = ort.InferenceSession(proto.SerializeToString(), providers=["CPUExecutionProvider"]).run(
        ["features"], {"image": batch}
    )[0]
    for i, (of, against) in enumerate(((2, None), (0, 1))):
        scores = []
        for one in activations[i]:
            scaled = (one - one.min()) / (one.max() - one.min() or 1)
            mask = np.asarray(Image.fromarray(scaled.astype(np.float32)).resize((12, 12), Image.Resampling.BILINEAR))
            row = maker.model.scores((batch[i] * mask)[None])[0].astype(float)
            scores.append(row[of] - (row[against] if against is not None else 0))
        weights = np.exp(scores) / np.exp(scores).sum()
        expected = np.maximum(0, sum(w * one for w, one in zip(weights, activations[i], strict=True)))
        assert found[i] == pytest.approx(expected, rel=1e-4, abs=1e-6)


@pytest.mark.parametrize("channels_last", [False, True])
def test_occlusion_by_loops_and_where_it_should_be(channels_last: bool, tmp_path: Path) -> None:
    maker = seeing_one_spot(tmp_path, channels_last=channels_last)
    assert maker.layer_for("occlusion", None) is None
    picture = random_batch(maker.model, 1)[0]
    (found,) = maker.maps(picture[None], [Target(0)], [], "occlusion")
    heat = found[0]
    assert heat.shape == (10, 14)  # windows of 6, moved by 3

    def probability(one: np.ndarray) -> float:
        row = maker.model.scores(one[None])[0].astype(float)
        return float(np.exp(row[0]) / np.exp(row).sum())

    whole, r, c = probability(picture), 2, 7
    drops = []
    for top in (r - 1, r):
        for left in (c - 1, c):
            hidden = picture.copy()
            some = slice(3 * top, 3 * top + 6), slice(3 * left, 3 * left + 6)
            hidden[some if channels_last else (slice(None), *some)] = 0
            drops.append(whole - probability(hidden))
    assert heat[r, c] == pytest.approx(np.mean(drops), abs=1e-6)
    hot = np.argwhere(heat > 0.5 * heat.max())
    assert set(hot[:, 0]) <= {0, 1, 2}
    assert set(hot[:, 1]) <= {6, 7, 8}
    assert np.abs(heat[5:]).max() < 1e-6


def test_random_masks_find_the_spot_and_are_the_same_every_time(tmp_path: Path) -> None:
    maker = seeing_one_spot(tmp_path)
    picture = np.ones((1, 3, 30, 40), np.float32)
    (found,) = maker.maps(picture, [Target(0)], [], "masks", seed=3)
    assert found.shape == (1, 30, 40)
    y, x = np.unravel_index(found[0].argmax(), (30, 40))
    assert 2 <= y <= 10
    assert 17 <= x <= 28
    assert abs(float(found[0].mean())) < 1e-6
    (again,) = maker.maps(picture, [Target(0)], [], "masks", seed=3)
    np.testing.assert_array_equal(found, again)
    (other,) = maker.maps(picture, [Target(0)], [], "masks", seed=4)
    assert np.corrcoef(found.ravel(), other.ravel())[0, 1] > 0.5


def test_a_layer_that_no_gradient_reaches_still_gives_score_weighted_maps(tmp_path: Path) -> None:
    net = Net(seed=1)
    x = net.add("Conv", "image", net.weight(4, 3, 3, 3), kernel_shape=[3, 3], name="before")
    x = net.add("ReduceMean", net.add("Mod", x, net.add("Exp", x), fmod=1), axes=[2, 3], keepdims=0)
    net.add("MatMul", x, net.weight(4, 3), name="scores")
    maker = HeatmapMaker(loaded(net.model(["n", 3, 8, 8], {"scores": ["n", 3]}), tmp_path / "m.onnx", 3))
    layer = maker.layer_for("score", "before")
    assert layer is not None
    assert not layer.heatmap
    (found,) = maker.maps(random_batch(maker.model, 2), [Target(1)] * 2, [layer], "score")
    assert found.shape == (2, 6, 6)
    with pytest.raises(InputError, match="Mod"):
        maker.layer_for("gradient", "before")
