"""Reads an ONNX file safely and says what its inputs and outputs are, without running it."""

from __future__ import annotations

from dataclasses import dataclass
from math import prod
from pathlib import Path
from typing import Literal

import onnx
from google.protobuf.message import DecodeError
from onnx import TensorProto

from mivrat.core.base.errors import InputError
from mivrat.core.pictures.recipe import MOST_SIDE, Recipe

Shape = tuple[int | None, ...]
# What the format's encoding can hold.
MOST_BYTES = (1 << 31) - 1

_TYPES: dict[int, Literal["float32", "float16", "uint8"]] = {
    TensorProto.FLOAT: "float32",
    TensorProto.FLOAT16: "float16",
    TensorProto.UINT8: "uint8",
}


# How many bytes a number of each kind takes that weights are kept in.
_TYPE_BYTES = {
    TensorProto.FLOAT: 4,
    TensorProto.FLOAT16: 2,
    TensorProto.BFLOAT16: 2,
    TensorProto.DOUBLE: 8,
    TensorProto.INT64: 8,
    TensorProto.INT32: 4,
    TensorProto.INT8: 1,
    TensorProto.UINT8: 1,
    TensorProto.INT16: 2,
    TensorProto.UINT16: 2,
    TensorProto.BOOL: 1,
}


@dataclass(frozen=True)
class Port:
    """One input or output of a graph: name, shape (None: free or unknown), element type ("" where not numeric)."""

    name: str
    shape: Shape
    dtype: str

    def describe(self) -> str:
        shown = ", ".join("?" if n is None else str(n) for n in self.shape)
        return f"'{self.name}' [{shown}] {self.dtype or 'of another type'}"


def load_onnx(path: Path) -> tuple[onnx.ModelProto, list[Path]]:
    """Load an ONNX model with its weights, and tell the files beside it that hold them; InputError where it is none or keeps
    weights outside its folder."""
    try:
        if not path.is_file() and path.exists():
            raise InputError("is a folder or a device, not a model file", where=path, hint="name an ONNX file")
        if path.stat().st_size > MOST_BYTES:
            raise InputError(
                f"is larger than {MOST_BYTES / 1e9:.0f} GB, which no ONNX file may be",
                where=path,
                hint="keep the weights in a file beside the model (external data)",
            )
        model = onnx.ModelProto.FromString(path.read_bytes())
        _touch(model)
    except FileNotFoundError as error:
        raise InputError("the model file does not exist", where=path, hint="name an ONNX file") from error
    except (DecodeError, OSError, ValueError) as error:
        raise InputError(
            "is not an ONNX model, or is damaged", where=path, hint="export the classifier to ONNX and name that file"
        ) from error
    if not model.graph.node or not model.graph.output:
        raise InputError(
            "is not an ONNX model, or an empty one", where=path, hint="export the classifier to ONNX and name that file"
        )
    weights = weight_files(model, path)
    if weights:
        try:
            onnx.external_data_helper.load_external_data_for_model(model, str(path.resolve().parent))
        except Exception as error:  # a length or place that is no number, or leads beyond the end
            raise InputError(
                f"its weights cannot be read ({' '.join(str(error).split())[:120]})",
                where=path,
                hint="put the weights file that belongs to it beside the model",
            ) from error
        _cut_to_size(model)
    return model, weights


def _cut_to_size(model: onnx.ModelProto) -> None:
    """Leave out what stands behind a constant's own numbers in a weights file that tells no length: the engine does not read it."""
    for tensor in onnx.external_data_helper._get_all_tensors(model):
        if tensor.HasField("raw_data") and tensor.data_type in _TYPE_BYTES:
            size = _TYPE_BYTES[tensor.data_type] * prod(tensor.dims)
            if len(tensor.raw_data) > size:
                tensor.raw_data = tensor.raw_data[:size]


def _touch(model: onnx.ModelProto) -> None:
    """ValueError where a name in it is no text, or a shape or constant holds sizes that cannot be."""
    for graph in (model.graph, *model.functions):
        for node in graph.node:
            _ = (node.name, node.op_type, node.domain, list(node.input), list(node.output))
            for attribute in node.attribute:
                _ = (attribute.name, attribute.ref_attr_name)
    for value in (*model.graph.input, *model.graph.output, *model.graph.value_info):
        _ = (value.name, [d.dim_param for d in value.type.tensor_type.shape.dim])
    for tensor in onnx.external_data_helper._get_all_tensors(model):
        _ = (tensor.name, [(entry.key, entry.value) for entry in tensor.external_data])
        if any(n < 0 for n in tensor.dims):
            raise ValueError("a constant with a negative size")
    _ = [(entry.domain, entry.version) for entry in model.opset_import]


def weight_files(model: onnx.ModelProto, path: Path) -> list[Path]:
    """The files beside a model that hold its weights; InputError where one is missing or lies outside the model's folder."""
    folder, found = path.resolve().parent, set[Path]()
    for tensor in onnx.external_data_helper._get_all_tensors(model):
        for entry in tensor.external_data:
            if entry.key == "location":
                target = None if "\0" in entry.value else (folder / entry.value).resolve()
                if target is None or Path(entry.value).is_absolute() or not target.is_relative_to(folder):
                    raise InputError(
                        f"keeps weights outside its own folder ({entry.value!r})",
                        where=path,
                        hint="put the weights beside the model, or inside it",
                    )
                if not target.is_file():
                    raise InputError(
                        f"its weights are missing ({entry.value})",
                        where=path,
                        hint="put the weights file back beside the model",
                    )
                found.add(target)
    return sorted(found)


