"""Every rule of the derivative table against finite differences in float64 through ONNX's reference evaluator.

Each case puts one operator between a four-axis layer and a random linear head, and checks the gradient at the layer
along random directions. Shapes are odd and uneven on purpose.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path

import numpy as np
import onnxruntime as ort
import pytest

from mivrat.core.gradients.rules import RULES
from mivrat.core.heatmaps.maps import HeatmapMaker, Target
from tests.support.differences import Probe
from tests.support.networks import Net, loaded, random_batch

Body = Callable[[Net, str], str]
WORST = 2e-5
CLASSES, TARGETS = 3, [0, 2]
# The reference evaluator rounds Erf to float32, so its differences need a longer step and more leave.
ROUNDED = {"Erf": (1e-2, 2e-4), "Gelu": (1e-2, 2e-3), "GroupNormalization": (1e-2, 2e-3)}


def simple(op: str, **attributes: object) -> Body:
    return lambda net, x: net.add(op, x, **attributes)


def shifted(op: str, **attributes: object) -> Body:
    """On values well above zero, for operators undefined below it."""
    return lambda net, x: net.add(
        op, net.add("Add", net.add("Mul", x, x), net.weight(values=np.float32(0.5))), **attributes
    )


def small(op: str) -> Body:
    """On values between -0.8 and 0.8, for operators undefined beyond 1."""
    return lambda net, x: net.add(op, net.add("Mul", net.add("Tanh", x), net.weight(values=np.float32(0.8))))


def conv(out: int, kernel: tuple[int, int], *, group: int = 1, channels: int = 4, **attributes: object) -> Body:
    return lambda net, x: net.add(
        "Conv",
        x,
        net.weight(out, channels // group, *kernel),
        net.weight(out),
        kernel_shape=list(kernel),
        group=group,
        **attributes,
    )


def with_weight(op: str, *shape: int, first: bool = True, **attributes: object) -> Body:
    """The layer with a constant that broadcasts to it, on either side."""

    def body(net: Net, x: str) -> str:
        weight = net.weight(values=np.random.default_rng(5).uniform(0.5, 2, shape).astype(np.float32))
        return net.add(op, *((x, weight) if first else (weight, x)), **attributes)

    return body


def with_itself_pooled(op: str, *, first: bool = True) -> Body:
    """The layer with its own spatial mean (an image-dependent operand that broadcasts), shifted away from zero."""

    def body(net: Net, x: str) -> str:
        squared = net.add("Mul", x, x)
        pooled = net.add("Add", net.add("GlobalAveragePool", squared), net.weight(values=np.float32(1.0)))
        return net.add(
            op, *((x, pooled) if first else (pooled, net.add("Add", squared, net.weight(values=np.float32(1.0)))))
        )

    return body


def batch_norm(net: Net, x: str) -> str:
    rng = np.random.default_rng(2)
    weights = [net.weight(values=rng.uniform(0.5, 2, 4).astype(np.float32)) for _ in range(4)]
    return net.add("BatchNormalization", x, *weights, epsilon=1e-3)


def to_rows(net: Net, x: str) -> str:
    """N x C x H x W to N x HW x C, as token mixers want it."""
    flat = net.add("Reshape", x, net.weight(values=np.array([0, 4, -1])))
    return net.add("Transpose", flat, perm=[0, 2, 1])


def self_attention(net: Net, x: str) -> str:
    rows = to_rows(net, x)
    query, key = (net.add("MatMul", rows, net.weight(4, 4)) for _ in range(2))
    scores = net.add("MatMul", query, net.add("Transpose", key, perm=[0, 2, 1]))
    return net.add("MatMul", net.add("Softmax", scores, axis=-1), rows)


def concat(net: Net, x: str) -> str:
    return net.add("Concat", net.add("Sigmoid", x), x, net.add("Tanh", x), axis=1)


def split(net: Net, x: str) -> str:
    first = net.add("Split", x, net.weight(values=np.array([1, 3])), outputs=2, axis=1)
    return net.add("Concat", net.add("Tanh", first + "_1"), first, axis=1)


def split_one_unused(net: Net, x: str) -> str:
    return net.add("Split", x, net.weight(values=np.array([1, 3])), outputs=2, axis=1) + "_1"


def gemm(turn_a: int, turn_b: int, alpha: float, beta: float) -> Body:
    def body(net: Net, x: str) -> str:
        rows = net.add("Flatten", net.add("GlobalAveragePool", net.add("Mul", x, x)))
        if turn_a:
            rows = net.add("Transpose", rows, perm=[1, 0])
        weight = net.weight(*((5, 4) if turn_b else (4, 5)))
        return net.add("Gemm", rows, weight, net.weight(5), transA=turn_a, transB=turn_b, alpha=alpha, beta=beta)

    return body


def gemm_second(net: Net, x: str) -> str:
    """A product whose second factor comes from the layer, laid back to one row per image."""
    rows = net.add("Flatten", net.add("GlobalAveragePool", net.add("Mul", x, x)))
    product = net.add("Gemm", net.weight(6, 4), rows, net.weight(6, 1), transB=1, beta=2.0)
    return net.add("Transpose", product, perm=[1, 0])


def gemm_third(net: Net, x: str) -> str:
    """What is added comes from the layer too, as one column that is spread over all."""
    rows = net.add("Flatten", net.add("GlobalAveragePool", net.add("Mul", x, x)))
    column = net.add("MatMul", rows, net.weight(4, 1))
    return net.add("Gemm", rows, net.weight(4, 5), column, beta=3.0)


def vector_product(net: Net, x: str) -> str:
    rows = to_rows(net, x)
    return net.add("MatMul", rows, net.weight(4))


def left_constant_product(net: Net, x: str) -> str:
    return net.add("MatMul", net.weight(3, 35), to_rows(net, x))


def constants(op: str, **values: object) -> Body:
    """An operator whose further inputs are integer constants, in order."""
    return lambda net, x: net.add(op, x, *(net.weight(values=np.asarray(v)) for v in values.values()))


def at(opset: int, body: Body) -> Body:
    """The same in another version of the operator set."""
    body.opset = opset  # type: ignore[attr-defined]
    return body


def positive(net: Net, x: str) -> str:
    return net.add("Add", net.add("Mul", x, x), net.weight(values=np.float32(0.5)))


def normalised(op: str, *lengths: int, **attributes: object) -> Body:
    """An operator with a scale and a shift of so many numbers."""
    return lambda net, x: net.add(
        op,
        x,
        *(
            net.weight(values=np.random.default_rng(i).uniform(0.5, 2, n).astype(np.float32))
            for i, n in enumerate(lengths)
        ),
        **attributes,
    )


def chosen(net: Net, x: str) -> str:
    condition = net.add("Greater", x, net.weight(values=np.float32(0.1)))
    return net.add("Where", condition, net.add("Tanh", x), net.add("GlobalAveragePool", x))


def transposed(out: int, kernel: tuple[int, int], *, group: int = 1, **attributes: object) -> Body:
    return lambda net, x: net.add(
        "ConvTranspose",
        x,
        net.weight(4, out // group, *kernel),
        net.weight(out),
        kernel_shape=list(kernel),
        group=group,
        **attributes,
    )


def resized(sizes: list[int] | None = None, scales: list[float] | None = None, **attributes: object) -> Body:
    def body(net: Net, x: str) -> str:
        if scales is not None:
            return net.add("Resize", x, "", net.weight(values=np.array(scales, np.float32)), **attributes)
        return net.add("Resize", x, "", "", net.weight(values=np.array(sizes, np.int64)), **attributes)

    return body


def rounded_up(op: str, **attributes: object) -> Body:
    """A pooling whose last window would begin in the padding: the engine does not know beforehand how many there are."""

    def body(net: Net, x: str) -> str:
        pooled = net.add(op, x, **attributes)
        return net.add("GlobalAveragePool", net.add("Mul", pooled, pooled))

    return body


def with_constant(op: str, values: object, **attributes: object) -> Body:
    return lambda net, x: net.add(op, x, net.weight(values=np.asarray(values)), **attributes)


def by_turns(body: Body) -> Body:
    """The layer with its channels and rows before its images."""
    return lambda net, x: net.add("Transpose", body(net, net.add("Transpose", x, perm=[1, 2, 0, 3])), perm=[1, 0, 2])


def apart(shape: list[int], body: Body) -> Body:
    """The layer with its places on another number of axes."""
    return lambda net, x: body(net, net.add("Reshape", x, net.weight(values=np.array(shape))))


def written_over(**attributes: object) -> Body:
    """Some places of the layer are replaced by values that come from the layer too."""

    def body(net: Net, x: str) -> str:
        turned = net.add("Transpose", x, perm=[1, 2, 0, 3])
        some = net.add("GatherND", net.add("Tanh", turned), net.weight(values=np.array([[0, 0], [3, 2]])))
        places = net.weight(values=np.array([[1, 4], [2, -1]]))
        written = net.add("ScatterND", turned, places, some, **attributes)
        return net.add("Transpose", written, perm=[2, 0, 1, 3])

    return body


def to_a_power(net: Net, x: str) -> str:
    """Both the base and the exponent come from the layer; some bases are 0."""
    base = net.add("Relu", x)
    return net.add("Pow", base, net.add("Add", net.add("Sigmoid", x), net.weight(values=np.float32(1.5))))


def own_kernel(*, group: int = 1, bias: bool = False, rows: int = 3, **attributes: object) -> Body:
    """A convolution of a constant picture, or of the layer itself, by a kernel that comes from the layer, of one image."""

    def body(net: Net, x: str) -> str:
        one = net.add("Slice", x, *(net.weight(values=np.array([n])) for n in (0, 1, 0)))
        some = net.add("Slice", one, *(net.weight(values=np.array(v)) for v in ([0, 0], [rows, 2], [2, 3])))
        channels = 4 // group
        kernel = net.add("Slice", some, *(net.weight(values=np.array([n])) for n in (0, channels, 1)))
        kernel = net.add("Concat", *([kernel, net.add("Tanh", kernel)] * group), axis=0)
        given = [net.add("ReduceMean", kernel, axes=[1, 2, 3], keepdims=0)] if bias else []
        return net.add("Conv", net.add("Sin", x), kernel, *given, kernel_shape=[rows, 2], group=group, **attributes)

    return body


def own_slope(net: Net, x: str) -> str:
    return net.add("PRelu", x, net.add("Tanh", net.add("GlobalAveragePool", x)))


def squares(net: Net, x: str) -> str:
    """Images x 5 x 5 values with a diagonal."""
    return net.add("Einsum", x, net.add("Tanh", x), equation="nchw,ncgw->nhg")


def largest(**attributes: object) -> Body:
    def body(net: Net, x: str) -> str:
        found = net.add("TopK", x, net.weight(values=np.array([3])), outputs=2, **attributes)
        places = net.add("Cast", f"{found}_1", to=1)
        return net.add("Concat", found, net.add("Mul", found, places), axis=1)

    return body


def put_in(op: str, **attributes: object) -> Body:
    """Values from the layer put over others of it along an axis."""

    def body(net: Net, x: str) -> str:
        places = net.weight(
            values=np.stack([np.array([[1, 0, 3, 2, 4, 6, 5], [2, 3, 4, 5, 6, 0, 1]])] * 8).reshape(2, 4, 2, 7)
        )
        part = net.add("Slice", net.add("Tanh", x), *(net.weight(values=np.array(v)) for v in ([0], [2], [2])))
        return net.add(op, x, places, part, axis=3, **attributes)

    return body


def transformed(
    length: int | None, *, back: bool = False, opset: int = 17, axis: int = 2, **attributes: object
) -> Body:
    """A Fourier transform of the layer, or of pairs of its values as complex numbers; and the squares of what it gives."""

    def body(net: Net, x: str) -> str:
        shape = [0, 2, 5, 7, 2] if back else [0, 4, 5, 7, 1]
        x = net.add("Reshape", x, net.weight(values=np.array(shape)))
        given = ["" if length is None else net.weight(values=np.array(length))]
        about = {} if opset >= 20 else {"axis": axis}
        given += [net.weight(values=np.array(axis))] if opset >= 20 else []
        return net.add("Cos", net.add("DFT", x, *given, **about, **attributes))

    return at(opset, body)


def of_regions(net: Net, x: str) -> str:
    regions = net.weight(values=np.array([[0, 0, 4, 3], [1, 1, 6, 4.5], [0.5, 2, 3, 4]], np.float32))
    found = net.add(
        "RoiAlign",
        x,
        regions,
        net.weight(values=np.array([1, 0, 1])),
        output_height=2,
        output_width=3,
        sampling_ratio=2,
    )
    return net.add("Reshape", net.add("Transpose", found, perm=[1, 0, 2, 3]), net.weight(values=np.array([2, -1])))


def sampled(places_from_image: bool, **attributes: object) -> Body:
    """The layer taken at other places: fixed ones, or such as depend on it."""

    def body(net: Net, x: str) -> str:
        grid = net.rng.uniform(-1.2, 1.2, (1, 3, 6, 2)).astype(np.float32)
        places = net.add("Expand", net.weight(values=grid), net.weight(values=np.array([2, 1, 1, 1])))
        if places_from_image:
            moved = net.add(
                "Slice",
                net.add("Tanh", x),
                *(net.weight(values=np.array(v)) for v in ([0, 0, 0], [2, 3, 6], [1, 2, 3])),
            )
            moved = net.add("Transpose", moved, perm=[0, 2, 3, 1])
            places = net.add("Add", places, net.add("Mul", moved, net.weight(values=np.float32(0.2))))
        return net.add("GridSample", x, places, **attributes)

    return at(16, body)


def reversed_parts(net: Net, x: str) -> str:
    """The first rows of each image turned round, of each another number."""
    turned = net.add("Transpose", x, perm=[2, 0, 1, 3])
    turned = net.add("ReverseSequence", turned, net.weight(values=np.array([3, 5])))
    return net.add("Transpose", turned, perm=[1, 0, 2, 3])


CASES: dict[str, list[Body]] = {
    "Swish": [at(24, simple("Swish")), at(24, simple("Swish", alpha=1.7))],
    "RMSNormalization": [
        at(23, normalised("RMSNormalization", 7, epsilon=1e-2)),
        at(23, lambda net, x: net.add("RMSNormalization", x, net.weight(5, 7), axis=2)),
    ],
    "ReduceProd": [
        shifted("ReduceProd", axes=[2], keepdims=0),
        simple("ReduceProd", axes=[1, -1]),
        at(18, with_constant("ReduceProd", [3])),
        lambda net, x: net.add("ReduceProd", net.add("Relu", x), axes=[1]),
    ],
    "TopK": [largest(), largest(axis=2, largest=0)],
    "ScatterElements": [at(16, put_in("ScatterElements")), at(16, put_in("ScatterElements", reduction="add"))],
    "Scatter": [],  # in the sweep: the reference evaluator lacks it
    "ReverseSequence": [reversed_parts],
    "DFT": [
        transformed(None),
        transformed(8, onesided=1),
        transformed(None, back=True, inverse=1),
        transformed(4, back=True),
        transformed(None, opset=20, axis=3),
        transformed(6, opset=20, axis=1, onesided=1),
    ],
    "RoiAlign": [at(16, of_regions)],
    "Selu": [simple("Selu"), simple("Selu", alpha=1.2, gamma=0.9)],
    "Celu": [simple("Celu", alpha=0.7)],
    "Gelu": [at(20, simple("Gelu")), at(20, simple("Gelu", approximate="tanh"))],
    "Mish": [at(18, simple("Mish"))],
    "Softsign": [simple("Softsign")],
    "ThresholdedRelu": [simple("ThresholdedRelu", alpha=0.2)],
    "Reciprocal": [shifted("Reciprocal")],
    "Sin": [simple("Sin")],
    "Cos": [simple("Cos")],
    **{
        op: [
            lambda net, x, op=op: net.add("Mul", x, net.add(op, net.add("Mul", x, net.weight(values=np.float32(2.3)))))
        ]
        for op in ("Sign", "Floor", "Ceil", "Round")
    },
    "Gather": [
        with_constant("Gather", [2, 0, 0, -1], axis=1),
        with_constant("Gather", [[1, 0], [3, 3]], axis=2),
        with_constant("Gather", 1, axis=1),
    ],
    "GatherND": [
        at(16, by_turns(with_constant("GatherND", [[1, 4], [3, 0], [1, 4], [-1, 2]]))),
        with_constant("GatherND", [[[1, 4], [3, 0], [1, 4]]] * 2, batch_dims=1),
        with_constant("GatherND", [[[1, 4], [3, 0]], [[0, -1], [2, 2]]], batch_dims=1),
        by_turns(with_constant("GatherND", [[1, 4], [3, 0], [1, 4], [-1, 2]])),
    ],
    "GatherElements": [
        with_constant("GatherElements", np.arange(280).reshape(2, 4, 5, 7) % 9 % 5, axis=2),
        at(16, with_constant("GatherElements", np.arange(210).reshape(2, 3, 5, 7) % 4, axis=1)),
    ],
    "ScatterND": [at(16, written_over()), at(16, written_over(reduction="add"))],
    "Expand": [
        lambda net, x: net.add("Expand", net.add("GlobalAveragePool", x), net.weight(values=np.array([1, 1, 3, 2])))
    ],
    "Tile": [with_constant("Tile", [1, 2, 1, 3])],
    "Where": [chosen],
    "Min": [lambda net, x: net.add("Min", x, net.add("GlobalAveragePool", x), net.weight(values=np.float32(0.3)))],
    "Max": [lambda net, x: net.add("Max", x, net.add("Neg", x)), with_weight("Max", 4, 1, 1)],
    "Mean": [lambda net, x: net.add("Mean", x, net.add("Tanh", x), net.add("GlobalAveragePool", x))],
    "DepthToSpace": [simple("DepthToSpace", blocksize=2), simple("DepthToSpace", blocksize=2, mode="CRD")],
    "SpaceToDepth": [
        lambda net, x: net.add(
            "SpaceToDepth", net.add("Pad", x, net.weight(values=np.array([0, 0, 0, 0, 0, 0, 1, 1]))), blocksize=2
        )
    ],
    "Resize": [
        resized([2, 4, 10, 14], mode="nearest"),
        resized([2, 4, 3, 4], mode="linear"),
        resized(scales=[1.0, 1.0, 2.0, 1.5], mode="linear", coordinate_transformation_mode="asymmetric"),
        resized(scales=[1.0, 1.0, 0.6, 2.0], mode="cubic", coordinate_transformation_mode="align_corners"),
        resized([2, 4, 9, 13], mode="linear", coordinate_transformation_mode="pytorch_half_pixel"),
        at(18, resized([12, 14], mode="linear", axes=[2, 3], keep_aspect_ratio_policy="not_larger")),
        lambda net, x: net.add(
            "Resize",
            x,
            net.weight(values=np.array([0, 0, 0.1, 0.2, 1, 1, 0.8, 1.3], np.float32)),
            "",
            net.weight(values=np.array([2, 4, 6, 5])),
            mode="linear",
            coordinate_transformation_mode="tf_crop_and_resize",
            extrapolation_value=2.5,
        ),
        at(18, resized([9, 14], mode="linear", axes=[2, 3], keep_aspect_ratio_policy="not_smaller")),
    ],
    "Upsample": [at(9, with_constant("Upsample", np.array([1, 1, 2, 3], np.float32), mode="nearest"))],
    "Einsum": [
        lambda net, x: net.add("Einsum", squares(net, x), equation="nii->ni"),
        lambda net, x: net.add("Einsum", squares(net, x), net.weight(5, 3), equation="nii,ij->nj"),
        lambda net, x: net.add("Einsum", squares(net, x), net.weight(3), equation="nii,j->nj"),
        lambda net, x: net.add("Einsum", x, net.add("GlobalAveragePool", x), equation="nchw,nchw->nhw"),
        lambda net, x: net.add("Einsum", net.weight(4, 5, 7), net.add("GlobalAveragePool", x), equation="chw,nchw->nw"),
        lambda net, x: net.add("Einsum", x, net.weight(4, 6), equation="nchw,cd->ndhw"),
        lambda net, x: net.add("Einsum", x, net.add("Tanh", x), equation="nchw, ndhw -> ncd"),
        lambda net, x: net.add("Einsum", x, net.weight(4, 7), equation="n...w,cw->n...c"),
        lambda net, x: net.add("Einsum", x, net.weight(7), equation="nchw,w->nh"),
        lambda net, x: net.add("Einsum", net.weight(3, 7), x, equation="zw,achw"),
    ],
    "ConvTranspose": [
        transposed(3, (3, 3)),
        transposed(6, (3, 2), strides=[2, 3], pads=[1, 0, 0, 1], output_padding=[1, 0]),
        transposed(5, (2, 2), strides=[2, 2], dilations=[2, 1]),
        transposed(3, (2, 3), strides=[3, 2], output_padding=[2, 1]),
        transposed(3, (3, 3), strides=[2, 2], auto_pad="SAME_UPPER"),
    ],
    "ReduceMax": [simple("ReduceMax", axes=[2, 3], keepdims=0), at(18, with_constant("ReduceMax", [1]))],
    "ReduceMin": [simple("ReduceMin", axes=[1])],
    "ReduceL1": [simple("ReduceL1", axes=[3], keepdims=0)],
    "ReduceL2": [simple("ReduceL2", axes=[1]), at(18, with_constant("ReduceL2", [2, 3], keepdims=0))],
    "ReduceSumSquare": [simple("ReduceSumSquare", axes=[2])],
    "ReduceLogSumExp": [simple("ReduceLogSumExp", axes=[1, 2], keepdims=0)],
    "GlobalMaxPool": [simple("GlobalMaxPool")],
    "LogSoftmax": [simple("LogSoftmax", axis=1), simple("LogSoftmax", axis=-1)],
    "LayerNormalization": [
        normalised("LayerNormalization", 7, 7, epsilon=1e-2),
        lambda net, x: net.add(
            "LayerNormalization",
            x,
            net.weight(values=np.random.default_rng(1).uniform(0.5, 2, (4, 5, 7)).astype(np.float32)),
            axis=1,
        ),
    ],
    "InstanceNormalization": [normalised("InstanceNormalization", 4, 4, epsilon=1e-2)],
    "GroupNormalization": [at(21, normalised("GroupNormalization", 4, 4, num_groups=2, epsilon=1e-2))],
    "LpNormalization": [simple("LpNormalization", axis=1), shifted("LpNormalization", axis=-1, p=1)],
    "LRN": [],  # below: the reference evaluator computes something else
    "Identity": [simple("Identity")],
    "Dropout": [simple("Dropout")],
    "Cast": [simple("Cast", to=1)],
    "CastLike": [lambda net, x: net.add("CastLike", x, net.weight(1))],
    "QuantizeLinear": [],  # below: rounding has no slope to be found by differences
    "DequantizeLinear": [],
    "DynamicQuantizeLinear": [],  # in test_written_out
    **{op: [simple(op)] for op in ("Atan", "Sinh", "Cosh", "Asinh", "Hardmax")},
    **{op: [small(op)] for op in ("Tan", "Asin", "Acos", "Atanh")},
    "Acosh": [lambda net, x: net.add("Acosh", net.add("Add", positive(net, x), net.weight(values=np.float32(1))))],
    "Shrink": [simple("Shrink", lambd=0.3, bias=0.2), simple("Shrink")],
    "Mod": [lambda net, x: net.add("Mod", x, net.weight(values=np.float32(0.7)), fmod=1)],
    "CumSum": [
        constants("CumSum", axis=2),
        lambda net, x: net.add("CumSum", x, net.weight(values=np.array(-1)), reverse=1, exclusive=1),
    ],
    "Trilu": [simple("Trilu"), lambda net, x: net.add("Trilu", x, net.weight(values=np.array(-1)), upper=0)],
    "LpPool": [
        simple("LpPool", kernel_shape=[2, 3], strides=[2, 2], p=2),
        simple("LpPool", kernel_shape=[3, 3], pads=[1, 1, 1, 1], p=3),
        simple("LpPool", kernel_shape=[2, 2], p=1),
    ],
    "GlobalLpPool": [],  # below: the reference implementation lacks it
    "ReduceLogSum": [shifted("ReduceLogSum", axes=[2, 3], keepdims=0), shifted("ReduceLogSum", axes=[1], keepdims=1)],
    "MeanVarianceNormalization": [],  # below: the reference implementation mixes precisions
    "Relu": [simple("Relu")],
    "LeakyRelu": [simple("LeakyRelu", alpha=0.2)],
    "PRelu": [with_weight("PRelu", 4, 1, 1), own_slope],
    "Clip": [
        lambda net, x: net.add("Clip", x, net.weight(values=np.float32(-0.3)), net.weight(values=np.float32(0.4))),
        lambda net, x: net.add("Clip", x, "", net.weight(values=np.float32(0.1))),
    ],
    "Sigmoid": [simple("Sigmoid")],
    "HardSigmoid": [simple("HardSigmoid", alpha=0.7, beta=0.4)],
    "HardSwish": [lambda net, x: net.add("HardSwish", net.add("Mul", x, net.weight(values=np.float32(5.0))))],
    "Tanh": [simple("Tanh")],
    "Exp": [simple("Exp")],
    "Log": [shifted("Log")],
    "Sqrt": [shifted("Sqrt")],
    "Neg": [simple("Neg")],
    "Softplus": [simple("Softplus")],
    "Erf": [simple("Erf")],
    "Abs": [simple("Abs")],
    "Elu": [simple("Elu", alpha=1.5)],
    "Pow": [
        lambda net, x: net.add("Pow", x, net.weight(values=np.float32(3.0))),
        to_a_power,
        lambda net, x: net.add("Pow", positive(net, x), net.weight(values=np.float32([[0.5, 2, -1, 3, 1, 1.5, 2]]))),
    ],
    "Add": [with_weight("Add", 4, 1, 1), with_itself_pooled("Add"), lambda net, x: net.add("Add", x, x)],
    "Sum": [lambda net, x: net.add("Sum", x, net.add("Tanh", x), net.add("GlobalAveragePool", x))],
    "Sub": [
        with_weight("Sub", 1, 4, 1, 7, first=False),
        with_itself_pooled("Sub"),
        with_itself_pooled("Sub", first=False),
    ],
    "Mul": [with_weight("Mul", 7), with_itself_pooled("Mul"), lambda net, x: net.add("Mul", x, x)],
    "Div": [with_weight("Div", 4, 1, 1), with_itself_pooled("Div"), with_itself_pooled("Div", first=False)],
    "Concat": [concat],
    "Split": [split, split_one_unused],
    "Slice": [
        constants("Slice", starts=[1, -6], ends=[2**62, 5], axes=[1, 3]),
        constants("Slice", starts=[0], ends=[-1], axes=[2]),
        constants("Slice", starts=[1, -1, 0], ends=[2**62, -(2**62), 3], axes=[2, 3, 1], steps=[2, -3, 1]),
    ],
    "Pad": [
        constants("Pad", pads=[0, 1, 2, 0, 0, 0, 1, 3]),
        *(
            lambda net, x, mode=mode: net.add(
                "Pad", x, net.weight(values=np.array([0, 0, 2, 1, 0, 0, 1, 3])), mode=mode
            )
            for mode in ("reflect", "edge")
        ),
    ],
    "Flatten": [simple("Flatten", axis=1)],
    "Reshape": [constants("Reshape", shape=[0, 2, -1, 7])],
    "Squeeze": [
        lambda net, x: net.add("Squeeze", net.add("GlobalAveragePool", x), net.weight(values=np.array([2, 3])))
    ],
    "Unsqueeze": [constants("Unsqueeze", axes=[1, -1])],
    "Transpose": [simple("Transpose", perm=[0, 2, 3, 1])],
    "Conv": [
        conv(3, (3, 3), pads=[1, 1, 1, 1]),
        own_kernel(pads=[1, 0, 1, 1]),
        own_kernel(bias=True, strides=[2, 3], pads=[1, 1, 0, 0]),
        own_kernel(group=2, dilations=[2, 1], rows=2),
        conv(6, (3, 2), strides=[2, 3], pads=[0, 1, 1, 0], group=2),
        conv(8, (3, 3), group=4, dilations=[2, 2], pads=[2, 2, 2, 2]),
        conv(4, (2, 2), group=4, strides=[2, 2]),
        conv(8, (3, 3), group=4, strides=[2, 3], pads=[1, 1, 1, 1]),
        conv(4, (3, 3), group=4, strides=[2, 2], dilations=[1, 2], pads=[2, 0, 1, 3]),
        conv(4, (5, 3), group=4, strides=[3, 2], auto_pad="SAME_LOWER"),
        conv(6, (1, 1), group=2, strides=[3, 2]),
        conv(5, (1, 1), strides=[2, 2]),
        conv(3, (1, 1), pads=[1, 0, 2, 1]),
        conv(3, (3, 3), strides=[2, 2], auto_pad="SAME_UPPER"),
        conv(3, (2, 4), auto_pad="SAME_LOWER"),
        conv(3, (3, 3), auto_pad="VALID"),
        conv(3, (3, 3), strides=[2, 2], dilations=[2, 1], pads=[3, 1, 3, 1]),
    ],
    "BatchNormalization": [batch_norm],
    "MaxPool": [
        simple("MaxPool", kernel_shape=[2, 2], strides=[2, 2]),
        simple("MaxPool", kernel_shape=[3, 3], strides=[2, 2], pads=[1, 1, 1, 1]),
        simple("MaxPool", kernel_shape=[3, 2], strides=[1, 1]),
        simple("MaxPool", kernel_shape=[3, 3], strides=[2, 2], ceil_mode=1),
        rounded_up(
            "MaxPool", kernel_shape=[2, 2], strides=[2, 2], pads=[1, 1, 1, 1], ceil_mode=1
        ),  # the last window would begin in the padding
        rounded_up("MaxPool", kernel_shape=[3, 2], strides=[3, 3], pads=[1, 0, 1, 1], ceil_mode=1),
        apart([0, 4, -1], simple("MaxPool", kernel_shape=[3], strides=[2], pads=[1, 1])),
        apart([0, 2, 2, 5, 7], simple("MaxPool", kernel_shape=[2, 3, 2], strides=[1, 2, 2], pads=[0, 1, 0, 0, 0, 1])),
    ],
    "AveragePool": [
        simple("AveragePool", kernel_shape=[3, 3], strides=[2, 2], pads=[1, 1, 1, 1]),
        simple("AveragePool", kernel_shape=[3, 3], strides=[2, 2], pads=[1, 1, 1, 1], count_include_pad=1),
        simple("AveragePool", kernel_shape=[2, 3], strides=[1, 2]),
        rounded_up("AveragePool", kernel_shape=[2, 2], strides=[2, 2], pads=[1, 1, 1, 1], ceil_mode=1),
        rounded_up("AveragePool", kernel_shape=[2, 2], strides=[3, 3], pads=[0, 1, 1, 0], ceil_mode=1),
        rounded_up(
            "AveragePool", kernel_shape=[3, 3], strides=[3, 3], pads=[1, 1, 1, 1], ceil_mode=1, count_include_pad=1
        ),
        rounded_up(
            "AveragePool", kernel_shape=[2, 2], strides=[2, 2], pads=[1, 1, 1, 1], ceil_mode=1, count_include_pad=1
        ),
    ],
    "GlobalAveragePool": [simple("GlobalAveragePool")],
    "ReduceMean": [simple("ReduceMean", axes=[2, 3], keepdims=0), simple("ReduceMean", axes=[-1], keepdims=1)],
    "ReduceSum": [lambda net, x: net.add("ReduceSum", x, net.weight(values=np.array([1, 3])), keepdims=0)],
    "Gemm": [
        gemm(0, 0, 1.0, 1.0),
        gemm(0, 1, 0.5, 2.0),
        gemm(1, 0, 1.5, 1.0),
        gemm(1, 1, 1.0, 0.5),
        gemm_second,
        gemm_third,
    ],
    "MatMul": [self_attention, vector_product, left_constant_product, with_weight("MatMul", 7, 3)],
    "Softmax": [simple("Softmax", axis=1), simple("Softmax", axis=-1)],
}


def local_response(net: Net, x: str) -> str:
    """LRN written out: the squares of near channels summed by a convolution over the channels."""
    across = net.add("Reshape", net.add("Mul", x, x), net.weight(values=np.array([0, 1, 4, 35])))
    summed = net.add(
        "Conv",
        across,
        net.weight(values=np.full((1, 1, 3, 1), 0.5 / 3, np.float32)),
        kernel_shape=[3, 1],
        pads=[1, 0, 1, 0],
    )
    total = net.add(
        "Add", net.add("Reshape", summed, net.weight(values=np.array([0, 4, 5, 7]))), net.weight(values=np.float32(1.5))
    )
    return net.add("Div", x, net.add("Pow", total, net.weight(values=np.float32(0.75))))


def grouped_apart(net: Net, x: str) -> str:
    """A transposed convolution of two groups, written as two of one."""
    weight = np.random.default_rng(3).normal(size=(4, 3, 3, 2)).astype(np.float32)
    first = net.add("Split", x, net.weight(values=np.array([2, 2])), outputs=2, axis=1)
    halves = []
    for part, some in ((first, weight[:2]), (f"{first}_1", weight[2:])):
        halves.append(net.add("ConvTranspose", part, net.weight(values=some), strides=[2, 3], pads=[1, 0, 0, 1]))
    return net.add("Concat", *halves, axis=1)


def grouped(net: Net, x: str) -> str:
    weight = np.random.default_rng(3).normal(size=(4, 3, 3, 2)).astype(np.float32)
    return net.add("ConvTranspose", x, net.weight(values=weight), strides=[2, 3], pads=[1, 0, 0, 1], group=2)


def cropped(net: Net, x: str) -> str:
    inner = net.add("Slice", x, *(net.weight(values=np.array(v)) for v in ([1, 0], [2**62, -2], [2, 3])))
    return net.add("Pad", inner, net.weight(values=np.array([0, 0, 0, 2, 0, 1, 1, 0])))


def cropping_pad(mode: str) -> Body:
    return lambda net, x: net.add("Pad", x, net.weight(values=np.array([0, 0, 2, -1, 0, 0, -1, 3])), mode=mode)


def cropped_then_padded(mode: str) -> Body:
    def body(net: Net, x: str) -> str:
        inner = net.add("Slice", x, *(net.weight(values=np.array(v)) for v in ([0, 1], [-1, 2**62], [2, 3])))
        return net.add("Pad", inner, net.weight(values=np.array([0, 0, 2, 0, 0, 0, 0, 3])), mode=mode)

    return body


def rounded(net: Net, x: str, least: int = 128, step: float = 0.05) -> str:
    """Rounded to 256 levels and back on the way."""
    zero = net.weight(values=np.uint8(least))
    levels = net.add("QuantizeLinear", x, net.weight(values=np.float32(step)), zero)
    return net.add("DequantizeLinear", levels, net.weight(values=np.float32(step)), zero)


def clipped_at_six(net: Net, x: str) -> str:
    return net.add("Clip", x, net.weight(values=np.float32(0)), net.weight(values=np.float32(6)))


def large(net: Net, x: str) -> str:
    return net.add("Mul", x, net.weight(values=np.float32(9)))


def group_norm(net: Net, x: str, scale: list[float]) -> str:
    weights = (net.weight(values=np.array(one, np.float32)) for one in (scale, [0.1] * len(scale)))
    return net.add("GroupNormalization", x, *weights, num_groups=2, epsilon=1e-2)


WRITTEN_OUT: dict[str, tuple[Body, Body]] = {
    "rounding passed straight through": (rounded, simple("Identity")),
    "a Relu that a quantiser has taken in": (
        lambda net, x: rounded(net, x, 0),
        simple("Relu"),
    ),
    "a Relu6 that a quantiser has taken in": (
        lambda net, x: rounded(net, large(net, x), 0, 6 / 255),
        lambda net, x: clipped_at_six(net, large(net, x)),
    ),
    "a Relu whose range was set too small": (
        lambda net, x: rounded(net, large(net, x), 0, 0.001),
        lambda net, x: net.add("Relu", large(net, x)),
    ),
    "a range that was set too small": (lambda net, x: rounded(net, large(net, x), 100, 0.001), large),
    "GroupNormalization by groups": (
        at(18, lambda net, x: group_norm(net, x, [0.5, 1.5])),
        at(21, lambda net, x: group_norm(net, x, [0.5, 0.5, 1.5, 1.5])),
    ),
    "MeanVarianceNormalization": (
        simple("MeanVarianceNormalization", axes=[2, 3]),
        lambda net, x: net.add(
            "InstanceNormalization",
            x,
            net.weight(values=np.ones(4, np.float32)),
            net.weight(values=np.zeros(4, np.float32)),
            epsilon=0.0,
        ),
    ),
    "GlobalLpPool": (simple("GlobalLpPool"), simple("ReduceL2", axes=[2, 3])),
    "GlobalLpPool of absolute values": (simple("GlobalLpPool", p=1), simple("ReduceL1", axes=[2, 3])),
    "LRN": (simple("LRN", size=3, alpha=0.5, bias=1.5), local_response),
    "ConvTranspose of groups": (grouped, grouped_apart),
    **{
        f"Pad that crops, {mode}": (at(19, cropping_pad(mode)), at(19, cropped_then_padded(mode)))
        for mode in ("wrap", "reflect", "edge")
    },
    "Pad that crops": (constants("Pad", pads=[0, 0, -1, 2, 0, 1, 1, -2]), cropped),
}


@dataclass
class Checked:
    """A network with an operator between its layer ``stem`` and its scores, and the gradient the reverse pass gives."""

    maker: HeatmapMaker
    batch: np.ndarray
    gradient: np.ndarray

    def worst_error(self, step: float) -> float:
        probe = Probe(self.maker.view.proto, "stem", "scores")
        return probe.worst_error(
            {"image": self.batch.astype(np.float64)}, np.eye(CLASSES)[TARGETS], self.gradient, step=step
        )


def through(body: Body, path: Path, *, opset: int = 17) -> Checked:
    """Build the network, and take the gradient of a different class's logit for each of two images."""
    net = Net(seed=7)
    stem = net.add("Conv", "image", net.weight(4, 3, 3, 3), net.weight(4), kernel_shape=[3, 3], name="stem")
    flat = net.add("Flatten", body(net, stem), axis=1)
    so_far = net.model(["n", 3, 7, 9], {flat: ["n", "m"]}, opset=opset).SerializeToString()
    session = ort.InferenceSession(so_far, providers=["CPUExecutionProvider"])
    width = session.run(None, {"image": np.zeros((2, 3, 7, 9), np.float32)})[0].shape[1]
    net.rng = np.random.default_rng(9)
    net.add("MatMul", flat, net.weight(width, CLASSES), name="scores")
    made = net.model(["n", 3, 7, 9], {"scores": ["n", CLASSES]}, opset=opset)
    # The checker no longer knows some forms that files of their time hold.
    model = loaded(made, path / f"net{opset}.onnx", checked=opset != 18)
    maker = HeatmapMaker(model)
    batch = random_batch(model, 2)
    layer = next(one for one in maker.layers if one.tensor == "stem")
    assert layer.heatmap, layer.reason
    ((_, gradient),) = maker.activations_and_gradients(batch, [Target(k) for k in TARGETS], [layer])
    return Checked(maker, batch, gradient)


