"""What a workspace needs of the main thread: to run something there, and to do something soon, once nothing changes any more."""

from __future__ import annotations

from collections import deque
from collections.abc import Callable
from typing import Protocol

Do = Callable[[], object]


class Debouncer(Protocol):
    """Does something a while after the last ``start``."""

    def start(self) -> None: ...

    def stop(self) -> None: ...

    @property
    def waiting(self) -> bool: ...


class Loop(Protocol):
    """The main thread."""

    def post(self, do: Do) -> None:
        """Have something done on the main thread; from any thread, in the order asked for."""
        ...

    def soon(self, milliseconds: int, do: Do, enabled: Callable[[], bool]) -> Debouncer:
        """What does something a while after it was last asked for, if ``enabled`` says so then."""
        ...


class _Waiting:
    def __init__(self, loop: HeadlessLoop, do: Do) -> None:
        self._loop, self._do = loop, do

    def start(self) -> None:
        self.stop()
        self._loop.waiting.append(self)

    def stop(self) -> None:
        if self.waiting:
            self._loop.waiting.remove(self)

    @property
    def waiting(self) -> bool:
        return self in self._loop.waiting

    def do(self) -> None:
        self._do()


class HeadlessLoop:
    """A main thread without a window: ``run_until`` does what has been asked for, whatever time it was to be done at."""

    def __init__(self) -> None:
        self._posted: deque[Do] = deque()
        self.waiting: list[_Waiting] = []

    def post(self, do: Do) -> None:
        self._posted.append(do)

    def soon(self, milliseconds: int, do: Do, enabled: Callable[[], bool]) -> Debouncer:
        return _Waiting(self, lambda: do() if enabled() else None)

    def turn(self) -> bool:
        """Do one thing that was asked for; whether there was one."""
        if self._posted:
            self._posted.popleft()()
        elif self.waiting:
            self.waiting.pop(0).do()
        else:
            return False
        return True
