"""Prediction sets: the level and the score chosen, coverage with what falls short, sizes; and the same threshold on a set held."""

from __future__ import annotations

import json
from collections.abc import Sequence
from pathlib import Path
from typing import NamedTuple

import numpy as np
from PySide6.QtWidgets import QVBoxLayout, QWidget

from mivrat.core.base.errors import InputError
from mivrat.core.base.files import write_whole
from mivrat.core.base.numbers import bounds, decimal, percent, with_bounds
from mivrat.core.base.text import plural
from mivrat.core.checks.result import in_words
from mivrat.core.figures.groups import group_names
from mivrat.core.figures.prediction_sets import SCORE_KINDS
from mivrat.core.pictures.image_sets import column_of
from mivrat.core.reporting.sets_report import as_json
from mivrat.core.running.set_valued import CoverageOf, PredictionSets, SetPlan, at_last, coverage_by, own_sets, sets_at
from mivrat.core.running.snapshot import Snapshot
from mivrat.core.selecting.ordering import columns_to_group_by
from mivrat.core.selecting.selection import Picked
from mivrat.core.study.records import RunKey
from mivrat.ui import words
from mivrat.ui.parts.file_dialogs import ask_to_save, folder_to_save_in
from mivrat.ui.parts.late import Late
from mivrat.ui.parts.tables import FigureTable
from mivrat.ui.parts.widgets import Choice, Scrolled, button, label, row, spin, tip
from mivrat.ui.parts.wrapping import flowing
from mivrat.workspace.executors import LatestOnly, Task
from mivrat.workspace.workspace import Workspace

SCORES = ("fewest classes", "larger where unsure")
THRESHOLDS = ("one threshold", "one for each class")
SIZES = ("classes in the set", "images", "share", "label in its set")
CLASSES = ("class or group", "N", "coverage", "95 % interval", "p")
BY_CLASS = "coverage by class"
# So many classes are listed, those that fall shortest.
MOST = 30
# More sizes than this are told in ranges.
MOST_SIZES = 12


class _Found(NamedTuple):
    """The sets of a run, and what the same threshold comes to on the one held."""

    run: RunKey
    own: PredictionSets
    parts: tuple[CoverageOf, ...]
    column: str
    held: PredictionSets | None
    held_name: str


