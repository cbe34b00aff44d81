"""Thirty-two networks of full size and random weights, of the kinds that classifiers are built from. Needs the extra ``tools``."""

from __future__ import annotations

from collections.abc import Callable, Sequence

import torch
from exporting import with_statistics
from torch import Tensor, nn
from torch.nn import functional as F

SIDE, CLASSES = 224, 100
Make = Callable[[], nn.Module]


def conv(
    a: int, b: int, k: int = 3, s: int = 1, g: int = 1, act: Make | None = nn.ReLU, norm: str = "batch"
) -> nn.Sequential:
    """Convolution, normalisation, activation."""
    norms = {
        "batch": nn.BatchNorm2d,
        "group": lambda n: nn.GroupNorm(8, n),
        "instance": lambda n: nn.InstanceNorm2d(n, affine=True),
    }
    made: list[nn.Module] = [nn.Conv2d(a, b, k, s, k // 2, groups=g, bias=False), norms[norm](b)]
    return nn.Sequential(*made, *([act()] if act else []))


class Excite(nn.Module):
    """Channels weighed by what all places say together."""

    def __init__(self, n: int, gate: Make = nn.Sigmoid, act: Make = nn.ReLU) -> None:
        super().__init__()
        self.layers = nn.Sequential(
            nn.AdaptiveAvgPool2d(1), nn.Conv2d(n, max(8, n // 4), 1), act(), nn.Conv2d(max(8, n // 4), n, 1), gate()
        )

    def forward(self, x: Tensor) -> Tensor:
        return x * self.layers(x)


class Around(nn.Module):
    """A body with its input added, resized where it has to be; ``after`` comes last."""

    def __init__(
        self, body: nn.Module, a: int, b: int, s: int, after: nn.Module | None = None, norm: str = "batch"
    ) -> None:
        super().__init__()
        self.body, self.after = body, after or nn.Identity()
        self.round = nn.Identity() if s == 1 and a == b else conv(a, b, 1, s, act=None, norm=norm)

    def forward(self, x: Tensor) -> Tensor:
        return self.after(self.body(x) + self.round(x))


class Head(nn.Module):
    def __init__(self, n: int, drop: float = 0.0) -> None:
        super().__init__()
        self.drop, self.linear = nn.Dropout(drop), nn.Linear(n, CLASSES)

    def forward(self, x: Tensor) -> Tensor:
        return self.linear(self.drop(F.adaptive_avg_pool2d(x, 1).flatten(1)))


def residual(
    depths: Sequence[int],
    narrow: bool,
    act: Make = nn.ReLU,
    norm: str = "batch",
    groups: int = 1,
    excite: bool = False,
    width: int = 64,
) -> nn.Module:
    """Residual blocks in four stages."""
    layers: list[nn.Module] = [conv(3, width, 7, 2, act=act, norm=norm), nn.MaxPool2d(3, 2, 1)]
    a = width
    for stage, depth in enumerate(depths):
        for i in range(depth):
            s, inner = (2 if stage and not i else 1), width << stage
            b = inner * (4 if narrow else 1)
            if narrow:
                body = [
                    conv(a, inner, 1, act=act, norm=norm),
                    conv(inner, inner, 3, s, groups, act=act, norm=norm),
                    conv(inner, b, 1, act=None, norm=norm),
                ]
            else:
                body = [conv(a, b, 3, s, act=act, norm=norm), conv(b, b, 3, act=None, norm=norm)]
            layers.append(Around(nn.Sequential(*body, *([Excite(b)] if excite else [])), a, b, s, act(), norm))
            a = b
    return nn.Sequential(*layers, Head(a))


class BeforeActivated(nn.Module):
    """A residual block that normalises and activates first."""

    def __init__(self, a: int, b: int, s: int) -> None:
        super().__init__()
        self.norm = nn.BatchNorm2d(a)
        self.one, self.norm2, self.two = nn.Conv2d(a, b, 3, s, 1), nn.BatchNorm2d(b), nn.Conv2d(b, b, 3, 1, 1)
        self.round = nn.Identity() if a == b and s == 1 else nn.Conv2d(a, b, 1, s)

    def forward(self, x: Tensor) -> Tensor:
        y = F.relu(self.norm(x))
        return self.two(F.relu(self.norm2(self.one(y)))) + self.round(x)


def before_activated() -> nn.Module:
    sizes = [(64, 64, 1), (64, 128, 2), (128, 256, 2), (256, 512, 2)]
    return nn.Sequential(
        nn.Conv2d(3, 64, 7, 4, 3), *(BeforeActivated(*one) for one in sizes), nn.BatchNorm2d(512), nn.ReLU(), Head(512)
    )


def mobile(kind: int) -> nn.Module:
    """Depthwise separable; inverted residuals with clipped units; with hard swishes and weighed channels."""
    if kind == 1:
        layers: list[nn.Module] = [conv(3, 32, 3, 2)]
        for a, b, s in (
            (32, 64, 1),
            (64, 128, 2),
            (128, 128, 1),
            (128, 256, 2),
            (256, 256, 1),
            (256, 512, 2),
            (512, 512, 1),
            (512, 1024, 2),
        ):
            layers += [conv(a, a, 3, s, a), conv(a, b, 1)]
        return nn.Sequential(*layers, Head(1024))
    act: Make = nn.ReLU6 if kind == 2 else nn.Hardswish
    layers, a = [conv(3, 16, 3, 2, act=act)], 16
    for b, s, t, k in (
        (16, 1, 1, 3),
        (24, 2, 4, 3),
        (24, 1, 4, 3),
        (40, 2, 4, 5),
        (40, 1, 6, 5),
        (80, 2, 6, 3),
        (112, 1, 6, 3),
        (160, 2, 6, 5),
    ):
        inner = a * t
        body = [conv(a, inner, 1, act=act), conv(inner, inner, k, s, inner, act=act)]
        body += [Excite(inner, nn.Hardsigmoid)] if kind == 3 else []
        body.append(conv(inner, b, 1, act=None))
        layers.append(Around(nn.Sequential(*body), a, b, s) if s == 1 and a == b else nn.Sequential(*body))
        a = b
    return nn.Sequential(*layers, conv(a, 960, 1, act=act), Head(960, 0.2))


class Shuffle(nn.Module):
    """Half of the channels goes through, and all are mixed."""

    def __init__(self, n: int) -> None:
        super().__init__()
        self.body = nn.Sequential(
            conv(n // 2, n // 2, 1), conv(n // 2, n // 2, 3, 1, n // 2, act=None), conv(n // 2, n // 2, 1)
        )

    def forward(self, x: Tensor) -> Tensor:
        a, b = x.chunk(2, 1)
        x = torch.cat([a, self.body(b)], 1)
        n, c, h, w = x.shape
        return x.view(n, 2, c // 2, h, w).transpose(1, 2).reshape(n, c, h, w)


def shuffled() -> nn.Module:
    return nn.Sequential(
        conv(3, 48, 3, 4),
        Shuffle(48),
        Shuffle(48),
        conv(48, 128, 3, 2),
        Shuffle(128),
        conv(128, 256, 3, 2),
        Shuffle(256),
        Head(256),
    )


class DenseBlock(nn.Module):
    def __init__(self, n: int, layers: int, growth: int) -> None:
        super().__init__()
        self.layers = nn.ModuleList(
            nn.Sequential(
                nn.BatchNorm2d(n + i * growth),
                nn.ReLU(),
                nn.Conv2d(n + i * growth, 4 * growth, 1),
                nn.BatchNorm2d(4 * growth),
                nn.ReLU(),
                nn.Conv2d(4 * growth, growth, 3, 1, 1),
            )
            for i in range(layers)
        )

    def forward(self, x: Tensor) -> Tensor:
        for layer in self.layers:
            x = torch.cat([x, layer(x)], 1)
        return x


def dense(depths: Sequence[int], growth: int) -> nn.Module:
    layers: list[nn.Module] = [conv(3, 64, 7, 2), nn.MaxPool2d(3, 2, 1)]
    n = 64
    for i, depth in enumerate(depths):
        layers.append(DenseBlock(n, depth, growth))
        n += depth * growth
        if i < len(depths) - 1:
            layers += [nn.BatchNorm2d(n), nn.ReLU(), nn.Conv2d(n, n // 2, 1), nn.AvgPool2d(2)]
            n //= 2
    return nn.Sequential(*layers, nn.BatchNorm2d(n), nn.ReLU(), Head(n))


class Branches(nn.Module):
    """Kernels of several sizes side by side; factorised ones where wanted."""

    def __init__(self, a: int, factorised: bool) -> None:
        super().__init__()
        wide = (
            nn.Sequential(conv(a, 48, 1), conv(48, 64, 5))
            if not factorised
            else nn.Sequential(
                conv(a, 48, 1),
                nn.Conv2d(48, 64, (1, 7), padding=(0, 3)),
                nn.ReLU(),
                nn.Conv2d(64, 64, (7, 1), padding=(3, 0)),
                nn.ReLU(),
            )
        )
        self.branches = nn.ModuleList(
            [
                conv(a, 64, 1),
                nn.Sequential(conv(a, 64, 1), conv(64, 96)),
                wide,
                nn.Sequential(nn.AvgPool2d(3, 1, 1), conv(a, 32, 1)),
            ]
        )

    def forward(self, x: Tensor) -> Tensor:
        return torch.cat([branch(x) for branch in self.branches], 1)


def inception(factorised: bool) -> nn.Module:
    return nn.Sequential(
        conv(3, 64, 7, 2),
        nn.MaxPool2d(3, 2, ceil_mode=True),
        Branches(64, factorised),
        Branches(256, factorised),
        nn.MaxPool2d(3, 2, ceil_mode=True),
        Branches(256, factorised),
        nn.MaxPool2d(3, 2, 1),
        Branches(256, factorised),
        Head(256, 0.4),
    )


class Standardised(nn.Conv2d):
    """A convolution with standardised weights instead of a normaliser."""

    def forward(self, x: Tensor) -> Tensor:
        w = self.weight
        mean, var = w.mean((1, 2, 3), keepdim=True), w.var((1, 2, 3), keepdim=True, unbiased=False)
        w = (w - mean) * torch.rsqrt(var * w[0].numel() + 1e-4)
        return F.conv2d(x, w, self.bias, self.stride, self.padding, self.dilation, self.groups)


class Scaled(nn.Module):
    def __init__(self, n: int, s: int, excite: bool) -> None:
        super().__init__()
        self.body = nn.Sequential(
            nn.GELU(),
            Standardised(n, n // 2, 1),
            nn.GELU(),
            Standardised(n // 2, n // 2, 3, s, 1, groups=4),
            nn.GELU(),
            Standardised(n // 2, n, 1),
        )
        self.excite, self.s = Excite(n) if excite else nn.Identity(), s

    def forward(self, x: Tensor) -> Tensor:
        return (F.avg_pool2d(x, 2) if self.s > 1 else x) + 0.2 * 1.7 * 2 * self.excite(self.body(x / 1.1))


def normaliser_free(excite: bool) -> nn.Module:
    blocks = [Scaled(256, s, excite) for s in (1, 2, 1, 2, 1)]
    return nn.Sequential(
        Standardised(3, 64, 3, 2, 1), nn.SiLU(), Standardised(64, 256, 3, 2, 1), *blocks, nn.GELU(), Head(256)
    )


class Attention(nn.Module):
    def __init__(self, n: int, heads: int, qk_norm: bool = False, fused: bool = True) -> None:
        super().__init__()
        self.heads, self.fused = heads, fused
        self.qkv, self.out = nn.Linear(n, 3 * n), nn.Linear(n, n)
        self.q_norm, self.k_norm = (nn.LayerNorm(n // heads) if qk_norm else nn.Identity() for _ in range(2))

    def forward(self, x: Tensor) -> Tensor:
        b, t, n = x.shape
        q, k, v = self.qkv(x).reshape(b, t, 3, self.heads, n // self.heads).permute(2, 0, 3, 1, 4).unbind(0)
        q, k = self.q_norm(q), self.k_norm(k)
        if self.fused:
            x = F.scaled_dot_product_attention(q, k, v)
        else:
            x = ((q @ k.transpose(-2, -1)) * (n // self.heads) ** -0.5).softmax(-1) @ v
        return self.out(x.transpose(1, 2).reshape(b, t, n))


class Encoder(nn.Module):
    def __init__(self, n: int, heads: int, act: Make = nn.GELU, **how: bool) -> None:
        super().__init__()
        self.a, self.b, self.attention = nn.LayerNorm(n), nn.LayerNorm(n), Attention(n, heads, **how)
        self.scale = nn.Parameter(torch.full((n,), 0.8))
        self.mlp = nn.Sequential(nn.Linear(n, 4 * n), act(), nn.Linear(4 * n, n))

    def forward(self, x: Tensor) -> Tensor:
        x = x + self.scale * self.attention(self.a(x))
        return x + self.mlp(self.b(x))


class Tokens(nn.Module):
    """Patches as tokens, with one that speaks for all, or the mean of all, or several more that are left out at the end."""

    def __init__(self, pool: str, n: int = 192, depth: int = 8, extra: int = 1, **how: bool) -> None:
        super().__init__()
        self.pool, self.extra = pool, extra
        self.patches = nn.Conv2d(3, n, 16, 16)
        self.more = nn.Parameter(torch.randn(1, extra, n) * 0.2)
        self.places = nn.Parameter(torch.randn(1, 196 + extra, n) * 0.2)
        self.blocks = nn.Sequential(*(Encoder(n, 3, **how) for _ in range(depth)))
        self.norm, self.head = nn.LayerNorm(n), nn.Linear(n, CLASSES)

    def forward(self, x: Tensor) -> Tensor:
        x = self.patches(x).flatten(2).transpose(1, 2)
        x = torch.cat([self.more.expand(x.shape[0], -1, -1), x], 1) if self.extra else x
        x = self.norm(self.blocks(x + self.places))
        return self.head(x[:, 0] if self.pool == "token" else x[:, self.extra :].mean(1))


class Windows(nn.Module):
    """Attention within windows, every other time of shifted ones, with a bias by distance; or by angle (``cosine``)."""

    def __init__(self, n: int, heads: int, shift: int, cosine: bool) -> None:
        super().__init__()
        self.n, self.heads, self.shift, self.cosine = n, heads, shift, cosine
        self.a, self.b, self.qkv, self.out = nn.LayerNorm(n), nn.LayerNorm(n), nn.Linear(n, 3 * n), nn.Linear(n, n)
        self.bias = nn.Parameter(torch.randn(1, heads, 49, 49) * 0.1)
        self.mlp = nn.Sequential(nn.Linear(n, 4 * n), nn.GELU(), nn.Linear(4 * n, n))

    def forward(self, x: Tensor) -> Tensor:
        b, h, w, n = x.shape
        y = self.a(x)
        if self.shift:
            y = torch.roll(y, (-self.shift, -self.shift), (1, 2))
        y = y.view(b, h // 7, 7, w // 7, 7, n).permute(0, 1, 3, 2, 4, 5).reshape(-1, 49, n)
        q, k, v = self.qkv(y).reshape(-1, 49, 3, self.heads, n // self.heads).permute(2, 0, 3, 1, 4).unbind(0)
        if self.cosine:
            scores = F.normalize(q, dim=-1) @ F.normalize(k, dim=-1).transpose(-2, -1) * 8.0
        else:
            scores = q @ k.transpose(-2, -1) * (n // self.heads) ** -0.5
        y = (scores + self.bias).softmax(-1) @ v
        y = self.out(y.transpose(1, 2).reshape(-1, 49, n)).view(b, h // 7, w // 7, 7, 7, n)
        y = y.permute(0, 1, 3, 2, 4, 5).reshape(b, h, w, n)
        if self.shift:
            y = torch.roll(y, (self.shift, self.shift), (1, 2))
        x = x + y
        return x + self.mlp(self.b(x))


class Merge(nn.Module):
    def __init__(self, n: int) -> None:
        super().__init__()
        self.norm, self.linear = nn.LayerNorm(4 * n), nn.Linear(4 * n, 2 * n, bias=False)

    def forward(self, x: Tensor) -> Tensor:
        x = torch.cat([x[:, i::2, j::2] for j in (0, 1) for i in (0, 1)], -1)
        return self.linear(self.norm(x))


class Windowed(nn.Module):
    def __init__(self, cosine: bool) -> None:
        super().__init__()
        self.patches, self.norm0 = nn.Conv2d(3, 48, 4, 4), nn.LayerNorm(48)
        layers: list[nn.Module] = []
        for stage in range(4):
            n = 48 << stage
            layers += [Windows(n, 3 << stage, 0, cosine), Windows(n, 3 << stage, 3 if stage < 3 else 0, cosine)]
            layers += [Merge(n)] if stage < 3 else []
        self.layers, self.norm, self.head = nn.Sequential(*layers), nn.LayerNorm(384), nn.Linear(384, CLASSES)

    def forward(self, x: Tensor) -> Tensor:
        x = self.norm0(self.patches(x).permute(0, 2, 3, 1))
        return self.head(self.norm(self.layers(x)).mean((1, 2)))


class Reduced(nn.Module):
    """Attention whose keys and values are of fewer places."""

    def __init__(self, n: int, by: int) -> None:
        super().__init__()
        self.a, self.b = nn.LayerNorm(n), nn.LayerNorm(n)
        self.q, self.kv, self.out = nn.Linear(n, n), nn.Linear(n, 2 * n), nn.Linear(n, n)
        self.few = nn.Conv2d(n, n, by, by) if by > 1 else None
        self.mlp, self.near = (
            nn.Sequential(nn.Linear(n, 4 * n), nn.GELU(), nn.Linear(4 * n, n)),
            nn.Conv2d(n, n, 3, 1, 1, groups=n),
        )

    def forward(self, x: Tensor) -> Tensor:
        b, n, h, w = x.shape
        y = self.a(x.flatten(2).transpose(1, 2))
        few = y
        if self.few is not None:
            few = self.few(y.transpose(1, 2).reshape(b, n, h, w)).flatten(2).transpose(1, 2)
        k, v = self.kv(few).chunk(2, -1)
        y = self.out(F.scaled_dot_product_attention(self.q(y)[:, None], k[:, None], v[:, None])[:, 0])
        x = x + y.transpose(1, 2).reshape(b, n, h, w)
        y = self.mlp(self.b(x.flatten(2).transpose(1, 2))).transpose(1, 2).reshape(b, n, h, w)
        return x + self.near(y)


def hierarchical(stem: str) -> nn.Module:
    first = nn.Conv2d(3, 48, 7, 4, 3) if stem == "patch" else nn.Sequential(conv(3, 24, 3, 2), conv(24, 48, 3, 2))
    layers: list[nn.Module] = [first]
    for stage, by in enumerate((8, 4, 2, 1)):
        n = 48 << stage
        layers += [Reduced(n, by), *([nn.Conv2d(n, 2 * n, 3, 2, 1)] if stage < 3 else [])]
    return nn.Sequential(*layers, nn.BatchNorm2d(384), Head(384))


class Unrolled(nn.Module):
    """The same convolution again and again, each time with the image's features put in anew."""

    def __init__(self, times: int) -> None:
        super().__init__()
        self.stem, self.times = nn.Sequential(conv(3, 64, 5, 4), conv(64, 64, 3, 2)), times
        self.again, self.head = nn.Conv2d(128, 64, 3, 1, 1), Head(64)

    def forward(self, x: Tensor) -> Tensor:
        x = self.stem(x)
        state = torch.zeros_like(x)
        for _ in range(self.times):
            state = torch.tanh(self.again(torch.cat([x, state], 1)))
        return self.head(state)


class Rows(nn.Module):
    """A recurrent part that reads the places of a convolution's output in order."""

    def __init__(self, kind: str) -> None:
        super().__init__()
        self.body = nn.Sequential(conv(3, 48, 7, 4), conv(48, 96, 3, 2), conv(96, 96, 3, 2))
        make = {"lstm": nn.LSTM, "gru": nn.GRU}[kind]
        self.reads, self.head = (
            make(96, 64, bidirectional=kind == "lstm", batch_first=True),
            nn.Linear(128 if kind == "lstm" else 64, CLASSES),
        )

    def forward(self, x: Tensor) -> Tensor:
        x = self.body(x).flatten(2).transpose(1, 2)
        return self.head(self.reads(x)[0].mean(1))


class Large(nn.Module):
    """Depthwise kernels of large size, then channels last."""

    def __init__(self, n: int, k: int) -> None:
        super().__init__()
        self.wide, self.norm = nn.Conv2d(n, n, k, 1, k // 2, groups=n), nn.LayerNorm(n)
        self.mlp, self.scale = (
            nn.Sequential(nn.Linear(n, 4 * n), nn.GELU(), nn.Linear(4 * n, n)),
            nn.Parameter(torch.full((n,), 0.5)),
        )

    def forward(self, x: Tensor) -> Tensor:
        y = self.scale * self.mlp(self.norm(self.wide(x).permute(0, 2, 3, 1)))
        return x + y.permute(0, 3, 1, 2)


def large(k: int) -> nn.Module:
    layers: list[nn.Module] = [nn.Conv2d(3, 64, 4, 4)]
    for stage in range(3):
        n = 64 << stage
        layers += [Large(n, k), Large(n, k), nn.GroupNorm(1, n), nn.Conv2d(n, 2 * n, 2, 2)]
    return nn.Sequential(*layers, Large(512, 7), Head(512))


class ThreeBranches(nn.Module):
    """Three branches that could be one convolution; or the one."""

    def __init__(self, a: int, b: int, s: int, fused: bool) -> None:
        super().__init__()
        self.fused = nn.Conv2d(a, b, 3, s, 1) if fused else None
        self.three, self.one = conv(a, b, 3, s, act=None), conv(a, b, 1, s, act=None)
        self.same = nn.BatchNorm2d(a) if a == b and s == 1 else None

    def forward(self, x: Tensor) -> Tensor:
        if self.fused is not None:
            return F.relu(self.fused(x))
        found = self.three(x) + self.one(x)
        return F.relu(found if self.same is None else found + self.same(x))


def reparameterised(fused: bool) -> nn.Module:
    sizes = [(3, 48, 2), (48, 48, 2), (48, 96, 2), (96, 96, 1), (96, 192, 2), (192, 192, 1), (192, 512, 2)]
    return nn.Sequential(*(ThreeBranches(*one, fused) for one in sizes), Head(512))


class Mixed(nn.Module):
    """Convolutions first, attention after, back to places at the end."""

    def __init__(self) -> None:
        super().__init__()
        self.stem = nn.Sequential(
            conv(3, 32, 3, 2, act=nn.SiLU),
            conv(32, 128, 3, 2, act=nn.SiLU),
            Around(
                nn.Sequential(conv(128, 256, 1, act=nn.SiLU), Excite(256, act=nn.SiLU), conv(256, 128, 1, act=None)),
                128,
                128,
                1,
            ),
            conv(128, 192, 3, 2, act=nn.SiLU),
            conv(192, 192, 3, 2, act=nn.SiLU),
        )
        self.blocks, self.last = nn.Sequential(Encoder(192, 4), Encoder(192, 4)), conv(192, 384, 1, act=nn.SiLU)
        self.head = Head(384)

    def forward(self, x: Tensor) -> Tensor:
        x = self.stem(x)
        b, n, h, w = x.shape
        x = self.blocks(x.flatten(2).transpose(1, 2)).transpose(1, 2).reshape(b, n, h, w)
        return self.head(self.last(x))


class MixedPlaces(nn.Module):
    """Tokens mixed by linear layers over places and over channels."""

    def __init__(self, n: int = 192) -> None:
        super().__init__()
        self.a, self.b = nn.LayerNorm(n), nn.LayerNorm(n)
        self.places, self.channels = (
            nn.Sequential(nn.Linear(m, 2 * m), nn.GELU(), nn.Linear(2 * m, m)) for m in (196, n)
        )

    def forward(self, x: Tensor) -> Tensor:
        x = x + self.places(self.a(x).transpose(1, 2)).transpose(1, 2)
        return x + self.channels(self.b(x))


class Mixer(nn.Module):
    def __init__(self) -> None:
        super().__init__()
        self.patches, self.blocks = nn.Conv2d(3, 192, 16, 16), nn.Sequential(*(MixedPlaces() for _ in range(6)))
        self.norm, self.head = nn.LayerNorm(192), nn.Linear(192, CLASSES)

    def forward(self, x: Tensor) -> Tensor:
        return self.head(self.norm(self.blocks(self.patches(x).flatten(2).transpose(1, 2))).mean(1))


def conv_mixer() -> nn.Module:
    layers: list[nn.Module] = [nn.Conv2d(3, 256, 8, 8), nn.GELU(), nn.BatchNorm2d(256)]
    for _ in range(6):
        deep = nn.Sequential(nn.Conv2d(256, 256, 9, 1, 4, groups=256), nn.GELU(), nn.BatchNorm2d(256))
        layers += [Around(deep, 256, 256, 1), nn.Conv2d(256, 256, 1), nn.GELU(), nn.BatchNorm2d(256)]
    return nn.Sequential(*layers, Head(256))


NETWORKS: dict[str, Make] = {
    "residual-18": lambda: residual((2, 2, 2, 2), False),
    "residual-50": lambda: residual((3, 4, 6, 3), True),
    "residual-grouped": lambda: residual((2, 2, 2, 2), True, groups=32),
    "residual-excited": lambda: residual((1, 2, 2, 1), True, excite=True),
    "residual-silu": lambda: residual((1, 1, 1, 1), False, nn.SiLU),
    "residual-group-norm": lambda: residual((1, 1, 2, 1), True, norm="group"),
    "residual-instance-norm": lambda: residual((1, 1, 1, 1), False, norm="instance"),
    "residual-before": before_activated,
    "mobile-1": lambda: mobile(1),
    "mobile-2": lambda: mobile(2),
    "mobile-3": lambda: mobile(3),
    "shuffled": shuffled,
    "dense-121": lambda: dense((6, 12, 24, 16), 32),
    "dense-small": lambda: dense((4, 6, 4), 24),
    "inception": lambda: inception(False),
    "inception-factorised": lambda: inception(True),
    "normaliser-free": lambda: normaliser_free(False),
    "normaliser-free-excited": lambda: normaliser_free(True),
    "tokens": lambda: Tokens("token"),
    "tokens-mean": lambda: Tokens("mean", extra=0, fused=False),
    "tokens-registers": lambda: Tokens("mean", extra=4, qk_norm=True),
    "windows": lambda: Windowed(False),
    "windows-cosine": lambda: Windowed(True),
    "hierarchical": lambda: hierarchical("patch"),
    "hierarchical-conv-stem": lambda: hierarchical("conv"),
    "unrolled": lambda: Unrolled(6),
    "recurrent-lstm": lambda: Rows("lstm"),
    "recurrent-gru": lambda: Rows("gru"),
    "mixed": Mixed,
    "mixer": Mixer,
    "conv-mixer": conv_mixer,
    "large-kernel-7": lambda: large(7),
    "large-kernel-31": lambda: large(31),
    "reparameterised": lambda: reparameterised(False),
    "reparameterised-fused": lambda: reparameterised(True),
}


def built(name: str, seed: int = 0) -> nn.Module:
    """A network with random weights and, where it normalises by batch, made-up statistics."""
    torch.manual_seed(seed)
    return with_statistics(NETWORKS[name]())
