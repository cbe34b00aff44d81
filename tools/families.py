"""Families of classifiers, each a small network of random weights round one idea. Needs the extra ``tools``."""

from __future__ import annotations

import math
from collections.abc import Callable

import network_range
import torch
from network_range import CLASSES, Attention, Head, conv
from torch import Tensor, nn
from torch.nn import functional as F

Make = Callable[[], nn.Module]


class Stem(nn.Module):
    """Two convolutions, to 12 channels at a quarter of the side."""

    def __init__(self, act: Make = nn.ReLU) -> None:
        super().__init__()
        self.body = nn.Sequential(conv(3, 8, 3, 2, act=act), conv(8, 12, 3, 2, act=act))

    def forward(self, x: Tensor) -> Tensor:
        return self.body(x)


class Patched(nn.Module):
    """Patches as tokens (images x 16 x width), with learned positions."""

    def __init__(self, width: int = 12) -> None:
        super().__init__()
        self.patches, self.places = nn.Conv2d(3, width, 8, 8), nn.Parameter(0.2 * torch.randn(1, 16, width))

    def forward(self, x: Tensor) -> Tensor:
        return self.patches(x).flatten(2).transpose(1, 2) + self.places


class Mixing(nn.Module):
    """Normalisation, two linear layers round an activation, and the sum with what came in."""

    def __init__(self, width: int = 12, act: Make = nn.GELU) -> None:
        super().__init__()
        self.norm, self.body = nn.LayerNorm(width), nn.Sequential(nn.Linear(width, 20), act(), nn.Linear(20, width))

    def forward(self, x: Tensor) -> Tensor:
        return x + self.body(self.norm(x))


class TokensFirst(nn.Module):
    """Tokens before images, through the library's own attention module; with a class token or the mean of all."""

    def __init__(self, class_token: bool) -> None:
        super().__init__()
        self.patched, self.norm, self.mix = Patched(), nn.LayerNorm(12), Mixing()
        self.attention = nn.MultiheadAttention(12, 3)
        self.token = nn.Parameter(torch.randn(1, 1, 12)) if class_token else None
        self.head = nn.Linear(12, CLASSES)

    def forward(self, x: Tensor) -> Tensor:
        x = self.patched(x).transpose(0, 1)
        if self.token is not None:
            x = torch.cat([self.token.expand(-1, x.shape[1], -1), x])
        y = self.norm(x)
        x = self.mix(x + self.attention(y, y, y, need_weights=False)[0])
        return self.head(x[0] if self.token is not None else x.mean(0))


class Further(nn.Module):
    """Tokens of no patch beside the class token: registers, or a second one whose answer is averaged in."""

    def __init__(self, read: int) -> None:
        super().__init__()
        self.patched, self.norm, self.attention, self.mix = Patched(), nn.LayerNorm(12), Attention(12, 3), Mixing()
        self.tokens, self.read = nn.Parameter(torch.randn(1, 3, 12)), read
        self.heads = nn.ModuleList(nn.Linear(12, CLASSES) for _ in range(read))

    def forward(self, x: Tensor) -> Tensor:
        x = torch.cat([self.tokens.expand(x.shape[0], -1, -1), self.patched(x)], 1)
        x = self.mix(x + self.attention(self.norm(x)))
        return sum(head(x[:, k]) for k, head in enumerate(self.heads)) / self.read


