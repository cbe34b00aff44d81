"""Random-weight networks of the usual sizes, to measure on."""

from __future__ import annotations

from pathlib import Path

from mivrat.core.models.onnx_model import OnnxModel
from mivrat.core.pictures.recipe import Crop, Recipe, Resize
from tests.support.networks import Net

CLASSES = 100
RECIPE = Recipe(resize=Resize(rule="shorter-side", size=256), crop=Crop(size=(224, 224)))


def _conv(
    net: Net, x: str, c_in: int, c_out: int, kernel: int, stride: int = 1, group: int = 1, act: str = "Relu"
) -> str:
    weight = net.weight(c_out, c_in // group, kernel, kernel, scale=(2 / (kernel * kernel * c_in // group)) ** 0.5)
    x = net.add(
        "Conv",
        x,
        weight,
        net.weight(c_out, scale=0.01),
        kernel_shape=[kernel] * 2,
        strides=[stride] * 2,
        pads=[kernel // 2] * 4,
        group=group,
    )
    return net.add(act, x) if act else x


def residual(folder: Path) -> OnnxModel:
    """Eighteen layers in four stages of two residual blocks."""
    net = Net()
    x = net.add("MaxPool", _conv(net, "image", 3, 64, 7, 2), kernel_shape=[3, 3], strides=[2, 2], pads=[1] * 4)
    before = 64
    for width in (64, 128, 256, 512):
        for block in range(2):
            stride = 2 if block == 0 and width > 64 else 1
            y = _conv(net, _conv(net, x, before, width, 3, stride), width, width, 3, act="")
            short = x if before == width else _conv(net, x, before, width, 1, stride, act="")
            x, before = net.add("Relu", net.add("Add", y, short)), width
    return _with_head(net, x, before, folder / "residual.onnx")


def mobile(folder: Path) -> OnnxModel:
    """Inverted residuals with depthwise convolutions, expansion 6."""
    net = Net()
    x, before = _conv(net, "image", 3, 32, 3, 2), 32
    for width, repeats, first_stride in (
        (16, 1, 1),
        (24, 2, 2),
        (32, 3, 2),
        (64, 4, 2),
        (96, 3, 1),
        (160, 3, 2),
        (320, 1, 1),
    ):
        for i in range(repeats):
            stride = first_stride if i == 0 else 1
            wide = before * 6
            y = _conv(net, _conv(net, x, before, wide, 1), wide, wide, 3, stride, group=wide)
            y = _conv(net, y, wide, width, 1, act="")
            x, before = (net.add("Add", x, y) if stride == 1 and before == width else y), width
    return _with_head(net, _conv(net, x, before, 1280, 1), 1280, folder / "mobile.onnx")


def _with_head(net: Net, x: str, width: int, path: Path) -> OnnxModel:
    flat = net.add("Flatten", net.add("GlobalAveragePool", x), axis=1)
    net.add("Gemm", flat, net.weight(width, CLASSES, scale=0.05), net.weight(CLASSES), name="scores")
    path.write_bytes(net.model(["n", 3, 224, 224], {"scores": ["n", CLASSES]}).SerializeToString())
    return OnnxModel(path, RECIPE, CLASSES)
