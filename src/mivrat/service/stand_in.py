"""The stand-in prediction service: an ONNX file behind the Open Inference Protocol, and behind a plain address for pictures."""

from __future__ import annotations

import base64
import hashlib
import json
import re
import threading
import time
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from dataclasses import dataclass
from email.parser import BytesParser
from email.policy import HTTP
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from types import TracebackType
from typing import Any

import numpy as np
from numpy.typing import NDArray

from mivrat import __version__
from mivrat.core.base.errors import InputError
from mivrat.core.models.onnx_model import OnnxModel
from mivrat.core.pictures.decode import PictureFile, Stamp, UnreadablePicture
from mivrat.core.pictures.prepare import prepare_picture
from mivrat.service.trouble import Trouble, Troublemaker

_DATATYPES = {"float32": ("FP32", "<f4"), "float16": ("FP16", "<f2"), "uint8": ("UINT8", "u1")}
MOST_BODY = 256_000_000
# Lists and objects in a request: the lines of many pictures, and no more, as each takes memory.
MOST_PARTS = 1_000_000


@dataclass(frozen=True)
class Manner:
    """How the service behaves. ``pictures``: its input takes picture files in place of tensors; ``told``: it tells of inputs and
    outputs; ``binary``: it takes binary tensors; ``new_version_after``: so many requests later another version answers;
    ``key``: what the header Authorization has to be; ``delay``: seconds before each answer."""

    version: str = "1"
    pictures: bool = False
    told: bool = True
    binary: bool = True
    troubles: tuple[Trouble, ...] = ()
    seed: int = 0
    new_version_after: int = 0
    key: str = ""
    delay: float = 0.0


class Wrong(Exception):
    """A request that cannot be answered: the status, and why."""

    def __init__(self, status: int, words: str) -> None:
        super().__init__(words)
        self.status = status


class StandIn:
    """A service that answers until it is closed. ``images`` are the SHA-256 of each image it has answered for, in order."""

    def __init__(
        self,
        model: OnnxModel,
        name: str = "",
        classes: Sequence[str] = (),
        manner: Manner | None = None,
        host: str = "127.0.0.1",
        port: int = 0,
    ) -> None:
        """``port`` 0: one that is free. Raises InputError where the port cannot be had."""
        self.model, self.name, self.classes = model, name or model.name, list(classes)
        self.manner = manner or Manner()
        self.trouble = Troublemaker(self.manner.troubles, self.manner.seed)
        self.images: list[str] = []
        self.closing = threading.Event()
        handler = type("Handler", (_Handler,), {"stand_in": self})
        try:
            self._server = _Server((host, port), handler)
        except OSError as error:
            raise InputError(
                f"cannot be served from ({error.strerror})",
                where=f"{host}:{port}",
                hint="name another port with --port",
            ) from error
        at = self._server.server_address
        self.root = f"http://{at[0]!s}:{at[1]}"
        self._thread = threading.Thread(target=self._server.serve_forever, args=(0.05,), name="stand-in", daemon=True)
        self._thread.start()

    @property
    def address(self) -> str:
        """Where the model answers."""
        return f"{self.root}/v2/models/{self.name}"

    def close(self) -> None:
        self.closing.set()
        self._server.shutdown()
        self._server.server_close()

    def __enter__(self) -> StandIn:
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        self.close()

    def version_of(self, request: int) -> str:
        """The version that answers the request of this number."""
        after = self.manner.new_version_after
        return f"{self.manner.version}-next" if after and request > after else self.manner.version

    def metadata(self) -> dict[str, Any]:
        """What the protocol tells of the model."""
        model, told = self.model, self.manner.told
        shape = [-1 if n is None else n for n in (None, *model.sample_shape(1)[1:])]
        input_ = {"name": model.input.name, "datatype": _DATATYPES[model.recipe.tensor.dtype][0], "shape": shape}
        if self.manner.pictures:
            input_ = {"name": "picture", "datatype": "BYTES", "shape": [-1]}
        output = {"name": model.output.name, "datatype": "FP32", "shape": [-1, model.columns]}
        return {
            "name": self.name,
            "versions": [self.manner.version] if told else [],
            "platform": "onnxruntime_onnx",
            "inputs": [input_] if told else [],
            "outputs": [output] if told else [],
        }

    def scored(self, tensors: NDArray[Any], contents: Sequence[bytes]) -> NDArray[np.float32]:
        """The rows for prepared images; raises Wrong where the model cannot take them."""
        try:
            rows = self.model.scores(tensors)
        except Exception as error:
            raise Wrong(400, f"the model cannot take this ({type(error).__name__})") from None
        self.images += [hashlib.sha256(one).hexdigest() for one in contents]
        return rows

    def prepared(self, picture: bytes) -> NDArray[Any]:
        """A picture file as the model receives it; raises Wrong where it is none."""
        try:
            return prepare_picture(PictureFile(picture, Stamp(b"", len(picture), 0), ""), self.model.recipe)
        except UnreadablePicture as error:
            raise Wrong(422, f"not a picture: {error}") from None