class ClassAttention(nn.Module):
    """Patches by themselves first; then a class token alone looks at them."""

    def __init__(self) -> None:
        super().__init__()
        self.patched, self.norm, self.attention, self.mix = Patched(), nn.LayerNorm(12), Attention(12, 3), Mixing()
        self.token, self.last = nn.Parameter(torch.randn(1, 1, 12)), nn.LayerNorm(12)
        self.q, self.kv, self.out, self.head = (
            nn.Linear(12, 12),
            nn.Linear(12, 24),
            nn.Linear(12, 12),
            nn.Linear(12, CLASSES),
        )

    def forward(self, x: Tensor) -> Tensor:
        x = self.patched(x)
        x = self.mix(x + self.attention(self.norm(x)))
        token = self.token.expand(x.shape[0], -1, -1)
        y = self.last(torch.cat([token, x], 1))
        k, v = self.kv(y).chunk(2, -1)
        weights = (self.q(y[:, :1]) @ k.transpose(1, 2) / math.sqrt(12)).softmax(-1)
        return self.head((token + self.out(weights @ v))[:, 0])


class AttentionPool(nn.Module):
    """Places of a convolution's output weighed by a learned query."""

    def __init__(self) -> None:
        super().__init__()
        self.stem, self.query = Stem(), nn.Parameter(torch.randn(1, 1, 12))
        self.k, self.v, self.head = nn.Linear(12, 12), nn.Linear(12, 12), nn.Linear(12, CLASSES)

    def forward(self, x: Tensor) -> Tensor:
        x = self.stem(x).flatten(2).transpose(1, 2)
        weights = (self.query @ self.k(x).transpose(1, 2) / math.sqrt(12)).softmax(-1)
        return self.head((weights @ self.v(x))[:, 0])


class LinearAttention(nn.Module):
    """Attention without a softmax: keys and values are summed up first."""

    def __init__(self) -> None:
        super().__init__()
        self.patched, self.norm, self.qkv = Patched(), nn.LayerNorm(12), nn.Linear(12, 36)
        self.mix, self.head = Mixing(), nn.Linear(12, CLASSES)

    def forward(self, x: Tensor) -> Tensor:
        x = self.patched(x)
        q, k, v = self.qkv(self.norm(x)).chunk(3, -1)
        q, k = F.elu(q) + 1, F.elu(k) + 1
        x = x + q @ (k.transpose(1, 2) @ v) / (q * k.sum(1, keepdim=True)).sum(-1, keepdim=True)
        return self.head(self.mix(x).mean(1))


class ChannelAttention(nn.Module):
    """Channels attend to channels."""

    def __init__(self) -> None:
        super().__init__()
        self.patched, self.norm, self.qkv = Patched(), nn.LayerNorm(12), nn.Linear(12, 36)
        self.scale, self.mix, self.head = nn.Parameter(torch.ones(1)), Mixing(), nn.Linear(12, CLASSES)

    def forward(self, x: Tensor) -> Tensor:
        x = self.patched(x)
        q, k, v = self.qkv(self.norm(x)).chunk(3, -1)
        q, k = F.normalize(q, dim=1), F.normalize(k, dim=1)
        x = x + v @ (self.scale * q.transpose(1, 2) @ k).softmax(-1)
        return self.head(self.mix(x).mean(1))


class ReducedKeys(nn.Module):
    """Keys and values are of places joined four and four by a strided convolution."""

    def __init__(self) -> None:
        super().__init__()
        self.stem, self.norm, self.join, self.second = (
            Stem(),
            nn.LayerNorm(12),
            nn.Conv2d(12, 12, 2, 2),
            nn.LayerNorm(12),
        )
        self.q, self.kv, self.mix, self.head = nn.Linear(12, 12), nn.Linear(12, 24), Mixing(), nn.Linear(12, CLASSES)

    def forward(self, x: Tensor) -> Tensor:
        x = self.stem(x).flatten(2).transpose(1, 2)
        y = self.norm(x)
        few = self.join(y.transpose(1, 2).reshape(-1, 12, 8, 8)).flatten(2).transpose(1, 2)
        k, v = self.kv(self.second(few)).chunk(2, -1)
        x = x + (self.q(y) @ k.transpose(1, 2) / math.sqrt(12)).softmax(-1) @ v
        return self.head(self.mix(x).mean(1))


