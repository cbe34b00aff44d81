"""The folder that a dialog for saving opens in."""

from __future__ import annotations

from pathlib import Path

from platformdirs import user_data_path, user_documents_path


def folder_to_save_in(study: Path | None) -> Path:
    """The study's own folder; the documents, or else the home folder, where there is no study or it lies in the application's own
    data, which no file manager shows."""
    if study is not None and not study.resolve().is_relative_to(user_data_path("mivrat", appauthor=False).resolve()):
        return study.parent
    documents = user_documents_path()
    return documents if documents.is_dir() else Path.home()
