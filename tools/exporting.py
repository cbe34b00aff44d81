"""Makes networks ready and writes them as ONNX, in the two ways there are. Needs the extra ``tools``."""

from __future__ import annotations

import warnings
from pathlib import Path
from typing import Any

import torch
from torch import nn

EXPORTERS = ("traced", "captured")


def with_statistics(made: nn.Module) -> nn.Module:
    """A network for use, with made-up statistics where it normalises by batch."""
    for module in made.eval().modules():
        if isinstance(module, nn.BatchNorm2d):
            nn.init.uniform_(module.running_mean, -0.3, 0.3)
            nn.init.uniform_(module.running_var, 0.5, 2.0)
            nn.init.uniform_(module.weight, 0.5, 1.5)
    return made


def export(made: nn.Module, path: Path, exporter: str, fixed: int | None, opset: int, side: int) -> None:
    """Write a network as ONNX, by tracing or by capturing its graph, with a free batch or a fixed one."""
    sample = torch.randn(fixed or 2, 3, side, side)
    names: dict[str, Any] = {"input_names": ["image"], "output_names": ["scores"], "opset_version": opset}
    with warnings.catch_warnings():
        warnings.simplefilter("ignore")
        if exporter == "traced":
            axes = None if fixed else {"image": {0: "n"}, "scores": {0: "n"}}
            torch.onnx.export(made, (sample,), str(path), dynamo=False, dynamic_axes=axes, **names)
        else:
            shapes = None if fixed else ({0: torch.export.Dim("n")},)
            torch.onnx.export(
                made,
                (sample,),
                str(path),
                dynamo=True,
                dynamic_shapes=shapes,
                external_data=False,
                verbose=False,
                **names,
            )