class Turned(nn.Module):
    """Queries and keys turned by angles that grow with the place; normalised by their root mean square; gated linear layers."""

    def __init__(self) -> None:
        super().__init__()
        self.patched, self.qkv, self.scale = Patched(), nn.Linear(12, 36), nn.Parameter(torch.rand(12) + 0.5)
        angles = torch.arange(16)[:, None] * torch.tensor([1.0, 0.5, 0.2, 0.1, 0.05, 0.02])
        self.register_buffer("cos", torch.cat([angles.cos()] * 2, 1))
        self.register_buffer("sin", torch.cat([angles.sin()] * 2, 1))
        self.gate, self.up, self.down, self.head = (
            nn.Linear(12, 20),
            nn.Linear(12, 20),
            nn.Linear(20, 12),
            nn.Linear(12, CLASSES),
        )

    def norm(self, x: Tensor) -> Tensor:
        return x * torch.rsqrt(x.square().mean(-1, keepdim=True) + 1e-5) * self.scale

    def turn(self, x: Tensor) -> Tensor:
        a, b = x.chunk(2, -1)
        return x * self.cos + torch.cat([-b, a], -1) * self.sin

    def forward(self, x: Tensor) -> Tensor:
        x = self.patched(x)
        q, k, v = self.qkv(self.norm(x)).chunk(3, -1)
        x = x + (self.turn(q) @ self.turn(k).transpose(1, 2) / math.sqrt(12)).softmax(-1) @ v
        y = self.norm(x)
        return self.head(self.norm(x + self.down(F.silu(self.gate(y)) * self.up(y))).mean(1))


class Decaying(nn.Module):
    """A scan along the tokens whose memory fades by a gate, as a sum of running sums."""

    def __init__(self) -> None:
        super().__init__()
        self.patched, self.norm, self.value, self.decay = (
            Patched(),
            nn.LayerNorm(12),
            nn.Linear(12, 12),
            nn.Linear(12, 12),
        )
        self.gate, self.head = nn.Linear(12, 12), nn.Linear(12, CLASSES)

    def forward(self, x: Tensor) -> Tensor:
        x = self.patched(x)
        y = self.norm(x)
        fading = torch.cumsum(F.softplus(self.decay(y)) * 0.1, 1)
        memory = torch.cumsum(self.value(y) * torch.exp(fading), 1) * torch.exp(-fading)
        return self.head((x + memory * torch.sigmoid(self.gate(y))).mean(1))


class Axial(nn.Module):
    """Linear layers along the rows, then along the columns."""

    def __init__(self) -> None:
        super().__init__()
        self.stem, self.rows, self.columns = Stem(), nn.Linear(8, 8), nn.Linear(8, 8)
        self.act, self.head = nn.GELU(), Head(12)

    def forward(self, x: Tensor) -> Tensor:
        x = self.stem(x)
        x = x + self.act(self.columns(x))
        return self.head(x + self.act(self.rows(x.transpose(2, 3)).transpose(2, 3)))


class GatedPlaces(nn.Module):
    """Half of the channels, mixed over all places by a linear layer, gates the other half."""

    def __init__(self) -> None:
        super().__init__()
        self.patched, self.norm, self.up, self.mix = Patched(), nn.LayerNorm(12), nn.Linear(12, 24), nn.Linear(16, 16)
        self.down, self.head = nn.Linear(12, 12), nn.Linear(12, CLASSES)

    def forward(self, x: Tensor) -> Tensor:
        x = self.patched(x)
        a, b = F.gelu(self.up(self.norm(x))).chunk(2, -1)
        return self.head((x + self.down(a * self.mix(b.transpose(1, 2)).transpose(1, 2))).mean(1))


