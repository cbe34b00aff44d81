"""The inference engine: the one place that loads it, and how sessions of it are made."""

from __future__ import annotations

import os
import re
import threading
from collections import OrderedDict
from collections.abc import Callable, Sequence
from typing import Any, TypeAlias, TypeVar

from numpy.typing import NDArray

from mivrat.core.base.errors import InputError, arose_in
from mivrat.core.base.job import Stopped, current_stop

# Some builds of the engine count their use and keep an id of the machine; this has to stand before it is loaded.
os.environ["ORT_DISABLE_TELEMETRY"] = "1"

import onnxruntime as ort

ort.disable_telemetry_events()

Session: TypeAlias = ort.InferenceSession
_Made = TypeVar("_Made")
VERSION = str(ort.__version__)


class EngineFault(Exception):
    """The engine failed at a model's graph; the message is its own."""


def new_session(model: str | bytes, threads: int = 0, where: object = "", *, as_written: bool = False) -> Session:
    """An ONNX Runtime session on the CPU; InputError, with the runtime's reason, where the model cannot be loaded.

    ``as_written`` runs the graph node by node, so that every tensor can be asked for; shapes are read as soon as they are there, so
    that tensors need not be kept for that.
    """
    options = ort.SessionOptions()
    options.intra_op_num_threads = threads
    options.log_severity_level = 4
    if as_written:
        options.graph_optimization_level = ort.GraphOptimizationLevel.ORT_DISABLE_ALL
        options.execution_order = ort.ExecutionOrder.PRIORITY_BASED
    # Threads that wait by spinning would take decoding its time.
    options.add_session_config_entry("session.intra_op.allow_spinning", "0")
    try:
        return ort.InferenceSession(model, options, providers=["CPUExecutionProvider"])
    except Exception as error:
        if not arose_in(error, "onnxruntime"):
            raise
        raise InputError(
            f"the runtime cannot load the model ({short_reason(error)})",
            where=where,
            hint="export it again, with standard ONNX operators",
        ) from error


def run_session(session: Session, names: Sequence[str] | None, given: dict[str, NDArray[Any]]) -> list[Any]:
    """The session's outputs (all for None). A stop of the job in hand ends it between two nodes: Stopped is raised. Raises EngineFault
    where the engine fails."""
    options = ort.RunOptions()

    def end() -> None:
        options.terminate = True

    stop = current_stop()
    try:
        with stop.calling(end):
            return list(session.run(names, given, options))
    except Exception as error:
        if stop.stopped:
            raise Stopped from error
        if not arose_in(error, "onnxruntime"):
            raise
        raise EngineFault(str(error)) from error


class RecentSessions:
    """Sessions kept by key for all who ask, those used last: each holds threads and memory of its own. Safe from any thread."""

    def __init__(self, most: int) -> None:
        self._most, self._lock = most, threading.RLock()  # what is thrown away may let go of more
        self._kept: OrderedDict[Any, Any] = OrderedDict()

    def get(self, key: Any, make: Callable[[], _Made]) -> _Made:
        """What is kept under the key, else what ``make`` gives, which is then kept."""
        with self._lock:
            if key in self._kept:
                self._kept.move_to_end(key)
                found: _Made = self._kept[key]
                return found
        made = make()
        with self._lock:
            self._kept[key] = made
            while len(self._kept) > self._most:
                self._kept.popitem(last=False)
        return made

    def forget(self, of: Any) -> None:
        """Let go of what is kept under keys that begin with this."""
        with self._lock:
            for key in list(self._kept):
                if key[0] == of:
                    self._kept.pop(key, None)


def short_reason(error: Exception) -> str:
    """The telling part of a runtime's error message, on one line."""
    text = re.sub(r"\[ONNXRuntimeError\] : \d+ : \w+ : ", "", " ".join(str(error).split()))
    text = re.sub(r"/\S+/([\w.]+\.(?:cc|h):\d+)", r"\1", text)
    return text[:220]
