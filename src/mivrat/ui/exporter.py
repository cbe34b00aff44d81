"""Handing selected images back: what to write, where to, and the long ones as jobs with progress."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from datetime import date
from pathlib import Path
from typing import Literal

from PySide6.QtCore import QObject
from PySide6.QtWidgets import QMenu, QWidget

from mivrat.core.base.job import current_stop
from mivrat.core.heatmaps.maps import Map
from mivrat.core.reporting import exporting, image_lists
from mivrat.core.reporting.exporting import By
from mivrat.core.reporting.heat_folder import write_selection
from mivrat.core.reporting.image_lists import ExportedImages, ListTable, Source
from mivrat.ui import words
from mivrat.ui.parts.file_dialogs import ask_for_folder, ask_to_save, file_kinds, folder_to_save_in
from mivrat.workspace import heat_jobs
from mivrat.workspace.explaining import Explainer
from mivrat.workspace.exported import ExportLog
from mivrat.workspace.jobs import Job
from mivrat.workspace.study_jobs import Running
from mivrat.workspace.workspace import Workspace

Listing = Callable[[ExportedImages], ListTable]
LISTS: dict[str, tuple[str, Listing]] = {
    "List (CSV or Parquet)…": ("images", image_lists.list_of_images),
    "Labels to be corrected…": ("relabel", image_lists.relabel_list),
    "Collect more like these…": ("collect-more", image_lists.collect_list),
}
LIST_FILES = file_kinds("CSV (*.csv)", "Parquet (*.parquet)")
# What each list is noted as.
NOTED = {
    "images": "list of images",
    "relabel": "labels to be corrected",
    "collect-more": "collect more like these",
    "predictions": "predictions",
}


class Exporter(QObject):
    """Writes the images marked, or else all that are shown, and notes what went out."""

    def __init__(self, workspace: Workspace, window: QWidget, explainer: Explainer) -> None:
        super().__init__(window)
        self.workspace, self._window, self.explainer = workspace, window, explainer
        self.log = ExportLog(workspace)
        # Whether a CSV begins with lines that say where it came from.
        self.comments = False
        self._workers = workspace.parallel.group(1)

    def fill(self, menu: QMenu) -> None:
        """Offer everything that can be written."""
        for text, (name, made) in LISTS.items():
            menu.addAction(text).triggered.connect(lambda _=False, n=name, m=made: self.ask_for_list(n, m))
        menu.addAction("Copies, sorted into folders…").triggered.connect(lambda: self.ask_for_folder("copies"))
        menu.addAction("Links, sorted into folders…").triggered.connect(lambda: self.ask_for_folder("links"))
        menu.addAction("Contact sheet (PDF or PNG)…").triggered.connect(lambda: self.ask_for_sheet())

    def images(self) -> Sequence[int]:
        """The images to export: those marked, or else all that are shown."""
        shown = self.workspace.shown
        return shown.focus.acted_on if len(shown.focus.marked) > 1 else shown.images.tolist()

    def exported(self) -> ExportedImages | None:
        """The images to export, as they stand now; None without any."""
        snapshot, path = self.workspace.shown.snapshot, self.workspace.study_path
        if path is None:
            return None
        marked = len(self.workspace.shown.focus.marked) > 1
        images = self.images()
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
        reviews = self.workspace.shown.reviews.as_they_are()
        measures = self.workspace.shown.measures.as_they_are()
        return ExportedImages(source, snapshot.record, snapshot.judged, reviews, images, measures)

    # --- writing ---

    def write_list(self, path: Path, made: Listing, name: str = "images") -> None:
        """Write one of the lists."""
        exported = self.exported()
        if exported is None:
            return
        comments = self.comments
        self._workers.start(
            lambda task: made(exported).write(path, comments),
            done=lambda _: self._written(exported, path, name),
            failed=self.workspace.notices.fail,
        )

    def _written(self, exported: ExportedImages, path: Path, name: str) -> None:
        unanswered = exported.unanswered()
        proposed = exported.reviews.proposed()
        number = len([i for i in exported.images if i in proposed] if name == "relabel" else exported.images)
        self.workspace.notices.say(
            f"Written: {path.name}, {words.images(number)}{f', {unanswered}' if unanswered else ''}, in {path.parent}.",
            path,
        )
        self.log.note(NOTED.get(name, name), number, path)

    def write_folders(self, folder: Path, how: str, by: By = "label and prediction") -> None:
        """Sort copies or links into folders."""
        exported = self.exported()
        if exported is not None:
            kind: exporting.How = "links" if how == "links" else "copies"
            self.workspace.jobs.export(
                f"Sorting {words.images(len(exported.images))} into {folder.name}",
                lambda: exporting.sort_into_folders(exported, folder, kind, by),
            )

    def write_sheet(self, path: Path) -> None:
        """Draw a contact sheet."""
        exported = self.exported()
        if exported is not None:
            self.workspace.jobs.export(
                f"Drawing {words.images(len(exported.images))}",
                lambda: exporting.contact_sheet(exported, path),
            )

    def write_heat(self, folder: Path) -> None:
        """Write the heatmaps of the images, worked out as far as they are not known, by the setup of Explain."""
        workspace, setup = self.workspace, self.explainer.setup
        snapshot, some = workspace.shown.snapshot, list(self.images())

        def write() -> Running:
            maps: dict[int, Map] = {}
            for event in heat_jobs.make_maps(snapshot, setup, some, workspace.makers):
                if isinstance(event, heat_jobs.FoundMaps):
                    maps = {i: event.maps[i] for i in some if i in event.maps}
                else:
                    yield event
            if not current_stop().stopped:
                yield from write_selection(snapshot.record, snapshot.judged, setup, maps, folder)
            return not current_stop().stopped

        workspace.jobs.begin(Job("write", f"Writing heatmaps of {words.images(len(some))}"), write)

    @property
    def settled(self) -> bool:
        return not self._workers.busy

    def stop(self) -> None:
        self._workers.stop_all()

    # --- asking where to ---

    def _suggested(self, name: str) -> Path:
        return folder_to_save_in(self.workspace.study_path) / name

    def ask_for_list(self, name: str, made: Listing) -> None:
        """Ask where a list is to go, and write it."""
        found = ask_to_save(self._window, "Export a list", self._suggested(f"{name}.csv"), LIST_FILES)
        if found is not None:
            self.write_list(found, made, name)

    def ask_for_predictions(self, of: int | Literal["predicted", "every"], sets: bool = False) -> None:
        """Ask where the predictions are to go, and write them; with the ``sets`` that are shown under Measure, Confidence."""
        plan = self.workspace.shown.set_plan if sets else None
        self.ask_for_list("predictions", lambda exported: image_lists.predictions_list(exported, of, plan))

    def ask_for_folder(self, how: str, by: By = "label and prediction") -> None:
        """Ask for a folder, and sort copies or links into it."""
        found = ask_for_folder(self._window, f"A folder for the {how}", self._suggested(""))
        if found is not None:
            self.write_folders(found, how, by)

    def ask_for_heat(self) -> None:
        """Ask for a folder, and write heatmaps into it."""
        found = ask_for_folder(self._window, "A folder for the heatmaps", self._suggested(""))
        if found is not None:
            self.write_heat(found)

    def ask_for_sheet(self) -> None:
        """Ask where a contact sheet is to go, and draw it."""
        kinds = file_kinds("PDF (*.pdf)", "PNG (*.png)")
        found = ask_to_save(self._window, "Draw a contact sheet", self._suggested("contact-sheet.pdf"), kinds)
        if found is not None:
            self.write_sheet(
                found if found.suffix.lower() in (".pdf", ".png") else found.with_name(f"{found.name}.pdf")
            )
