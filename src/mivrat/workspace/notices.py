"""One place to speak: what is said to whoever uses the workspace, and what went wrong."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

from mivrat.core.base.errors import InputError, NotAgreed
from mivrat.workspace.topics import Topic


class Notices:
    """``said`` tells a sentence and, of what was written, where; ``failed`` an error; ``asked`` what has to be agreed to, and what
    to do again then."""

    def __init__(self) -> None:
        self.said, self.failed, self.asked = Topic(), Topic(), Topic()

    def say(self, sentence: str, place: Path | None = None) -> None:
        self.said.emit(sentence, place)

    def fail(self, error: InputError, again: Callable[[], object] | None = None) -> None:
        """Tell of an error; ``again`` is what failed, to be done again where it only has to be agreed to."""
        if isinstance(error, NotAgreed) and again is not None:
            self.asked.emit(error, again)
        self.failed.emit(error)
