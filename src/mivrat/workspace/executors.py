"""Runs work off the main thread and brings its progress, result or error back to it: two executors in all, one way to cancel."""

from __future__ import annotations

import heapq
import itertools
import logging
import threading
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from typing import Any

from mivrat.core.base.errors import InputError
from mivrat.core.base.job import Stopped, StopSignal, stopped_by
from mivrat.core.base.log import log_path
from mivrat.workspace.loop import Loop

log = logging.getLogger(__name__)
# Threads come as they are needed; what limits how much is done at a time is each group's own number.
MOST_THREADS = 24


class Task:
    """One piece of work. What it tells arrives on the main thread; after ``cancel`` nothing does."""

    def __init__(self, job: Callable[[Task], Any], loop: Loop, told: dict[str, Callable[[Any], object] | None]) -> None:
        self._job: Callable[[Task], Any] | None = job
        self._loop, self._told = loop, told
        self.stop = StopSignal()
        self._cancelled = False

    def cancel(self) -> None:
        """Stop it, and do not tell of anything more."""
        self._cancelled = True
        self.stop.stop()

    @property
    def cancelled(self) -> bool:
        return self._cancelled

    def report(self, event: object) -> None:
        """Called by the job, from its own thread."""
        self._notify("progress", event)

    def _notify(self, what: str, event: object) -> None:
        if not self._cancelled and self._told.get(what) is not None:
            self._loop.post(lambda: self._deliver(what, event))

    def _deliver(self, what: str, event: object) -> None:
        notify = self._told.get(what)
        if notify is not None and not self._cancelled:
            notify(event)

    def let_go(self) -> None:
        """It has ended and nothing more is told: keep nothing of what it was about."""
        self._told = {}

    def run(self) -> None:
        """Do it, in this thread."""
        job, self._job = self._job, None
        assert job is not None
        try:
            if self._cancelled:
                return
            with stopped_by(self.stop):
                self._notify("done", job(self))
        except Stopped:
            self._notify("done", False)  # not come to its end
        except InputError as error:
            self._notify("failed", error)
        except Exception as error:
            if self._told.get("failed") is None:  # nobody waits for it: it is told of as what fails in any thread
                threading.excepthook(threading.ExceptHookArgs((type(error), error, error.__traceback__, None)))
                return
            log.exception("work failed")
            self._notify(
                "failed",
                InputError(
                    f"something went wrong inside Mivrat ({type(error).__name__}: {error})",
                    hint=f"the details are in the log, {log_path()}",
                ),
            )


class Executor:
    """Threads that several groups share."""

    def __init__(self, loop: Loop, threads: int = MOST_THREADS) -> None:
        self.loop = loop
        self.pool = ThreadPoolExecutor(threads, thread_name_prefix="work")

    def group(self, at_once: int = 1) -> Workers:
        """A group of tasks of which at most so many run at a time."""
        return Workers(self, at_once)

    def close(self) -> None:
        """End the threads, once what was begun is done; nothing can be started any more."""
        self.pool.shutdown(wait=False)


class LatestOnly:
    """Work of which only what was asked for last is told of: starting it cancels what came before."""

    def __init__(self, workers: Workers) -> None:
        self._workers = workers
        self._task: Task | None = None

    def start(self, job: Callable[[Task], Any], **told: Any) -> Task:
        """As ``Workers.start``, in place of what was started before."""
        self.cancel()
        self._task = self._workers.start(job, **told)
        return self._task

    def cancel(self) -> None:
        """Let what was started go."""
        if self._task is not None:
            self._task.cancel()
            self._task = None


class Workers:
    """A group of tasks on an executor: those with a higher priority begin first, of equal ones the one asked for first."""

    def __init__(self, executor: Executor, at_once: int) -> None:
        self._executor, self._at_once = executor, at_once
        self._changed = threading.Condition()
        self._waiting: list[tuple[int, int, Task]] = []
        self._number, self._active = itertools.count(), 0
        # Those whose end has not been told of on the main thread yet.
        self._running: set[Task] = set()

    def start(
        self,
        job: Callable[[Task], Any],
        *,
        done: Callable[[Any], object] | None = None,
        failed: Callable[[InputError], object] | None = None,
        progress: Callable[[Any], object] | None = None,
        priority: int = 0,
    ) -> Task:
        """Run ``job(task)`` in a worker; the callbacks are called on the main thread."""
        task = Task(job, self._executor.loop, {"done": done, "failed": failed, "progress": progress})
        self._running.add(task)
        with self._changed:
            heapq.heappush(self._waiting, (-priority, next(self._number), task))
            self._begin()
        return task

    def _begin(self) -> None:
        while self._waiting and self._active < self._at_once:
            self._active += 1
            self._executor.pool.submit(self._run, heapq.heappop(self._waiting)[2])

    def _run(self, task: Task) -> None:
        try:
            task.run()
        finally:
            self._executor.loop.post(lambda: self._forget(task))
            with self._changed:
                self._active -= 1
                self._begin()
                self._changed.notify_all()

    def _forget(self, task: Task) -> None:
        self._running.discard(task)
        task.let_go()

    @property
    def busy(self) -> bool:
        """Whether the end of something is still to be told of."""
        return bool(self._running)

    def wait(self) -> None:
        """Wait until everything that was started has run to its end; from any thread but the group's own."""
        with self._changed:
            self._changed.wait_for(lambda: not self._active and not self._waiting)

    def cancel(self) -> None:
        """Stop everything, waiting for nothing; nothing of it is told of any more."""
        for task in list(self._running):
            task.cancel()

    def stop_all(self) -> None:
        """Stop everything and wait for it to end."""
        self.cancel()
        with self._changed:
            dropped, self._waiting = self._waiting, []
        for _, _, task in dropped:
            self._running.discard(task)
        self.wait()
