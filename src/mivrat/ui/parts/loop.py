"""The toolkit's main thread as a workspace needs it: work posted to it from any thread, and things done soon."""

from __future__ import annotations

from collections.abc import Callable

from PySide6.QtCore import QObject, Qt, QTimer, Signal, Slot
from shiboken6 import Object, isValid


class Debouncer:
    """Does something a while after the last ``start``; the one debouncer of the window."""

    def __init__(self, milliseconds: int, do: Callable[[], object], enabled: Callable[[], bool] = lambda: True) -> None:
        """Nothing is done where ``enabled`` says no, or the widget whose method ``do`` is has gone meanwhile."""
        self._do, self._enabled = do, enabled
        self._timer = QTimer(singleShot=True, interval=milliseconds)
        self._timer.timeout.connect(self._fire)

    def _fire(self) -> None:
        owner = getattr(self._do, "__self__", None)
        if self._enabled() and (not isinstance(owner, Object) or isValid(owner)):
            self._do()

    def start(self) -> None:
        self._timer.start()

    def stop(self) -> None:
        self._timer.stop()

    @property
    def waiting(self) -> bool:
        return self._timer.isActive()


class QtLoop(QObject):
    """Does what is posted on the thread it lives on, in order."""

    _posted = Signal(object)

    def __init__(self) -> None:
        super().__init__()
        self._posted.connect(self._do, Qt.ConnectionType.QueuedConnection)

    def post(self, do: Callable[[], object]) -> None:
        """Have something done on the main thread; from any thread."""
        self._posted.emit(do)

    @Slot(object)
    def _do(self, do: Callable[[], object]) -> None:
        do()

    def soon(self, milliseconds: int, do: Callable[[], object], enabled: Callable[[], bool]) -> Debouncer:
        return Debouncer(milliseconds, do, enabled)
