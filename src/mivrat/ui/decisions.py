"""Decisions on a study, each of which can be taken back and taken again."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass

from mivrat.core.study.reviews import Review
from mivrat.core.study.study import Study


@dataclass(frozen=True)
class Decision:
    """What is done, in words; how to do it, giving the run to be shown or None for the one shown; how to take it back.

    Both are called in a worker, with the study open.
    """

    words: str
    do: Callable[[Study], int | None]
    undo: Callable[[Study], object]


@dataclass(frozen=True)
class ReviewDecision:
    """What is decided of single images of a set: their reviews before and after, by position."""

    words: str
    set_id: int
    before: Mapping[int, Review]
    after: Mapping[int, Review]


AnyDecision = Decision | ReviewDecision


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
