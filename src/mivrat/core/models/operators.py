"""The operators of the ONNX standard that networks are made of, one record each: what it does to sizes, axes, places and values.

Its derivative, where it has one, is the rule of the same name in ``mivrat.core.gradients.rules``.
"""

from __future__ import annotations

from dataclasses import dataclass
from enum import Flag, auto


class Trait(Flag):
    """What may be true of an operator."""

    # The work it makes follows from the sizes of what goes in and comes out.
    PLAIN = auto()
    # Its sizes are worked out in floating point, or decided while running: engine and standard may go apart.
    OWN_SIZES = auto()
    # The axes of its output are arranged as those of its input.
    KEEPS_AXES = auto()
    # It takes and gives images x channels x places.
    CHANNELS_FIRST = auto()
    # The values in their order, in another shape.
    RESHAPES = auto()
    # The values as they are, but for their shape or kind.
    KEEPS_VALUES = auto()
    # It takes values to other places.
    MOVES = auto()
    # It looks at a window of places at a time.
    WINDOW = auto()
    # It mixes along some axes, and a value stays where it is.
    IN_PLACE = auto()
    # It looks from queries at keys and values.
    ATTENTION = auto()
    ACTIVATION = auto()
    # It makes probabilities of scores.
    TO_PROBABILITIES = auto()
    # It multiplies by learned weights.
    WEIGHS = auto()
    # It can multiply two tensors that both depend on the image.
    PRODUCT = auto()
    # It makes more of its operand than another arrangement or scale of it.
    ANOTHER_MAP = auto()
    # It may stand between the image and the first convolution.
    PREPARES = auto()
    # It may stand between the last layer of weights and the scores.
    AFTER_HEAD = auto()
    # The engine computes it in blocks of channels.
    IN_BLOCKS = auto()


@dataclass(frozen=True)
class Operator:
    """One operator: what is true of it, and what a layer that it makes is called, where that does not follow from its traits."""

    traits: Trait
    words: str = ""


_T = Trait
_ELEMENTWISE = _T.PLAIN | _T.KEEPS_AXES
_ACTIVATION = _ELEMENTWISE | _T.ACTIVATION
_RESHAPE = _T.PLAIN | _T.RESHAPES | _T.KEEPS_VALUES | _T.AFTER_HEAD
_NORM = _T.PLAIN | _T.IN_PLACE | _T.ANOTHER_MAP
_POOL = _T.PLAIN | _T.CHANNELS_FIRST
_NONE = _T(0)

