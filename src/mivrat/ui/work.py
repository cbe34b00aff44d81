"""Runs long work off the main thread and brings its progress, result or error back to it."""

from __future__ import annotations

import logging
from collections.abc import Callable
from typing import Any

from PySide6.QtCore import QObject, QRunnable, QThreadPool, Signal, Slot

from mivrat.core.base.errors import InputError
from mivrat.core.base.job import Stopped, StopSignal, stopped_by
from mivrat.core.base.log import log_path

# Milliseconds after which a thread with nothing to do goes.
IDLE = 4000
log = logging.getLogger(__name__)


class Work(QObject):
    """One piece of work. Its signals arrive on the main thread; after ``cancel`` none does but ``ended``."""

    progress = Signal(object)
    done = Signal(object)
    failed = Signal(object)
    ended = Signal()

    def __init__(self, job: Callable[[Work], Any]) -> None:
        super().__init__()
        self._job: Callable[[Work], Any] | None = job
        self.told_to: list[_MainThread] = []
        self.stop = StopSignal()
        self._cancelled = False

    def cancel(self) -> None:
        """Stop it, and do not tell of anything more."""
        self._cancelled = True
        self.stop.stop()

    @property
    def cancelled(self) -> bool:
        return self._cancelled

    def report(self, progress: object) -> None:
        """Called by the job, from its own thread."""
        if not self._cancelled:
            self.progress.emit(progress)

    def let_go(self) -> None:
        """It has ended and nothing more is told: keep nothing of what it was about."""
        for receiver in self.told_to:
            receiver.let_go()
        self.told_to.clear()

    def run(self) -> None:
        job, self._job = self._job, None
        assert job is not None
        try:
            with stopped_by(self.stop):
                result = job(self)
            if not self._cancelled:
                self.done.emit(result)
        except Stopped:
            if not self._cancelled:
                self.done.emit(False)  # not come to its end
        except InputError as error:
            if not self._cancelled:
                self.failed.emit(error)
        except Exception as error:
            log.exception("work failed")
            if not self._cancelled:
                self.failed.emit(
                    InputError(
                        f"something went wrong inside Mivrat ({type(error).__name__}: {error})",
                        mend=f"the details are in the log, {log_path()}",
                    )
                )
        finally:
            del job
            self.ended.emit()


class _Runner(QRunnable):
    def __init__(self, work: Work) -> None:
        super().__init__()
        self._work = work

    def run(self) -> None:
        self._work.run()


class Workers(QObject):
    """Starts work in a pool of its own and keeps it alive until it has ended."""

    def __init__(self, threads: int, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self._pool = QThreadPool(self)
        self._pool.setMaxThreadCount(threads)
        self._pool.setExpiryTimeout(IDLE)
        self._running: set[Work] = set()

    def start(
        self,
        job: Callable[[Work], Any],
        *,
        done: Callable[[Any], None] | None = None,
        failed: Callable[[InputError], None] | None = None,
        progress: Callable[[Any], None] | None = None,
        priority: int = 0,
    ) -> Work:
        """Run ``job(work)`` in a worker; the callbacks are called on the main thread."""
        work = Work(job)
        for signal, callback in ((work.done, done), (work.failed, failed), (work.progress, progress)):
            if callback is not None:
                receiver = _MainThread(callback, work)
                work.told_to.append(receiver)
                signal.connect(receiver.call)
        work.ended.connect(self._forget)
        self._running.add(work)
        self._pool.start(_Runner(work), priority)
        return work

    @Slot()
    def _forget(self) -> None:
        sender = self.sender()
        if isinstance(sender, Work):
            self._running.discard(sender)
            sender.let_go()

    @property
    def busy(self) -> bool:
        return bool(self._running)

    def wait(self) -> None:
        """Wait until everything that was started has run to its end; from any thread but the workers' own."""
        self._pool.waitForDone()

    def stop_all(self) -> None:
        """Stop everything and wait for it to end."""
        for work in list(self._running):
            work.cancel()
        self._pool.clear()
        self._pool.waitForDone()


class _MainThread(QObject):
    """Lives on the main thread, so that a signal from a worker is queued to it."""

    def __init__(self, callback: Callable[[Any], None], parent: Work) -> None:
        super().__init__(parent)
        self._callback: Callable[[Any], None] | None = callback
        self._work: Work | None = parent

    @Slot(object)
    def call(self, value: object) -> None:
        if self._callback is not None and self._work is not None and not self._work.cancelled:
            self._callback(value)

    def let_go(self) -> None:
        self._callback = self._work = None
