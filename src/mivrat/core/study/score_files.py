"""The scores of large runs, in files beside the study: one array for each run, image by image in the order of its set.

They are plain arrays that are mapped into memory (NumPy's format, NEP 1), because any image's scores are wanted at any moment
and all of them rarely: a compressed table would have to be unpacked for each. Small runs keep theirs inside the study, which is
then a single file.
"""

from __future__ import annotations

import secrets
import stat
from pathlib import Path
from typing import Literal, cast

import numpy as np
from numpy.typing import NDArray

from mivrat.core.answers.missing_scores import MissingScores, are_missing
from mivrat.core.study.file import Study
from mivrat.core.study.kept_columns import is_large
from mivrat.core.study.score_folder import folder_beside, unwritable
from mivrat.core.study.soundness import damaged

# Runs whose scores take more bytes than this have a file of their own, and so have those of a set that is kept as columns.
LARGE = 64_000_000
Rows = NDArray[np.floating]


def begin_score_file(study: Study, run_id: int, listed: int, columns: int, dtype: type[np.floating]) -> None:
    """Give a run a file for its scores, where these are many and it has none, or has lost it: what was in that is forgotten. Raises
    InputError where it cannot be written."""
    form = np.dtype(dtype).newbyteorder("<")
    if listed * columns * form.itemsize < LARGE and not is_large(listed):
        return
    (known,) = study.db.execute("SELECT score_file FROM run WHERE id = ?", (run_id,)).fetchone()
    if known is not None and not are_missing(score_rows(study, known)):
        return
    name = f"{secrets.token_hex(8)}.npy"
    file = folder_beside(study.path) / name
    try:
        file.parent.mkdir(exist_ok=True)
        np.lib.format.open_memmap(file, "w+", form, (listed, columns))
    except OSError as error:
        raise unwritable(file, error) from error
    with study.writing() as db:
        if known is not None:  # what it held has to be answered again
            db.execute("DELETE FROM answer WHERE score_file = ?", (known,))
            db.execute("UPDATE run SET score_file = NULL WHERE score_file = ?", (known,))
            db.execute("DELETE FROM score_file WHERE id = ?", (known,))
            db.execute("DELETE FROM kept_columns WHERE what = 'run'")
        db.execute(
            "INSERT INTO score_file (name, listed, columns, form) VALUES (?, ?, ?, ?)",
            (name, listed, columns, form.str),
        )
        db.execute(
            "UPDATE run SET score_file = (SELECT id FROM score_file WHERE name = ?) WHERE id = ?", (name, run_id)
        )


def score_rows(study: Study, file_id: int, mode: Literal["r+", "c"] = "c") -> Rows:
    """A file's scores, mapped: changes are kept (``r+``) or belong to this program alone (``c``). Where the file is not there, what
    says so when it is asked."""
    row = study.db.execute("SELECT name, listed, columns, form FROM score_file WHERE id = ?", (file_id,)).fetchone()
    if row is None:
        raise damaged(study.path, "an answer names a file of scores that there is not")
    name, listed, columns, form = row
    file, shape, dtype = folder_beside(study.path) / Path(name).name, (listed, columns), np.dtype(form)
    try:
        # Nothing is waited for, or written to, that merely stands in its place: a study may come from anywhere.
        if not stat.S_ISREG(file.lstat().st_mode):
            raise OSError("is not a regular file")
        found = np.load(file, mmap_mode=mode, allow_pickle=False)
    except FileNotFoundError:
        why = "are missing"
    except (OSError, ValueError, EOFError):
        why = "cannot be read"
    else:
        if isinstance(found, np.memmap) and (found.shape, found.dtype) == (shape, dtype):
            return cast(Rows, found)
        why = "are those of another run"
    return cast(Rows, MissingScores(file, why, shape, dtype))
