"""Prediction services for tests: the stand-in for a small network, and one that says whatever a test wants said."""

from __future__ import annotations

import json
import threading
from collections.abc import Callable, Iterator
from contextlib import contextmanager, suppress
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path
from typing import Any

from mivrat.core.models.onnx_model import OnnxModel
from mivrat.core.models.service import client
from mivrat.core.models.service.agreement import agree, agreement_of
from mivrat.core.models.service.description import FORMAT, Description, description_from, write_description
from mivrat.core.models.service.model import ServiceModel
from mivrat.core.pictures.recipe import Recipe, recipe_to_toml
from tests.support.networks import classifier, loaded
from tests.support.sets import write_classes, write_set

# What a service says: the status, the headers, and the body.
Said = tuple[int, dict[str, str], bytes]


def described(url: str, **entries: Any) -> Description:
    """A service of the open protocol at this address, or of whatever other kind the entries say."""
    return description_from({"format": FORMAT, "url": url, "send": "open-inference", **entries})


def met(folder: Path, description: Description, classes: list[str], recipe: Recipe | None = None) -> ServiceModel:
    """The service as a model, with its host agreed to and little patience."""
    agree(agreement_of(description))
    model = ServiceModel(write_description(description, folder), classes, recipe)
    model.client.patience = client.RetryPolicy(first=0.01, longest=0.02)
    return model


def network_with_images(folder: Path) -> OnnxModel:
    """A network in a folder with its recipe, its class list, and a set of 15 images."""
    made = loaded(classifier(side=16), folder / "net.onnx", 3)
    (folder / "recipe.toml").write_text(recipe_to_toml(made.recipe))
    write_classes(folder / "classes.txt")
    write_set(folder / "set", 5)
    return made


@contextmanager
def saying(say: Callable[[str, str, bytes, dict[str, str]], Said]) -> Iterator[str]:
    """A server that says to each request (method, path, body, headers) what ``say`` gives; its root address."""

    class Handler(BaseHTTPRequestHandler):
        protocol_version = "HTTP/1.1"

        def log_message(self, format: str, *args: Any) -> None:
            """Nothing."""

        def _answer(self) -> None:
            body = self.rfile.read(int(self.headers.get("Content-Length", 0)))
            told = {name.lower(): value for name, value in self.headers.items()}
            status, headers, answer = say(self.command, self.path, body, told)
            self.send_response(status)
            for name, value in {"Content-Length": str(len(answer)), **headers}.items():
                self.send_header(name, value)
            self.end_headers()
            with suppress(OSError):
                self.wfile.write(answer)

        do_GET = do_POST = _answer  # noqa: N815

    server = ThreadingHTTPServer(("127.0.0.1", 0), Handler)
    server.daemon_threads = True
    threading.Thread(target=server.serve_forever, args=(0.02,), daemon=True).start()
    try:
        yield f"http://127.0.0.1:{server.server_address[1]}"
    finally:
        server.shutdown()
        server.server_close()


def said(what: object, status: int = 200, **headers: str) -> Said:
    """A JSON answer."""
    return status, {name.replace("_", "-"): value for name, value in headers.items()}, json.dumps(what).encode()
