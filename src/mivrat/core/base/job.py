"""What every long job shares: a stop signal, and progress with a rate and the time left."""

from __future__ import annotations

import threading
import time
from collections.abc import Callable, Iterable, Iterator
from contextlib import contextmanager
from contextvars import ContextVar
from dataclasses import dataclass
from pathlib import Path
from typing import TypeVar

_Item = TypeVar("_Item")


class Stopped(Exception):
    """The job in hand was asked to stop, in the middle of something that cannot be told of half done."""


class StopSignal:
    """Asks a job to end after the piece of work in hand; safe to set from any thread."""

    def __init__(self) -> None:
        self._event = threading.Event()
        self._lock = threading.Lock()
        self._calls: list[Callable[[], None]] = []

    def stop(self) -> None:
        with self._lock:
            self._event.set()
            calls = list(self._calls)
        for call in calls:
            call()

    @contextmanager
    def calling(self, call: Callable[[], None]) -> Iterator[None]:
        """While this lasts, stopping also makes this call (at once, where it was stopped before)."""
        with self._lock:
            self._calls.append(call)
            late = self._event.is_set()
        try:
            if late:
                call()
            yield
        finally:
            with self._lock:
                self._calls.remove(call)

    def wait(self, seconds: float) -> bool:
        """Wait for the signal, so long at most; whether it was given."""
        return self._event.wait(seconds)

    @property
    def stopped(self) -> bool:
        return self._event.is_set()


_current: ContextVar[StopSignal | None] = ContextVar("stop signal", default=None)


@contextmanager
def stopped_by(stop: StopSignal) -> Iterator[None]:
    """What runs in this thread meanwhile, however deep, can be stopped by this signal."""
    token = _current.set(stop)
    try:
        yield
    finally:
        _current.reset(token)


def current_stop() -> StopSignal:
    """The signal that stops what this thread is doing; one that nobody sets where there is none."""
    return _current.get() or StopSignal()


def until_stopped(items: Iterable[_Item]) -> Iterator[_Item]:
    """The same items, one after another; raises Stopped at the next one when this thread's work is asked to stop."""
    stop = current_stop()
    for item in items:
        if stop.stopped:
            raise Stopped
        yield item


@dataclass(frozen=True)
class Progress:
    """How far a job is; ``seconds_left`` is None until there is a rate to tell it from; ``besides``: what else there is to say,
    such as that some requests had to be repeated."""

    done: int
    total: int
    per_second: float
    seconds_left: float | None
    besides: str = ""

    def sentence(self) -> str:
        text = f"{self.done} of {self.total}"
        if self.per_second:
            text += (
                f" · {self.per_second:.0f} images/s" if self.per_second >= 10 else f" · {self.per_second:.1f} images/s"
            )
        if self.seconds_left is not None and self.done < self.total:
            text += f" · {duration(self.seconds_left)} left"
        if self.besides:
            text += f" · {self.besides}"
        return text


@dataclass(frozen=True)
class Written:
    """What a job has written in the end, and where; ``missing`` images had no file to write from."""

    files: int
    place: Path
    missing: int = 0


def duration(seconds: float) -> str:
    """A time span in words of one or two units, rounded up: ``2 s``, ``3 min 20 s``, ``1 h 5 min``."""
    whole = int(seconds) + 1
    if whole < 60:
        return f"{whole} s"
    if whole < 3600:
        return f"{whole // 60} min {whole % 60} s"
    return f"{whole // 3600} h {whole % 3600 // 60} min"


class Meter:
    """Turns counts of finished items into Progress."""

    def __init__(self, total: int, done: int = 0) -> None:
        self.total = total
        self._began_with = done
        self._began = time.monotonic()

    def at(self, done: int, besides: str = "") -> Progress:
        elapsed, new = time.monotonic() - self._began, done - self._began_with
        rate = new / elapsed if new and elapsed > 0 else 0.0
        return Progress(done, self.total, rate, (self.total - done) / rate if rate else None, besides)