def _port(value: onnx.ValueInfoProto) -> Port:
    tensor = value.type.tensor_type
    shape = tuple(d.dim_value if d.HasField("dim_value") and d.dim_value > 0 else None for d in tensor.shape.dim)
    known = tensor.elem_type and tensor.elem_type in TensorProto.DataType.values()
    dtype = TensorProto.DataType.Name(tensor.elem_type).lower() if known else ""
    return Port(value.name, shape, _TYPES.get(tensor.elem_type, dtype))


def inputs_of(model: onnx.ModelProto) -> list[Port]:
    """The graph's real inputs; weights that old files list among the inputs are left out."""
    weights = {tensor.name for tensor in model.graph.initializer} | {
        s.values.name for s in model.graph.sparse_initializer
    }
    return [_port(value) for value in model.graph.input if value.name not in weights]


def outputs_of(model: onnx.ModelProto) -> list[Port]:
    """The graph's outputs."""
    return [_port(value) for value in model.graph.output]


def image_input(model: onnx.ModelProto, wanted: str, where: object) -> Port:
    """The input that takes the images: the one named, else the only one; InputError where it cannot be an image."""
    ports = inputs_of(model)
    listed = "; ".join(port.describe() for port in ports) or "none"
    if wanted:
        named = [port for port in ports if port.name == wanted]
        if not named:
            raise InputError(
                f"has no input '{wanted}'; its inputs: {listed}", where=where, hint="correct tensor.input in the recipe"
            )
        port = named[0]
        if len(ports) > 1:
            raise InputError(
                f"needs more than the image: its inputs: {listed}",
                where=where,
                hint="export the model so that it takes images only",
            )
    else:
        if len(ports) != 1:
            raise InputError(
                f"is not an image classifier Mivrat can run: it has {len(ports)} inputs ({listed}), one is needed",
                where=where,
                hint="export the model so that it takes one batch of images",
            )
        port = ports[0]
    if len(port.shape) != 4 and not (len(port.shape) == 0 and port.dtype):
        raise InputError(
            f"is not an image classifier: its input {port.describe()} has {len(port.shape)} axes, images need 4 (N, C, H, W or N, H, W, C)",
            where=where,
            hint="name a model that takes images",
        )
    if port.dtype not in ("float32", "float16", "uint8"):
        raise InputError(
            f"takes {port.dtype or 'something else than numbers'}; Mivrat gives float32, float16 or uint8",
            where=where,
            hint="export the model with one of these input types",
        )
    if max((n or 0 for n in port.shape[1:]), default=0) > MOST_SIDE:
        raise InputError(
            f"its input {port.describe()} is longer than {MOST_SIDE} on a side",
            where=where,
            hint="name a model for smaller images",
        )
    if len(port.shape) == 4 and all(n not in (1, 3, None) for n in (port.shape[1], port.shape[3])):
        raise InputError(
            f"its input {port.describe()} has neither 1 nor 3 channels",
            where=where,
            hint="name a model for grey or colour pictures",
        )
    return port


def check_recipe_fits(port: Port, recipe: Recipe, where: object) -> None:
    """InputError, naming both sides, where the recipe's tensors cannot go into the model's input."""
    if recipe.tensor.dtype != port.dtype:
        raise InputError(
            f"the model takes {port.dtype}, the recipe makes {recipe.tensor.dtype}",
            where=where,
            hint=f'set tensor.dtype = "{port.dtype}" in the recipe',
        )
    if len(port.shape) != 4:
        return
    size = recipe.output_size() or (None, None)
    made: Shape = (None, recipe.channels, *size) if recipe.tensor.order == "NCHW" else (None, *size, recipe.channels)
    for wants, makes in zip(port.shape[1:], made[1:], strict=True):
        if wants is not None and makes is not None and wants != makes:
            shown = ", ".join("n" if i == 0 else "?" if n is None else str(n) for i, n in enumerate(made))
            raise InputError(
                f"the model's input {port.describe()} does not take what the recipe makes: [{shown}] ({recipe.tensor.order}, {recipe.picture.mode})",
                where=where,
                hint="correct crop.size, resize.size, picture.mode or tensor.order in the recipe",
            )


def fitting_outputs(model: onnx.ModelProto, classes: int | None) -> list[Port]:
    """Outputs that can be scores: float, the first axis images, one other axis longer than one, of the right length."""
    fits = []
    for port in outputs_of(model):
        if port.dtype not in ("float32", "float16", "double"):
            continue
        long = [n for n in port.shape[1:] if n != 1]
        if len(long) > 1 and None not in long:
            continue
        columns = None if None in long else (long[0] if long else 1) if len(port.shape) > 1 else None
        if classes is None or columns is None or columns == classes or (columns == 1 and classes == 2):
            fits.append(port)
    return fits
