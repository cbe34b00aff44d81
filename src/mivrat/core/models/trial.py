"""Tries an unknown model in a process of its own, with limits: one that never answers, wants too much memory or brings the
engine down harms nothing."""

from __future__ import annotations

import contextlib
import json
import logging
import os
import resource
import signal
import subprocess
import sys
import time
from pathlib import Path
from typing import Any

from platformdirs import user_cache_path

from mivrat.core.base.errors import InputError
from mivrat.core.base.job import Stopped, current_stop

LIMIT_SECONDS = 60.0
# Memory beside the weights, which are held several times over while a model is loaded: so much at least, and up to half of what
# the machine has to spare.
LIMIT_BYTES = 3_000_000_000
WEIGHTS_TIMES = 6
_LOOK_EVERY = 0.02
log = logging.getLogger(__name__)


def passes_trial(where: Path, task: dict[str, Any], key: str) -> None:
    """Do ``task`` (as ``mivrat.core.gradients.tried`` understands it) in a process of its own, and return if that goes well.

    What went well is remembered under ``key``. Raises InputError: the one the task ends with, or that it takes too long, too
    much memory, or brings the process down. A stop of the job in hand ends it with Stopped.
    """
    passed = user_cache_path("mivrat", appauthor=False) / "tried" / key
    if passed.exists():
        return
    answer = _answer(where, task)
    if answer is not None and "what" in answer:
        raise InputError(str(answer["what"]), where=answer["where"], hint=answer["mend"])
    if answer is not None and "memory" in answer:
        raise InputError(
            f"wants more than {answer['memory'] / 1e9:.1f} GB of memory: {WEIGHTS_TIMES} times its weights and the larger of "
            f"{LIMIT_BYTES / 1e9:.0f} GB and half of the {spare_memory() / 1e9:.1f} GB that this machine has to spare",
            where=where,
            hint="close other programs, use smaller images, or a machine with more memory; a sound model that is not large should "
            "not need it: export it again, and see that no tensor in it grows without bound",
        )
    if answer is None:
        raise InputError(
            "brings the engine down, or takes more memory or processor time than a model may",
            where=where,
            hint="export it again, and see that no tensor in it grows without bound",
        )
    with contextlib.suppress(OSError):
        passed.parent.mkdir(parents=True, exist_ok=True)
        passed.touch()


def _answer(where: Path, task: dict[str, Any]) -> dict[str, Any] | None:
    """What the process said; None where it ended without a word."""
    stop, ends = current_stop(), time.monotonic() + LIMIT_SECONDS
    with subprocess.Popen(
        [sys.executable, "-P", "-m", "mivrat.core.gradients.tried"],
        stdin=subprocess.PIPE,
        stdout=subprocess.PIPE,
        stderr=subprocess.DEVNULL,
        start_new_session=True,
    ) as process:
        try:
            most = WEIGHTS_TIMES * task["weights"] + max(LIMIT_BYTES, spare_memory() // 2)
            asked = json.dumps(task | {"seconds": LIMIT_SECONDS, "bytes": most}).encode("ascii")
            while True:
                try:
                    said, _ = process.communicate(asked, timeout=_LOOK_EVERY)
                    break
                except subprocess.TimeoutExpired:
                    asked = b""  # it was handed over at the first call
                if stop.stopped:
                    raise Stopped
                if time.monotonic() > ends:
                    raise InputError(
                        f"does not answer within {LIMIT_SECONDS:.0f} s",
                        where=where,
                        hint="export it again, and see that no loop in it goes on without end",
                    )
        finally:
            if process.poll() is None:
                process.kill()
    with contextlib.suppress(ValueError, TypeError):
        found: dict[str, Any] = json.loads(said)
        return found
    log.warning("a model's trial ended with %s", process.returncode)
    return None


def spare_memory() -> int:
    """So many bytes of memory this machine could give now; 0 where it does not say."""
    with contextlib.suppress(OSError, ValueError):
        for line in Path("/proc/meminfo").read_text(encoding="ascii").splitlines():
            if line.startswith("MemAvailable:"):
                return int(line.split()[1]) * 1024
    return 0


def limit_this_process(seconds: float, most_bytes: int) -> None:
    """No more than so much processor time and memory for this process, and no file of its memory where it crashes."""
    for which, most in (
        (resource.RLIMIT_DATA, most_bytes),
        (resource.RLIMIT_CPU, int(seconds * (os.cpu_count() or 1)) + 1),
        (resource.RLIMIT_CORE, 0),
    ):
        with contextlib.suppress(ValueError, OSError):
            resource.setrlimit(which, (most, most))
    signal.signal(signal.SIGINT, signal.SIG_IGN)
