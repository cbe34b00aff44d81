"""Which layer a heatmap is taken from where none is named: the last one that shows what the scores go by."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import TYPE_CHECKING

import numpy as np
import onnx

from mivrat.core.gradients.graph import GraphView
from mivrat.core.gradients.reverse import SEED, build_reverse
from mivrat.core.models.engine import new_session, run_session
from mivrat.core.models.operators import Trait, has

if TYPE_CHECKING:
    from mivrat.core.gradients.layers import Layer

# Numbers of paths are counted modulo this prime: they grow beyond all bounds.
_PRIME = (1 << 61) - 1
# So many layers are tried at a time for one whose places have a say.
_TRIED = 8


def default_layer(view: GraphView, layers: Sequence[Layer]) -> int | None:
    """The number of the default among the layers, in graph order; None where there is none.

    It is the last from which a heatmap can be taken, but no projection made for one side of a product (a key or a value of an
    attention, a gate); features that everything passes on its way from the image to the scores, as where they are pooled by their
    products, are none. Of tokens it must be read by what follows, which is tried by one run of the reverse pass: behind the last attention often only the class token is.
    """
    usable = [i for i, layer in enumerate(layers) if layer.heatmap]
    if not usable:
        return None
    passed, aside = passed_by_everything(view), _one_side_of_a_product(view)

    def projected(name: str) -> bool:
        return name in aside and _is_projection(view, name, straight=name in passed)

    chosen = [i for i in usable if not projected(layers[i].tensor)]
    left = [i for i in usable if i not in set(chosen)]
    # Where there are projections only, such as of patches, those that everything passes come first.
    for group in (chosen, [i for i in left if layers[i].tensor in passed], left):
        if group and layers[group[-1]].tokens is None:
            return group[-1]
        for some in _pieces(group):
            if telling := _with_a_say(view, layers, some):
                return max(telling)
    return None


def _pieces(numbers: Sequence[int]) -> Iterator[Sequence[int]]:
    """A few at a time, the last first."""
    for end in range(len(numbers), 0, -_TRIED):
        yield numbers[max(0, end - _TRIED) : end]


def _reads(view: GraphView, node: onnx.NodeProto) -> list[str]:
    """The operands of a node through which the image reaches it."""
    if node.op_type in ("Shape", "Size"):
        return []
    return [name for name in node.input if name in view.depends and name in view.leading]


def passed_by_everything(view: GraphView) -> set[str]:
    """The tensors that lie on every way from the image to the scores."""
    ways_to: dict[str, int] = {view.input: 1}
    nodes = [node for node in view.nodes if any(name in view.depends and name in view.leading for name in node.output)]
    for node in nodes:
        ways = sum(ways_to.get(name, 0) for name in _reads(view, node)) % _PRIME
        ways_to.update((name, ways) for name in node.output if name)
    ways_from: dict[str, int] = {view.logits: 1}
    for node in reversed(nodes):
        ways = sum(ways_from.get(name, 0) for name in node.output if name) % _PRIME
        for name in _reads(view, node):
            ways_from[name] = (ways_from.get(name, 0) + ways) % _PRIME
    whole = ways_to.get(view.logits, 0)
    return {name for name, ways in ways_to.items() if whole and ways * ways_from.get(name, 0) % _PRIME == whole}


def _one_side_of_a_product(view: GraphView) -> set[str]:
    """The tensors that go nowhere but into products with others that depend on the image, at the first place where they meet one."""
    readers: dict[str, list[onnx.NodeProto]] = {}
    for node in view.nodes:
        for name in _reads(view, node):
            readers.setdefault(name, []).append(node)
    found: dict[str, bool] = {view.logits: False}
    for node in reversed(view.nodes):
        for name in node.output:
            if name in found or name not in view.depends or name not in view.leading:
                continue
            following = readers.get(name, [])
            found[name] = bool(following) and all(_goes_into_one(view, reader, found) for reader in following)
    return {name for name, aside in found.items() if aside}


def _is_projection(view: GraphView, name: str, *, straight: bool) -> bool:
    """Whether a tensor comes, value by value or moved about, out of a product with learned numbers or out of a softmax; ``straight``:
    and no activation stands between."""
    while (node := view.producer.get(name)) is not None:
        read = list(dict.fromkeys(_reads(view, node)))
        if len(read) != 1 or has(node.op_type, Trait.ANOTHER_MAP) or (straight and has(node.op_type, Trait.ACTIVATION)):
            return False
        if node.op_type in ("MatMul", "Gemm", "Conv", "Einsum", "Softmax"):
            return True
        name = read[0]
    return False


def _goes_into_one(view: GraphView, node: onnx.NodeProto, found: dict[str, bool]) -> bool:
    if len(set(_reads(view, node))) > 1:
        return has(node.op_type, Trait.PRODUCT)
    return any(found.get(name, False) for name in node.output)


def _with_a_say(view: GraphView, layers: Sequence[Layer], some: Sequence[int]) -> set[int]:
    """Those of some layers at whose places the first score has a gradient other than 0, for images of noise."""
    batch = np.random.default_rng(0).uniform(0, 1, view.shapes[view.input]).astype(view.dtypes[view.input])
    seed = np.eye(1, int(np.prod(view.shapes[view.logits][1:])), dtype=np.float32).repeat(len(batch), axis=0)
    proto, names = build_reverse(view, [layers[i].tensor for i in some])
    session = new_session(proto.SerializeToString(), 0, view.where)
    gradients = run_session(session, names[1::2], {view.input: batch, SEED: seed})
    return {i for i, g in zip(some, gradients, strict=True) if np.any(layers[i].channels_first(g))}
