"""Proves the reverse pass on a range of networks: builds small ones of many kinds, exports them in two ways, and checks every
layer's gradient against finite differences; writes the compact reference vectors that the tests keep.

    python tools/network_range.py check [NAME ...]     every layer of every network, both exporters
    python tools/network_range.py vectors [NAME ...]   tests/data/networks/*.onnx and vectors.npz

Needs the extra ``tools`` (PyTorch) and onnxscript; neither is part of what users install.
"""

from __future__ import annotations

import sys
import tempfile
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any

import numpy as np
import onnx
import torch
from numpy.typing import NDArray
from torch import Tensor, nn
from torch.nn import functional as F

ROOT = Path(__file__).resolve().parents[1]
sys.path[:0] = [str(ROOT / "src"), str(ROOT), str(ROOT / "tools")]

from exporting import EXPORTERS, export, with_statistics  # noqa: E402
from full_networks import Large, ThreeBranches  # noqa: E402

from mivrat.core.gradients.layers import Layer  # noqa: E402
from mivrat.core.heatmaps.maps import HeatmapMaker, Target  # noqa: E402
from mivrat.core.models.onnx_model import OnnxModel  # noqa: E402
from mivrat.core.pictures.recipe import Recipe, Resize, Values  # noqa: E402
from tests.support.differences import Probe  # noqa: E402

OUT = ROOT / "tests" / "data" / "networks"
SIDE, CLASSES = 32, 4