def _parsed(body: bytes) -> Any:
    """What a body says in JSON; ValueError where it is none, or holds more lists than images could."""
    if body.count(b"[") + body.count(b"{") > MOST_PARTS:
        raise ValueError(f"more than {MOST_PARTS} lists and objects")
    return json.loads(body)


class _Server(ThreadingHTTPServer):
    daemon_threads = True
    request_queue_size = 128

    def handle_error(self, request: Any, client_address: Any) -> None:
        """Who asked has gone away: that is theirs to do."""


class _Handler(BaseHTTPRequestHandler):
    stand_in: StandIn
    protocol_version = "HTTP/1.1"
    server_version = f"mivrat-stand-in/{__version__}"
    sys_version = ""
    disable_nagle_algorithm = True
    wbufsize = -1
    timeout = 60

    def log_message(self, format: str, *args: Any) -> None:
        """Nothing is told of single requests."""

    def do_GET(self) -> None:
        with self._answering():
            self._allowed()
            one, path = self.stand_in, self.path.rstrip("/")
            if path == "/v2":
                extensions = ["binary_tensor_data"] if one.manner.binary else []
                self._send({"name": "mivrat-stand-in", "version": __version__, "extensions": extensions})
            elif path in ("/v2/health/live", "/v2/health/ready") or self._of_model(path) == "/ready":
                self._send({"ready": True})
            elif self._of_model(path) == "":
                self._send(one.metadata())
            else:
                raise Wrong(404, f"there is nothing at {self.path[:100]}")

    def do_POST(self) -> None:
        with self._answering():
            body = self._body()
            self._allowed()
            request, kind = self.stand_in.trouble.next()
            if self._troubled_before(kind):
                return
            path = self.path.rstrip("/")
            if self._of_model(path) == "/infer":
                self._infer(body, request, kind)
            elif path == "/score":
                self._score(body, kind)
            else:
                raise Wrong(404, f"there is nothing at {self.path[:100]}")

    @contextmanager
    def _answering(self) -> Iterator[None]:
        """What was wrong with a request is the answer to it."""
        try:
            yield
        except Wrong as error:
            self._send({"error": str(error)}, error.status)

    def _of_model(self, path: str) -> str | None:
        """What is asked of the model; None where it is of another one."""
        one = self.stand_in
        found = re.fullmatch(r"/v2/models/([^/]+)(?:/versions/([^/]+))?(/\w+)?", path)
        if found is None or found[1] != one.name:
            return None
        if found[2] not in (None, one.manner.version):
            raise Wrong(404, f"{one.name} has no version {found[2][:60]}")
        return found[3] or ""

    def _allowed(self) -> None:
        key = self.stand_in.manner.key
        if key and self.headers.get("Authorization", "") != key:
            said = self.headers.get("Authorization", "none")
            raise Wrong(401, f"the key {said!r} is not one of ours")  # as careless servers do

    def _body(self) -> bytes:
        said = self.headers.get("Content-Length", "")
        if not said.isascii() or not said.isdigit():
            raise Wrong(411, "the length of the request is not told")
        if len(said) > 12 or int(said) > MOST_BODY:
            self.close_connection = True
            raise Wrong(413, f"more than {MOST_BODY} bytes")
        return self.rfile.read(int(said))

    def _troubled_before(self, kind: str) -> bool:
        """Make the trouble that comes before any answer; whether that was all there is to this request."""
        delay = self.stand_in.manner.delay + (1.0 if kind == "slow" else 0.0)
        if delay:
            self.stand_in.closing.wait(delay)
        if kind == "busy":
            self._send({"error": "busy just now"}, 503, {"Retry-After": "0"})
        elif kind == "limit":
            self._send({"error": "too many requests"}, 429)
        elif kind == "gateway":
            self._send_bytes(b"<html><body>Bad Gateway</body></html>", 502, {"Content-Type": "text/html"})
        elif kind == "refuse":
            self._send({"error": "this picture is not to our liking"}, 422)
        elif kind == "hang":
            self.stand_in.closing.wait(600)
            self.close_connection = True
        elif kind == "endless":
            self._endless()
        else:
            return False
        return True

    def _endless(self) -> None:
        self.close_connection = True
        self.send_response(200)
        self.end_headers()
        began = time.monotonic()
        while time.monotonic() - began < 60 and not self.stand_in.closing.is_set():
            self.wfile.write(b" " * 65536)

    def _infer(self, body: bytes, request: int, kind: str) -> None:
        one = self.stand_in
        head = self.headers.get("Inference-Header-Content-Length", "")
        at = int(head) if head.isascii() and head.isdigit() else len(body)
        try:
            asked = _parsed(body[:at])
            (given,) = asked["inputs"]
            parameters = asked.get("parameters")
            if not isinstance(given, dict) or not isinstance(parameters, dict | None):
                raise TypeError("inputs or parameters of another kind")
            tensors, contents = self._given(given, body[at:])
        except (ValueError, KeyError, TypeError, RecursionError, AttributeError, OverflowError) as error:
            raise Wrong(400, f"not a request of the protocol ({type(error).__name__}: {error})"[:200]) from None
        rows = _spoiled(one.scored(tensors, contents), kind)
        told = {"model_name": one.name, "model_version": one.version_of(request), "id": str(asked.get("id", ""))}
        output: dict[str, Any] = {"name": one.model.output.name, "datatype": "FP32", "shape": list(rows.shape)}
        if one.manner.binary and (parameters or {}).get("binary_data_output"):
            raw = rows.astype("<f4").tobytes()
            output["parameters"] = {"binary_data_size": len(raw)}
            top = json.dumps(told | {"outputs": [output]}).encode()
            headers = {"Content-Type": "application/octet-stream", "Inference-Header-Content-Length": str(len(top))}
            self._send_spoiled(top + raw, headers, kind)
            return
        output["data"] = rows.astype(np.float64).ravel().tolist()
        self._send_spoiled(
            json.dumps(told | {"outputs": [output]}).encode(), {"Content-Type": "application/json"}, kind
        )

    def _given(self, given: dict[str, Any], tail: bytes) -> tuple[NDArray[Any], list[bytes]]:
        """The prepared images of a request, and the bytes each came as."""
        one = self.stand_in
        if given["datatype"] == "BYTES":
            pictures = _pictures(given, tail)
            return np.stack([one.prepared(picture) for picture in pictures]), pictures
        wanted, form = _DATATYPES[one.model.recipe.tensor.dtype]
        if given["datatype"] != wanted:
            raise ValueError(f"{given['datatype']} in place of {wanted}")
        shape = [int(n) for n in given["shape"]]
        tensors = (
            np.asarray(given["data"], np.float64).astype(form) if "data" in given else np.frombuffer(tail, form)
        ).reshape(shape)
        return tensors, [tensor.tobytes() for tensor in tensors]

    def _score(self, body: bytes, kind: str) -> None:
        """A picture in a JSON object (``image``, base64), a form (``image``), or as the body itself."""
        said = self.headers.get("Content-Type", "")
        try:
            if said.startswith("application/json"):
                sent = _parsed(body)["image"]
                if isinstance(sent, list):
                    tensor = np.asarray(sent, np.float64).astype(self.stand_in.model.recipe.tensor.dtype)
                    self._send_scores(tensor, tensor.tobytes(), kind)
                    return
                picture = base64.b64decode(sent, validate=True)
            elif said.startswith("multipart/form-data"):
                form = BytesParser(policy=HTTP).parsebytes(b"Content-Type: " + said.encode() + b"\r\n\r\n" + body)
                parts = {part.get_param("name", header="content-disposition"): part for part in form.iter_parts()}
                picture = bytes(parts["image"].get_content())
            else:
                picture = body
        except (ValueError, KeyError, TypeError, RecursionError, AttributeError) as error:
            raise Wrong(400, f"it holds no image ({type(error).__name__})") from None
        self._send_scores(self.stand_in.prepared(picture), picture, kind)

    def _send_scores(self, tensor: NDArray[Any], content: bytes, kind: str) -> None:
        one = self.stand_in
        row = _spoiled(one.scored(tensor[None], [content]), kind)[0].astype(np.float64).tolist()
        told: dict[str, Any] = {"model": one.name, "scores": row}
        if one.classes:
            told["classes"] = [{"name": name, "score": score} for name, score in zip(one.classes, row, strict=False)]
        self._send_spoiled(json.dumps(told).encode(), {"Content-Type": "application/json"}, kind)

    def _send_spoiled(self, body: bytes, headers: dict[str, str], kind: str) -> None:
        """Send an answer, unless the trouble is with the sending."""
        if kind == "json":
            self._send_bytes(b"{" + body[: len(body) // 2], 200, {"Content-Type": "application/json"})
        elif kind == "cut":
            self.close_connection = True
            self.send_response(200)
            self.send_header("Content-Length", str(len(body)))
            for name, value in headers.items():
                self.send_header(name, value)
            self.end_headers()
            self.wfile.write(body[: len(body) // 2])
        else:
            self._send_bytes(body, 200, headers)

    def _send(self, what: dict[str, Any], status: int = 200, headers: dict[str, str] | None = None) -> None:
        self._send_bytes(json.dumps(what).encode(), status, {"Content-Type": "application/json", **(headers or {})})

    def _send_bytes(self, body: bytes, status: int, headers: dict[str, str]) -> None:
        self.send_response(status)
        for name, value in {**headers, "Content-Length": str(len(body))}.items():
            self.send_header(name, value)
        self.end_headers()
        self.wfile.write(body)
        self.wfile.flush()


def _spoiled(rows: NDArray[np.float32], kind: str) -> NDArray[np.float32]:
    if kind == "shape":
        return rows[:, :-1]
    if kind == "nan":
        rows = rows.copy()
        rows[:, 0] = np.nan
    return rows


def _pictures(given: dict[str, Any], tail: bytes) -> list[bytes]:
    """The picture files of an input of bytes: base64 texts, or each behind its length (binary extension)."""
    if "data" in given:
        return [base64.b64decode(one, validate=True) for one in given["data"]]
    found, at = [], 0
    while at < len(tail):
        size = int.from_bytes(tail[at : at + 4], "little")
        found.append(tail[at + 4 : at + 4 + size])
        at += 4 + size
    return found
