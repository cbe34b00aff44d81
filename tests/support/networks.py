"""Small random-weight ONNX networks and single-operator graphs, built without any training framework."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from typing import Any, Literal

import numpy as np
import onnx
from numpy.typing import NDArray
from onnx import TensorProto, helper, numpy_helper

from mivrat.core.heatmaps.maps import HeatmapMaker
from mivrat.core.models.onnx_model import OnnxModel
from mivrat.core.pictures.recipe import Recipe, Resize, Tensor, Values

FLOAT_TYPES = {"float32": TensorProto.FLOAT, "float16": TensorProto.FLOAT16, "uint8": TensorProto.UINT8}


class Net:
    """Builds a graph line by line; weights are drawn from a seeded generator."""

    def __init__(self, seed: int = 0, as_constants: bool = False) -> None:
        self.rng = np.random.default_rng(seed)
        self.nodes: list[onnx.NodeProto] = []
        self.weights: list[onnx.TensorProto] = []
        self._as_constants = as_constants
        self._count = 0

    def weight(self, *shape: int, scale: float = 0.5, values: Any = None) -> str:
        array = self.rng.normal(0, scale, shape).astype(np.float32) if values is None else np.asarray(values)
        name = f"w{len(self.weights)}_{self._count}"
        self._count += 1
        tensor = numpy_helper.from_array(array, name)
        if self._as_constants:
            self.nodes.append(helper.make_node("Constant", [], [name], value=tensor))
        else:
            self.weights.append(tensor)
        return name

    def add(self, op: str, *inputs: str, outputs: int = 1, name: str | None = None, **attributes: Any) -> str:
        self._count += 1
        names = [name or f"t{self._count}"] + [f"t{self._count}_{i}" for i in range(1, outputs)]
        self.nodes.append(helper.make_node(op, list(inputs), names, name=f"{op}_{self._count}", **attributes))
        return names[0]

    def model(
        self,
        input_shape: Sequence[int | str],
        outputs: dict[str, Sequence[int | str]],
        *,
        opset: int = 17,
        dtype: str = "float32",
    ) -> onnx.ModelProto:
        graph = helper.make_graph(
            self.nodes,
            "net",
            [helper.make_tensor_value_info("image", FLOAT_TYPES[dtype], list(input_shape))],
            [helper.make_tensor_value_info(name, TensorProto.FLOAT, list(shape)) for name, shape in outputs.items()],
            self.weights,
        )
        made = helper.make_model(graph, opset_imports=[helper.make_opsetid("", opset)])
        made.ir_version = 8
        return made


def classifier(
    *,
    classes: int = 3,
    side: int = 12,
    channels: int = 3,
    batch: int | str = "n",
    order: Literal["NCHW", "NHWC"] = "NCHW",
    dtype: str = "float32",
    opset: int = 17,
    head: Literal["logits", "probabilities", "sigmoid", "softmax-4d"] = "logits",
    as_constants: bool = False,
    extra_output: bool = False,
    seed: int = 0,
) -> onnx.ModelProto:
    """Two convolutions, pooling and a linear head, in the shapes that exporters give them."""
    net = Net(seed, as_constants)
    x = "image"
    if dtype != "float32":
        x = net.add("Cast", x, to=TensorProto.FLOAT)
    if order == "NHWC":
        x = net.add("Transpose", x, perm=[0, 3, 1, 2])
    x = net.add(
        "Conv", x, net.weight(6, channels, 3, 3), net.weight(6), kernel_shape=[3, 3], pads=[1, 1, 1, 1], strides=[2, 2]
    )
    x = net.add("Relu", x)
    x = net.add("Conv", x, net.weight(8, 6, 3, 3), net.weight(8), kernel_shape=[3, 3], pads=[1, 1, 1, 1])
    features = net.add("Relu", x, name="features")
    x = net.add("GlobalAveragePool", features)
    columns = 1 if head == "sigmoid" else classes
    if head == "softmax-4d":
        x = net.add("Conv", x, net.weight(classes, 8, 1, 1, scale=2), kernel_shape=[1, 1])
        x = net.add("Softmax", x, axis=1, name="scores")
        shape: list[int | str] = [batch, classes, 1, 1]
    else:
        x = net.add("Flatten", x, axis=1)
        raw = {"logits": "scores", "probabilities": "raw", "sigmoid": "raw"}[head]
        x = net.add("Gemm", x, net.weight(8, columns, scale=2), net.weight(columns), name=raw)
        if head == "probabilities":
            net.add("Softmax", x, axis=1, name="scores")
        elif head == "sigmoid":
            net.add("Sigmoid", x, name="scores")
        shape = [batch, columns]
    outputs: dict[str, Sequence[int | str]] = {"scores": shape}
    if extra_output:
        outputs = {"features": [batch, 8, (side + 1) // 2, (side + 1) // 2], **outputs}
    size: list[int | str] = [batch, channels, side, side] if order == "NCHW" else [batch, side, side, channels]
    return net.model(size, outputs, opset=opset, dtype=dtype)


def recipe_for(model: onnx.ModelProto) -> Recipe:
    """A recipe that stretches pictures to a fixed-size model's input."""
    shape = [d.dim_value for d in model.graph.input[0].type.tensor_type.shape.dim]
    nhwc = shape[1] not in (1, 3)
    height, width, channels = (shape[1], shape[2], shape[3]) if nhwc else (shape[2], shape[3], shape[1])
    names = {TensorProto.FLOAT: "float32", TensorProto.FLOAT16: "float16", TensorProto.UINT8: "uint8"}
    dtype = names[model.graph.input[0].type.tensor_type.elem_type]
    return Recipe.model_validate(
        {
            "picture": {"mode": "L" if channels == 1 else "RGB"},
            "resize": Resize(rule="stretch", size=(height, width)).model_dump(),
            "values": Values(scale=1.0 if dtype == "uint8" else 1 / 255).model_dump(),
            "tensor": Tensor(order="NHWC" if nhwc else "NCHW", dtype=dtype).model_dump(),  # type: ignore[arg-type]
        }
    )


