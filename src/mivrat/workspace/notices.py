"""One place to speak: what is said to whoever uses the workspace, and what went wrong."""

from __future__ import annotations

from pathlib import Path

from mivrat.core.base.errors import InputError
from mivrat.workspace.topics import Topic


class Notices:
    """``said`` tells a sentence and, of what was written, where; ``failed`` an error."""

    def __init__(self) -> None:
        self.said, self.failed = Topic(), Topic()

    def say(self, sentence: str, place: Path | None = None) -> None:
        self.said.emit(sentence, place)

    def fail(self, error: InputError) -> None:
        self.failed.emit(error)
