"""The trouble a stand-in service makes on purpose: which kind, and for which requests."""

from __future__ import annotations

import random
import threading
from collections.abc import Sequence
from dataclasses import dataclass

from mivrat.core.base.errors import InputError

# What may go wrong with a request, in the order in which it is looked for.
KINDS = {
    "busy": "503, with Retry-After: 0",
    "limit": "429, too many requests",
    "gateway": "502",
    "cut": "the connection is cut in the middle of the answer",
    "hang": "no answer at all",
    "refuse": "422, with words",
    "shape": "one score too few",
    "nan": "a score that is NaN",
    "json": "an answer that is no JSON",
    "endless": "an answer without end",
    "slow": "a second's wait before the answer",
}


@dataclass(frozen=True)
class Trouble:
    """One kind of trouble: every so many requests, or at random for this share of them."""

    kind: str
    every: int = 0
    share: float = 0.0


def parse_trouble(text: str) -> Trouble:
    """Trouble as it is written: ``busy:10`` for every tenth request, ``busy:0.02`` for two in a hundred at random. Raises InputError."""
    kind, _, amount = text.partition(":")
    try:
        if kind in KINDS and amount.isascii() and amount.isdigit() and int(amount[:9]) > 0:
            return Trouble(kind, every=int(amount[:9]))
        if kind in KINDS and 0 < float(amount) < 1:
            return Trouble(kind, share=float(amount))
    except ValueError:
        pass
    raise InputError(
        f"{text!r} is not a kind of trouble",
        where="--trouble",
        hint=f"write a kind ({', '.join(KINDS)}) and how often: busy:10 for every tenth request, busy:0.02 for two in a hundred",
    )


class Troublemaker:
    """Says for each request what is to go wrong with it; repeatable with the same seed and order. Safe from any thread."""

    def __init__(self, troubles: Sequence[Trouble] = (), seed: int = 0) -> None:
        self.troubles, self._random, self._lock = tuple(troubles), random.Random(seed), threading.Lock()
        self.requests = 0

    def next(self) -> tuple[int, str]:
        """The number of this request, and the kind of trouble it has; empty for none."""
        with self._lock:
            self.requests += 1
            drawn, at = self._random.random(), 0.0
            for one in self.troubles:
                if one.every and self.requests % one.every == 0:
                    return self.requests, one.kind
                at += one.share
                if one.share and at - one.share <= drawn < at:
                    return self.requests, one.kind
            return self.requests, ""