class SetsView(QWidget):
    """The form, what it comes to in words, and two tables whose rows select images."""

    def __init__(self, workspace: Workspace) -> None:
        super().__init__()
        self.workspace = workspace
        self.found: _Found | None = None
        self._workers = workspace.group(1)
        self._working = LatestOnly(self._workers)
        self.level = spin(50, 99, 90, "share of sets that should hold the label, in percent")
        self.level.setPrefix("label in ")
        self.level.setSuffix(" % of sets")
        self.level.setKeyboardTracking(False)
        self.score, self.by_class = Choice(SCORES, "how classes are chosen"), Choice(THRESHOLDS, "thresholds")
        tip(
            self.score,
            "Fewest classes: every class whose probability is high enough (Sadinle 2019), the smallest sets on average.\n"
            "Larger where unsure: the likeliest classes up to a summed probability (Romano 2020).",
        )
        tip(
            self.by_class,
            "One for each class: the level holds in every class by itself, where it has enough images (Vovk 2003)",
        )
        for one in (self.level.valueChanged, self.score.activated, self.by_class.activated):
            one.connect(self._changed)
        self.told = label(wrap=True)
        self.problem = label(role="problem", wrap=True)
        self.elsewhere = label(wrap=True)
        self.sizes = FigureTable(SIZES, (70, 70, 140), "sizes of the sets", numbers=(1, 2, 3))
        self.sizes.cellClicked.connect(lambda line, _: self._choose_size(line))
        self.sizes.cellActivated.connect(lambda line, _: self._choose_size(line, enter=True))
        self.missed = button("", self._choose_missed, kind="quiet")
        tip(self.missed, "Select the images whose set does not hold their label")
        self.save = button("Save the threshold…", self._save)
        tip(
            self.save,
            "As JSON, with level, score and coverage; sets of single images come from the command mivrat sets",
        )
        self.classes = FigureTable(CLASSES, (60, 84, 110, 80), "coverage by class", numbers=(1, 2, 3, 4))
        self.classes.cellClicked.connect(lambda line, _: self._choose_class(line))
        self.classes.cellActivated.connect(lambda line, _: self._choose_class(line, enter=True))
        self.rests = label(
            "Always over all images. Thresholds come from labelled images other than the one judged (5 folds, whole units). The level holds for images drawn like these; "
            "compare with another set to see whether it holds there. p: coverage below the level, corrected for all classes.",
            soft=True,
            wrap=True,
        )
        self.by = Choice((BY_CLASS,), "coverage by")
        self.by.activated.connect(self._changed)
        body = QWidget()
        inside = QVBoxLayout(body)
        inside.setContentsMargins(0, 8, 10, 8)
        inside.setSpacing(8)
        inside.addLayout(flowing(self.level, self.score, self.by_class, spacing=8))
        for widget in (self.problem, self.told, self.elsewhere, self.sizes):
            inside.addWidget(widget)
        inside.addLayout(row(self.missed, None, self.save))
        inside.addLayout(row(self.by, None))
        inside.addWidget(self.classes)
        inside.addWidget(self.rests)
        inside.addStretch(1)
        around = QVBoxLayout(self)
        around.setContentsMargins(0, 0, 0, 0)
        around.addWidget(Scrolled(body))
        self._late = Late(self, self.refresh, workspace.topics.figures, workspace.topics.held)
        workspace.topics.left.connect(self._leave)
        workspace.topics.run.connect(self._list_columns)

    def _leave(self) -> None:
        self._working.cancel()
        self.found = None

    def _list_columns(self) -> None:
        self.by.clear()
        self.by.addItems([BY_CLASS, *columns_to_group_by(self.workspace.shown.record.image_set.items)])

    def _changed(self, _: object = None) -> None:
        if self.workspace.is_open:
            self.refresh()

    def plan(self) -> SetPlan:
        """What is asked for."""
        return SetPlan(
            self.level.value() / 100, SCORE_KINDS[self.score.currentIndex()], self.by_class.currentIndex() == 1
        )

    def refresh(self) -> None:
        """Work the sets out anew."""
        self._working.cancel()
        plan, shown = self.plan(), self.workspace.shown
        shown.set_plan = plan
        snapshot, held = shown.snapshot, shown.held
        other = held.b if held is not None and held.on_sets is not None else None
        name = held.names.b if held is not None else ""
        self.problem.hide()
        self.told.setText("Working out …")
        run, column = snapshot.record.key, self.by.currentText() if self.by.currentIndex() > 0 else ""

        def work(task: Task) -> _Found | None:
            own = at_last(own_sets(snapshot.record, snapshot.judged, plan))
            if own is None:
                return None
            parts = coverage_by(snapshot.record, snapshot.judged, own, column) if column else own.classes
            return _Found(run, own, parts, column, _on_held(other, plan, own), name)

        self._working.start(work, done=self._take, failed=self._fail)

    def _fail(self, error: InputError) -> None:
        self.found = None
        self.problem.setText(error.line())
        self._show()

    def _take(self, found: _Found | None) -> None:
        if found is not None and self.workspace.shows(found.run):
            self.found = found
            self._show()

    def _show(self) -> None:
        found = self.found
        there = found is not None
        for widget in (self.told, self.sizes, self.missed, self.save, self.by, self.classes, self.rests):
            widget.setVisible(there)
        self.problem.setVisible(not there)
        self.elsewhere.setVisible(there and found is not None and found.held is not None)
        if found is None:
            return
        own = found.own
        self.told.setText(_sentence(own))
        if found.held is not None:
            self.elsewhere.setText(
                f"{words.clipped(found.held_name, 50)}, at the same threshold: {_sentence(found.held)}"
            )
        lines = [
            [
                _size_told(low, high) if high else "none",
                words.count(images),
                percent(images / own.images),
                f"{percent(covered / evaluated)} of {words.count(evaluated)}" if evaluated else "–",
            ]
            for low, high, images, evaluated, covered in sizes_in_ranges(own.by_size())
        ]
        self.sizes.show_lines(lines)
        self.sizes.fit_height()
        missed = int((own.evaluated & ~own.covers).sum())
        self.missed.setText(f"{words.images(missed)} whose label is not in the set")
        self.missed.setEnabled(bool(missed))
        of_class = self._worst()
        self.classes.show_lines(
            [
                [
                    one.name,
                    words.count(one.coverage.total),
                    percent(one.coverage.value) + (" ◆" if one.short else ""),
                    bounds(one.coverage) or "–",
                    in_words(one.p_holm).removeprefix("= "),
                ]
                for one in of_class
            ],
            [
                f"{one.name}: {'falls short of the level' if one.short else 'not shown to fall short'}"
                for one in of_class
            ],
        )
        self.classes.fit_height()

    def _worst(self) -> list[CoverageOf]:
        assert self.found is not None
        return sorted(self.found.parts, key=lambda one: (one.p_holm, one.coverage.value or 0.0))[:MOST]

    # --- selecting ---

    def _pick(self, name: str, mask: np.ndarray, enter: bool = False) -> None:
        shown = self.workspace.shown
        choose = shown.enter if enter else shown.choose
        choose(Picked(f"prediction sets: {name}", tuple(np.flatnonzero(mask).tolist())))

    def _choose_size(self, line: int, enter: bool = False) -> None:
        if self.found is not None and 0 <= line < len(ranges := sizes_in_ranges(self.found.own.by_size())):
            low, high = ranges[line][:2]
            sizes = self.found.own.sizes
            self._pick(_size_told(low, high) if high else "no class", (sizes >= low) & (sizes <= high), enter)

    def _choose_missed(self) -> None:
        if self.found is not None:
            self._pick("label not in the set", self.found.own.evaluated & ~self.found.own.covers)

    def _choose_class(self, line: int, enter: bool = False) -> None:
        if self.found is not None and 0 <= line < len(worst := self._worst()):
            own, shown, name = self.found.own, self.workspace.shown, worst[line].name
            if self.found.column:
                items = shown.record.image_set.items
                inside = np.array(group_names(column_of(items, self.found.column)), object) == name
                told = f"label not in the set, {self.found.column} {name}"
            else:
                inside, told = shown.judged.labels == shown.classes.index(name), f"{name} not in the set"
            self._pick(told, own.evaluated & ~own.covers & inside, enter)

    # --- taking it elsewhere ---

    def _save(self) -> None:
        if self.found is None:
            return
        start = folder_to_save_in(self.workspace.study_path) / "sets.json"
        place = ask_to_save(self, "Save the threshold", start, "JSON (*.json)")
        if place is not None:
            self.save_to(place)

    def save_to(self, place: Path) -> None:
        """Write the threshold, with what it comes to."""
        assert self.found is not None
        told = as_json(self.found.own, self.workspace.shown.record)
        try:
            write_whole(place, json.dumps(told, indent=1, ensure_ascii=False) + "\n")
        except InputError as error:
            self.workspace.notices.fail(error)
            return
        self.workspace.notices.say(f"Written: {place.name}")

    def as_table(self) -> list[list[str]]:
        """Both tables, for the clipboard."""
        return [*self.sizes.as_lines(), [], *self.classes.as_lines()]

    @property
    def settled(self) -> bool:
        return not self._workers.busy

    def stop(self) -> None:
        self._workers.stop_all()