def saved(model: onnx.ModelProto, path: Path, *, checked: bool = True) -> Path:
    """Write a model to a file, checked."""
    if checked:
        onnx.checker.check_model(model)
    path.write_bytes(model.SerializeToString())
    return path


def loaded(model: onnx.ModelProto, path: Path, classes: int | None = None, *, checked: bool = True) -> OnnxModel:
    """Write a model and load it with a recipe that fits."""
    return OnnxModel(saved(model, path, checked=checked), recipe_for(model), classes)


def random_batch(model: OnnxModel, images: int, seed: int = 1) -> NDArray[Any]:
    return np.random.default_rng(seed).uniform(0, 1, model.sample_shape(images)).astype(model.recipe.tensor.dtype)


def seeing_one_spot(path: Path, *, channels_last: bool = False) -> HeatmapMaker:
    """A model of 3 classes whose first logit is the sum of what stands in rows 4 to 8 and columns 20 to 25, no more."""
    weights = np.zeros((30, 40, 3, 3) if channels_last else (3, 30, 40, 3), np.float32)
    weights[(slice(4, 8), slice(20, 25)) if channels_last else (slice(None), slice(4, 8), slice(20, 25))] = [0.1, 0, 0]
    net = Net(seed=0)
    flat = net.add("Flatten", net.add("Identity", "image"), axis=1)
    net.add("MatMul", flat, net.weight(values=weights.reshape(-1, 3)), name="scores")
    shape: list[int | str] = ["n", 30, 40, 3] if channels_last else ["n", 3, 30, 40]
    return HeatmapMaker(loaded(net.model(shape, {"scores": ["n", 3]}), path / "m.onnx", 3))
