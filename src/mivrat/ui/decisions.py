"""Decisions on a study, each of which can be taken back and taken again."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

from mivrat.core.study.file import Study


@dataclass(frozen=True)
class Decision:
    """What is done, in words; how to do it, giving the run to be shown or None for the one shown; how to take it back.

    Both are called in a worker, with the study open.
    """

    words: str
    do: Callable[[Study], int | None]
    undo: Callable[[Study], object]


@dataclass(frozen=True)
class SmallDecision:
    """What is done at once, without reading the study anew: seen in the window right away, and written right behind."""

    words: str
    do: Callable[[], object]
    undo: Callable[[], object]


AnyDecision = Decision | SmallDecision


class Decisions:
    """The decisions taken since the study was opened, and those taken back."""

    def __init__(self) -> None:
        self._taken: list[AnyDecision] = []
        self._taken_back: list[AnyDecision] = []

    def taken(self, decision: AnyDecision) -> None:
        self._taken.append(decision)
        self._taken_back.clear()

    @property
    def last(self) -> AnyDecision | None:
        return self._taken[-1] if self._taken else None

    @property
    def next(self) -> AnyDecision | None:
        return self._taken_back[-1] if self._taken_back else None

    def undone(self) -> None:
        self._taken_back.append(self._taken.pop())

    def redone(self) -> None:
        self._taken.append(self._taken_back.pop())

    def clear(self) -> None:
        self._taken.clear()
        self._taken_back.clear()
