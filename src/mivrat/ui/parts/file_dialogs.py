"""The dialogs that ask for a file or a folder: all of one look, and each opening where one would look first."""

from __future__ import annotations

import re
from pathlib import Path

from platformdirs import user_data_path, user_documents_path
from PySide6.QtWidgets import QFileDialog, QWidget

ALL_FILES = "All files (*)"
# Ours on every desktop, in the theme of the window.
_LOOK = QFileDialog.Option.DontUseNativeDialog


def file_kinds(*kinds: str) -> str:
    """The kinds of files that a dialog offers, the first of them to begin with."""
    return ";;".join(kinds)


def folder_to_save_in(study: Path | None) -> Path:
    """The study's own folder; the documents, or else the home folder, where there is no study or it lies in the application's own
    data, which no file manager shows."""
    if study is not None and not study.resolve().is_relative_to(user_data_path("mivrat", appauthor=False).resolve()):
        return study.parent
    documents = user_documents_path()
    return documents if documents.is_dir() else Path.home()


def ask_to_open(parent: QWidget, title: str, start: Path | None = None, kinds: str = "") -> Path | None:
    """A file to be read; None where nothing was chosen. It opens at ``start``, else in the home folder."""
    found, _ = QFileDialog.getOpenFileName(parent, title, str(start or Path.home()), kinds, options=_LOOK)
    return Path(found) if found else None


def ask_to_save(parent: QWidget, title: str, place: Path, kinds: str) -> Path | None:
    """A file to be written, ``place`` by default; a name without an ending gets that of the kind chosen."""
    found, chosen = QFileDialog.getSaveFileName(parent, title, str(place), kinds, options=_LOOK)
    if not found:
        return None
    ending = re.search(r"\*(\.\w+)", chosen or kinds)
    return Path(found) if Path(found).suffix or ending is None else Path(f"{found}{ending[1]}")


def ask_for_folder(parent: QWidget, title: str, start: Path | None = None) -> Path | None:
    """A folder; None where nothing was chosen."""
    options = _LOOK | QFileDialog.Option.ShowDirsOnly
    found = QFileDialog.getExistingDirectory(parent, title, str(start or Path.home()), options=options)
    return Path(found) if found else None
