"""The Open Inference Protocol, version 2, over REST: what a server tells of a model, requests, and answers.

JSON as the protocol has it, and its binary tensor extension where the server offers that.
"""

from __future__ import annotations

import base64
import json
from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from mivrat.core.base.errors import InputError
from mivrat.core.base.text import quoted
from mivrat.core.models.service.client import Answered, BadAnswer, NoAnswer, Refused, RetryPolicy, ServiceClient
from mivrat.core.models.service.description import Description
from mivrat.core.models.service.pictures import Payload

DATATYPES = {"FP32": "float32", "FP16": "float16", "UINT8": "uint8", "BYTES": ""}
_SCORES = {"FP32": "<f4", "FP16": "<f2", "FP64": "<f8"}
_TENSORS = {"float32": "FP32", "float16": "FP16", "uint8": "UINT8"}
LENGTH = "inference-header-content-length"
# To learn what there is, one does not wait long.
SHORT = RetryPolicy(tries=3, first=0.2)
MOST_PORTS, MOST_AXES, MOST_SIZE = 1000, 16, 1 << 31


@dataclass(frozen=True)
class ServerPort:
    """An input or output as a server tells of it; None where a size is free."""

    name: str
    datatype: str
    shape: tuple[int | None, ...]

    def describe(self) -> str:
        return f"'{self.name}' [{', '.join('?' if n is None else str(n) for n in self.shape)}] {self.datatype}"


@dataclass(frozen=True)
class ModelMetadata:
    """What a server tells of a model: its name and version (empty: it tells none), its inputs and outputs (none: it tells none
    either), and whether it takes binary tensors."""

    name: str
    version: str
    inputs: tuple[ServerPort, ...] = ()
    outputs: tuple[ServerPort, ...] = ()
    binary: bool = False


def ask_about(client: ServiceClient) -> ModelMetadata:
    """Ask a server what it tells of the model. Raises InputError where it does not answer, has no such model, or serves several versions
    and none was named."""
    description = client.description
    root, name, version = description.parts()
    try:
        told = client.get(
            _model_address(description), lambda answer: _metadata(answer, name, version, description), SHORT
        )
    except Refused as error:
        raise InputError(
            f"does not list a model '{name}' ({error})",
            where=description.url,
            hint="correct the model's name or the key",
        ) from None
    except (NoAnswer, BadAnswer) as error:
        raise InputError(
            f"does not answer as a server of the open protocol does ({error})",
            where=description.url,
            hint="see that the address is right and the server is running",
        ) from None
    return replace(told, binary=_offers_binary(client, root))


def is_ready(client: ServiceClient) -> bool | None:
    """Whether the server says that the model is ready; None where it does not say."""
    try:
        return client.get(f"{_model_address(client.description)}/ready", lambda answer: True, SHORT)
    except NoAnswer:
        return False
    except (Refused, BadAnswer):
        return None


def _model_address(description: Description) -> str:
    root, name, version = description.parts()
    return f"{root}/v2/models/{name}" + (f"/versions/{version}" if version else "")


def _offers_binary(client: ServiceClient, root: str) -> bool:
    def read(answer: Answered) -> bool:
        return "binary_tensor_data" in _object(answer).get("extensions", [])

    try:
        return client.get(f"{root}/v2", read, SHORT)
    except (Refused, BadAnswer, NoAnswer, TypeError):
        return False


def _metadata(answer: Answered, name: str, version: str, description: Description) -> ModelMetadata:
    found = _object(answer)
    listed = found.get("versions")
    versions = [str(one)[:100] for one in listed if isinstance(one, str | int)] if isinstance(listed, list) else []
    if not version and len(versions) > 1:
        raise InputError(
            f"serves several versions of '{name}': {quoted(versions)}",
            where=description.url,
            hint=f"name one: {description.url.rstrip('/')}/versions/{versions[-1]}",
        )
    return ModelMetadata(
        str(found.get("name") or name)[:200],
        version or (versions[0] if versions else ""),
        _ports(found.get("inputs")),
        _ports(found.get("outputs")),
    )


def _ports(told: object) -> tuple[ServerPort, ...]:
    found = []
    for one in told[:MOST_PORTS] if isinstance(told, list) else []:
        if not isinstance(one, dict) or not isinstance(one.get("shape"), list):
            continue
        shape = tuple(n if type(n) is int and 0 < n <= MOST_SIZE else None for n in one["shape"][:MOST_AXES])
        found.append(ServerPort(str(one.get("name", ""))[:200], str(one.get("datatype", ""))[:20], shape))
    return tuple(found)


def _object(answer: Answered, length: int | None = None) -> dict[str, Any]:
    found = answer.json(length)
    if not isinstance(found, dict):
        raise BadAnswer("an answer that is no JSON object")
    return found


