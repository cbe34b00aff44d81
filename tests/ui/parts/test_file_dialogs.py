"""Where dialogs for saving open."""

from __future__ import annotations

from pathlib import Path

from mivrat.demo.study import demo_study_path
from mivrat.ui.parts.file_dialogs import folder_to_save_in


def test_saving_is_offered_where_files_are_found_again(own_folders: Path, tmp_path: Path) -> None:
    assert folder_to_save_in(tmp_path / "s.mivrat") == tmp_path
    hidden = folder_to_save_in(demo_study_path())
    assert not hidden.is_relative_to(own_folders)
    assert hidden.is_dir()
    assert folder_to_save_in(None) == hidden
