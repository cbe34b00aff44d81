"""Any service that takes an image and answers JSON, as its description says: the request, and the scores in the answer."""

from __future__ import annotations

import base64
import json
from collections.abc import Sequence
from copy import deepcopy
from typing import TYPE_CHECKING, Any
from uuid import uuid4

import numpy as np
from numpy.typing import NDArray

from mivrat.core.base.errors import InputError
from mivrat.core.base.lazy_module import LazyModule
from mivrat.core.models.service.client import Answered, BadAnswer
from mivrat.core.models.service.description import Description
from mivrat.core.models.service.open_inference import finite, numbers_as_json
from mivrat.core.models.service.pictures import Payload
from mivrat.core.pictures.classes import ClassMatcher

if TYPE_CHECKING:
    import httpx
else:
    httpx = LazyModule("httpx")

_TYPES = {"jpeg": "image/jpeg", "png": "image/png"}
_STARTS = {
    b"\xff\xd8\xff": "image/jpeg",
    b"\x89PNG": "image/png",
    b"GIF8": "image/gif",
    b"RIFF": "image/webp",
    b"BM": "image/bmp",
}


def _names(pointer: str) -> list[str]:
    """The names and indices that a JSON Pointer leads through."""
    return [part.replace("~1", "/").replace("~0", "~") for part in pointer.split("/")[1:]]


def pointed(value: Any, pointer: str) -> Any:
    """What a JSON Pointer (RFC 6901) leads to. Raises KeyError where it leads nowhere."""
    for name in _names(pointer):
        if isinstance(value, dict) and name in value:
            value = value[name]
        elif (
            isinstance(value, list) and name.isascii() and name.isdigit() and len(name) < 10 and int(name) < len(value)
        ):
            value = value[int(name)]
        else:
            raise KeyError(pointer)
    return value


def put_at(whole: Any, pointer: str, value: Any) -> Any:
    """``whole`` with a value where a JSON Pointer leads; objects on the way are made, lists made longer by ``-`` or the next
    index. Raises KeyError where there is something else on the way."""
    return _put(whole, _names(pointer), value)


def _put(whole: Any, names: Sequence[str], value: Any) -> Any:
    if not names:
        return value
    whole = {} if whole is None else whole
    name, rest = names[0], names[1:]
    if isinstance(whole, dict):
        if not whole and (name == "-" or name == "0"):
            return [_put(None, rest, value)]
        whole[name] = _put(whole.get(name), rest, value)
        return whole
    if isinstance(whole, list):
        at = len(whole) if name == "-" else int(name) if name.isascii() and name.isdigit() else -1
        if 0 <= at <= len(whole):
            whole[at : at + 1] = [_put(whole[at] if at < len(whole) else None, rest, value)]
            return whole
    raise KeyError(name)


class Described:
    """Requests of one image each, and what the answers say. ``columns``: the numbers in a row."""

    def __init__(self, description: Description, classes: Sequence[str], columns: int) -> None:
        self.url = description.url
        self._description, self._columns = description, columns
        self._matcher, self._classes = ClassMatcher(classes), list(classes)
        try:
            self.request([b""])
        except KeyError:
            raise InputError(
                f"image: {description.image!r} leads through something that is not an object in [request]",
                where=description.url,
                hint="correct one of the two in the service description",
            ) from None

    def request(self, images: Sequence[Payload]) -> tuple[bytes, dict[str, str]]:
        """The body and headers of a request for one image."""
        (image,) = images
        description = self._description
        fields = deepcopy(description.request.fields)
        if description.send == "json":
            mark = uuid4().hex
            sent = base64.b64encode(image).decode() if isinstance(image, bytes) else mark
            text = json.dumps(put_at(fields, description.image, sent))
            if not isinstance(image, bytes):
                text = text.replace(f'"{mark}"', numbers_as_json(image), 1)
            return text.encode(), {"Content-Type": "application/json"}
        assert isinstance(image, bytes)
        kind = _TYPES.get(description.encoding or "jpeg") or next(
            (kind for start, kind in _STARTS.items() if image.startswith(start)), "application/octet-stream"
        )
        if description.send == "body":
            return image, {"Content-Type": kind}
        return _form(fields, description.image.lstrip("/") or "image", image, kind)

    def rows(self, answer: Answered, images: int) -> tuple[NDArray[np.float32], str]:
        """The row for the image; there is no version to tell. Raises BadAnswer."""
        found = answer.json()
        response = self._description.response
        try:
            row = self._listed_scores(found) if response.scores is not None else self._named_scores(found)
        except KeyError as error:
            raise BadAnswer(f"an answer in which {str(error.args[0])[:80]!r} leads nowhere") from None
        return finite(np.asarray([row])), ""

    def _listed_scores(self, found: Any) -> list[float]:
        scores = pointed(found, self._description.response.scores or "")
        if isinstance(scores, list) and len(scores) == 1 and isinstance(scores[0], list):
            scores = scores[0]  # a batch of one
        if self._columns == 1 and isinstance(scores, int | float):
            scores = [scores]
        if not isinstance(scores, list):
            raise BadAnswer("scores that are not a list")
        if len(scores) != self._columns:
            raise BadAnswer(f"{len(scores)} scores; {self._columns} are needed, one for each class of the list")
        return [_number(one) for one in scores]

    def _named_scores(self, found: Any) -> list[float]:
        response = self._description.response
        pairs = pointed(found, response.pairs or "")
        if not isinstance(pairs, list):
            raise BadAnswer("classes that are not a list")
        row: dict[int, float] = {}
        for pair in pairs:
            name = pointed(pair, response.label)
            at = self._matcher.index(str(name)) if isinstance(name, str | int) else None
            if at is None:
                raise BadAnswer(f"a score for {str(name)[:60]!r}, which is not in the class list")
            if at in row:
                raise BadAnswer(f"two scores for {self._classes[at]!r}")
            row[at] = _number(pointed(pair, response.score))
        if len(row) != len(self._classes):
            lacking = next(name for k, name in enumerate(self._classes) if k not in row)
            raise BadAnswer(f"scores for {len(row)} of {len(self._classes)} classes; {lacking!r} has none")
        return [row[k] for k in range(len(self._classes))]


def _number(value: object) -> float:
    if isinstance(value, bool) or not isinstance(value, int | float):
        raise BadAnswer("a score that is no number")
    try:
        return float(value)
    except OverflowError:
        raise BadAnswer("a score that is not a finite number") from None


def _form(fields: dict[str, Any], name: str, image: bytes, kind: str) -> tuple[bytes, dict[str, str]]:
    """A form with a file in it (RFC 7578)."""
    told = {key: value if isinstance(value, str) else json.dumps(value) for key, value in fields.items()}
    request = httpx.Request("POST", "http://form", data=told, files={name: ("image", image, kind)})
    return request.read(), {"Content-Type": request.headers["Content-Type"]}
