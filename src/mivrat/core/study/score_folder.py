"""The folder beside a study in which the scores of its large runs lie, and copying it with the study."""

from __future__ import annotations

import os
import shutil
from collections.abc import Iterable
from contextlib import suppress
from pathlib import Path

from mivrat.core.base.errors import InputError


def folder_beside(study: Path) -> Path:
    """Where a study's files of scores lie: beside the file itself, whatever link leads to it."""
    whole = study.resolve()
    return whole.with_name(f"{whole.name}.scores")


def unwritable(file: Path, error: OSError) -> InputError:
    """The error for scores that cannot be written."""
    return InputError(
        f"the scores cannot be written ({error.strerror or error})",
        where=file,
        hint="choose a folder you may write to, with room left",
    )


def copy_scores(study: Path, copy: Path, names: Iterable[str]) -> None:
    """Copy files of scores beside a copy of their study. Raises InputError where that cannot be done; a file that is missing is
    missing there too."""
    for name in names:
        file = folder_beside(study) / Path(name).name
        target = folder_beside(copy) / file.name
        if not file.is_file() or target.exists():
            continue
        part = target.with_suffix(".part")
        try:
            target.parent.mkdir(parents=True, exist_ok=True)
            shutil.copyfile(file, part)
            os.replace(part, target)
        except OSError as error:
            with suppress(OSError):
                part.unlink()
            raise unwritable(target, error) from error
