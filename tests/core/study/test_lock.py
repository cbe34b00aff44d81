"""One program at a time decides in a study: who holds it, who is refused, and what is left behind."""

from __future__ import annotations

from pathlib import Path

import pytest

from mivrat.core.base.errors import InputError
from mivrat.core.study.lock import StudyLock


def test_a_study_is_held_by_one_and_let_go_without_a_trace(tmp_path: Path) -> None:
    study = tmp_path / "s.mivrat"
    study.touch()
    first = StudyLock(study)
    with pytest.raises(InputError, match="is open in another window"):
        StudyLock(study)
    assert len(list(tmp_path.iterdir())) == 2
    first.release()
    first.release()  # safe to call again
    assert list(tmp_path.iterdir()) == [study]
    with StudyLock(study), pytest.raises(InputError):
        StudyLock(study)
    StudyLock(study).release()
