"""Plain names of layers, the blocks they belong to, and the order in which they are offered."""

from __future__ import annotations

import ast
from collections import Counter
from collections.abc import Sequence
from dataclasses import replace
from typing import TYPE_CHECKING

import onnx

from mivrat.core.gradients.graph import GraphView, attributes_of
from mivrat.core.models.operators import OPERATORS, Trait, has

if TYPE_CHECKING:
    from mivrat.core.gradients.layers import Layer

LIKELY = "likely"
# Under this key one exporter notes the modules a node came from, the outermost first.
_SCOPES = "pkg.torch.onnx.name_scopes"
# A numbered module within a numbered one is a block of its own from so many layers on.
_FEW = 4


def with_names(view: GraphView, layers: Sequence[Layer]) -> list[Layer]:
    """The layers with their plain names and their blocks."""
    blocks = _blocks(view, layers)
    return [
        replace(layer, plain=_plain(view, view.producer[layer.tensor]) + _follows(view, layer.tensor), block=block)
        for layer, block in zip(layers, blocks, strict=True)
    ]


def _plain(view: GraphView, node: onnx.NodeProto) -> str:
    """What a node does, in the field's words."""
    kind = node.op_type
    read = list(dict.fromkeys(name for name in node.input if name in view.depends))
    if kind == "Conv":
        kernel = view.shapes.get(node.input[1], ())
        size = " × ".join(str(n) for n in kernel[2:])
        groups = attributes_of(node).get("group", 1)
        return f"convolution {size}" + (" of each channel" if groups > 1 and groups == kernel[0] else "")
    if has(kind, Trait.ACTIVATION):
        return f"activation ({kind})"
    if kind == "Mul" and len(read) == 2 and _gates_itself(view, read):
        return "activation (x · sigmoid x)"
    if "Normalization" in kind or kind == "LRN":
        return "normalisation"
    if kind in ("Add", "Sum"):
        made = view.producer.get(read[0]) if len(read) == 1 else None
        if made is not None and made.op_type == "MatMul" and _plain(view, made) == "linear layer":
            return "linear layer, with bias"
        return "sum" if len(read) > 1 else "constant added"
    if kind == "Mul":
        return "product" if len(read) > 1 else "scaled"
    if kind == "MatMul":
        return "product of matrices" if len(read) > 1 else "linear layer"
    known = OPERATORS.get(kind)
    return (known.words if known is not None else "") or kind


def _follows(view: GraphView, name: str) -> str:
    """Which tensor of the file one follows that has no name there itself; empty for one that has."""
    found = name
    while found not in view.in_file and (node := view.producer.get(found)) is not None:
        read = [one for one in node.input if one in view.depends]
        if not read:
            return ""
        found = read[0]
    return f", behind {found}" if found != name else ""


def _gates_itself(view: GraphView, read: Sequence[str]) -> bool:
    """Whether one of two factors is the sigmoid of the other."""
    for gate, other in (read, read[::-1]):
        made = view.producer.get(gate)
        if made is not None and made.op_type in ("Sigmoid", "HardSigmoid") and made.input[0] == other:
            return True
    return False


def _blocks(view: GraphView, layers: Sequence[Layer]) -> list[str]:
    """The block of each layer: the module it was written in, where the file tells, else what lies between two sums or joins."""
    paths = [_path(view.producer[layer.tensor]) for layer in layers]
    if not any(paths):
        return _by_structure(view, layers)
    found: list[str] = []
    for path in paths:  # a sum written outside of any module ends the block before it
        found.append(_module(path) if path else found[-1] if found else "")
    counts = Counter(found)

    def whole(block: str) -> str:
        """Of a module of few layers the numbered one it is part of; of a single layer whatever it is part of."""
        outer = block.rpartition(".")[0]
        if outer and ((counts[block] < _FEW and outer.rpartition(".")[2].isdigit()) or counts[block] < 2):
            return outer
        return block

    return [whole(block) for block in found]


def _path(node: onnx.NodeProto) -> list[str]:
    """The names of the modules that a node was written in, the outermost first, from its name or from what an exporter noted."""
    noted = next((one.value for one in node.metadata_props if one.key == _SCOPES), "")
    if noted:
        try:
            scopes = ast.literal_eval(noted)
        except (ValueError, SyntaxError):
            scopes = []
        names = [str(one) for one in scopes if one] if isinstance(scopes, list) else []
        return names[-2].split(".") if len(names) > 1 else []
    parts: list[str] = []
    for name in [one for one in node.name.split("/") if one][:-1] if "/" in node.name else []:
        if parts and name.startswith(parts[-1] + "."):
            parts[-1] = name
        else:
            parts.append(name)
    return ".".join(parts).split(".") if parts else []


def _module(path: Sequence[str]) -> str:
    """The first numbered module of a path, with the numbers that follow upon it at once; the outermost one where none is numbered."""
    first = next((i for i, part in enumerate(path) if part.isdigit()), None)
    if first is None:
        return path[0]
    last = first
    while last + 1 < len(path) and path[last + 1].isdigit():
        last += 1
    return ".".join(path[: last + 1])


def _by_structure(view: GraphView, layers: Sequence[Layer]) -> list[str]:
    found, number, ended = [], 1, False
    for layer in layers:
        node = view.producer[layer.tensor]
        if ended and layer.has_places and not has(node.op_type, Trait.ACTIVATION):
            number, ended = number + 1, False
        found.append(f"block {number}")
        read = {name for name in node.input if name in view.depends}
        ended = ended or (
            node.op_type in ("Add", "Sum", "Concat", "MaxPool", "AveragePool")
            and len(read) > (node.op_type[-4:] != "Pool")
        )
    return found


def block_title(block: str) -> str:
    """A heading over the layers of a block."""
    if block == LIKELY:
        return "likely layers"
    return block if block.startswith("block ") else f"block {block}" if block else "before the first block"


def likely(layers: Sequence[Layer]) -> list[Layer]:
    """The layers that are asked for most: the default, then the last that gives a map of each block and of each resolution, the
    last first."""
    last: dict[object, Layer] = {}
    for layer in layers:
        if layer.heatmap:
            last[layer.block] = last[layer.grid] = layer
    default = [layer for layer in layers if layer.default]
    some = {layer.tensor for layer in last.values()} - {layer.tensor for layer in default}
    return [*default, *(layer for layer in reversed(layers) if layer.tensor in some)]


def in_groups(layers: Sequence[Layer]) -> list[tuple[str, list[Layer]]]:
    """Headings with the layers under them: the likely ones, then all others block by block, the last first."""
    first = likely(layers)
    found: list[tuple[str, list[Layer]]] = [(LIKELY, first)] if first else []
    named = {layer.tensor for layer in first}
    for layer in reversed(layers):
        if layer.tensor in named:
            continue
        if not found or found[-1][0] != layer.block or len(found) == 1:
            found.append((layer.block, []))
        found[-1][1].append(layer)
    return found