class Pyramid(nn.Module):
    """Dilated convolutions side by side, one of the mean of all places laid out again, joined."""

    def __init__(self) -> None:
        super().__init__()
        self.stem = Stem()
        self.sides = nn.ModuleList(nn.Conv2d(12, 6, 3, padding=d, dilation=d) for d in (1, 2, 3))
        self.whole, self.head = nn.Conv2d(12, 6, 1), Head(24)

    def forward(self, x: Tensor) -> Tensor:
        x = self.stem(x)
        whole = self.whole(x.mean((2, 3), keepdim=True)).expand(-1, -1, 8, 8)
        return self.head(F.relu(torch.cat([*(side(x) for side in self.sides), whole], 1)))


class Shuffled(nn.Module):
    """Channels laid out as places, and a convolution behind."""

    def __init__(self) -> None:
        super().__init__()
        self.stem, self.wide, self.shuffle = Stem(), nn.Conv2d(12, 16, 1), nn.PixelShuffle(2)
        self.last, self.head = conv(4, 10), Head(10)

    def forward(self, x: Tensor) -> Tensor:
        return self.head(self.last(self.shuffle(self.wide(self.stem(x)))))


class Enlarged(nn.Module):
    """Nearest upsampling, and a convolution behind."""

    def __init__(self) -> None:
        super().__init__()
        self.stem, self.last, self.head = Stem(), conv(12, 10), Head(10)

    def forward(self, x: Tensor) -> Tensor:
        return self.head(self.last(F.interpolate(self.stem(x), scale_factor=2.0, mode="nearest")))


class SpatialTransformer(nn.Module):
    """The picture is sampled at places that a small network finds in it."""

    def __init__(self) -> None:
        super().__init__()
        self.finds = nn.Sequential(conv(3, 6, 5, 4), nn.AdaptiveAvgPool2d(1), nn.Flatten(), nn.Linear(6, 6))
        nn.init.normal_(self.finds[3].weight, std=0.02)
        self.finds[3].bias.data = torch.tensor([1.0, 0, 0, 0, 1, 0])
        self.stem, self.head = Stem(), Head(12)

    def forward(self, x: Tensor) -> Tensor:
        turn = self.finds(x).view(-1, 2, 3)
        line = torch.linspace(-31 / 32, 31 / 32, 32)
        down, across = torch.meshgrid(line, line, indexing="ij")
        grid = torch.stack([across, down, torch.ones_like(down)], -1).view(1, -1, 3)
        places = (grid @ turn.transpose(1, 2)).view(-1, 32, 32, 2)
        return self.head(self.stem(F.grid_sample(x, places, align_corners=False)))


class OwnKernel(nn.Module):
    """A convolution whose kernel is mixed from several by what is in the picture; for one image at a time."""

    def __init__(self) -> None:
        super().__init__()
        self.stem, self.choose = Stem(), nn.Linear(12, 3)
        self.kernels, self.head = nn.Parameter(torch.randn(3, 12 * 12 * 9) * 0.1), Head(12)

    def forward(self, x: Tensor) -> Tensor:
        x = self.stem(x)
        kernel = (self.choose(x.mean((2, 3))).softmax(-1) @ self.kernels).view(12, 12, 3, 3)
        return self.head(F.relu(F.conv2d(x, kernel, padding=1)))


class Neighbours(nn.Module):
    """Each place weighs its neighbours by a kernel that it makes itself."""

    def __init__(self) -> None:
        super().__init__()
        self.stem, self.weights, self.value, self.head = Stem(), nn.Conv2d(12, 9, 1), nn.Conv2d(12, 12, 1), Head(12)

    def forward(self, x: Tensor) -> Tensor:
        x = self.stem(x)
        around = F.unfold(self.value(x), 3, padding=1).view(-1, 12, 9, 64)
        weights = self.weights(x).flatten(2).softmax(1).unsqueeze(1)
        return self.head(x + (around * weights).sum(2).view(-1, 12, 8, 8))


