"""Signals that stop work at a place that a test chooses."""

from __future__ import annotations

from mivrat.core.base.job import StopSignal


class StopsAfter(StopSignal):
    """Says stop once it has been asked so many times."""

    def __init__(self, questions: int) -> None:
        super().__init__()
        self._left = questions

    @property
    def stopped(self) -> bool:
        self._left -= 1
        return self._left < 0
