"""Hints at the recipe that stand in the model file itself: its input, its first operators, its metadata."""

from __future__ import annotations

import json
import re
from dataclasses import dataclass

import numpy as np
import onnx
from numpy.typing import NDArray
from onnx import numpy_helper

from mivrat.core.models.onnx_model import OnnxModel
from mivrat.core.pictures.recipe import Recipe, Values

_TELLING = re.compile(
    r"mean|std|scale|norm|size|shape|channel|colou?r|mode|crop|resize|interp|label|class|name|prep", re.I
)
_NUMBER = re.compile(r"[-+]?(?:\d+\.?\d*|\.\d+)(?:[eE][-+]?\d+)?")
_PASSED_THROUGH = ("Cast", "Identity", "Transpose", "Resize", "Pad")


@dataclass(frozen=True)
class Hint:
    """One thing the file says; ``recipe`` is the recipe in use with it taken over, where that can be done."""

    sentence: str
    recipe: Recipe | None = None


def model_hints(model: OnnxModel) -> list[Hint]:
    """What a model file says about how its images are to be prepared; hints, not facts."""
    return [_input_hint(model), *_channel_hints(model), *_first_operator_hints(model), *_metadata_hints(model)]


def _input_hint(model: OnnxModel) -> Hint:
    note = " Bytes: the values from 0 to 255 as they are." if model.input.dtype == "uint8" else ""
    return Hint(f"The input is {model.input.describe()}.{note}")


def _channel_hints(model: OnnxModel) -> list[Hint]:
    name = model.input.name.lower()
    found = [mode for mode in ("BGR", "RGB") if mode.lower() in name]
    if len(found) != 1 or model.recipe.channels == 1:
        return []
    picture = model.recipe.picture.model_copy(update={"mode": found[0]})
    return [
        Hint(
            f"The input's name, '{model.input.name}', speaks of {found[0]}.",
            model.recipe.model_copy(update={"picture": picture}) if found[0] != model.recipe.picture.mode else None,
        )
    ]


def _first_operator_hints(model: OnnxModel) -> list[Hint]:
    """Whether the graph itself begins by scaling its input: then the recipe should not."""
    graph = model.proto.graph
    constants = {tensor.name: tensor for tensor in graph.initializer}
    for node in graph.node:
        if node.op_type == "Constant" and node.attribute and node.attribute[0].HasField("t"):
            constants[node.output[0]] = node.attribute[0].t
    told, at = [], model.input.name
    for _ in range(8):
        users = [node for node in graph.node if at in node.input]
        if len(users) != 1:
            break
        node = users[0]
        words = _arithmetic(node, at, constants)
        if words:
            told.append(words)
        elif node.op_type not in _PASSED_THROUGH:
            break
        at = node.output[0]
    if not told:
        return []
    plain = model.recipe.model_copy(update={"values": Values(scale=1.0, mean=[0.0], std=[1.0])})
    return [
        Hint(
            f"The graph itself begins with: {', then '.join(told)}. It may want values from 0 to 255 as they are.",
            plain if plain != model.recipe and model.recipe.tensor.dtype != "uint8" else None,
        )
    ]


def _arithmetic(node: onnx.NodeProto, at: str, constants: dict[str, onnx.TensorProto]) -> str:
    verbs = {"Sub": "subtract", "Add": "add", "Mul": "multiply by", "Div": "divide by"}
    if node.op_type == "BatchNormalization":
        return "a batch normalisation"
    others = [name for name in node.input if name != at]
    if node.op_type not in verbs or len(others) != 1 or others[0] not in constants:
        return ""
    values = numpy_helper.to_array(constants[others[0]]).ravel()
    if values.size > 8:
        return ""
    return f"{verbs[node.op_type]} {', '.join(f'{v:.4g}' for v in values.tolist())}"


def _metadata_hints(model: OnnxModel) -> list[Hint]:
    entries = {entry.key: entry.value for entry in model.proto.metadata_props if _TELLING.search(entry.key)}
    hints = [
        Hint(f"The file's metadata say {key} = {' '.join(value.split())[:120]}.") for key, value in entries.items()
    ]
    mean, std = (_numbers_under(entries, key) for key in ("mean", "std"))
    if mean is not None and len(mean) in (1, model.recipe.channels):
        scaled = float(np.abs(mean).max()) <= 2.0
        values = Values(
            scale=1 / 255 if scaled else 1.0,
            mean=mean.tolist(),
            std=std.tolist() if std is not None and len(std) == len(mean) and (std > 0).all() else [1.0],
        )
        if values != model.recipe.values:
            hints.append(
                Hint(
                    "Mean and deviation of the metadata taken as values of the recipe"
                    + (", after dividing by 255." if scaled else "."),
                    model.recipe.model_copy(update={"values": values}),
                )
            )
    return hints


def _numbers_under(entries: dict[str, str], word: str) -> NDArray[np.float64] | None:
    for key, value in entries.items():
        if word in key.lower():
            try:
                told = json.loads(value)
            except (ValueError, RecursionError):
                told = None
            numbers = told if isinstance(told, list) else _NUMBER.findall(value)
            try:
                found = np.array(numbers, np.float64).ravel()
            except (TypeError, ValueError):
                continue
            if found.size and np.isfinite(found).all():
                return found
    return None