class NonLocal(nn.Module):
    """Every place of a convolution's output takes in all others."""

    def __init__(self) -> None:
        super().__init__()
        self.stem, self.a, self.b, self.c = Stem(), nn.Conv2d(12, 6, 1), nn.Conv2d(12, 6, 1), nn.Conv2d(12, 12, 1)
        self.head = Head(12)

    def forward(self, x: Tensor) -> Tensor:
        x = self.stem(x)
        a, b, c = self.a(x).flatten(2), self.b(x).flatten(2), self.c(x).flatten(2)
        y = c @ (a.transpose(1, 2) @ b).softmax(1)
        return self.head(x + y.view(-1, 12, 8, 8))


class Looked(nn.Module):
    """Channels, then places, weighed by their means and maxima."""

    def __init__(self) -> None:
        super().__init__()
        self.stem, self.narrow, self.widen = Stem(), nn.Conv2d(12, 4, 1), nn.Conv2d(4, 12, 1)
        self.places, self.head = nn.Conv2d(2, 1, 7, padding=3), Head(12)

    def forward(self, x: Tensor) -> Tensor:
        x = self.stem(x)
        both = (x.mean((2, 3), keepdim=True), x.amax((2, 3), keepdim=True))
        x = x * torch.sigmoid(sum(self.widen(F.relu(self.narrow(one))) for one in both))
        seen = torch.cat([x.mean(1, keepdim=True), x.amax(1, keepdim=True)], 1)
        return self.head(x * torch.sigmoid(self.places(seen)))


class PowerMean(nn.Module):
    """Pooled by a mean of powers, with the power learned; scores by the angle to each class."""

    def __init__(self) -> None:
        super().__init__()
        self.stem, self.power, self.classes = (
            Stem(),
            nn.Parameter(torch.tensor(3.0)),
            nn.Parameter(torch.randn(CLASSES, 12)),
        )

    def forward(self, x: Tensor) -> Tensor:
        x = self.stem(x).clamp(min=1e-3).pow(self.power).mean((2, 3)).pow(1 / self.power)
        return 8 * F.normalize(x, dim=1) @ F.normalize(self.classes, dim=1).t()


class Products(nn.Module):
    """Pooled by the products of all pairs of channels."""

    def __init__(self) -> None:
        super().__init__()
        self.stem, self.head = Stem(), nn.Linear(144, CLASSES)

    def forward(self, x: Tensor) -> Tensor:
        x = self.stem(x).flatten(2)
        y = torch.einsum("nip,njp->nij", x, x).flatten(1) / 64
        return self.head(F.normalize(torch.sign(y) * torch.sqrt(y.abs() + 1e-3)))


class Largest(nn.Module):
    """The mean of each score's five largest places."""

    def __init__(self) -> None:
        super().__init__()
        self.stem, self.scores = Stem(nn.SiLU), nn.Conv2d(12, CLASSES, 1)

    def forward(self, x: Tensor) -> Tensor:
        return self.scores(self.stem(x)).flatten(2).topk(5, -1)[0].mean(-1)


class Smooth(nn.Module):
    """Pooled by the logarithm of a sum of exponentials; low-passed before each step down; slopes learned."""

    def __init__(self) -> None:
        super().__init__()
        self.first, self.slope, self.last = nn.Conv2d(3, 8, 3, padding=1), nn.PReLU(8), conv(8, 12, act=nn.Softplus)
        kernel = torch.tensor([1.0, 2.0, 1.0])
        self.register_buffer("low", (kernel[:, None] * kernel / 16).expand(8, 1, 3, 3).clone())
        self.linear = nn.Linear(12, CLASSES)

    def forward(self, x: Tensor) -> Tensor:
        x = F.pad(self.slope(self.first(x)), (1, 1, 1, 1), mode="reflect")
        x = self.last(F.conv2d(x, self.low, stride=2, groups=8))
        return self.linear(torch.logsumexp(x.flatten(2), -1) - math.log(256))