def conv(
    a: int, b: int, kernel: int = 3, stride: int = 1, groups: int = 1, act: Callable[[], nn.Module] = nn.ReLU
) -> nn.Sequential:
    """A convolution with batch normalisation and an activation."""
    return nn.Sequential(
        nn.Conv2d(a, b, kernel, stride, kernel // 2, groups=groups, bias=False), nn.BatchNorm2d(b), act()
    )


class Head(nn.Module):
    """Mean over places and one linear layer."""

    def __init__(self, channels: int) -> None:
        super().__init__()
        self.linear = nn.Linear(channels, CLASSES)

    def forward(self, x: Tensor) -> Tensor:
        return self.linear(x.mean((2, 3)))


class Plain(nn.Module):
    """Convolutions, max pooling, dropout, two linear layers."""

    def __init__(self) -> None:
        super().__init__()
        self.features = nn.Sequential(
            nn.Conv2d(3, 8, 3, padding=1),
            nn.ReLU(),
            nn.MaxPool2d(2),
            nn.Conv2d(8, 12, 5, padding=2),
            nn.Tanh(),
            nn.AvgPool2d(3, 2, 1),
            nn.LocalResponseNorm(3, 0.5, 0.75, 1.0),
            nn.Conv2d(12, 12, 3, padding=1),
            nn.ELU(),
        )
        self.head = nn.Sequential(
            nn.Flatten(), nn.Linear(12 * 64, 6), nn.LeakyReLU(0.1), nn.Dropout(), nn.Linear(6, CLASSES)
        )

    def forward(self, x: Tensor) -> Tensor:
        return self.head(self.features(x))


class Block(nn.Module):
    """A residual block, with what goes round it resized where it has to be."""

    def __init__(self, a: int, b: int, stride: int) -> None:
        super().__init__()
        self.body = nn.Sequential(
            conv(a, b, stride=stride), nn.Conv2d(b, b, 3, padding=1, bias=False), nn.BatchNorm2d(b)
        )
        self.round = (
            nn.Identity()
            if stride == 1 and a == b
            else nn.Sequential(nn.Conv2d(a, b, 1, stride, bias=False), nn.BatchNorm2d(b))
        )

    def forward(self, x: Tensor) -> Tensor:
        return F.relu(self.body(x) + self.round(x))


class Residual(nn.Module):
    def __init__(self) -> None:
        super().__init__()
        self.stem = nn.Sequential(conv(3, 8, 5, 2), nn.MaxPool2d(3, 2, 1))
        self.stages = nn.Sequential(Block(8, 8, 1), Block(8, 12, 2))
        self.head = Head(12)

    def forward(self, x: Tensor) -> Tensor:
        return self.head(self.stages(self.stem(x)))


class Dense(nn.Module):
    """Every layer sees all before it; normalisation before activation."""

    def __init__(self) -> None:
        super().__init__()
        self.stem = nn.Conv2d(3, 8, 3, 2, 1)
        self.layers = nn.ModuleList(
            nn.Sequential(nn.BatchNorm2d(8 + 4 * i), nn.SiLU(), nn.Conv2d(8 + 4 * i, 4, 3, padding=1)) for i in range(3)
        )
        self.narrow = nn.Sequential(nn.BatchNorm2d(20), nn.SiLU(), nn.Conv2d(20, 10, 1), nn.AvgPool2d(2))
        self.head = Head(10)

    def forward(self, x: Tensor) -> Tensor:
        x = self.stem(x)
        for layer in self.layers:
            x = torch.cat([x, layer(x)], 1)
        return self.head(self.narrow(x))


class Inception(nn.Module):
    """Branches of several widths, factorised kernels and pooled ones, joined."""

    def __init__(self) -> None:
        super().__init__()
        self.stem = conv(3, 8, 3, 2, act=nn.Softplus)
        self.one, self.three = (
            nn.Conv2d(8, 4, 1),
            nn.Sequential(
                nn.Conv2d(8, 4, 1), nn.Conv2d(4, 6, (1, 3), padding=(0, 1)), nn.Conv2d(6, 6, (3, 1), padding=(1, 0))
            ),
        )
        self.pooled = nn.Sequential(nn.AvgPool2d(3, 1, 1, count_include_pad=False), nn.Conv2d(8, 4, 1))
        self.shrink = nn.ModuleList([nn.Conv2d(14, 6, 3, 2), nn.MaxPool2d(3, 2)])
        self.head = Head(20)

    def forward(self, x: Tensor) -> Tensor:
        x = self.stem(x)
        x = torch.cat([F.softplus(self.one(x)), torch.sigmoid(self.three(x)), self.pooled(x)], 1)
        return self.head(torch.cat([part(x) for part in self.shrink], 1))


class Excite(nn.Module):
    """Squeeze and excitation."""

    def __init__(self, channels: int, gate: nn.Module) -> None:
        super().__init__()
        self.narrow, self.widen, self.gate = nn.Conv2d(channels, 3, 1), nn.Conv2d(3, channels, 1), gate

    def forward(self, x: Tensor) -> Tensor:
        return x * self.gate(self.widen(F.silu(self.narrow(F.adaptive_avg_pool2d(x, 1)))))


class Mobile(nn.Module):
    """Inverted residuals with depthwise convolutions, squeeze and excitation, and hard activations."""

    def __init__(self) -> None:
        super().__init__()
        self.stem = conv(3, 8, 3, 2, act=nn.Hardswish)
        self.first = nn.Sequential(
            conv(8, 16, 1, act=nn.Hardswish),
            conv(16, 16, 5, 2, 16, nn.Hardswish),
            Excite(16, nn.Hardsigmoid()),
            nn.Conv2d(16, 10, 1),
            nn.BatchNorm2d(10),
        )
        self.second = nn.Sequential(
            conv(10, 20, 1, act=nn.ReLU6),
            conv(20, 20, 3, 1, 20, nn.ReLU6),
            Excite(20, nn.Sigmoid()),
            nn.Conv2d(20, 10, 1),
        )
        self.head = nn.Sequential(
            nn.AdaptiveAvgPool2d(1), nn.Flatten(), nn.Linear(10, 12), nn.Hardswish(), nn.Linear(12, CLASSES)
        )

    def forward(self, x: Tensor) -> Tensor:
        x = self.first(self.stem(x))
        return self.head(x + self.second(x))


class Shuffled(nn.Module):
    """Channels split, worked on by halves, and shuffled."""

    def __init__(self) -> None:
        super().__init__()
        self.stem = conv(3, 12, 3, 2)
        self.branch = nn.Sequential(conv(6, 6, 1), nn.Conv2d(6, 6, 3, padding=1, groups=6), nn.Conv2d(6, 6, 1))
        self.head = Head(12)

    def forward(self, x: Tensor) -> Tensor:
        x = self.stem(x)
        for _ in range(2):
            kept, worked = x.chunk(2, 1)
            x = torch.cat([kept, self.branch(worked)], 1)
            n, c, h, w = x.shape
            x = x.view(n, 2, c // 2, h, w).transpose(1, 2).reshape(n, c, h, w)
        return self.head(F.avg_pool2d(x, 2))


class ScaledConv(nn.Conv2d):
    """A convolution whose weights are standardised as they are used."""

    def forward(self, x: Tensor) -> Tensor:
        mean, variance = self.weight.mean((1, 2, 3), keepdim=True), self.weight.var((1, 2, 3), keepdim=True)
        weight = (self.weight - mean) / torch.sqrt(variance * self.weight[0].numel() + 1e-4)
        return F.conv2d(x, weight, self.bias, self.stride, self.padding, self.dilation, self.groups)


class NormaliserFree(nn.Module):
    """Standardised weights, scaled activations and learned gains in place of normalisation."""

    def __init__(self) -> None:
        super().__init__()
        self.stem = ScaledConv(3, 8, 3, 2, 1)
        self.blocks = nn.ModuleList(ScaledConv(8, 8, 3, padding=1, groups=2) for _ in range(2))
        self.gain = nn.Parameter(torch.tensor(0.4))
        self.head = Head(8)

    def forward(self, x: Tensor) -> Tensor:
        x = self.stem(x)
        for block in self.blocks:
            x = x + 0.2 * self.gain * block(F.gelu(x) * 1.7015)
        return self.head(F.mish(x))


class Attention(nn.Module):
    """Multi-head self-attention."""

    def __init__(self, width: int, heads: int) -> None:
        super().__init__()
        self.heads, self.qkv, self.out = heads, nn.Linear(width, 3 * width), nn.Linear(width, width)

    def forward(self, x: Tensor, bias: Tensor | None = None) -> Tensor:
        n, t, c = x.shape
        q, k, v = self.qkv(x).reshape(n, t, 3, self.heads, c // self.heads).permute(2, 0, 3, 1, 4).unbind(0)
        scores = q @ k.transpose(-2, -1) * (c // self.heads) ** -0.5
        if bias is not None:
            scores = scores + bias
        return self.out((scores.softmax(-1) @ v).transpose(1, 2).reshape(n, t, c))


class Tokens(nn.Module):
    """A transformer over patches with a class token and learned positions."""

    def __init__(self, class_token: bool = True) -> None:
        super().__init__()
        self.patches = nn.Conv2d(3, 12, 8, 8)
        self.token = nn.Parameter(torch.randn(1, 1, 12)) if class_token else None
        self.places = nn.Parameter(0.2 * torch.randn(1, 16 + class_token, 12))
        self.norms = nn.ModuleList(nn.LayerNorm(12) for _ in range(5))
        self.attention = nn.ModuleList(Attention(12, 3) for _ in range(2))
        self.mixers = nn.ModuleList(nn.Sequential(nn.Linear(12, 20), nn.GELU(), nn.Linear(20, 12)) for _ in range(2))
        self.head = nn.Linear(12, CLASSES)

    def forward(self, x: Tensor) -> Tensor:
        x = self.patches(x).flatten(2).transpose(1, 2)
        if self.token is not None:
            x = torch.cat([self.token.expand(x.shape[0], -1, -1), x], 1)
        x = x + self.places
        for i in range(2):
            x = x + self.attention[i](self.norms[2 * i](x))
            x = x + self.mixers[i](self.norms[2 * i + 1](x))
        x = self.norms[4](x)
        return self.head(x[:, 0] if self.token is not None else x.mean(1))


class Windows(nn.Module):
    """Attention within shifted windows, with a table of relative positions, patches merged between."""

    def __init__(self) -> None:
        super().__init__()
        self.patches, self.norm = nn.Conv2d(3, 8, 4, 4), nn.LayerNorm(8)
        self.attention = nn.ModuleList(Attention(8, 2) for _ in range(2))
        self.table = nn.Parameter(torch.randn(49, 2))
        at = torch.stack(torch.meshgrid(torch.arange(4), torch.arange(4), indexing="ij")).flatten(1)
        apart = (at[:, :, None] - at[:, None]) + 3
        self.register_buffer("relative", apart[0] * 7 + apart[1])
        self.merge, self.head = nn.Linear(32, 12), nn.Linear(12, CLASSES)

    def windows(self, x: Tensor, attention: nn.Module) -> Tensor:
        n, h, w, c = x.shape
        x = x.view(n, h // 4, 4, w // 4, 4, c).permute(0, 1, 3, 2, 4, 5).reshape(-1, 16, c)
        x = attention(x, self.table[self.relative.view(-1)].view(16, 16, 2).permute(2, 0, 1)[None])
        return x.view(n, h // 4, w // 4, 4, 4, c).permute(0, 1, 3, 2, 4, 5).reshape(n, h, w, c)

    def forward(self, x: Tensor) -> Tensor:
        x = self.patches(x).permute(0, 2, 3, 1)
        x = x + self.windows(self.norm(x), self.attention[0])
        x = x + torch.roll(self.windows(torch.roll(self.norm(x), (-2, -2), (1, 2)), self.attention[1]), (2, 2), (1, 2))
        x = torch.cat([x[:, 0::2, 0::2], x[:, 1::2, 0::2], x[:, 0::2, 1::2], x[:, 1::2, 1::2]], -1)
        return self.head(F.silu(self.merge(x)).mean((1, 2)))


class Mixed(nn.Module):
    """Wide depthwise kernels, layer normalisation over channels last, learned scales; then attention over what is left."""

    def __init__(self) -> None:
        super().__init__()
        self.stem = nn.Conv2d(3, 8, 4, 4)
        self.wide, self.norm = nn.Conv2d(8, 8, 7, padding=3, groups=8), nn.LayerNorm(8)
        self.mix = nn.Sequential(nn.Linear(8, 24), nn.GELU(), nn.Linear(24, 8))
        self.scale = nn.Parameter(torch.full((8,), 0.3))
        self.down, self.attention = nn.Conv2d(8, 12, 2, 2), Attention(12, 2)
        self.query, self.head = nn.Parameter(torch.randn(12)), nn.Linear(12, CLASSES)

    def forward(self, x: Tensor) -> Tensor:
        x = self.stem(x)
        x = x + (self.scale * self.mix(self.norm(self.wide(x).permute(0, 2, 3, 1)))).permute(0, 3, 1, 2)
        x = self.down(x).flatten(2).transpose(1, 2)
        x = x + self.attention(F.layer_norm(x, (12,)))
        weights = torch.einsum("ntc,c->nt", x, self.query).softmax(-1)
        return self.head(torch.einsum("nt,ntc->nc", weights, x))


class Norms(nn.Module):
    """Group, instance and length normalisation, other activations, a pixel shuffle and a learned upsampling."""

    def __init__(self) -> None:
        super().__init__()
        self.stem, self.group = nn.Conv2d(3, 8, 3, 2, 1), nn.GroupNorm(2, 8)
        self.up, self.instance = nn.ConvTranspose2d(8, 6, 3, 2, 1, 1), nn.InstanceNorm2d(6, affine=True)
        self.shrink, self.slope = nn.PixelUnshuffle(2), nn.PReLU(24)
        self.spread, self.linear = nn.Conv2d(24, 8, 3, padding=2, dilation=2), nn.Linear(8, CLASSES)

    def forward(self, x: Tensor) -> Tensor:
        x = F.selu(self.group(self.stem(x)))
        x = F.celu(self.instance(self.up(x)))
        x = self.spread(self.slope(self.shrink(x)))
        x = x * F.interpolate(F.avg_pool2d(x, 8), size=(16, 16), mode="bilinear", align_corners=False)
        x = F.pad(x, (1, 1, 1, 1), mode="reflect")
        x = (
            torch.maximum(x, -0.5 * x)
            - torch.clamp(x, -0.3, 0.4).abs()
            + torch.where(x > 0.1, x.exp().clamp(max=5), x.pow(2))
        )
        return self.linear(F.normalize(x.mean((2, 3)) + 0.3 * x.amax((2, 3)), dim=1))


class Joined(nn.Module):
    """Coarse and fine features joined by upsampling, logits from a convolution, and a softmax in the graph."""

    def __init__(self) -> None:
        super().__init__()
        self.first, self.second = conv(3, 8, 3, 2), conv(8, 12, 3, 2)
        self.side, self.join = nn.Conv2d(8, 12, 1), conv(12, 12, act=nn.SiLU)
        self.logits = nn.Conv2d(12, CLASSES, 1)

    def forward(self, x: Tensor) -> Tensor:
        fine = self.first(x)
        x = self.join(self.side(fine) + F.interpolate(self.second(fine), scale_factor=2.0, mode="nearest"))
        return torch.softmax(self.logits(F.adaptive_avg_pool2d(x, 1)).flatten(1), 1)


class Hierarchy(nn.Module):
    """Tokens in a line between the stages; attention in shifted windows, four tokens merged into one, attention over all."""

    def __init__(self) -> None:
        super().__init__()
        self.patches, self.first, self.attention = nn.Conv2d(3, 8, 4, 4), nn.LayerNorm(8), Attention(8, 2)
        self.merge, self.second, self.whole = nn.Linear(32, 12), nn.LayerNorm(12), Attention(12, 2)
        self.mix, self.head = nn.Sequential(nn.Linear(12, 24), nn.GELU(), nn.Linear(24, 12)), nn.Linear(12, CLASSES)

    def windows(self, x: Tensor, k: int = 4) -> Tensor:
        n, h, w, c = x.shape
        x = x.view(n, h // k, k, w // k, k, c).permute(0, 1, 3, 2, 4, 5).reshape(-1, k * k, c)
        x = self.attention(x)
        return x.view(n, h // k, w // k, k, k, c).permute(0, 1, 3, 2, 4, 5).reshape(n, h, w, c)

    def forward(self, x: Tensor) -> Tensor:
        x = self.patches(x).flatten(2).transpose(1, 2)
        y = self.windows(torch.roll(self.first(x).view(-1, 8, 8, 8), (-2, -2), (1, 2)))
        x = (x + torch.roll(y, (2, 2), (1, 2)).reshape(-1, 64, 8)).view(-1, 8, 8, 8)
        x = torch.cat([x[:, 0::2, 0::2], x[:, 1::2, 0::2], x[:, 0::2, 1::2], x[:, 1::2, 1::2]], -1).view(-1, 16, 32)
        x = self.merge(x)
        x = x + self.whole(self.second(x))
        return self.head((x + self.mix(x)).mean(1))


class Unrolled(nn.Module):
    """Tokens that stand in another order than they lie in the image: every second one first."""

    def __init__(self) -> None:
        super().__init__()
        self.stem, self.norm, self.act = nn.Conv2d(3, 8, 4, 4), nn.LayerNorm(8), nn.SiLU()
        self.attention, self.head = Attention(8, 2), nn.Linear(8, CLASSES)

    def forward(self, x: Tensor) -> Tensor:
        x = self.stem(x)
        n, c, h, w = x.shape
        x = x.reshape(n, c, h // 2, 2, w // 2, 2).permute(0, 3, 5, 2, 4, 1).reshape(n, h * w, c)
        x = x + self.attention(self.norm(x))
        return self.head(self.act(x).mean(1))


class Mixer(nn.Module):
    """Linear layers over the tokens, then over the channels."""

    def __init__(self) -> None:
        super().__init__()
        self.patches, self.norm, self.tokens = nn.Conv2d(3, 8, 8, 8), nn.LayerNorm(8), nn.Linear(16, 16)
        self.channels, self.act, self.head = nn.Linear(8, 8), nn.GELU(), nn.Linear(8, CLASSES)

    def forward(self, x: Tensor) -> Tensor:
        x = self.patches(x).flatten(2).transpose(1, 2)
        x = x + self.tokens(self.norm(x).transpose(1, 2)).transpose(1, 2)
        return self.head((x + self.act(self.channels(x))).mean(1))


class Strided(nn.Module):
    """Every second place taken by strides, which one exporter writes out as arithmetic on the number of images."""

    def __init__(self) -> None:
        super().__init__()
        self.first, self.second = conv(3, 8, 3, 2), conv(4, 8)
        self.head = Head(8)

    def forward(self, x: Tensor) -> Tensor:
        x = self.first(x)
        return self.head(self.second(torch.as_strided(x, (x.shape[0], 4, 8, 8), (2048, 512, 32, 2), 17)))


class LargeKernels(nn.Module):
    """Depthwise kernels larger than what they lie on, then channels last."""

    def __init__(self) -> None:
        super().__init__()
        self.body = nn.Sequential(nn.Conv2d(3, 8, 4, 4), Large(8, 5), nn.GroupNorm(1, 8), Large(8, 9))
        self.head = Head(8)

    def forward(self, x: Tensor) -> Tensor:
        return self.head(self.body(x))


class Reparameterised(nn.Module):
    """Three branches that could be one convolution."""

    def __init__(self) -> None:
        super().__init__()
        self.body = nn.Sequential(
            ThreeBranches(3, 8, 2, False), ThreeBranches(8, 8, 1, False), ThreeBranches(8, 12, 2, False)
        )
        self.head = Head(12)

    def forward(self, x: Tensor) -> Tensor:
        return self.head(self.body(x))


class Recurrent(nn.Module):
    """A recurrent part that reads the places of a convolution's output in order."""

    def __init__(self, kind: type[nn.LSTM] | type[nn.GRU]) -> None:
        super().__init__()
        self.body = nn.Sequential(conv(3, 8, 5, 4), conv(8, 10, 3, 2))
        self.reads, self.linear = kind(10, 6, batch_first=True), nn.Linear(6, CLASSES)

    def forward(self, x: Tensor) -> Tensor:
        return self.linear(self.reads(self.body(x).flatten(2).transpose(1, 2))[0].mean(1))


NETWORKS: dict[str, Callable[[], nn.Module]] = {
    "plain": Plain,
    "residual": Residual,
    "dense": Dense,
    "inception": Inception,
    "mobile": Mobile,
    "shuffled": Shuffled,
    "normaliser-free": NormaliserFree,
    "tokens": Tokens,
    "tokens-mean": lambda: Tokens(False),
    "windows": Windows,
    "mixed": Mixed,
    "norms": Norms,
    "joined": Joined,
    "hierarchy": Hierarchy,
    "mixer": Mixer,
    "strided": Strided,
    "unrolled": Unrolled,
    "large-kernels": LargeKernels,
    "reparameterised": Reparameterised,
    "recurrent-lstm": lambda: Recurrent(nn.LSTM),
    "recurrent-gru": lambda: Recurrent(nn.GRU),
}


def built(name: str, seed: int = 0) -> nn.Module:
    """A network with random weights and, where it normalises by batch, made-up statistics."""
    torch.manual_seed(seed)
    return with_statistics(NETWORKS[name]())


def load(path: Path) -> HeatmapMaker:
    recipe = Recipe(
        resize=Resize(rule="stretch", size=(SIDE, SIDE)), values=Values(scale=1 / 255, mean=(0.5,), std=(0.25,))
    )
    return HeatmapMaker(OnnxModel(path, recipe, CLASSES))


def pictures(images: int) -> NDArray[np.float32]:
    """Smooth random images, so that maps have shapes."""
    rng = np.random.default_rng(5)
    coarse = rng.normal(size=(images, 3, 5, 5)).astype(np.float32)
    return F.interpolate(torch.from_numpy(coarse), size=(SIDE, SIDE), mode="bicubic").numpy()


def in_own_shape(
    maker: HeatmapMaker, batch: NDArray[np.float32], targets: list[int], layer: Layer
) -> tuple[NDArray[Any], NDArray[Any]]:
    """A layer's activations and their gradient as they stand in the file, on whatever axis the images lie."""
    first = [lambda values: np.moveaxis(values, layer.image_axis, 0)] * 2
    a, g = maker._run(batch, [Target(k) for k in targets], [layer], None, first)
    return np.moveaxis(a, 0, layer.image_axis), np.moveaxis(g, 0, layer.image_axis)


def by_automatic_differentiation(
    maker: HeatmapMaker, made: nn.Module, batch: NDArray[np.float32], targets: list[int]
) -> dict[str, float]:
    """For each layer that is some module's output, the largest difference to PyTorch's float64 gradient, as a share of its peak."""
    found: dict[str, float] = {}
    modules = [one for one in made.modules() if not list(one.children()) and not isinstance(one, nn.Dropout)]
    references = []
    for module in modules:
        try:
            references.append(reference_map(made, batch, targets, module))
        except (RuntimeError, IndexError, AttributeError):
            continue
    for layer in (one for one in maker.layers if one.heatmap):
        a, g = in_own_shape(maker, batch, targets, layer)
        for out, gradient in references:
            if a.shape == out.shape and np.abs(a - out).max() < 1e-5 * np.abs(out).max() and np.abs(gradient).max() > 0:
                found[layer.tensor] = min(
                    found.get(layer.tensor, np.inf), float(np.abs(g - gradient).max() / np.abs(gradient).max())
                )
    return found


def check_file(path: Path, made: nn.Module | None) -> tuple[float, float, int, int, list[str]]:
    """The worst errors over all layers with a map: against finite differences (relative to the directional derivative), and
    against automatic differentiation; how many were checked, how many have none, and what neither confirms.

    Differences across a maximum that changes hands are wrong; the other way is right there.
    """
    maker = load(path)
    batch, told, worst, checked = pictures(maker.model.batch_limit or 2), [], 0.0, 0
    targets = [Target(k % CLASSES) for k in range(len(batch))]
    exact = by_automatic_differentiation(maker, made, batch, [t.of for t in targets]) if made is not None else {}
    whole = Probe(maker.view.proto, maker.layers[0].tensor, maker.view.logits)
    feeds = {"image": batch.astype(np.float64)}
    forward = float(np.abs(whole(feeds, whole.at(feeds)).reshape(len(batch), -1) - maker.model.scores(batch)).max())
    if maker.view.logits == maker.model.output.name and forward > 1e-4:
        told.append(f"the reference evaluator's own scores are off by {forward:.1e}")
    layers = [one for one in maker.layers if one.heatmap]
    for layer in layers:
        arrays = in_own_shape(maker, batch, [t.of for t in targets], layer)
        probe = Probe(maker.view.proto, layer.tensor, maker.view.logits)
        weights = np.eye(CLASSES)[[t.of for t in targets]].reshape(maker.view.shapes[maker.view.logits])
        size = float(np.abs(arrays[1]).max())
        if not size:
            told.append(f"{layer.tensor}: no gradient")
            continue
        # Where a maximum is taken of several zeros there is no derivative: only what lies above takes part.
        pooled = any(node.op_type == "MaxPool" and layer.tensor in node.input for node in maker.view.nodes)
        only = probe.at({"image": batch.astype(np.float64)}) != 0 if pooled else None
        errors = [
            probe.worst_error(
                {"image": batch.astype(np.float64)}, weights, arrays[1], step=step, directions=4, only=only
            )
            for step in (1e-6, 1e-4, 1e-2)
        ]
        checked = checked + 1
        if min(errors) < 1e-3:
            worst = max(worst, min(errors))
        elif exact.get(layer.tensor, 1.0) > 1e-4:
            told.append(f"{layer.tensor} ({layer.op}): {min(errors):.1e}")
    return worst, max(exact.values(), default=float("nan")), checked, len(maker.layers) - len(layers), told


def check(names: list[str]) -> int:
    """Check the whole range and print a line for each file; the number of files in which something stood out."""
    bad = 0
    with tempfile.TemporaryDirectory() as folder:
        for name in names:
            for exporter in EXPORTERS:
                for fixed, opset in (
                    (None, 17 if exporter == "traced" else 18),
                    (1, 12 if exporter == "traced" else 20),
                ):
                    path, began = Path(folder) / f"{name}-{exporter}-{fixed}-{opset}.onnx", time.monotonic()
                    try:
                        export(built(name), path, exporter, fixed, opset, SIDE)
                    except Exception as error:
                        print(f"{path.stem:38} not exported: {str(error).splitlines()[0][:90]}")
                        continue
                    try:
                        worst, exact, checked, without, told = check_file(
                            path, built(name) if name != "joined" else None
                        )
                    except Exception as error:
                        bad += 1
                        print(f"{path.stem:38} FAILED: {type(error).__name__}: {str(error)[:160]}")
                        continue
                    bad += bool(told)
                    print(
                        f"{path.stem:38} {checked:3} layers, {without:3} without a map, worst {worst:.1e} (exact {exact:.1e}), {time.monotonic() - began:.1f} s  {'; '.join(told[:4])}",
                        flush=True,
                    )
    return bad


def reference_map(
    made: nn.Module, batch: NDArray[np.float32], targets: list[int], module: nn.Module
) -> tuple[NDArray[Any], NDArray[Any]]:
    """A module's output (float64, as it is) and its gradient, by PyTorch's own automatic differentiation."""
    kept: list[Tensor] = []
    handle = module.register_forward_hook(lambda _m, _i, out: (out.retain_grad(), kept.append(out))[-1])
    x = torch.from_numpy(batch).double().requires_grad_()
    scores = made.double()(x)
    handle.remove()
    if bool((scores.sum(1) - 1).abs().max() < 1e-6):  # probabilities: the target is the logit
        scores = scores.log() - scores.log().mean(1, keepdim=True).detach() * 0
    sum(scores[i, k] for i, k in enumerate(targets)).backward()
    return kept[0].detach().numpy(), kept[0].grad.numpy()


def vectors(names: list[str]) -> None:
    """Write small networks with the gradients PyTorch finds in them: all of them, or some ``names`` beside what is there."""
    OUT.mkdir(parents=True, exist_ok=True)
    held: dict[str, NDArray[Any]] = {"batch": pictures(2).astype(np.float16)}
    if names:
        with np.load(OUT / "vectors.npz") as before:
            held = {key: before[key] for key in before if key.split("|")[0] not in names}
    else:
        for old in OUT.glob("*"):
            old.unlink()
    batch, targets = held["batch"].astype(np.float32), [1, 3]
    for number, name in enumerate(NETWORKS):
        if name == "joined" or (names and name not in names):
            continue  # its softmax hides the logits from PyTorch
        made, exporter = built(name), EXPORTERS[number % 2]
        path = OUT / f"{name}.onnx"
        export(made, path, exporter, None, 17 if exporter == "traced" else 18, SIDE)
        proto = onnx.load(path)
        for node in proto.graph.node:
            node.doc_string = ""
            del node.metadata_props[:]
        del proto.graph.value_info[:]
        del proto.metadata_props[:]
        onnx.save(proto, path)
        maker, at = load(path), 0
        spatial = [one for one in maker.layers if one.heatmap]
        activations = {one.tensor: in_own_shape(maker, batch, targets, one)[0] for one in spatial}
        for module in made.modules():
            if at == 3 or len(list(module.children())) or isinstance(module, nn.Dropout):
                continue
            try:
                out, gradient = reference_map(made, batch, targets, module)
            except (RuntimeError, IndexError, AttributeError):
                continue
            same = [
                t
                for t, a in activations.items()
                if a.shape == out.shape and np.abs(a - out).max() < 1e-4 * np.abs(out).max()
            ]
            if same and np.abs(gradient).max() > 0 and max(out.shape[1:]) <= 24:
                layer = next(one for one in spatial if one.tensor == same[-1])
                a, g = layer.channels_first(out), layer.channels_first(gradient)
                weighted = np.maximum(0, (g.mean((2, 3), keepdims=True) * a).sum(1))
                for ending, maps in (("", weighted), ("|signed", (g * a).sum(1))):
                    # Before a normalisation over places the mean gradient is nothing but rounding.
                    if np.abs(maps).max() > 1e-3 * np.abs(g).max() * np.abs(a).max():
                        held[f"{name}|{layer.tensor}{ending}"] = maps.astype(np.float32)
                at += 1
        print(name, exporter, path.stat().st_size, at)
    np.savez_compressed(OUT / "vectors.npz", **held)


if __name__ == "__main__":
    if sys.argv[1:2] == ["vectors"]:
        vectors(sys.argv[2:])
    else:
        sys.exit(bool(check(sys.argv[2:] or list(NETWORKS))))
