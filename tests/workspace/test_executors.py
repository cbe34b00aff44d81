"""Work in the background: reported on the main thread, stopped, cancelled, failing in words."""

from __future__ import annotations

import threading
import time
from collections.abc import Callable

import pytest
from pytestqt.qtbot import QtBot

from mivrat.core.base.errors import InputError
from mivrat.ui.parts.loop import QtLoop
from mivrat.workspace.executors import Executor, Task
from mivrat.workspace.workspace import Workspace
from tests.support.workspaces import settle


def test_work_reports_on_the_main_thread_and_stops(qtbot: QtBot) -> None:
    workers, seen, here = Executor(QtLoop()).group(1), [], threading.get_ident()

    def job(work: Task) -> str:
        for i in range(1000):
            if work.stop.stopped:
                return f"stopped at {i}"
            work.report(i)
            time.sleep(0.005)
        return "never stopped"

    def note(value: object) -> None:
        seen.append((value, threading.get_ident() == here))

    work = workers.start(job, done=note, progress=note)
    qtbot.waitUntil(lambda: len(seen) > 2, timeout=5000)
    work.stop.stop()
    qtbot.waitUntil(lambda: not workers.busy, timeout=5000)
    assert all(on_main for _, on_main in seen)
    assert str(seen[-1][0]).startswith("stopped at")


@pytest.mark.parametrize(
    ("error", "what"),
    [
        (InputError("is odd", where="a"), "a: is odd"),
        (ValueError("inner"), "something went wrong inside Mivrat (ValueError: inner)"),
    ],
)
def test_failing_work_says_why(qtbot: QtBot, error: Exception, what: str, caplog: pytest.LogCaptureFixture) -> None:
    workers, seen = Executor(QtLoop()).group(1), []

    def job(work: Task) -> None:
        raise error

    workers.start(job, failed=seen.append)
    qtbot.waitUntil(lambda: bool(seen), timeout=5000)
    assert what in seen[0].line()
    assert bool(caplog.records) == isinstance(error, ValueError)


def test_cancelled_work_tells_nothing(qtbot: QtBot) -> None:
    workers, seen, go = Executor(QtLoop()).group(1), [], threading.Event()
    first = workers.start(lambda work: go.wait(5), done=seen.append)
    second: Callable[[Task], str] = lambda work: "second"  # noqa: E731
    workers.start(second, done=seen.append)
    first.cancel()
    go.set()
    qtbot.waitUntil(lambda: not workers.busy, timeout=5000)
    qtbot.wait(20)
    assert seen == ["second"]
    workers.stop_all()


def test_what_is_about_a_study_is_dropped_when_it_is_left_and_the_rest_is_told(workspace: Workspace) -> None:
    go, told, loop = threading.Event(), [], workspace.loop
    of_study, other = workspace.group(1), workspace.parallel.group(1)
    for group, name in ((of_study, "of the study"), (of_study, "waiting"), (other, "other")):
        group.start(lambda work: go.wait(5), done=lambda _, name=name: told.append(name))
    workspace.leave()
    go.set()
    settle(loop, lambda: not of_study.busy and not other.busy)
    assert told == ["other"]
    of_study.start(lambda work: 1, done=told.append)  # of the next study
    settle(loop, lambda: not of_study.busy)
    assert told == ["other", 1]