class Cropped(nn.Module):
    """The middle of the picture, cut out in the graph, with height and width swapped."""

    def __init__(self) -> None:
        super().__init__()
        self.stem, self.head = Stem(), Head(12)

    def forward(self, x: Tensor) -> Tensor:
        return self.head(self.stem(x[:, :, 4:28, 6:30].transpose(2, 3)))


class Unpadded(nn.Module):
    """Convolutions without padding: the outermost places are seen by few."""

    def __init__(self) -> None:
        super().__init__()
        self.body = nn.Sequential(
            nn.Conv2d(3, 8, 5), nn.ReLU(), nn.Conv2d(8, 8, 5), nn.ReLU(), nn.Conv2d(8, 10, 5, 2), nn.ReLU()
        )
        self.head = Head(10)

    def forward(self, x: Tensor) -> Tensor:
        return self.head(self.body(x))


class Experts(nn.Module):
    """Tokens go through several sets of linear layers, weighed by a gate."""

    def __init__(self) -> None:
        super().__init__()
        self.patched, self.gate, self.head = Patched(), nn.Linear(12, 3), nn.Linear(12, CLASSES)
        self.experts = nn.ModuleList(Mixing() for _ in range(3))

    def forward(self, x: Tensor) -> Tensor:
        x = self.patched(x)
        weights = self.gate(x).softmax(-1)
        return self.head(sum(one(x) * weights[..., k : k + 1] for k, one in enumerate(self.experts)).mean(1))


class Reading(nn.Module):
    """Rows of a convolution's output read forwards and backwards by a recurrent layer; its last states decide."""

    def __init__(self) -> None:
        super().__init__()
        self.stem, self.reads, self.linear = Stem(), nn.LSTM(12, 6, bidirectional=True), nn.Linear(12, CLASSES)

    def forward(self, x: Tensor) -> Tensor:
        x = self.stem(x).mean(3).permute(2, 0, 1)
        return self.linear(self.reads(x)[1][0].transpose(0, 1).flatten(1))


class Stages(nn.Module):
    """The means of three stages, joined: no stage sees what all others do."""

    def __init__(self) -> None:
        super().__init__()
        self.stages = nn.ModuleList([conv(3, 6, 3, 2), conv(6, 8, 3, 2), conv(8, 10, 3, 2)])
        self.linear = nn.Linear(24, CLASSES)

    def forward(self, x: Tensor) -> Tensor:
        means = []
        for stage in self.stages:
            x = stage(x)
            means.append(x.mean((2, 3)))
        return self.linear(torch.cat(means, 1))


FAMILIES: dict[str, Make] = {
    **network_range.NETWORKS,
    "tokens-first": lambda: TokensFirst(True),
    "tokens-first-mean": lambda: TokensFirst(False),
    "registers": lambda: Further(1),
    "two-class-tokens": lambda: Further(2),
    "class-attention": ClassAttention,
    "attention-pool": AttentionPool,
    "linear-attention": LinearAttention,
    "channel-attention": ChannelAttention,
    "reduced-keys": ReducedKeys,
    "turned": Turned,
    "decaying": Decaying,
    "axial": Axial,
    "gated-places": GatedPlaces,
    "pyramid": Pyramid,
    "channels-to-places": Shuffled,
    "enlarged": Enlarged,
    "spatial-transformer": SpatialTransformer,
    "own-kernel": OwnKernel,
    "neighbours": Neighbours,
    "non-local": NonLocal,
    "looked": Looked,
    "power-mean": PowerMean,
    "products": Products,
    "largest": Largest,
    "smooth": Smooth,
    "cropped": Cropped,
    "unpadded": Unpadded,
    "experts": Experts,
    "reading": Reading,
    "three-stages": Stages,
}
# These take one image at a time.
ONE_AT_A_TIME = {"own-kernel"}


def built(name: str, seed: int = 0) -> nn.Module:
    """A network with random weights and, where it normalises by batch, made-up statistics."""
    torch.manual_seed(seed)
    return network_range.with_statistics(FAMILIES[name]())
