"""What the commands share: sentences on standard error, progress, stopping, and what they load."""

from __future__ import annotations

import argparse
import signal
import sys
from collections.abc import Iterator
from contextlib import ExitStack, contextmanager
from pathlib import Path
from typing import Any

from mivrat.core.errors import InputError
from mivrat.core.names import printable

DONE, NOT_HELD, BAD_INPUT, STOPPED = 0, 1, 2, 130


def say(text: str) -> None:
    """A line on standard error; names that are no text are shown escaped."""
    print(printable(text), file=sys.stderr)


def show(text: str) -> None:
    """A line of results on standard output, as ``say`` shows names."""
    print(printable(text))


class ProgressLine:
    """Progress on standard error: one line kept up to date on a terminal, a line now and then elsewhere."""

    def __init__(self) -> None:
        self._live = sys.stderr.isatty()
        self._tenth = -1

    def show(self, done: int, total: int, sentence: str) -> None:
        if self._live:
            sys.stderr.write(f"\r\033[K{sentence}" + ("\n" if done >= total else ""))
            sys.stderr.flush()
        elif total and done * 10 // total != self._tenth:
            self._tenth = done * 10 // total
            say(sentence)


@contextmanager
def stoppable() -> Iterator[Any]:
    """Ctrl-C and a polite kill ask the job to end after the batch in hand."""
    from mivrat.core.running.job import StopSignal

    stop = StopSignal()
    before = {which: signal.signal(which, lambda *_: stop.stop()) for which in (signal.SIGINT, signal.SIGTERM)}
    try:
        yield stop
    finally:
        for which, handler in before.items():
            signal.signal(which, handler)


def study_for(args: argparse.Namespace, classes: list[str], held: ExitStack, otherwise: Path | None = None) -> Any:
    """The study named on the command line, made where there is none, held by a lock until ``held`` lets go."""
    from mivrat.core.study.lock import StudyLock
    from mivrat.core.study.study import Study

    path = args.study or otherwise
    if path is None:
        return None
    held.enter_context(StudyLock(path))
    study = Study.open(path) if path.exists() else Study.create(path, classes)
    held.callback(study.close)
    if study.classes != classes:
        raise InputError(
            f"was made for {len(study.classes)} other classes or another order than {args.classes}",
            where=path,
            mend="use a new study for another class list",
        )
    return study


def load_maker(model_path: Path, recipe_path: Path | None, classes: int | None) -> Any:
    from mivrat.core.evidence.maps import HeatmapMaker
    from mivrat.core.models.onnx_model import OnnxModel
    from mivrat.core.pictures.recipe import read_recipe

    model = OnnxModel(model_path, read_recipe(recipe_path) if recipe_path else None, classes)
    return HeatmapMaker(model)


def say_remarks(model: Any) -> None:
    """What was chosen for the user; told once the input is known to be good, so that an error stays one line."""
    for remark in model.remarks:
        say(f"mivrat: {model.path.name}: {remark}")
