"""What the commands load: the study they keep a run in, the units of a set, and where it is scored; what they say of a model loaded."""

from __future__ import annotations

import argparse
from collections.abc import Sequence
from contextlib import ExitStack
from dataclasses import replace
from pathlib import Path

from mivrat.commands.telling import say
from mivrat.core.answers.where import Where
from mivrat.core.base.errors import InputError
from mivrat.core.models.model import Model
from mivrat.core.pictures.image_sets import ImageSet
from mivrat.core.study.file import Study
from mivrat.core.study.lock import StudyLock
from mivrat.core.study.places import allow_folders


def study_for(
    args: argparse.Namespace, classes: list[str], held: ExitStack, otherwise: Path | None = None
) -> Study | None:
    """The study named on the command line, made where there is none, held by a lock until ``held`` lets go. Raises InputError where
    it was made for other classes."""

    path = args.study or otherwise
    if path is None:
        return None
    if args.study is not None:  # the user names these folders here, so that the study may be read from them later
        images = Path(args.images)
        allow_folders(Path(args.model).parent, images if images.is_dir() else images.parent)
    held.enter_context(StudyLock(path))
    study = Study.open(path) if path.exists() else Study.create(path, classes)
    held.callback(study.close)
    if study.classes != classes:
        raise InputError(
            f"was made for {len(study.classes)} other classes or another order than {args.classes}",
            where=path,
            hint="use a new study for another class list",
        )
    return study


def with_units(image_set: ImageSet, args: argparse.Namespace) -> ImageSet:
    """The set with the units that ``--together`` names. InputError where it has no such column."""
    if args.together and not all(args.together in item.columns for item in image_set.items):
        raise no_column(image_set.root, args.together, "that says which images are related", image_set)
    return replace(image_set, unit_column=args.together or "")


def no_column(where: Path, column: str, what: str, image_set: ImageSet) -> InputError:
    """The error for a column that a set does not have; ``what`` says what it was asked for."""
    known = ", ".join(image_set.items[0].columns) or "none"
    return InputError(
        f"has no column {column!r} {what}; its columns: {known}", where=where, hint="name a column of the image table"
    )


def where_scored(cluster: str | None, models: Sequence[Model], held: ExitStack) -> Where | None:
    """The cluster named on the command line, left when ``held`` lets go; None stands for this process. InputError where one of the
    models is asked over the network, or nothing answers there."""
    if cluster is None:
        return None
    for one in models:
        if one.kind.can.asked:
            raise InputError(
                "is for models in files: a prediction service is asked from here",
                where=f"--cluster {cluster}",
                hint="leave it out",
            )
    from mivrat.cluster.dask_cluster import connected

    found = held.enter_context(connected(cluster))
    workers = found.wait_for_workers()
    say(f"mivrat: {workers} worker{'s' if workers != 1 else ''} at {cluster}")
    return found


def say_remarks(model: Model) -> None:
    """What was chosen for the user; told once the input is known to be good, so that an error stays one line."""
    for remark in model.remarks:
        say(f"mivrat: {model.path.name}: {remark}")