@pytest.mark.parametrize(("op", "number"), [(op, i) for op, bodies in CASES.items() for i in range(len(bodies))])
def test_rule_against_finite_differences(op: str, number: int, tmp_path: Path) -> None:
    step, worst = ROUNDED.get(op, (1e-6, WORST))
    body = CASES[op][number]
    assert through(body, tmp_path, opset=getattr(body, "opset", 17)).worst_error(step) < worst


def test_every_rule_has_a_case() -> None:
    assert set(CASES) == set(RULES)


SAMPLED = [
    sampled(of_image, mode=mode, padding_mode=padding, align_corners=corners)
    for of_image in (False, True)
    for mode, padding, corners in (("linear", "zeros", 0), ("linear", "border", 1), ("nearest", "zeros", 1))
]


@pytest.mark.parametrize("number", range(len(SAMPLED)))
def test_sampling_at_places(number: int, tmp_path: Path) -> None:
    """Written out as plain operators: the engine's own answers, and derivatives by finite differences through what is written."""
    checked = through(at(20, SAMPLED[number]), tmp_path, opset=20)
    again = ort.InferenceSession(checked.maker.view.proto.SerializeToString(), providers=["CPUExecutionProvider"])
    answers = checked.maker.model.scores(checked.batch)
    np.testing.assert_allclose(again.run(["scores"], {"image": checked.batch})[0], answers, atol=1e-4)
    assert checked.worst_error(1e-6) < WORST


