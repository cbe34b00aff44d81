"""Masks of tensors that the runtime keeps in blocks of channels, by operators that leave them there.

Between convolutions the runtime lays channels out in blocks of 8 or 16, and lays them out anew for every operator that
does not know blocks. Convolutions, activations, products of tensors of one shape and means over all places do; comparisons do
not.
"""

from __future__ import annotations

import platform

from mivrat.core.gradients.emit import Value
from mivrat.core.gradients.node import NodeBack
from mivrat.core.models.operators import Trait, has

# So steep that what lies above by more than 1e-30 counts as wholly above. A power of two: products with it are exact.
STEEP = 2.0**100
# Bounds beyond this would leave single precision once multiplied by it.
LARGEST_BOUND = 2.0**20
_BLOCK = 16
BLOCKS = platform.machine().lower() in ("x86_64", "amd64")


def lies_in_blocks(s: NodeBack) -> bool:
    """Whether the runtime keeps a node's output in blocks of channels, as far as the graph tells."""
    shape, before = s.out_shape, s.view.producer.get(s.node.input[0])
    return (
        BLOCKS
        and len(shape) == 4
        and shape[1] % _BLOCK == 0
        and s.view.channel_axis.get(s.node.output[0]) == 1
        and before is not None
        and has(before.op_type, Trait.IN_BLOCKS)
    )


def beyond(s: NodeBack, bound: float, *, below: bool = False) -> Value:
    """1 where a node's output lies above the bound (``below``: under it), else 0: a steep hard sigmoid, which the runtime works out
    in blocks. A value exactly on the bound is neither: products with a power of two, and their difference there, are exact."""
    slope = -STEEP if below else STEEP
    return s.emit.node("HardSigmoid", s.y, alpha=slope, beta=-bound * slope)
