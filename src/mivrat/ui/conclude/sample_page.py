"""Which images to label: the figure and how well it should be known, where the labels go, the list written, and labels read back."""

from __future__ import annotations

from contextlib import suppress
from pathlib import Path
from typing import NamedTuple

from PySide6.QtCore import Signal
from PySide6.QtWidgets import QCheckBox, QVBoxLayout, QWidget

from mivrat.core.answers.judged import EvaluatedRun
from mivrat.core.base.errors import InputError
from mivrat.core.base.text import plural
from mivrat.core.concluding.estimate_claims import REPEATABLE
from mivrat.core.concluding.labelling import (
    DIFFERENCE,
    LabelSample,
    WantedFigure,
    draw_labels,
    estimate_from_labels,
    wanted_figure,
)
from mivrat.core.concluding.requirements import parse_criterion, quoted
from mivrat.core.reporting.label_lists import (
    ASSUMES,
    COPIES,
    ReadSample,
    copy_listed,
    drawn_sample,
    estimate_sentences,
    read_labelled,
    replace_labels,
    sample_csv,
    sample_json,
    write_sample,
)
from mivrat.core.selecting.selection import Picked
from mivrat.core.study.records import RunKey
from mivrat.ui import words
from mivrat.ui.conclude.strata_diagram import StrataDiagram
from mivrat.ui.parts.file_dialogs import ask_for_folder, ask_to_open, folder_to_save_in
from mivrat.ui.parts.late import Late
from mivrat.ui.parts.page import Page
from mivrat.ui.parts.tables import FigureTable
from mivrat.ui.parts.widgets import Choice, Scrolled, button, label, row, spin, tip
from mivrat.ui.parts.wrapping import flowing
from mivrat.workspace.concluding import Concluder
from mivrat.workspace.executors import LatestOnly, Task
from mivrat.workspace.reader_edits import read_blind
from mivrat.workspace.workspace import Workspace

FIGURES = ("accuracy", "recall of", "precision of", "difference to the other run")
HOW = ("with this many labels", "to within ± points")
COLUMNS = ("where the labels go", "images", "labels", "one in")
TABLES = "Tables (*.csv *.tsv *.jsonl *.parquet)"


class _Drawn(NamedTuple):
    """A list drawn for a run, with the answers of the run compared with."""

    run: RunKey
    sample: LabelSample
    against: EvaluatedRun | None