@pytest.mark.parametrize("name", WRITTEN_OUT)
def test_rules_against_the_same_written_out(name: str, tmp_path: Path) -> None:
    """Where the reference evaluator has no way, or another one: by operators whose rules are checked above."""
    short, long = (through(body, tmp_path, opset=getattr(body, "opset", 17)) for body in WRITTEN_OUT[name])
    np.testing.assert_allclose(short.gradient, long.gradient, rtol=1e-4, atol=1e-6)
    assert np.abs(short.gradient).max() > 1e-4


OLD_FORMS: dict[str, tuple[int, Body]] = {
    "Clip with attributes": (9, simple("Clip", min=-0.3, max=0.4)),
    "Squeeze with axes attribute": (
        11,
        lambda net, x: net.add("Squeeze", net.add("GlobalAveragePool", x), axes=[2, 3]),
    ),
    "Unsqueeze with axes attribute": (9, simple("Unsqueeze", axes=[1])),
    "ReduceSum with axes attribute": (11, simple("ReduceSum", axes=[1], keepdims=0)),
    "Slice with attributes": (9, simple("Slice", starts=[1], ends=[3], axes=[1])),
    "Pad with attribute": (9, simple("Pad", pads=[0, 0, 1, 2, 0, 0, 0, 1])),
    "MaxPool": (9, simple("MaxPool", kernel_shape=[3, 3], strides=[2, 2], pads=[1, 1, 1, 1])),
    "Gemm": (9, gemm(0, 1, 1.0, 1.0)),
    "broadcast": (9, with_itself_pooled("Mul")),
    "Concat": (9, concat),
    "ReduceMean with axes input": (
        18,
        lambda net, x: net.add("ReduceMean", x, net.weight(values=np.array([2, 3])), keepdims=0),
    ),
    "Split in version 21": (21, split),
    "ReduceMax with axes attribute": (11, simple("ReduceMax", axes=[1], keepdims=0)),
    "LogSoftmax along the last axis": (11, simple("LogSoftmax", axis=-1)),
    "Gather": (9, with_constant("Gather", [2, 0, 0], axis=1)),
    "Min": (9, lambda net, x: net.add("Min", x, net.add("Tanh", x))),
}