OPERATORS: dict[str, Operator] = {
    "Abs": Operator(_ELEMENTWISE),
    "Acos": Operator(_ELEMENTWISE),
    "Acosh": Operator(_ELEMENTWISE),
    "Add": Operator(_ELEMENTWISE | _T.PREPARES | _T.AFTER_HEAD | _T.IN_BLOCKS),
    "And": Operator(_T.PLAIN),
    "ArgMax": Operator(_T.PLAIN),
    "ArgMin": Operator(_T.PLAIN),
    "Asin": Operator(_ELEMENTWISE),
    "Asinh": Operator(_ELEMENTWISE),
    "Atan": Operator(_ELEMENTWISE),
    "Atanh": Operator(_ELEMENTWISE),
    "Attention": Operator(_T.ATTENTION | _T.PRODUCT),
    "AveragePool": Operator(_POOL | _T.WINDOW | _T.ANOTHER_MAP | _T.AFTER_HEAD, "average pooling"),
    "BatchNormalization": Operator(_NORM | _T.CHANNELS_FIRST | _T.PREPARES | _T.AFTER_HEAD | _T.IN_BLOCKS),
    "BitShift": Operator(_T.PLAIN),
    "Cast": Operator(_ELEMENTWISE | _T.KEEPS_VALUES | _T.PREPARES | _T.AFTER_HEAD, "rearranged"),
    "CastLike": Operator(_ELEMENTWISE),
    "Ceil": Operator(_ELEMENTWISE),
    "Celu": Operator(_ACTIVATION),
    "Clip": Operator(_ACTIVATION | _T.AFTER_HEAD),
    "Concat": Operator(_ELEMENTWISE | _T.MOVES, "joined"),
    "Constant": Operator(_T.PLAIN),
    "ConstantOfShape": Operator(_T.PLAIN),
    "Conv": Operator(_POOL | _T.WINDOW | _T.WEIGHS | _T.IN_BLOCKS),
    "ConvTranspose": Operator(_POOL | _T.WEIGHS, "transposed convolution"),
    "Cos": Operator(_ELEMENTWISE),
    "Cosh": Operator(_ELEMENTWISE),
    "CumSum": Operator(_ELEMENTWISE),
    "DFT": Operator(_NONE),
    "DepthToSpace": Operator(_POOL | _T.MOVES, "channels spread over places"),
    "DequantizeLinear": Operator(_ELEMENTWISE | _T.PREPARES | _T.AFTER_HEAD),
    "Div": Operator(_ELEMENTWISE | _T.PRODUCT | _T.PREPARES | _T.AFTER_HEAD, "quotient"),
    "Dropout": Operator(_ELEMENTWISE | _T.KEEPS_VALUES | _T.AFTER_HEAD, "dropout"),
    "DynamicQuantizeLinear": Operator(_NONE),
    "Einsum": Operator(_T.PRODUCT | _T.WEIGHS, "product"),
    "Elu": Operator(_ACTIVATION),
    "Equal": Operator(_T.PLAIN),
    "Erf": Operator(_ACTIVATION),
    "Exp": Operator(_ELEMENTWISE),
    "Expand": Operator(_T.PLAIN | _T.MOVES, "rearranged"),
    "Flatten": Operator(_RESHAPE, "rearranged"),
    "Floor": Operator(_ELEMENTWISE),
    "Gather": Operator(_T.PLAIN | _T.MOVES, "part"),
    "GatherElements": Operator(_T.PLAIN | _T.MOVES, "part"),
    "GatherND": Operator(_T.PLAIN | _T.MOVES, "part"),
    "Gelu": Operator(_ACTIVATION),
    "Gemm": Operator(_T.PLAIN | _T.PRODUCT | _T.WEIGHS, "linear layer"),
    "GlobalAveragePool": Operator(_POOL | _T.AFTER_HEAD, "mean over all places"),
    "GlobalLpPool": Operator(_T.CHANNELS_FIRST),
    "GlobalMaxPool": Operator(_POOL, "maximum over all places"),
    "Greater": Operator(_T.PLAIN),
    "GreaterOrEqual": Operator(_T.PLAIN),
    "GroupNormalization": Operator(_NORM | _T.CHANNELS_FIRST),
    "HardSigmoid": Operator(_ACTIVATION),
    "HardSwish": Operator(_ACTIVATION),
    "Hardmax": Operator(_ELEMENTWISE),
    "Identity": Operator(_RESHAPE | _T.KEEPS_AXES | _T.PREPARES, "rearranged"),
    "If": Operator(_T.OWN_SIZES),
    "InstanceNormalization": Operator(_NORM | _T.CHANNELS_FIRST),
    "LRN": Operator(_NORM | _T.CHANNELS_FIRST),
    "LayerNormalization": Operator(_ELEMENTWISE | _T.IN_PLACE | _T.ANOTHER_MAP),
    "LeakyRelu": Operator(_ACTIVATION),
    "Less": Operator(_T.PLAIN),
    "LessOrEqual": Operator(_T.PLAIN),
    "Log": Operator(_ELEMENTWISE),
    "LogSoftmax": Operator(_ELEMENTWISE | _T.IN_PLACE | _T.TO_PROBABILITIES | _T.AFTER_HEAD),
    "Loop": Operator(_T.OWN_SIZES),
    "LpNormalization": Operator(_NORM),
    "LpPool": Operator(_T.CHANNELS_FIRST | _T.WINDOW | _T.ANOTHER_MAP, "pooling"),
    "MatMul": Operator(_T.PLAIN | _T.PRODUCT | _T.WEIGHS),
    "Max": Operator(_ELEMENTWISE),
    "MaxPool": Operator(_POOL | _T.WINDOW | _T.ANOTHER_MAP, "max pooling"),
    "Mean": Operator(_ELEMENTWISE),
    "MeanVarianceNormalization": Operator(_NORM | _T.CHANNELS_FIRST),
    "Min": Operator(_ELEMENTWISE),
    "Mish": Operator(_ACTIVATION),
    "Mod": Operator(_ELEMENTWISE),
    "Mul": Operator(_ELEMENTWISE | _T.PRODUCT | _T.PREPARES | _T.AFTER_HEAD),
    "MultiHeadAttention": Operator(_T.ATTENTION | _T.PRODUCT),
    "Neg": Operator(_ELEMENTWISE),
    "Not": Operator(_T.PLAIN),
    "Or": Operator(_T.PLAIN),
    "PRelu": Operator(_ACTIVATION),
    "Pad": Operator(_ELEMENTWISE | _T.MOVES | _T.PREPARES, "padded"),
    "Pow": Operator(_ELEMENTWISE),
    "QLinearConv": Operator(_T.WINDOW),
    "QuantizeLinear": Operator(_ELEMENTWISE | _T.PREPARES | _T.AFTER_HEAD),
    "RMSNormalization": Operator(_ELEMENTWISE | _T.IN_PLACE | _T.ANOTHER_MAP),
    "Reciprocal": Operator(_ELEMENTWISE),
    "ReduceL1": Operator(_T.PLAIN),
    "ReduceL2": Operator(_T.PLAIN),
    "ReduceLogSum": Operator(_T.PLAIN),
    "ReduceLogSumExp": Operator(_T.PLAIN),
    "ReduceMax": Operator(_T.PLAIN),
    "ReduceMean": Operator(_T.PLAIN | _T.AFTER_HEAD, "mean"),
    "ReduceMin": Operator(_T.PLAIN),
    "ReduceProd": Operator(_T.PLAIN),
    "ReduceSum": Operator(_T.PLAIN),
    "ReduceSumSquare": Operator(_T.PLAIN),
    "Relu": Operator(_ACTIVATION),
    "Reshape": Operator(_RESHAPE, "rearranged"),
    "Resize": Operator(_ELEMENTWISE | _T.MOVES | _T.OWN_SIZES, "resized"),
    "ReverseSequence": Operator(_NONE),
    "RoiAlign": Operator(_NONE),
    "Round": Operator(_ELEMENTWISE),
    "Scan": Operator(_T.OWN_SIZES),
    "Scatter": Operator(_NONE),
    "ScatterElements": Operator(_NONE),
    "ScatterND": Operator(_T.MOVES),
    "Selu": Operator(_ACTIVATION),
    "Shape": Operator(_T.PLAIN),
    "Shrink": Operator(_ACTIVATION),
    "Sigmoid": Operator(_ACTIVATION | _T.TO_PROBABILITIES | _T.AFTER_HEAD),
    "Sign": Operator(_ELEMENTWISE),
    "SimplifiedLayerNormalization": Operator(_T.IN_PLACE),
    "Sin": Operator(_ELEMENTWISE),
    "Sinh": Operator(_ELEMENTWISE),
    "Size": Operator(_T.PLAIN),
    "SkipLayerNormalization": Operator(_T.IN_PLACE),
    "Slice": Operator(_ELEMENTWISE | _T.MOVES, "part"),
    "Softmax": Operator(_ELEMENTWISE | _T.IN_PLACE | _T.TO_PROBABILITIES | _T.AFTER_HEAD, "softmax"),
    "Softplus": Operator(_ACTIVATION),
    "Softsign": Operator(_ACTIVATION),
    "SpaceToDepth": Operator(_POOL | _T.MOVES, "places gathered into channels"),
    "Split": Operator(_ELEMENTWISE | _T.MOVES, "part"),
    "Sqrt": Operator(_ELEMENTWISE),
    "Squeeze": Operator(_RESHAPE, "rearranged"),
    "Sub": Operator(_ELEMENTWISE | _T.PREPARES | _T.AFTER_HEAD, "difference"),
    "Sum": Operator(_ELEMENTWISE | _T.IN_BLOCKS),
    "Swish": Operator(_ACTIVATION),
    "Tan": Operator(_ELEMENTWISE),
    "Tanh": Operator(_ACTIVATION),
    "ThresholdedRelu": Operator(_ACTIVATION),
    "Tile": Operator(_T.PLAIN | _T.MOVES, "rearranged"),
    "TopK": Operator(_NONE, "part"),
    "Transpose": Operator(_T.PLAIN | _T.PREPARES | _T.AFTER_HEAD, "rearranged"),
    "Trilu": Operator(_NONE),
    "Unsqueeze": Operator(_RESHAPE, "rearranged"),
    "Upsample": Operator(_ELEMENTWISE | _T.MOVES | _T.OWN_SIZES, "resized"),
    "Where": Operator(_ELEMENTWISE),
    "Xor": Operator(_T.PLAIN),
}
_UNKNOWN = Operator(_NONE)


def has(op_type: str, traits: Trait) -> bool:
    """Whether an operator has one of these traits; one that is not known here has none."""
    return bool(OPERATORS.get(op_type, _UNKNOWN).traits & traits)
