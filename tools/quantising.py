"""Writes quantised copies of an ONNX file, in the formats there are."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from typing import Any

from numpy.typing import NDArray
from onnxruntime.quantization import CalibrationDataReader, QuantFormat, QuantType, quantize_dynamic, quantize_static


class _Samples(CalibrationDataReader):  # type: ignore[misc]
    def __init__(self, samples: Sequence[dict[str, NDArray[Any]]]) -> None:
        self.left = list(samples)

    def get_next(self) -> dict[str, NDArray[Any]] | None:
        return self.left.pop() if self.left else None


def quantise(source: Path, path: Path, how: str, samples: Sequence[dict[str, NDArray[Any]]]) -> None:
    """Write a copy quantised by ``how``: "dynamic", "qdq-8", "qdq-16" or "operators-8"; the latter three by the ranges of samples."""
    if how == "dynamic":
        some = ["MatMul", "Gemm", "Conv"]
        quantize_dynamic(str(source), str(path), op_types_to_quantize=some, weight_type=QuantType.QUInt8)
        return
    wide = how == "qdq-16"
    quantize_static(
        str(source),
        str(path),
        _Samples(samples),
        quant_format=QuantFormat.QOperator if how == "operators-8" else QuantFormat.QDQ,
        activation_type=QuantType.QInt16 if wide else QuantType.QUInt8,
        weight_type=QuantType.QInt8,
        per_channel=how == "qdq-8",
        extra_options={"UseQDQContribOps": wide},
    )
