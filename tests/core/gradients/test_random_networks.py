"""Networks put together at random: whatever they are, the reverse pass agrees with finite differences at every layer."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest

from mivrat.core.heatmaps.maps import HeatmapMaker, Target
from tests.support.differences import Probe
from tests.support.networks import Net, loaded, random_batch

CLASSES = 3


class Growing:
    """A network under construction: tensors of one spatial size with their channel counts, grown step by step."""

    def __init__(self, seed: int) -> None:
        self.net = Net(seed)
        self.rng = np.random.default_rng(seed)
        self.x, self.channels = "image", 3
        self.pooled = False

    def conv(self, x: str, channels_in: int, channels_out: int, *, stride: int = 1, group: int = 1) -> str:
        kernel = int(self.rng.choice([1, 2, 3]))
        dilation = int(self.rng.choice([1, 2])) if kernel > 1 else 1
        reach = (kernel - 1) * dilation
        pads = [reach // 2, reach // 2, reach - reach // 2, reach - reach // 2]
        weight = self.net.weight(channels_out, channels_in // group, kernel, kernel)
        return self.net.add(
            "Conv",
            x,
            weight,
            self.net.weight(channels_out),
            kernel_shape=[kernel] * 2,
            dilations=[dilation] * 2,
            pads=pads,
            strides=[stride] * 2,
            group=group,
        )

    def activation(self, x: str) -> str:
        op = str(self.rng.choice(["LeakyRelu", "Sigmoid", "Tanh", "Softplus", "Elu", "gated"]))
        if op == "gated":  # x times its own sigmoid
            return self.net.add("Mul", x, self.net.add("Sigmoid", x))
        return self.net.add(op, x)

    def residual(self) -> None:
        y = self.conv(self.activation(self.conv(self.x, self.channels, 6)), 6, self.channels)
        self.x = self.net.add("Add", self.x, y)

    def dense(self) -> None:
        y = self.activation(self.conv(self.x, self.channels, 2))
        self.x = self.net.add("Concat", *self.rng.permutation([self.x, y]).tolist(), axis=1)
        self.channels += 2

    def squeeze_and_excite(self) -> None:
        pooled = self.net.add("ReduceMean", self.x, axes=[2, 3], keepdims=1)
        inner = self.net.add("Conv", pooled, self.net.weight(self.channels, self.channels, 1, 1), kernel_shape=[1, 1])
        self.x = self.net.add("Mul", *self.rng.permutation([self.x, self.net.add("Sigmoid", inner)]).tolist())

    def narrow(self) -> None:
        out = 2 * self.channels
        self.x = self.activation(self.conv(self.x, self.channels, out, stride=2, group=self.channels))
        self.channels = out

    def pool(self) -> None:
        # A second maximum over the first would meet ties, where no derivative is to be had.
        op = "AveragePool" if self.pooled else str(self.rng.choice(["MaxPool", "AveragePool"]))
        self.pooled = True
        stride = int(self.rng.choice([1, 2]))
        self.x = self.net.add(op, self.x, kernel_shape=[3, 2], strides=[stride, 1], pads=[1, 1, 1, 1])

    def normalise(self) -> None:
        weights = [self.net.weight(values=self.rng.uniform(0.5, 2, self.channels).astype(np.float32)) for _ in range(4)]
        self.x = self.net.add("BatchNormalization", self.x, *weights)

    def shuffle(self) -> None:
        if self.channels % 2:
            return
        shape = [0, 2, self.channels // 2, -1]
        parts = self.net.add(
            "Transpose", self.net.add("Reshape", self.x, self.net.weight(values=np.array(shape))), perm=[0, 2, 1, 3]
        )
        like = self.net.add("Shape", self.x)
        self.x = self.net.add("Reshape", parts, like)

    def head(self) -> None:
        kind = str(self.rng.choice(["gap", "narrow", "mean"]))
        if kind == "narrow":
            small = self.conv(self.x, self.channels, 2)
            rows = self.net.add(
                "ReduceMean", self.net.add("ReduceMean", small, axes=[3], keepdims=0), axes=[2], keepdims=0
            )
            width = 2
        else:
            rows = (
                self.net.add("Flatten", self.net.add("GlobalAveragePool", self.x))
                if kind == "gap"
                else self.net.add("ReduceMean", self.x, axes=[-1, -2], keepdims=0)
            )
            width = self.channels
        self.net.add(
            "Gemm", rows, self.net.weight(CLASSES, width, scale=2), self.net.weight(CLASSES), transB=1, name="scores"
        )


def random_network(seed: int) -> Net:
    made = Growing(seed)
    made.x = made.activation(made.conv(made.x, 3, 4))
    made.channels = 4
    steps = [made.residual, made.dense, made.squeeze_and_excite, made.narrow, made.pool, made.normalise, made.shuffle]
    for step in made.rng.choice(len(steps), int(made.rng.integers(3, 7))):
        steps[step]()
    made.head()
    return made.net


@pytest.mark.parametrize("seed", [*range(5), *(pytest.param(seed, marks=pytest.mark.slow) for seed in range(5, 11))])
def test_every_layer_of_a_random_network(seed: int, tmp_path: Path) -> None:
    net = random_network(seed)
    maker = HeatmapMaker(loaded(net.model(["n", 3, 11, 13], {"scores": ["n", CLASSES]}), tmp_path / "m.onnx", CLASSES))
    batch = random_batch(maker.model, 2, seed)
    layers = [layer for layer in maker.layers if layer.heatmap]
    assert len(layers) >= 4
    assert not [layer.reason for layer in maker.layers if layer.reason and "no rule" in layer.reason]
    targets, weights = [Target(0), Target(1, against=2)], np.array([[1.0, 0, 0], [0, 1, -1]])
    feeds = {"image": batch.astype(np.float64)}
    for layer, (a, g) in zip(layers, maker.activations_and_gradients(batch, targets, layers), strict=True):
        probe = Probe(maker.view.proto, layer.tensor, "scores")
        np.testing.assert_allclose(a, probe.at(feeds), atol=2e-4)
        assert probe.worst_error(feeds, weights, g, directions=2, step=1e-8, seed=seed) < 1e-4, (layer, seed)
    alone = maker.maps(batch[:1], targets[:1], layers)
    for one, both in zip(alone, maker.maps(batch, targets, layers), strict=True):
        np.testing.assert_allclose(one[0], both[0], rtol=1e-3, atol=1e-5)
