"""Rules over random shapes, axes and attributes, in every version of the operator set in which an operator came to mean or to be
written otherwise: against finite differences, through the reference evaluator or, where it has no way, through the engine."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import Any

import numpy as np
import pytest

from mivrat.core.models.engine import new_session
from tests.core.gradients.test_rules import CLASSES, TARGETS, Checked, through
from tests.support.networks import Net

Shape = list[int]


class Drawn:
    """A network under construction with a tensor of a random shape, images first; makes random choices for an operator."""

    def __init__(self, net: Net, x: str, opset: int, seed: int) -> None:
        self.net, self.opset, self.rng = net, opset, np.random.default_rng(seed)
        self.x, self.shape = x, [4, 5, 7]  # without the images
        choices: list[Shape] = [[4, 5, 7], [4, 35], [20, 7], [2, 2, 5, 7], [7, 4, 5]]
        self.shape = choices[int(self.rng.integers(len(choices)))]
        if self.shape != [4, 5, 7]:
            self.x = net.add("Reshape", x, net.weight(values=np.array([0, *self.shape])))
        axis = int(self.rng.integers(len(self.shape)))
        first = int(self.rng.integers(0, 2))
        if self.shape[axis] > 2:
            self.x = self.sliced(self.x, [first], [self.shape[axis]], [axis + 1])
            self.shape = [n - first if a == axis else n for a, n in enumerate(self.shape)]

    def sliced(self, x: str, starts: list[int], ends: list[int], axes: list[int]) -> str:
        if self.opset >= 10:
            return self.net.add("Slice", x, *(self.ints(v) for v in (starts, ends, axes)))
        return self.net.add("Slice", x, starts=starts, ends=ends, axes=axes)

    def ints(self, values: Any) -> str:
        return self.net.weight(values=np.asarray(values, np.int64))

    def floats(self, values: Any) -> str:
        return self.net.weight(values=np.asarray(values, np.float32))

    def positive(self) -> str:
        return self.net.add("Add", self.net.add("Mul", self.x, self.x), self.floats(0.5))

    def one_of(self, *options: Any) -> Any:
        return options[int(self.rng.integers(len(options)))]

    def yes(self) -> bool:
        return bool(self.rng.integers(2))

    def axis(self, *, negative: bool = True) -> int:
        """One of the axes but the first."""
        found = int(self.rng.integers(1, len(self.shape) + 1))
        return found - len(self.shape) - 1 if negative and self.opset >= 11 and self.yes() else found

    def axes(self) -> list[int]:
        count = int(self.rng.integers(1, len(self.shape) + 1))
        found = sorted(self.rng.choice(np.arange(1, len(self.shape) + 1), count, replace=False).tolist())
        return [n - len(self.shape) - 1 if self.opset >= 11 and self.yes() else n for n in found]

    def images_last(self) -> list[int]:
        """The tensor with its images on the last axis, and its shape."""
        self.x = self.net.add("Transpose", self.x, perm=[*range(1, len(self.shape) + 1), 0])
        return [*self.shape, 2]

    def images_first(self, x: str, rank: int) -> str:
        return self.net.add("Transpose", x, perm=[rank - 1, *range(rank - 1)])

    def as_pictures(self) -> int:
        """Lays the values out as images x channels x rows x columns, whatever their shape is; the number of channels."""
        count, last = int(np.prod(self.shape)), self.shape[-1]
        channels = 2 if count // last % 2 == 0 else 1
        self.x = self.net.add("Reshape", self.x, self.ints([0, channels, -1, last]))
        self.shape = [channels, count // channels // last, last]
        return channels

    def window(self, *, dilated: bool) -> dict[str, Any]:
        kernel = [int(self.rng.integers(1, min(4, n + 1))) for n in self.shape[-2:]]
        strides = self.rng.integers(1, 4, 2).tolist()
        about: dict[str, Any] = {"kernel_shape": kernel, "strides": strides}
        if dilated:
            wide = zip(kernel, self.shape[-2:], strict=True)
            about["dilations"] = [int(self.rng.integers(1, 3)) if (k - 1) * 2 < n else 1 for k, n in wide]
        elif self.rng.random() < 0.4:  # the engine has no way for steps longer than what they step
            about["strides"] = [min(pair) for pair in zip(strides, kernel, strict=True)]
            about["auto_pad"] = self.one_of("SAME_UPPER", "SAME_LOWER", "VALID")
        if "auto_pad" not in about and self.yes():
            about["pads"] = [int(self.rng.integers(0, k)) for k in kernel * 2]
        return about


def reduction(op: str, since: int) -> Callable[[Drawn], str]:
    def made(d: Drawn) -> str:
        x = d.positive() if op in ("ReduceLogSum", "ReduceProd") else d.x
        keep = {"keepdims": int(d.yes())}
        if d.opset < since:
            return d.net.add(op, x, axes=d.axes(), **keep)
        if d.rng.random() < 0.2:
            return d.net.add(op, x, noop_with_empty_axes=1, **keep)
        return d.net.add(op, x, d.ints(d.axes()), **keep)

    return made


def distribution(op: str) -> Callable[[Drawn], str]:
    return lambda d: d.net.add(op, d.x, axis=d.axis())


def cut(d: Drawn) -> str:
    axes = d.axes()
    starts = [
        int(d.rng.integers(-d.shape[a % (len(d.shape) + 1) - 1], d.shape[a % (len(d.shape) + 1) - 1] - 1)) for a in axes
    ]
    if d.opset < 10:
        return d.net.add("Slice", d.x, starts=starts, ends=[2**31 - 1] * len(axes), axes=axes)
    steps = [int(d.one_of(1, 2, -1, -2)) for _ in axes]
    ends = [2**40 if step > 0 else -(2**40) for step in steps]
    return d.net.add("Slice", d.x, d.ints(starts), d.ints(ends), d.ints(axes), d.ints(steps))


def padded(d: Drawn) -> str:
    mode = d.one_of("constant", "reflect", "edge", *(["wrap"] if d.opset >= 19 else []))
    rank = len(d.shape) + 1
    pads = [0, *(int(d.rng.integers(-1 if mode == "constant" else 0, min(3, n))) for n in d.shape)]
    pads += [0, *(int(d.rng.integers(0, min(3, n))) for n in d.shape)]
    if d.opset < 11:
        return d.net.add("Pad", d.x, pads=pads, mode=mode)
    if d.opset >= 18 and d.yes():
        some = [a for a in range(1, rank) if d.yes()] or [1]
        chosen = [pads[a] for a in some] + [pads[a + rank] for a in some]
        return d.net.add("Pad", d.x, d.ints(chosen), "", d.ints([a - rank for a in some]), mode=mode)
    return d.net.add("Pad", d.x, d.ints(pads), mode=mode)


def split(d: Drawn) -> str:
    axis = d.axis()
    size = d.shape[axis % (len(d.shape) + 1) - 1]
    parts = [1, size - 1] if size > 1 else [1]
    if d.opset < 13:
        first = d.net.add("Split", d.x, outputs=len(parts), axis=axis, split=parts)
    else:
        first = d.net.add("Split", d.x, d.ints(parts), outputs=len(parts), axis=axis)
    return d.net.add("Concat", d.net.add("Tanh", f"{first}_1"), first, axis=axis) if size > 1 else first


def gathered(d: Drawn) -> str:
    axis = d.axis()
    size = d.shape[axis % (len(d.shape) + 1) - 1]
    low = -size if d.opset >= 11 else 0
    indices = d.rng.integers(low, size, d.one_of((), (3,), (2, 2)))
    return d.net.add("Gather", d.x, d.ints(indices), axis=axis)


def gathered_at_images(d: Drawn) -> str:
    """Along the first axis, which holds no images there."""
    shape = d.images_last()
    found = d.net.add("Gather", d.x, d.ints(d.rng.integers(0, shape[0], 3)), axis=0)
    return d.images_first(found, len(shape))


def elements(d: Drawn) -> str:
    axis = d.axis()
    at = axis % (len(d.shape) + 1) - 1
    shape = [2, *d.shape]
    shape[at + 1] = int(d.rng.integers(1, 5))
    other = int(d.rng.integers(1, len(shape)))
    if other != at + 1:  # of another axis the first values alone
        shape[other] = int(d.rng.integers(1, shape[other] + 1))
    return d.net.add("GatherElements", d.x, d.ints(d.rng.integers(0, d.shape[at], shape)), axis=axis)


def gathered_nd(d: Drawn) -> str:
    leading = int(d.one_of(0, 1)) if d.opset >= 12 else 0
    if leading:
        depth = int(d.rng.integers(1, len(d.shape) + 1))
        places = np.stack([d.rng.integers(-n, n, (2, 3)) for n in d.shape[:depth]], axis=-1)
        return d.net.add("GatherND", d.x, d.ints(places), batch_dims=1)
    shape = d.images_last()
    depth = int(d.rng.integers(1, len(shape)))
    places = np.stack([d.rng.integers(-n, n, (3,)) for n in shape[:depth]], axis=-1)
    return d.images_first(d.net.add("GatherND", d.x, d.ints(places)), len(shape) - depth + 1)


def scattered(d: Drawn) -> str:
    axis = d.axis()
    at = axis % (len(d.shape) + 1) - 1
    some = min(2, d.shape[at])
    shape = [2, *d.shape]
    places = np.argsort(d.rng.random(shape), axis=at + 1).take(range(some), axis=at + 1)
    part = d.sliced(d.net.add("Tanh", d.x), [0], [some], [at + 1])
    op = "ScatterElements" if d.opset >= 11 else "Scatter"
    how = {"reduction": "add"} if d.opset >= 16 and d.yes() else {}
    return d.net.add(op, d.x, d.ints(places), part, axis=axis, **how)


def largest(d: Drawn) -> str:
    axis = d.axis()
    k = int(d.rng.integers(1, d.shape[axis % (len(d.shape) + 1) - 1] + 1))
    if d.opset < 10:
        return d.net.add("TopK", d.x, outputs=2, axis=axis, k=k)
    how = {"largest": int(d.yes())} if d.opset >= 11 else {}
    return d.net.add("TopK", d.x, d.ints([k]), outputs=2, axis=axis, **how)


def squeezed(d: Drawn) -> str:
    axes = sorted(int(n) for n in d.rng.choice(np.arange(1, len(d.shape) + 2), 2, replace=False))
    if d.opset < 13:
        there = d.net.add("Unsqueeze", d.x, axes=axes)
        return d.net.add("Squeeze", d.net.add("Tanh", there), axes=axes[:1])
    there = d.net.add("Unsqueeze", d.x, d.ints([axes[0], axes[1] - len(d.shape) - 3]))
    return d.net.add("Squeeze", d.net.add("Tanh", there), d.ints(axes[:1]))


def convolved(d: Drawn) -> str:
    channels = d.as_pictures()
    group, made, about = int(d.one_of(1, channels)), 2 * int(d.rng.integers(1, 3)), d.window(dilated=True)
    weights = d.net.weight(made, channels // group, *about["kernel_shape"]), d.net.weight(made)
    return d.net.add("Conv", d.x, *weights, group=group, **about)


def spread(d: Drawn) -> str:
    channels = d.as_pictures()
    group = int(d.one_of(1, channels))
    about = d.window(dilated=True)
    if d.yes():
        about["output_padding"] = [int(d.rng.integers(0, max(1, s))) for s in about["strides"]]
    return d.net.add(
        "ConvTranspose", d.x, d.net.weight(channels, 4 // group, *about["kernel_shape"]), group=group, **about
    )


def pooled(op: str) -> Callable[[Drawn], str]:
    def made(d: Drawn) -> str:
        d.as_pictures()
        about = d.window(dilated=d.opset >= {"MaxPool": 10, "AveragePool": 19, "LpPool": 18}[op])
        if op == "AveragePool" and d.yes():
            about["count_include_pad"] = 1
        if op == "LpPool":
            about["p"] = int(d.one_of(1, 2, 3))
        return d.net.add(op, d.x, **about)

    return made


def resized(d: Drawn) -> str:
    d.as_pictures()
    channels, height, width = d.shape
    mode = d.one_of("nearest", "linear", *(["cubic"] if d.opset >= 11 else []))
    if d.opset < 11:
        scales = [1, 1, *(float(d.one_of(0.5, 1.0, 1.5, 2.0)) for _ in range(2))]
        scales = [1.0 if int(n * s) < 1 else s for n, s in zip([2, channels, height, width], scales, strict=True)]
        return d.net.add("Resize", d.x, d.floats(scales), mode=mode)
    transform = d.one_of("half_pixel", "asymmetric", "align_corners", "pytorch_half_pixel")
    about: dict[str, Any] = {"mode": mode, "coordinate_transformation_mode": transform}
    if mode == "nearest":
        about["nearest_mode"] = d.one_of("round_prefer_floor", "floor", "ceil")
    sizes = [int(d.rng.integers(2, 9)) for _ in range(2)]
    if d.opset >= 18:
        return d.net.add("Resize", d.x, "", "", d.ints(sizes), axes=[2, 3], **about)
    empty = ["", ""] if d.opset >= 13 else [d.floats([]), d.floats([])]
    return d.net.add("Resize", d.x, *empty, d.ints([2, channels, *sizes]), **about)


def enlarged(d: Drawn) -> str:
    d.as_pictures()
    if d.opset < 9:
        d.x = d.net.add("BatchNormalization", d.x, *(d.floats(d.rng.uniform(0.5, 2, d.shape[0])) for _ in range(4)))
        return d.net.add("Upsample", d.net.add("LeakyRelu", d.x), scales=[1.0, 1.0, 2.0, 3.0], mode="nearest")
    return d.net.add("Upsample", d.x, d.floats([1, 1, 2, d.one_of(1, 3)]), mode=d.one_of("nearest", "linear"))


def multiplied(d: Drawn) -> str:
    wide = d.net.add("Transpose", d.x, perm=[0, *range(1, len(d.shape) - 1), len(d.shape), len(d.shape) - 1])
    return d.net.add(
        "MatMul",
        *d.one_of((d.x, wide), (wide, d.x), (d.x, d.net.weight(d.shape[-1], 3)), (d.net.weight(2, d.shape[-2]), d.x)),
    )


def gemm(d: Drawn) -> str:
    rows = d.net.add("Flatten", d.x, axis=1)
    width, turned = int(np.prod(d.shape)), int(d.yes())
    further = [d.net.weight(3)] if d.opset < 11 or d.yes() else []
    return d.net.add(
        "Gemm",
        rows,
        d.net.weight(*((3, width) if turned else (width, 3))),
        *further,
        transB=turned,
        alpha=0.7,
        beta=1.3,
    )


def clipped(d: Drawn) -> str:
    if d.opset < 11:
        return d.net.add("Clip", d.x, min=-0.2, max=0.4)
    return d.net.add("Clip", d.x, *d.one_of((d.floats(-0.2), d.floats(0.4)), ("", d.floats(0.1)), (d.floats(0.0),)))


def broadcast(op: str) -> Callable[[Drawn], str]:
    def made(d: Drawn) -> str:
        shape = [n if d.yes() else 1 for n in d.shape][int(d.rng.integers(len(d.shape))) :]
        weight = d.floats(d.rng.uniform(0.5, 2, shape))
        base = d.positive() if op == "Pow" else d.x
        return d.net.add(
            op, *((base, weight) if op == "Pow" or d.yes() else (weight, d.positive() if op == "Div" else base))
        )

    return made


def normalised(op: str) -> Callable[[Drawn], str]:
    def made(d: Drawn) -> str:
        if op in ("LayerNormalization", "RMSNormalization"):
            axis = d.axis()
            shape = d.shape[axis % (len(d.shape) + 1) - 1 :]
            return d.net.add(op, d.x, d.floats(d.rng.uniform(0.5, 2, shape)), axis=axis, epsilon=0.01)
        if op == "LpNormalization":
            return d.net.add(op, d.positive(), axis=d.axis(), p=d.one_of(1, 2))
        if op == "BatchNormalization":
            vectors = [d.floats(d.rng.uniform(0.5, 2, d.shape[0])) for _ in range(4)]
            return d.net.add(op, d.x, *vectors, epsilon=0.01)
        vectors = [d.floats(d.rng.uniform(0.5, 2, d.shape[0])) for _ in range(2)]
        return d.net.add(op, d.x, *vectors, epsilon=0.01)

    return made


def summed_up(d: Drawn) -> str:
    return d.net.add("CumSum", d.x, d.ints(d.axis()), exclusive=int(d.yes()), reverse=int(d.yes()))


def tiled(d: Drawn) -> str:
    return d.net.add("Tile", d.x, d.ints([1, *(d.one_of(1, 2, 3) for _ in d.shape)]))


def turned(d: Drawn) -> str:
    rank = len(d.shape) + 1
    order = d.rng.permutation(rank).tolist()
    there = d.net.add("Tanh", d.net.add("Transpose", d.x, perm=order))
    return d.net.add("Transpose", there, perm=[order.index(a) for a in range(rank)])


# The versions in which an operator came to mean or to be written otherwise.
SWEPT: dict[str, tuple[Callable[[Drawn], str], tuple[int, ...]]] = {
    "ReduceSum": (reduction("ReduceSum", 13), (9, 11, 13, 18)),
    **{
        op: (reduction(op, 18), (9, 11, 13, 18))
        for op in (
            "ReduceMean",
            "ReduceMax",
            "ReduceMin",
            "ReduceL1",
            "ReduceL2",
            "ReduceSumSquare",
            "ReduceLogSum",
            "ReduceLogSumExp",
            "ReduceProd",
        )
    },
    **{op: (distribution(op), (9, 11, 13)) for op in ("Softmax", "LogSoftmax")},
    "Slice": (cut, (9, 10, 11, 13)),
    "Pad": (padded, (9, 11, 13, 18, 19)),
    "Split": (split, (9, 11, 13, 18)),
    "Gather": (gathered, (9, 11, 13)),
    "Gather, first axis": (gathered_at_images, (9, 13, 16)),
    "GatherElements": (elements, (11, 13, 16)),
    "GatherND": (gathered_nd, (11, 12, 13, 16)),
    "ScatterElements": (scattered, (9, 10, 11, 13, 16, 18)),
    "TopK": (largest, (9, 10, 11)),
    "Squeeze": (squeezed, (9, 11, 13, 21)),
    "Conv": (convolved, (9, 11)),
    "ConvTranspose": (spread, (9, 11)),
    "MaxPool": (pooled("MaxPool"), (9, 10, 11, 12)),
    "AveragePool": (pooled("AveragePool"), (9, 10, 11, 19)),
    "LpPool": (pooled("LpPool"), (9, 11, 18)),
    "Resize": (resized, (10, 11, 13, 18, 19)),
    "Upsample": (enlarged, (7, 8, 9)),
    "MatMul": (multiplied, (8, 9, 13)),
    "Gemm": (gemm, (7, 9, 11, 13)),
    "Clip": (clipped, (9, 11, 12, 13)),
    **{op: (broadcast(op), (9, 13)) for op in ("Add", "Sub", "Mul", "Div")},
    "Pow": (broadcast("Pow"), (9, 12, 13, 15)),
    "LayerNormalization": (normalised("LayerNormalization"), (17,)),
    "RMSNormalization": (normalised("RMSNormalization"), (23,)),
    "LpNormalization": (normalised("LpNormalization"), (9, 22)),
    "BatchNormalization": (normalised("BatchNormalization"), (9, 14, 15)),
    "InstanceNormalization": (normalised("InstanceNormalization"), (9,)),
    "CumSum": (summed_up, (11, 14)),
    "Tile": (tiled, (9, 13)),
    "Transpose": (turned, (9, 13)),
}
# The first is run by ``make test``, all by ``make test-slow``.
DRAWS = 6


@pytest.mark.parametrize(
    ("op", "opset", "seed"),
    [
        pytest.param(op, opset, 10 * k + opset, marks=[pytest.mark.slow] if k else [])
        for op, (_, opsets) in SWEPT.items()
        for opset in opsets
        for k in range(DRAWS)
    ],
)
def test_a_rule_at_random(op: str, opset: int, seed: int, tmp_path: Path) -> None:
    checked = through(lambda net, x: SWEPT[op][0](Drawn(net, x, opset, seed)), tmp_path, opset=opset)
    try:
        exact = min(checked.worst_error(step) for step in (1e-6, 1e-4))
    except Exception:  # whatever it is that the evaluator has no way for
        exact = 1.0
    assert exact < 2e-4 or min(_by_engine(checked, step) for step in (3e-2, 5e-3, 1e-3)) < 5e-3


def _by_engine(checked: Checked, step: float) -> float:
    """The worst error of the gradient along random directions, by differences through the engine in single precision."""
    proto, rng = checked.maker.view.proto, np.random.default_rng(0)
    whole = new_session(_asking(proto.SerializeToString(), "stem"), as_written=True)
    here = whole.run(["stem"], {"image": checked.batch})[0]
    ahead = _from_layer(proto.SerializeToString())
    weights = np.eye(CLASSES)[TARGETS]
    errors, sizes = [], []
    for _ in range(5):
        along = (rng.standard_normal(here.shape) * (rng.random(here.shape) < 0.3)).astype(np.float32)
        both = [
            ahead.run(["scores"], {"image": checked.batch, "stem": here + sign * step * along})[0] for sign in (1, -1)
        ]
        true = float(((both[0].astype(float) - both[1]) * weights).sum() / (2 * step))
        errors.append(abs(true - float((checked.gradient.astype(float) * along).sum())))
        sizes.append(abs(true))
    return max(errors) / max(max(sizes), 1e-9)


def _asking(serialised: bytes, name: str) -> bytes:
    import onnx

    made = onnx.ModelProto.FromString(serialised)
    del made.graph.output[:]
    made.graph.output.append(onnx.ValueInfoProto(name=name))
    return made.SerializeToString()


def _from_layer(serialised: bytes) -> Any:
    import onnx

    made = onnx.ModelProto.FromString(serialised)
    for node in made.graph.node:
        node.output[:] = ["cut away" if name == "stem" else name for name in node.output]
    made.graph.input.append(onnx.helper.make_tensor_value_info("stem", onnx.TensorProto.FLOAT, None))
    return new_session(made.SerializeToString(), as_written=True)