def _on_held(other: Snapshot | None, plan: SetPlan, own: PredictionSets) -> PredictionSets | None:
    """What the same threshold comes to on a set held; None where none is, or it cannot be asked."""
    if other is None or not other.judged.has_scores or other.judged.classes != len(own.threshold.of_class):
        return None
    return at_last(sets_at(other.record, other.judged, plan, own.threshold))


def _sentence(found: PredictionSets) -> str:
    coverage = found.coverage
    if coverage.total:
        told = f"{with_bounds(coverage)} of sets hold the label, N = {words.count(coverage.total)}"
        if coverage.high is not None and coverage.high < found.plan.level:
            told += f": less often than the {percent(found.plan.level, None)} wanted, beyond chance"
    else:
        told = "No labelled image: how many sets hold the label is not known"
    always = int(np.isinf(found.threshold.of_class).sum())
    few = (
        f" {plural(always, 'class has', 'classes have')} too few labelled images, and {'is' if always == 1 else 'are'} in every set."
        if always
        else ""
    )
    return (
        f"{told}. Sets hold {decimal(found.mean_size, 2)} classes on average; {percent(found.one_class)} hold one, "
        f"{percent(found.empty)} none (N = {words.count(found.images)}).{few}"
    )


def _size_told(low: int, high: int) -> str:
    return plural(low, "class", "classes") if low == high else f"{words.count(low)} to {words.count(high)} classes"


class SizeRange(NamedTuple):
    """Sets of some sizes: the least and the greatest size, how many, the evaluated ones, and those that hold the label."""

    low: int
    high: int
    images: int
    evaluated: int
    covered: int


def sizes_in_ranges(by_size: Sequence[tuple[int, int, int, int]]) -> list[SizeRange]:
    """Sizes as they occur, or, where there are many, in ranges of about as many images each. Sets without a class, and with one, stand by
    themselves."""
    every = [SizeRange(size, size, images, evaluated, covered) for size, images, evaluated, covered in by_size]
    if len(every) <= MOST_SIZES:
        return every
    found = list[SizeRange]()
    total = sum(one.images for one in every)
    for one in every:
        if found and (last := found[-1]).high > 1 and last.images < total / MOST_SIZES:
            found[-1] = SizeRange(
                last.low, one.high, last.images + one.images, last.evaluated + one.evaluated, last.covered + one.covered
            )
        else:
            found.append(one)
    return found