class SamplePage(Page, QWidget):
    """The pool is the images shown under the model shown. Labels that they have already are not looked at."""

    finding_wanted = Signal()
    title, place_id = "To label", "to label"
    help = "Which images to have labelled, so that a figure is known with few labels; and what the labels say."

    def __init__(self, workspace: Workspace) -> None:
        super().__init__()
        self.workspace = workspace
        self.drawn: _Drawn | None = None
        self.read: ReadSample | None = None
        self._workers = workspace.group(1)
        self._drawing = LatestOnly(self._workers)
        self.figure, self.of_class = Choice(FIGURES, "figure to know"), Choice((), "class")
        self.how = Choice(HOW, "how many labels")
        self.number = spin(10, 1_000_000, 200, "number of labels")
        self.points = spin(1, 30, 5, "half-width of the interval, in points")
        self.points.setPrefix("± ")
        self.points.setSuffix(" points")
        for box in (self.number, self.points):
            box.setKeyboardTracking(False)
            box.valueChanged.connect(self._changed)
        for choice in (self.figure, self.of_class, self.how):
            choice.activated.connect(self._changed)
        self.told, self.problem = label(wrap=True), label(role="problem", wrap=True)
        self.diagram = StrataDiagram(self._choose)
        self.table = FigureTable(COLUMNS, (70, 70, 60), "where the labels go", numbers=(1, 2, 3))
        self.table.cellClicked.connect(lambda line, _: self._choose(line))
        self.table.cellActivated.connect(lambda line, _: self._choose(line, enter=True))
        self.show_all = button("Show the images to label", self._show_all, kind="quiet")
        self.write = button("Write the list…", self._write, kind="primary")
        tip(self.write, "sample.csv with the images in random order and an empty column for labels, and sample.json")
        self.back = button("Read labels back…", self._read)
        tip(
            self.back,
            "Choose the folder of a list that was written, then a table with its labels (or its own sample.csv)",
        )
        self.copies = QCheckBox("with copies of the images")
        tip(self.copies, "Beside the list, a folder of copies called by their number in it: no name tells a class")
        self.here = button("Label them here, blind", self._label_here)
        tip(
            self.here,
            "Show the images to label with answers hidden; one key gives an image its label, and the next one is shown",
        )
        self.given = label(wrap=True)
        self.keep = button("Add to findings", self.finding_wanted.emit)
        tip(self.keep, "Keep this estimate as a finding: the same labels are asked about the next model, too (F)")
        self.rests = label(f"Rests on: {'; '.join(ASSUMES)}.", soft=True, wrap=True)
        self.said = label(wrap=True)
        body = QWidget()
        inside = QVBoxLayout(body)
        inside.setContentsMargins(0, 8, 10, 12)
        inside.setSpacing(8)
        inside.addLayout(flowing(self.figure, self.of_class, self.how, self.number, self.points, spacing=8))
        for widget in (self.problem, self.told, self.diagram, self.table):
            inside.addWidget(widget)
        inside.addLayout(row(self.show_all, None))
        inside.addLayout(flowing(self.here, self.write, self.copies, self.back, spacing=8))
        inside.addWidget(self.given)
        inside.addLayout(row(self.keep, None))
        inside.addWidget(self.said)
        inside.addWidget(self.rests)
        inside.addStretch(1)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.addWidget(Scrolled(body))
        self._late = Late(self, self.refresh, workspace.topics.figures, workspace.topics.held)
        self._late_given = Late(self, self._show_given, workspace.topics.reviews)
        workspace.topics.run.connect(self._list_classes)
        workspace.topics.left.connect(self._leave)

    def _leave(self) -> None:
        self._drawing.cancel()
        self.drawn = self.read = None
        self.said.setText("")

    def begin_anew(self) -> None:
        self.figure.setCurrentIndex(0)
        self.how.setCurrentIndex(0)

    def _list_classes(self) -> None:
        self.of_class.clear()
        self.of_class.addItems([words.clipped(name, 40) for name in self.workspace.shown.classes])

    def _changed(self, _: object = None) -> None:
        if self.workspace.is_open:
            self.refresh()

    def wanted(self) -> WantedFigure:
        """The figure that is asked for."""
        at, k = self.figure.currentIndex(), max(0, self.of_class.currentIndex())
        if at == 0:
            return wanted_figure("top1", self.workspace.shown.classes)
        if at == len(FIGURES) - 1:
            return wanted_figure(DIFFERENCE, self.workspace.shown.classes)
        kind = "recall" if at == 1 else "precision"
        return wanted_figure(f"{kind}[{quoted(self.workspace.shown.classes[k])}]", self.workspace.shown.classes)

    def _against(self) -> EvaluatedRun | None:
        """The run held, where it is of the same images."""
        held = self.workspace.shown.held
        same = held is not None and held.b.record.set_key == self.workspace.shown.record.set_key
        return held.b.judged if held is not None and same else None

    def refresh(self) -> None:
        """Draw a list anew."""
        self._drawing.cancel()
        of_class = self.figure.currentIndex() in (1, 2)
        self.of_class.setVisible(of_class)
        by_number = self.how.currentIndex() == 0
        self.number.setVisible(by_number)
        self.points.setVisible(not by_number)
        shown = self.workspace.shown
        snapshot, run = shown.snapshot, shown.record.key
        try:
            wanted = self.wanted()
            against = self._against() if wanted.figure == "difference" else None
            if wanted.figure == "difference" and against is None:
                raise InputError(
                    "a difference needs another run on the same images", hint="choose one at the top: compare with (A)"
                )
        except InputError as error:
            self._fail(error)
            return
        number = self.number.value() if by_number else None
        half = None if by_number else self.points.value() / 100

        def work(task: Task) -> _Drawn:
            found = draw_labels(
                snapshot.record, snapshot.judged, wanted, labels=number, half_width=half, against=against
            )
            return _Drawn(run, found, against)

        self._drawing.start(work, done=self._take, failed=self._fail)

    def _fail(self, error: InputError) -> None:
        self.drawn = None
        self.problem.setText(f"{error.what[:1].upper()}{error.what[1:]}. {error.hint[:1].upper()}{error.hint[1:]}.")
        self._show()

    def _take(self, drawn: _Drawn) -> None:
        if self.workspace.shows(drawn.run):
            self.drawn = drawn
            self._show()

    def _show(self) -> None:
        there = self.drawn is not None
        self.diagram.setVisible(self.drawn is not None and len(self.drawn.sample.strata) > 1)
        for widget in (self.told, self.table, self.show_all, self.here, self.write, self.copies):
            widget.setVisible(there)
        self.problem.setVisible(not there)
        self._show_given()
        if self.drawn is None:
            return
        found = self.drawn.sample
        needs = "more than a million" if found.simple_random is None else f"about {words.count(found.simple_random)}"
        same = (
            f" {words.images(found.same)} are answered alike by both models, and need no label." if found.same else ""
        )
        self.told.setText(
            f"{plural(len(found.listed), 'label', 'labels')} over {words.images(found.pool)}: the figure is expected to within "
            f"± {100 * found.half_width:.1f} points (95 %). A simple random sample would need {needs}.{same}"
        )
        self.diagram.show_strata(found.strata)
        self.table.show_lines(
            [
                [one.name, words.count(one.pool), words.count(one.labels), f"{one.pool / max(1, one.labels):.1f}"]
                for one in found.strata
            ]
        )
        self.table.fit_height()
        self.show_all.setText(f"Show the {words.images(len(found.listed))} to label")

    # --- selecting ---

    def _pick(self, name: str, positions: tuple[int, ...], enter: bool = False) -> None:
        shown = self.workspace.shown
        (shown.enter if enter else shown.choose)(Picked(name, positions))

    def _show_all(self) -> None:
        if self.drawn is not None:
            found = self.drawn.sample
            self._pick(f"chance, to label for {found.wanted.name}", tuple(found.listed.tolist()))

    def _choose(self, line: int, enter: bool = False) -> None:
        if self.drawn is not None and 0 <= line < len(self.drawn.sample.strata):
            found = self.drawn.sample
            inside = tuple(found.listed[found.stratum == line].tolist())
            self._pick(f"chance, to label: {found.strata[line].name}", inside, enter)

    # --- labels given here ---

    def labels_given(self) -> dict[int, int]:
        """The labels of the listed images, by place in the list: what was given here, else what the set says."""
        if self.drawn is None:
            return {}
        shown, found = self.workspace.shown, dict[int, int]()
        proposed = shown.reviews.proposed()
        for place, i in enumerate(self.drawn.sample.listed.tolist()):
            k = proposed.get(i, int(shown.judged.labels[i]))
            if k >= 0:
                found[place] = k
        return found

    def _label_here(self) -> None:
        if self.drawn is None:
            return
        shown = self.workspace.shown
        self._show_all()
        read_blind(self.workspace, True)
        given = self.labels_given()
        left = [i for place, i in enumerate(self.drawn.sample.listed.tolist()) if place not in given]
        shown.focus.look_at(left[0] if left else int(self.drawn.sample.listed[0]))
        self.workspace.topics.look_wanted.emit()

    def finding(self, concluder: Concluder) -> bool:
        if self.drawn is None or len(labels := self.labels_given()) < len(self.drawn.sample.listed):
            return False
        concluder.add_estimate(self.drawn.sample, labels, self._asked())
        return True

    def _asked(self) -> float | None:
        """What a criterion of the model asks of this figure at least; None where none does."""
        contents, shown = self.workspace.contents, self.workspace.shown
        if contents is None or self.drawn is None:
            return None
        wanted = self.drawn.sample.wanted
        for text in contents.criteria.get(shown.record.info.model_id, ()):
            with suppress(InputError):
                one = parse_criterion(text, shown.classes)
                if (one.figure, one.class_index, one.compare) == (
                    wanted.figure,
                    wanted.class_index,
                    ">=",
                ) and one.plain:
                    return one.limit
        return None

    def _show_given(self) -> None:
        """Say how many of the listed images have a label by now, and what the labels come to once all have one."""
        self.keep.hide()
        if self.drawn is None or not self.workspace.shows(self.drawn.run):
            self.given.setText("")
            return
        found, labels = self.drawn.sample, self.labels_given()
        number = len(found.listed)
        if len(labels) < number:
            self.given.setText(
                f"Labelled so far: {words.count(len(labels))} of {words.count(number)}. The figure is shown once all of them are."
                if labels
                else ""
            )
            return
        shown = self.workspace.shown
        listed = replace_labels(drawn_sample(found, shown.classes, shown.judged, self.drawn.against), labels)
        self.keep.setVisible(found.wanted.figure in REPEATABLE)
        self.given.setText(f"All {words.count(number)} have a label. {_estimate_told(listed)}")

    # --- the list, and labels ---

    def _write(self) -> None:
        folder = ask_for_folder(self, "Write the list into a folder", folder_to_save_in(self.workspace.study_path))
        if folder is not None:
            self.write_to(folder)

    def write_to(self, folder: Path) -> None:
        """Write the list that is shown."""
        if self.drawn is None:
            return
        found, shown = self.drawn.sample, self.workspace.shown
        try:
            told, copies = sample_json(found, shown.classes), self.copies.isChecked()
            table = sample_csv(found, shown.record, shown.judged, self.drawn.against, {}, copies=copies)
            written = write_sample(folder, told, table)
        except InputError as error:
            self.workspace.notices.fail(error)
            return
        if copies:
            record = shown.record
            self.workspace.jobs.export(
                f"Copying {words.images(len(found.listed))} to {folder.name}",
                lambda: copy_listed(found, record, folder / COPIES),
            )
            return
        self.workspace.notices.say(f"Written: {', '.join(one.name for one in written)} in {folder.name}")

    def _read(self) -> None:
        start = folder_to_save_in(self.workspace.study_path)
        folder = ask_for_folder(self, "The folder of the list", start)
        if folder is None:
            return
        table = ask_to_open(self, "The table with the labels", folder / "sample.csv", TABLES)
        if table is not None:
            self.read_back(folder, table)

    def read_back(self, folder: Path, table: Path) -> None:
        """Say what the labels in a table come to for the list in a folder."""
        try:
            listed = read_labelled(folder, table)
            told = _estimate_told(listed)
        except InputError as error:
            self.read = None
            self.said.setText(error.line())
            return
        self.read = listed
        self.said.setText(told)

    def as_table(self) -> list[list[str]]:
        """The strata, for the clipboard."""
        return self.table.as_lines()

    @property
    def settled(self) -> bool:
        return not self._workers.busy

    def stop(self) -> None:
        self._workers.stop_all()


def _estimate_told(listed: ReadSample) -> str:
    """What the labels of a list come to, in sentences. InputError where one is missing."""
    found = estimate_from_labels(listed.wanted, listed.strata, listed.same, listed.rows, listed.labels)
    return " ".join(f"{one[:1].upper()}{one[1:]}." for one in estimate_sentences(listed, found))