@pytest.mark.parametrize("name", OLD_FORMS)
def test_forms_of_other_operator_set_versions(name: str, tmp_path: Path) -> None:
    opset, body = OLD_FORMS[name]
    assert through(body, tmp_path, opset=opset).worst_error(1e-6) < WORST


def test_softmax_before_version_13_takes_all_axes_from_its_own_on_together(tmp_path: Path) -> None:
    """ONNX Softmax-11: the input is coerced to two axes; the same network with the flattening written out must agree."""
    old = through(simple("Softmax", axis=1), tmp_path, opset=11)
    written_out = through(lambda net, x: net.add("Softmax", net.add("Flatten", x, axis=1), axis=1), tmp_path)
    np.testing.assert_allclose(old.gradient, written_out.gradient, atol=1e-7)
    assert np.abs(old.gradient).max() > 1e-4


def test_resize_of_version_10_is_that_of_version_13_by_floors(tmp_path: Path) -> None:
    """The reference evaluator does not know the old form: the same network with the new one must agree."""
    old = through(with_constant("Resize", np.array([1, 1, 2, 1.5], np.float32), mode="nearest"), tmp_path, opset=10)
    floors = {"mode": "nearest", "coordinate_transformation_mode": "asymmetric", "nearest_mode": "floor"}
    new = through(resized(scales=[1.0, 1.0, 2.0, 1.5], **floors), tmp_path, opset=13)
    np.testing.assert_allclose(old.gradient, new.gradient, atol=1e-6)
    assert np.abs(old.gradient).max() > 1e-4
