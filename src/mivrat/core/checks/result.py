"""What a check found: its state, the sentence that says so, figures, and the images concerned."""

from __future__ import annotations

import json
from collections.abc import Mapping
from dataclasses import asdict, dataclass, field
from typing import Any, Literal

from pydantic import TypeAdapter

from mivrat.core.figures.significance import AtMost

# ``open``: it could not be said, or was not asked yet.
CheckState = Literal["fine", "look", "stop", "open"]


@dataclass(frozen=True)
class CheckResult:
    """The outcome of one check.

    ``images`` are positions in the image set, in the order to look at them; ``offer`` is what could be adopted: a
    ``recipe`` as TOML text, or a ``classes`` list in another order. ``answer`` is what the analyst has said to it, with the day; it
    is kept by itself, with the content that it is about.
    """

    name: str
    state: CheckState
    sentence: str
    figures: Mapping[str, Any] = field(default_factory=dict)
    images: tuple[int, ...] = ()
    offer: Mapping[str, Any] = field(default_factory=dict)
    answer: str = ""

    @property
    def asks(self) -> bool:
        """Whether it found something that nobody has answered."""
        return self.state in ("look", "stop") and not self.answer

    def to_json(self) -> str:
        data = asdict(self)
        if not self.answer:
            del data["answer"]
        return json.dumps(data, allow_nan=False)


_RESULT = TypeAdapter(CheckResult)


def from_json(text: str) -> CheckResult:
    """A result that was kept as text; ValueError where it is none."""
    return _RESULT.validate_json(text)


def in_words(probability: float) -> str:
    """A probability as it stands behind the letter p; of one known only as a bound, that it is one."""
    if isinstance(probability, AtMost):
        return f"≤ {probability:.4f}"
    return "< 0.0001" if probability < 0.0001 else f"= {probability:.4f}"
