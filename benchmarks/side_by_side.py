"""Times pieces of work in turn, so that a drifting machine drifts for all of them."""

from __future__ import annotations

import statistics
import time
from collections.abc import Callable


def in_turn(pieces: dict[str, Callable[[], object]], rounds: int) -> dict[str, list[float]]:
    """Seconds of each piece in each round, after one round that is not counted."""
    found: dict[str, list[float]] = {name: [] for name in pieces}
    for number in range(rounds + 1):
        for name, work in pieces.items():
            began = time.perf_counter()
            work()
            if number:
                found[name].append(time.perf_counter() - began)
    return found


def spread(values: list[float]) -> str:
    return f"{statistics.median(values):.3f} (from {min(values):.3f} to {max(values):.3f})"
