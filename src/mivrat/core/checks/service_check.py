"""The check of a prediction service: is it there, does it say the same twice, and of several images what it says of each; how fast."""

from __future__ import annotations

import time
from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

from mivrat.core.base.errors import InputError, NotAgreed
from mivrat.core.checks.inputs import Inputs
from mivrat.core.checks.result import CheckResult, CheckState
from mivrat.core.models.service.model import ServiceModel
from mivrat.core.models.service.pictures import Payload
from mivrat.core.pictures.decode import UnreadablePicture, read_file

NAME = "service"
# So many answered images are asked for twice each.
IMAGES = 4
# Scores further apart than this, of the largest one's size, are not the same said along another way of rounding.
ALIKE = 1e-4


def check_service(inputs: Inputs) -> CheckResult:
    """Ask a service twice for some images it has answered for, alone and, where it takes several in a request, together. Raises
    NotAgreed where nothing may be sent to it."""
    model = inputs.remote
    if model is None:
        return CheckResult(NAME, "open", inputs.model_problem or "The model is not a prediction service.")
    asked, kept = _images(model, inputs)
    if not asked:
        return CheckResult(NAME, "open", "No image has been scored yet.")
    ready = model.is_ready()
    state = {
        True: "It says that it is ready",
        False: "It says that it is not ready",
        None: "It does not say whether it is ready",
    }[ready]
    version = (
        f", version {model.version}"
        if model.version
        else "; it tells no version, so a change of the model would not be noticed"
    )
    figures: dict[str, object] = {"ready": ready, "version": model.version, "images": len(asked)}
    try:
        first, seconds = _one_by_one(model, asked)
        second, more = _one_by_one(model, asked)
    except NotAgreed:
        raise
    except InputError as error:
        return CheckResult(NAME, "stop", f"{state}{version}. It gave no answer: {error.what}.", figures)
    told = [f"{state}{version}", f"{_milliseconds(seconds + more)} an answer"]
    grave: list[CheckState] = ["look"] if ready is False or not model.version else []
    figures |= {"seconds": float(np.median(seconds + more)), "twice": _apart(first, second)}
    if _apart(first, second) == 0:
        told.append(f"asked twice for {len(asked)} images it said the same to the last bit")
    else:
        told.append(f"asked twice for {len(asked)} images its scores differ by up to {_apart(first, second):.2g}")
        grave.append("stop" if _apart(first, second) > ALIKE * _size(first) else "look")
    figures["kept"] = _apart(first, kept)
    if _apart(first, kept) > ALIKE * _size(kept):
        told.append(
            f"these are not the answers it gave when this run was scored (up to {_apart(first, kept):.2g} apart): it is another model by now, or answers at random"
        )
        grave.append("stop")
    together = _together(model, asked)
    if together is not None:
        figures["batch"] = _apart(first, together)
        same = _apart(first, together) <= ALIKE * _size(first)
        told.append(
            "several images in one request get the answers they get alone"
            if same
            else f"several images in one request get other answers than alone (up to {_apart(first, together):.2g} apart)"
        )
        grave += [] if same else ["stop"]
    sentence = "; ".join(told)
    worst: CheckState = "stop" if "stop" in grave else "look" if grave else "fine"
    return CheckResult(NAME, worst, f"{sentence[:1].upper()}{sentence[1:]}.", figures)


def _images(model: ServiceModel, inputs: Inputs) -> tuple[list[Payload], NDArray[np.float32]]:
    """Some images as they are sent, of one size, and what was answered for them when they were scored."""
    found: list[Payload] = []
    rows = []
    for at in inputs.answered.tolist():
        try:
            payload = model.payload(read_file(inputs.image_set.file(at)))
        except UnreadablePicture:
            continue
        if not found or isinstance(payload, bytes) or payload.shape == getattr(found[0], "shape", None):
            found.append(payload)
            assert inputs.judged is not None
            rows.append(inputs.judged.rows[at])
        if len(found) == IMAGES:
            break
    return found, np.asarray(rows, np.float32)


def _one_by_one(model: ServiceModel, images: Sequence[Payload]) -> tuple[NDArray[np.float32], list[float]]:
    rows, seconds = [], []
    for one in images:
        began = time.perf_counter()
        rows.append(model.asked_now([one], together=1)[0])
        seconds.append(time.perf_counter() - began)
    return np.stack(rows), seconds


def _together(model: ServiceModel, images: Sequence[Payload]) -> NDArray[np.float32] | None:
    """The answers to all of them in one request; None where the service takes one at a time, or does not like that."""
    if model.description.send != "open-inference" or len(images) < 2:
        return None
    try:
        return model.asked_now(images, together=len(images))
    except InputError:
        return None


def _apart(a: NDArray[np.float32], b: NDArray[np.float32]) -> float:
    return (
        float(np.abs(a.astype(np.float64) - b).max())
        if a.shape == b.shape and a.size
        else float("inf")
        if a.size
        else 0.0
    )


def _size(rows: NDArray[np.float32]) -> float:
    return max(1.0, float(np.abs(rows).max()))


def _milliseconds(seconds: Sequence[float]) -> str:
    return f"{1000 * float(np.median(seconds)):.0f} ms"
