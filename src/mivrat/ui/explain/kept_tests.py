"""The cover tests that are kept: their list, and repeating, renaming, saving and removing one."""

from __future__ import annotations

from pathlib import Path

from PySide6.QtWidgets import (
    QInputDialog,
    QMenu,
    QVBoxLayout,
    QWidget,
)

from mivrat.core.base.errors import InputError
from mivrat.core.base.files import write_whole
from mivrat.core.checks.result import in_words
from mivrat.core.figures.units import from_kept
from mivrat.core.region_masking.cover_test import CoverPlan, plan_from_text
from mivrat.core.reporting import cover_report
from mivrat.core.selecting.selection import Picked
from mivrat.core.study.kept_evidence import KeptTest
from mivrat.ui.parts.file_dialogs import ask_for_folder, folder_to_save_in
from mivrat.ui.parts.tables import FigureTable
from mivrat.ui.parts.widgets import (
    label,
    more_button,
    offer_by_right_click,
    row,
)
from mivrat.workspace.explaining import Explainer


class KeptTests(QWidget):
    """A table of the tests kept of runs on the image set shown; the one chosen is the one whose result is shown."""

    def __init__(self, explainer: Explainer) -> None:
        super().__init__()
        self.explainer, self.workspace = explainer, explainer.workspace
        self.title = label("Kept cover tests", "heading")
        self.table = FigureTable(
            ("name", "model", "N", "region", "control", "p"), (120, 48, 64, 68, 88), "kept cover tests", (2, 3, 4, 5)
        )
        self.table.currentCellChanged.connect(lambda line, *_: self.choose(line))
        self.table.cellClicked.connect(lambda line, _: self.choose(line))
        self.more = more_button(
            "what to do with this test", "Repeat it on the run shown, rename it, save it, remove it"
        )
        menu = QMenu(self.more)
        for text, wanted in (
            ("Repeat it on the run shown", self.do_again),
            ("Show its images", self._show_images),
            ("Save as files…", self._ask_folder),
            ("Rename…", self._rename),
            ("Remove", self.take_away),
        ):
            menu.addAction(text).triggered.connect(lambda _=False, w=wanted: w())
        self.more.setMenu(menu)
        offer_by_right_click(self.more, self.table)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 6, 0, 0)
        layout.setSpacing(8)
        layout.addLayout(row(self.title, None, self.more))
        layout.addWidget(self.table)
        explainer.tests_changed.connect(self.refresh)

    def _tests(self) -> list[KeptTest]:
        """The tests kept of runs on the image set shown, the latest first."""
        snapshot = self.workspace.shown.snapshot
        set_id = snapshot.record.info.set_id
        runs = {one.id for one in self.workspace.runs if one.set_id == set_id}
        return [one for one in reversed(self.explainer.tests) if one.run_id in runs]

    def refresh(self) -> None:
        """List them anew."""
        tests, models = self._tests(), {one.id: one.model for one in self.workspace.runs}
        lines = []
        for one in tests:
            try:
                result = cover_report.result_from_json(cover_report.told_from_text(one.outcome))
                shares = [
                    str(result.total),
                    *(f"{e.changed.hits}" for e in (result.region, result.control)),
                    in_words(from_kept(result.p, result.region.changed.units)),
                ]
            except (InputError, ValueError):
                shares = ["?"] * 4
            lines.append((one.name, models.get(one.run_id, ""), *shares))
        self.table.show_lines(
            lines, [f"{one.name}, {one.day}\nregion and control: answers that changed" for one in tests]
        )
        self.table.setFixedHeight(38 + 30 * min(6, max(1, len(tests))))
        self.setVisible(bool(tests))
        self.workspace.shown.results.set_tests_kept(len(self.explainer.tests_of_run()))

    def _chosen(self) -> KeptTest | None:
        tests, line = self._tests(), self.table.currentRow()
        return tests[line] if 0 <= line < len(tests) else None

    def choose(self, line: int) -> None:
        """Show the result of the test in a line."""
        tests = self._tests()
        if 0 <= line < len(tests) and tests[line] != self.explainer.shown_test:
            self.explainer.shown_test = tests[line]
            self.explainer.test_changed.emit()

    def do_again(self) -> None:
        """Do a kept test again, on the run shown."""
        plan = self._plan_of(self._chosen())
        if plan is not None:
            self.explainer.cover(plan)

    def _plan_of(self, kept: KeptTest | None) -> CoverPlan | None:
        """The plan of a kept test; None, and it is said, where it cannot be read or is of other images."""
        snapshot = self.workspace.shown.snapshot
        if kept is None:
            return None
        try:
            plan = plan_from_text(kept.plan, snapshot.record.names)
        except InputError as error:
            self.explainer.workspace.notices.fail(error)
            return None
        return plan

    def _show_images(self) -> None:
        kept = self._chosen()
        plan = self._plan_of(kept)
        if kept is not None and plan is not None:
            self.workspace.shown.replace(Picked(f"cover test, {kept.name}", plan.images))

    def _rename(self) -> None:
        kept = self._chosen()
        if kept is not None:
            name, given = QInputDialog.getText(self, "Rename", "Name of this cover test", text=kept.name)
            if given and name.strip():
                self.explainer.change_test(kept, name.strip())

    def take_away(self) -> None:
        """Remove the test chosen."""
        kept = self._chosen()
        if kept is not None:
            if self.explainer.shown_test is not None and self.explainer.shown_test.id == kept.id:
                self.explainer.shown_test = None
            self.explainer.change_test(kept, None)
            self.explainer.test_changed.emit()

    def _ask_folder(self) -> None:
        found = ask_for_folder(self, "A folder for cover.json", folder_to_save_in(self.workspace.study_path))
        if found is not None:
            self.save(found)

    def save(self, folder: Path) -> None:
        """Write the chosen test's outcome, and the list of its images, to a folder."""
        kept, snapshot = self._chosen(), self.workspace.shown.snapshot
        plan = self._plan_of(kept)
        if kept is None or plan is None:
            return
        try:
            items = snapshot.record.image_set.items
            paths = "".join(f"{items[i].path}\n" for i in plan.images)
            write_whole(folder / "cover.json", kept.outcome)
            write_whole(folder / "cover-images.txt", paths)
            self.explainer.workspace.notices.say(f"Written: cover.json and cover-images.txt, in {folder}.", folder)
        except InputError as error:
            self.explainer.workspace.notices.fail(error)