class OpenInference:
    """Requests for one model and what its answers say. ``columns``: the numbers in a row; ``output``: the output they stand in."""

    def __init__(self, description: Description, told: ModelMetadata, image: str, output: str, columns: int) -> None:
        self.url = f"{_model_address(description)}/infer"
        self._told, self._image, self._output, self._columns = told, image, output, columns

    def request(self, images: Sequence[Payload]) -> tuple[bytes, dict[str, str]]:
        """The body and headers of a request for some images of one size."""
        pictures = [one for one in images if isinstance(one, bytes)]
        port: dict[str, Any] = {"name": self._image}
        if pictures:
            told = next((one for one in self._told.inputs if one.name == self._image), None)
            wide = told is not None and len(told.shape) == 2
            port |= {"shape": [len(pictures), 1] if wide else [len(pictures)], "datatype": "BYTES"}
            raw = b"".join(len(one).to_bytes(4, "little") + one for one in pictures)
        else:
            batch = np.stack([one for one in images if not isinstance(one, bytes)])
            port |= {"shape": list(batch.shape), "datatype": _TENSORS[batch.dtype.name]}
            raw = np.ascontiguousarray(batch, batch.dtype.newbyteorder("<")).tobytes() if self._told.binary else b""
        whole: dict[str, Any] = {"inputs": [port]}
        if self._output:
            whole["outputs"] = [{"name": self._output}]
        if self._told.binary:
            port["parameters"] = {"binary_data_size": len(raw)}
            whole["parameters"] = {"binary_data_output": True}
            head = json.dumps(whole).encode()
            return head + raw, {
                "Content-Type": "application/octet-stream",
                "Inference-Header-Content-Length": str(len(head)),
            }
        if pictures:
            port["parameters"] = {"content_type": "base64"}
            port["data"] = [base64.b64encode(one).decode() for one in pictures]
        else:  # written out so that the very same numbers are read
            port["data"] = _exactly(batch.ravel())
        return json.dumps(whole).encode(), {"Content-Type": "application/json"}

    def rows(self, answer: Answered, images: int) -> tuple[NDArray[np.float32], str]:
        """The rows for so many images, and the version that answered (empty: it does not say). Raises BadAnswer."""
        body, said = answer.body, answer.headers.get(LENGTH, "")
        head = int(said) if said.isascii() and said.isdigit() else len(body)
        found = _object(answer, head)
        outputs = found.get("outputs")
        if not isinstance(outputs, list) or not all(isinstance(one, dict) for one in outputs):
            raise BadAnswer("an answer without outputs")
        arrays, at = [], head
        for one in outputs:
            data: object = one.get("data")
            parameters = one.get("parameters")
            size = parameters.get("binary_data_size") if isinstance(parameters, dict) else None
            if isinstance(size, int) and not isinstance(size, bool):
                if size < 0 or at + size > len(body):
                    raise BadAnswer("an answer that ends too early")
                data, at = body[at : at + size], at + size
            arrays.append((one, data))
        one, data = self._chosen(arrays)
        return _rows(one, data, images, self._columns), str(found.get("model_version") or "")[:100]

    def _chosen(self, outputs: list[tuple[dict[str, Any], object]]) -> tuple[dict[str, Any], object]:
        if self._output:
            outputs = [one for one in outputs if one[0].get("name") == self._output]
        elif len(outputs) > 1:
            outputs = [
                one for one in outputs if _columns_of(one[0]) == self._columns and one[0].get("datatype") in _SCORES
            ]
        if len(outputs) != 1:
            wanted = f"the output '{self._output}'" if self._output else f"just one output with {self._columns} scores"
            raise BadAnswer(f"an answer without {wanted}")
        return outputs[0]


def _exactly(numbers: NDArray[Any]) -> list[Any]:
    """An array as lists of the very same numbers: in double precision, of which JSON loses nothing."""
    listed: list[Any] = (numbers.astype(np.float64) if numbers.dtype.kind == "f" else numbers).tolist()
    return listed


def numbers_as_json(numbers: NDArray[Any]) -> str:
    """An array as nested JSON lists, with so many digits that the very same numbers are read.

    What a picture was turned into holds few different numbers: each of them is written out once.
    """
    different, places = np.unique(numbers, return_inverse=True)
    if len(different) * 4 > numbers.size:
        return json.dumps(_exactly(numbers))
    texts = np.array([json.dumps(one) for one in _exactly(different)], object)
    lines = texts[places].reshape(-1, numbers.shape[-1])
    found = [f"[{', '.join(line)}]" for line in lines.tolist()]
    for side in reversed(numbers.shape[:-1]):
        found = [f"[{', '.join(found[at : at + side])}]" for at in range(0, len(found), side)]
    return found[0]


def _columns_of(output: dict[str, Any]) -> int:
    shape = output.get("shape")
    long = [n for n in shape[1:] if n != 1] if isinstance(shape, list) else []
    return long[0] if len(long) == 1 and isinstance(long[0], int) else 1 if not long else -1


def _rows(output: dict[str, Any], data: object, images: int, columns: int) -> NDArray[np.float32]:
    datatype = output.get("datatype")
    if datatype not in _SCORES:
        raise BadAnswer(f"scores of the type {str(datatype)[:20]!r}; FP16, FP32 or FP64 is needed")
    shape = output.get("shape")
    if not isinstance(shape, list) or not all(isinstance(n, int) and 0 <= n < 1 << 31 for n in shape):
        raise BadAnswer("an answer whose shape is none")
    if not shape or shape[0] != images or _columns_of(output) != columns:
        raise BadAnswer(
            f"scores of the shape {shape[:6]} for {images} image{'s' if images > 1 else ''}; {columns} each are needed"
        )
    try:
        if isinstance(data, bytes):
            flat = np.frombuffer(data, _SCORES[datatype]).astype(np.float64)
        else:
            flat = np.asarray(data, np.float64).ravel()
    except (ValueError, TypeError, OverflowError):
        raise BadAnswer("scores that are not numbers") from None
    if flat.size != images * columns:
        raise BadAnswer(f"{flat.size} scores where its shape says {images * columns}")
    return finite(flat.reshape(images, columns))


def finite(rows: NDArray[np.float64]) -> NDArray[np.float32]:
    """Rows of scores in single precision. Raises BadAnswer where one is no number, or does not fit."""
    with np.errstate(over="ignore"):
        found = rows.astype(np.float32)
    if not np.isfinite(found).all():
        raise BadAnswer("a score that is not a finite number (NaN or infinity)")
    return found
