"""Handing selected images back: what to write, where to, and the long ones as jobs with progress."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from datetime import date
from pathlib import Path

from PySide6.QtCore import QObject
from PySide6.QtWidgets import QFileDialog, QMenu, QWidget

from mivrat.core.base.errors import InputError
from mivrat.core.base.files import write_whole
from mivrat.core.reporting import hand_back
from mivrat.core.reporting.hand_back import Handed, Source
from mivrat.core.study.reviews import Reviews
from mivrat.ui import words
from mivrat.workspace.workspace import Workspace

LISTS: dict[str, tuple[str, Callable[[Handed], str]]] = {
    "List (CSV)…": ("images", hand_back.list_of_images),
    "Labels to be corrected (CSV)…": ("relabel", hand_back.relabel_list),
    "Collect more like these (CSV)…": ("collect-more", hand_back.collect_list),
}


class HandBack(QObject):
    """Writes the images marked, or else all that are shown."""

    def __init__(self, workspace: Workspace, window: QWidget) -> None:
        super().__init__(window)
        self.workspace, self._window = workspace, window

    def fill(self, menu: QMenu) -> None:
        """Offer everything that can be written."""
        for text, (name, made) in LISTS.items():
            menu.addAction(text).triggered.connect(lambda _=False, n=name, m=made: self._ask_for_list(n, m))
        menu.addAction("Copies, sorted into folders…").triggered.connect(lambda: self._ask_for_folder("copies"))
        menu.addAction("Links, sorted into folders…").triggered.connect(lambda: self._ask_for_folder("links"))
        menu.addAction("Contact sheet (PDF or PNG)…").triggered.connect(lambda: self._ask_for_sheet())

    def handed(self) -> Handed | None:
        """The images to hand back, as they stand now; None without any."""
        snapshot, path = self.workspace.shown.snapshot, self.workspace.study_path
        if path is None:
            return None
        marked = len(self.workspace.shown.marked) > 1
        images: Sequence[int] = self.workspace.shown.acted_on if marked else self.workspace.shown.images.tolist()
        if not len(images):
            return None
        conditions = [
            " ".join(one.words(self.workspace.shown.classes)).lstrip() for one in self.workspace.shown.conditions
        ]
        selection = "; ".join(conditions) or "all images"
        if marked:
            selection += f"; {words.images(len(images))} marked by hand of {len(self.workspace.shown.images)}"
        info = snapshot.record.info
        source = Source(
            path.stem, info.model, info.image_set, f"{selection} ({words.images(len(images))})", date.today()
        )
        reviews = Reviews(self.workspace.shown.reviews.causes, dict(self.workspace.shown.reviews.by_position))
        return Handed(source, snapshot.record, snapshot.judged, reviews, images)

    # --- writing ---

    def write_list(self, path: Path, made: Callable[[Handed], str]) -> None:
        """Write one of the lists."""
        handed = self.handed()
        if handed is None:
            return
        try:
            write_whole(path, made(handed))
        except InputError as error:
            self.workspace.notices.fail(error)
            return
        unanswered = handed.unanswered()
        self.workspace.notices.say(
            f"Written: {path.name}, {words.images(len(handed.images))}{f', {unanswered}' if unanswered else ''}.", path
        )

    def write_folders(self, folder: Path, how: str) -> None:
        """Sort copies or links into folders."""
        handed = self.handed()
        if handed is not None:
            kind: hand_back.How = "links" if how == "links" else "copies"
            self.workspace.jobs.export(
                f"Sorting {words.images(len(handed.images))} into {folder.name}",
                lambda stop: hand_back.sort_into_folders(handed, folder, kind, stop),
            )

    def write_sheet(self, path: Path) -> None:
        """Draw a contact sheet."""
        handed = self.handed()
        if handed is not None:
            self.workspace.jobs.export(
                f"Drawing {words.images(len(handed.images))}", lambda stop: hand_back.contact_sheet(handed, path, stop)
            )

    # --- asking where to ---

    def _suggested(self, name: str) -> str:
        path = self.workspace.study_path
        return str((path.parent if path is not None else Path.home()) / name)

    def _ask_for_list(self, name: str, made: Callable[[Handed], str]) -> None:
        found, _ = QFileDialog.getSaveFileName(
            self._window, "Hand back a list", self._suggested(f"{name}.csv"), "CSV (*.csv)"
        )
        if found:
            self.write_list(Path(found) if Path(found).suffix else Path(f"{found}.csv"), made)

    def _ask_for_folder(self, how: str) -> None:
        found = QFileDialog.getExistingDirectory(self._window, f"A folder for the {how}", self._suggested(""))
        if found:
            self.write_folders(Path(found), how)

    def _ask_for_sheet(self) -> None:
        found, _ = QFileDialog.getSaveFileName(
            self._window, "Draw a contact sheet", self._suggested("contact-sheet.pdf"), "Contact sheets (*.pdf *.png)"
        )
        if found:
            self.write_sheet(Path(found) if Path(found).suffix in (".pdf", ".png") else Path(f"{found}.pdf"))
