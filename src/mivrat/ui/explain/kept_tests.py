"""The tests of one kind that are kept: their list, and repeating, renaming, saving and removing one."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path
from typing import Protocol

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
from mivrat.core.pictures.image_names import ImageNames
from mivrat.core.region_masking.cover_test import plan_from_text
from mivrat.core.reporting import cover_report
from mivrat.core.selecting.selection import Picked
from mivrat.core.study.kept_evidence import KeptTest, TestKind
from mivrat.ui.parts.file_dialogs import ask_for_folder, folder_to_save_in
from mivrat.ui.parts.tables import FigureTable
from mivrat.ui.parts.widgets import (
    label,
    more_button,
    offer_by_right_click,
    row,
)
from mivrat.workspace.explaining import Explainer
from mivrat.workspace.topics import Topic
from mivrat.workspace.workspace import Workspace


class TestOwner(Protocol):
    """Holds the test whose result is shown, and does tests of its kind."""

    shown_test: KeptTest | None
    test_changed: Topic

    def repeat(self, kept: KeptTest) -> None:
        """Do a kept test again. InputError where it cannot be read."""


@dataclass(frozen=True)
class KeptKind:
    """What a kind of test is ``called``, its further columns (heading and width) with their ``figures`` from an outcome and what they
    tell, and the ``images`` of a plan. Both raise InputError where they cannot be read."""

    kind: TestKind
    called: str
    columns: tuple[tuple[str, int], ...]
    tell: str
    figures: Callable[[str], list[str]]
    images: Callable[[str, ImageNames], tuple[int, ...]]


def _of_cover(outcome: str) -> list[str]:
    result = cover_report.result_from_json(cover_report.told_from_text(outcome))
    changed = [f"{e.changed.hits}" for e in (result.region, result.control)]
    return [str(result.total), *changed, in_words(from_kept(result.p, result.region.changed.units))]


COVER_TESTS = KeptKind(
    "cover",
    "cover test",
    (("N", 48), ("region", 64), ("control", 68), ("p", 88)),
    "region and control: answers that changed",
    _of_cover,
    lambda text, names: plan_from_text(text, names).images,
)


def model_of_test(workspace: Workspace, kept: KeptTest | None) -> str:
    """Which model a kept test was done on, and that it is not the one shown where that is so; empty for a new test."""
    if kept is None:
        return ""
    run = next((one for one in workspace.runs if one.id == kept.run_id), None)
    name = run.model if run is not None else "a model taken away since"
    shown = workspace.shown.record.info
    if run is not None and run.model_id == shown.model_id:
        return f"Done on {name}, {kept.day}."
    return f"Done on {name}, {kept.day}, not on {shown.model}, the model shown. Repeat it on that one under ⋯."


class KeptTests(QWidget):
    """A table of the tests kept of runs on the image set shown; the one chosen is the one whose result is shown."""

    def __init__(self, explainer: Explainer, owner: TestOwner, kind: KeptKind) -> None:
        super().__init__()
        self.explainer, self.workspace, self.owner, self.kind = explainer, explainer.workspace, owner, kind
        self.title = label(f"Kept {kind.called}s", "heading")
        names, widths = zip(*kind.columns, strict=True)
        self.table = FigureTable(
            ("name", "model", *names), (120, *widths), f"kept {kind.called}s", tuple(range(2, 2 + len(names)))
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
        return [one for one in reversed(self.explainer.tests) if one.run_id in runs and one.kind == self.kind.kind]

    def refresh(self) -> None:
        """List them anew."""
        tests, models = self._tests(), {one.id: one.model for one in self.workspace.runs}
        lines = []
        for one in tests:
            try:
                figures = self.kind.figures(one.outcome)
            except (InputError, ValueError):
                figures = ["?"] * len(self.kind.columns)
            lines.append((one.name, models.get(one.run_id, ""), *figures))
        self.table.show_lines(lines, [f"{one.name}, {one.day}\n{self.kind.tell}" for one in tests])
        self.table.setFixedHeight(38 + 30 * min(6, max(1, len(tests))))
        self.setVisible(bool(tests))
        self.workspace.shown.results.set_tests_kept(len(self.explainer.tests_of_run()))

    def _chosen(self) -> KeptTest | None:
        tests, line = self._tests(), self.table.currentRow()
        return tests[line] if 0 <= line < len(tests) else None

    def choose(self, line: int) -> None:
        """Show the result of the test in a line."""
        tests = self._tests()
        if 0 <= line < len(tests) and tests[line] != self.owner.shown_test:
            self.owner.shown_test = tests[line]
            self.owner.test_changed.emit()

    def do_again(self) -> None:
        """Do a kept test again, on the run shown."""
        kept = self._chosen()
        if kept is not None:
            try:
                self.owner.repeat(kept)
            except InputError as error:
                self.workspace.notices.fail(error)

    def _images_of(self, kept: KeptTest | None) -> tuple[int, ...] | None:
        """The images of a kept test; None, and it is said, where it cannot be read or is of other images."""
        if kept is None:
            return None
        try:
            return self.kind.images(kept.plan, self.workspace.shown.record.names)
        except InputError as error:
            self.workspace.notices.fail(error)
            return None

    def _show_images(self) -> None:
        kept = self._chosen()
        found = self._images_of(kept)
        if kept is not None and found is not None:
            self.workspace.shown.replace(Picked(f"{self.kind.called}, {kept.name}", found))

    def _rename(self) -> None:
        kept = self._chosen()
        if kept is not None:
            name, given = QInputDialog.getText(self, "Rename", f"Name of this {self.kind.called}", text=kept.name)
            if given and name.strip():
                self.explainer.change_test(kept, name.strip())

    def take_away(self) -> None:
        """Remove the test chosen."""
        kept = self._chosen()
        if kept is not None:
            if self.owner.shown_test is not None and self.owner.shown_test.id == kept.id:
                self.owner.shown_test = None
            self.explainer.change_test(kept, None)
            self.owner.test_changed.emit()

    def _ask_folder(self) -> None:
        found = ask_for_folder(
            self, f"A folder for {self.kind.kind}.json", folder_to_save_in(self.workspace.study_path)
        )
        if found is not None:
            self.save(found)

    def save(self, folder: Path) -> None:
        """Write the chosen test's outcome, and the list of its images, to a folder."""
        kept, name = self._chosen(), self.kind.kind
        images = self._images_of(kept)
        if kept is None or images is None:
            return
        try:
            items = self.workspace.shown.record.image_set.items
            paths = "".join(f"{items[i].path}\n" for i in images)
            write_whole(folder / f"{name}.json", kept.outcome)
            write_whole(folder / f"{name}-images.txt", paths)
            self.workspace.notices.say(f"Written: {name}.json and {name}-images.txt, in {folder}.", folder)
        except InputError as error:
            self.workspace.notices.fail(error)
