"""A long piece of work as an iterator of its progress, with its result at the end."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from typing import Generic, TypeVar

from mivrat.core.base.job import Progress, Stopped, StopSignal, stopped_by

_Result = TypeVar("_Result")


class Work(Generic[_Result]):
    """Iterate over it for progress, ask for ``result`` at the end; asking at once does the work in one go.

    >>> def counting():
    ...     yield Progress(1, 2, 0.0, None)
    ...     yield Progress(2, 2, 0.0, None)
    ...     yield "done"
    >>> work = Work(counting())
    >>> [step.done for step in work], work.result
    ([1, 2], 'done')
    """

    def __init__(self, events: Iterator[Progress | _Result]) -> None:
        """``events`` are steps of progress, and at last the result; there is none where it was stopped."""
        self._events, self._stop = events, StopSignal()
        self._found: list[_Result] = []

    def __iter__(self) -> Iterator[Progress]:
        while True:
            with stopped_by(self._stop):
                event = next(self._events, None)
            if event is None:
                return
            if isinstance(event, Progress):
                yield event
            else:
                self._found.append(event)

    def stop(self) -> None:
        """Let it end after the piece of work in hand; safe from any thread."""
        self._stop.stop()

    @property
    def result(self) -> _Result:
        """What came of it, after everything left to do is done. Raises Stopped where it was stopped before there was a result."""
        for _ in self:
            pass
        if not self._found:
            raise Stopped("the work was stopped before it had a result")
        return self._found[-1]

    def finish(self, progress: Callable[[Progress], object] | None = None) -> _Result:
        """The result, with each step handed to ``progress`` on the way."""
        for step in self:
            if progress is not None:
                progress(step)
        return self.result
