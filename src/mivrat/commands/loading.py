"""What the commands load: the study they keep a run in, the units of a set, and where it is scored; what they say of a model loaded."""

from __future__ import annotations

import argparse
from collections.abc import Sequence
from contextlib import ExitStack
from pathlib import Path

from mivrat.api.inputs import study_at, where_worked
from mivrat.commands.telling import say
from mivrat.core.answers.where import Where
from mivrat.core.models.model import Model
from mivrat.core.study.file import Study


def study_for(
    args: argparse.Namespace, classes: list[str], held: ExitStack, otherwise: Path | None = None
) -> Study | None:
    """The study named on the command line, made where there is none, held by a lock until ``held`` lets go. Raises InputError where
    it was made for other classes."""
    path = args.study or otherwise
    if path is None:
        return None
    # The user names these folders here, so that the study may be read from them later.
    named = [Path(args.model).parent, Path(args.images)] if args.study is not None else []
    return study_at(path, classes, held, named, args.classes)


def where_scored(cluster: str | None, models: Sequence[Model], held: ExitStack) -> Where | None:
    """The cluster named on the command line, left when ``held`` lets go; None stands for this process. InputError as for
    ``where_worked``."""
    found = where_worked(cluster, models, held)
    if found is not None:
        workers = found.wait_for_workers()
        say(f"mivrat: {workers} worker{'s' if workers != 1 else ''} at {cluster}")
    return found


def say_remarks(model: Model) -> None:
    """What was chosen for the user; told once the input is known to be good, so that an error stays one line."""
    for remark in model.remarks:
        say(f"mivrat: {model.path.name}: {remark}")
