"""The strain test: kinds of distortion and their levels are chosen, the photos scored again, and accuracy shown against level."""

from __future__ import annotations

from collections.abc import Sequence

from PySide6.QtCore import Qt, Signal
from PySide6.QtWidgets import QGridLayout, QLineEdit, QMenu, QPushButton, QVBoxLayout, QWidget

from mivrat.core.base.numbers import bounds, percent
from mivrat.core.base.text import minus
from mivrat.core.checks.result import in_words
from mivrat.core.pictures.distorting.kinds import (
    BY_KEY,
    KINDS,
    SAID,
    Distortion,
    given_in_words,
    kind_in_words,
    level_in_words,
    spelled_kind,
)
from mivrat.core.selecting.selection import Picked
from mivrat.core.straining.curves import StrainFigures, StrainLevel
from mivrat.ui import words
from mivrat.ui.measure.strain_classes import StrainClasses
from mivrat.ui.measure.strain_diagram import StrainDiagram, told_of
from mivrat.ui.measure.strain_preview import StrainPreview
from mivrat.ui.parts.late import Late
from mivrat.ui.parts.page import Page
from mivrat.ui.parts.tables import FigureTable
from mivrat.ui.parts.widgets import Scrolled, button, label, row, spin, tip
from mivrat.ui.parts.wrapping import flowing
from mivrat.workspace.concluding import Concluder
from mivrat.workspace.straining import FoundStrain, Strainer
from mivrat.workspace.workspace import Workspace

ADD = "Add a kind"
COLUMNS = ("level", "N", "accuracy", "95 % interval", "changed", "p")


class StrainPage(Page, QWidget):
    """The form, what it found in words, a plot for each kind, and a table of all levels."""

    title, place_id = "Strain", "strain"
    help = "Distorts the photos step by step and scores them again: how far from clean can they go?"

    finding_wanted = Signal()

    def __init__(self, workspace: Workspace) -> None:
        super().__init__()
        self.workspace, self.strainer = workspace, Strainer(workspace)
        self._at: Distortion | None = None
        self.rows: dict[str, QLineEdit] = {}
        self.away: dict[str, QPushButton] = {}
        self.form = QWidget()
        self._grid = QGridLayout(self.form)
        self._grid.setContentsMargins(0, 0, 0, 0)
        self._grid.setHorizontalSpacing(8)
        self._grid.setVerticalSpacing(2)
        self._grid.setColumnStretch(1, 1)
        self.add = button(ADD)
        self.menu = QMenu(self.add)
        self._added, self._to_added = "", workspace.soon(0, self._go_to_added)
        self.add.setMenu(self.menu)
        self.begin = button("Strain the images", self.strainer.run, kind="primary")
        tip(self.begin, "Distort every image that has an answer, score it again, and keep the answers with the study")
        self.problem = label(role="problem", wrap=True)
        self.told = label(wrap=True)
        self.legend = label(
            "Line: accuracy with its 95 % interval; a diamond where it is lower than untouched beyond chance. Dots: mean confidence. "
            "Broken line: untouched. A point, or a row, selects the images whose answer changes there.",
            soft=True,
            wrap=True,
        )
        self.diagram = StrainDiagram(self._choose)
        self.preview = StrainPreview(workspace, self.strainer)
        self.table = FigureTable(COLUMNS, (60, 74, 104, 74, 84), "levels", numbers=(1, 2, 3, 4, 5))
        self.table.cellClicked.connect(lambda line, _: self._choose(self._levels()[line]))
        self.table.cellActivated.connect(lambda line, _: self._choose(self._levels()[line], enter=True))
        self.table.currentCellChanged.connect(lambda line, *_: self._look_at(line))
        body = QWidget()
        inside = QVBoxLayout(body)
        inside.setContentsMargins(0, 2, 10, 12)
        inside.setSpacing(8)
        inside.addWidget(self.form)
        inside.addLayout(row(self.begin, self.add, None, spacing=8))
        self.at_least = spin(
            0, 100, 0, "what accuracy must be at this level, in percent, to be good enough in the field"
        )
        self.at_least.setPrefix("at least ")
        self.at_least.setSuffix(" %")
        self.at_least.setSpecialValueText("no limit")
        self.expected = label()
        self.keep = button("Add to findings", self.finding_wanted.emit)
        tip(self.keep, "Keep this level as expected in the field: it is asked of the next model, too (F)")
        self.earliest = button("Images that flip, the earliest first", self._show_earliest, kind="quiet")
        tip(self.earliest, "Select every image whose answer changes at some level, in the order of how early it does")
        for widget in (self.problem, self.told, self.preview, self.diagram, self.legend):
            inside.addWidget(widget)
        inside.addLayout(row(self.earliest, None))
        inside.addWidget(self.table)
        self.field = QWidget()
        self.field.setLayout(flowing(self.expected, self.at_least, self.keep, spacing=8))
        inside.addWidget(self.field)
        self.classes = StrainClasses(self._choose_of_class)
        inside.addWidget(self.classes)
        inside.addStretch(1)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 8, 0, 0)
        layout.addWidget(Scrolled(body))
        self.strainer.changed.connect(self.refresh)
        workspace.topics.busy.connect(self._show_button)
        self._late = Late(self, self.strainer.look, workspace.topics.figures)

    # --- the form ---

    def _add(self, key: str) -> None:
        self.strainer.wish(key, True)
        self._added = key
        self._to_added.start()

    def _go_to_added(self) -> None:
        """What is typed next, once the menu has closed, are the levels of the kind that was added."""
        if self._added in self.rows:
            self.rows[self._added].setFocus(Qt.FocusReason.OtherFocusReason)

    def _fill_form(self) -> None:
        wishes = self.strainer.wishes
        if list(self.rows) != list(wishes):
            while self._grid.count():
                item = self._grid.takeAt(0)
                if item is not None and (widget := item.widget()) is not None:
                    widget.hide()
                    widget.deleteLater()
            self.rows, self.away = {}, {}
            for line, key in enumerate(wishes):
                self._add_row(line, key)
            self.menu.clear()
            for kind in KINDS:
                if kind.key not in wishes:
                    self.menu.addAction(kind.name).triggered.connect(lambda _=False, key=kind.key: self._add(key))
        for key, edit in self.rows.items():
            if not edit.hasFocus() and edit.text() != wishes[key]:
                edit.setText(wishes[key])

    def _add_row(self, line: int, key: str) -> None:
        kind = BY_KEY[key]
        name = label(f"{kind.name}, {kind.unit}", soft=True)
        tip(
            name,
            f"{kind.meaning[:1].upper()}{kind.meaning[1:]}. From {minus(f'{kind.low:g}')} to {minus(f'{kind.high:g}')}; 0 is untouched.",
        )
        edit = QLineEdit()
        edit.setPlaceholderText(", ".join(minus(f"{one:g}") for one in kind.levels))
        edit.setAccessibleName(f"levels of {kind.name}")
        tip(
            edit,
            "Levels with commas between; left empty, those shown in grey. Behind a +, another kind that is done after it: 1, 2 + noise: 0, 0.05",
        )
        edit.editingFinished.connect(lambda: self._typed(key))
        away = button("×", lambda: self.strainer.wish(key, False), kind="quiet")
        away.setFixedWidth(24)
        away.setAccessibleName(f"leave {kind.name} out")
        self._grid.addWidget(name, line, 0)
        self._grid.addWidget(edit, line, 1)
        self._grid.addWidget(away, line, 2)
        self.rows[key], self.away[key] = edit, away

    def _typed(self, key: str) -> None:
        text = self.rows[key].text().replace("−", "-").strip()
        if self.strainer.wishes.get(key) not in (None, text):
            self.strainer.wish(key, True, text)

    # --- what was found ---

    def _levels(self) -> list[StrainLevel]:
        return self.strainer.found.figures.levels if self.strainer.found is not None else []

    def refresh(self) -> None:
        """Show what is wished for and what is known."""
        self._fill_form()
        found, can = self.strainer.found, self.strainer.can_strain
        for widget in (self.form, self.begin, self.add):
            widget.setVisible(can)
        self.problem.setVisible(bool(self.strainer.problem))
        self.problem.setText(self.strainer.problem)
        known = found is not None and found.to_ask < found.sweep.predicted.size
        for widget in (self.diagram, self.legend, self.table, self.field, self.earliest):
            widget.setVisible(known)
        self.told.setVisible(not self.strainer.problem)
        self.told.setText(self._words())
        self.preview.refresh()
        self._show_button()
        self._show_classes()
        if found is None or not known:
            self.diagram.show_figures(None)
            return
        figures = found.figures
        self.diagram.show_figures(figures, found.other.figures if found.other is not None else None)
        lines, tips = [], []
        for curve in figures.curves:
            for one in curve.levels:
                lines.append(
                    [
                        f"{BY_KEY[curve.kind].name} {minus(f'{one.strain.level:g}')}{given_in_words(curve.given)}",
                        words.count(one.accuracy.total or one.changed.total),
                        percent(one.accuracy.value) if one.accuracy.value is not None else "–",
                        bounds(one.accuracy) if one.accuracy.low is not None else "–",
                        percent(one.changed.value) if one.changed.value is not None else "–",
                        in_words(one.p_holm).removeprefix("= ") if one.difference.p is not None else "–",
                    ]
                )
                tips.append(told_of(curve, one))
        self.table.show_lines(lines, tips)
        self._show_expected()
        self.table.fit_height()

    def _words(self) -> str:
        if not self.strainer.can_strain:
            return (
                f"{self.workspace.shown.record.kind.lacks('A strain test needs')}"
                if not self.workspace.shown.record.kind.can.scores
                else "A strain test needs all scores of this run, and they are missing."
            )
        found = self.strainer.found
        if not self.strainer.wishes:
            return "Choose a kind of distortion."
        if found is None:
            return "Looking for what is known …" if not self.strainer.settled else ""
        if not found.sweep.plan.images:
            return "No image has an answer yet: score the images first."
        if found.to_ask == found.sweep.predicted.size:
            return "How far from clean can the photos go? Choose kinds and levels, and score them again. Answers are kept with the study."
        missing = f" {words.count(found.to_ask)} answers are still missing." if found.to_ask else ""
        return _summary(found.figures) + missing + self._of_other(found)

    @staticmethod
    def _of_other(found: FoundStrain) -> str:
        other = found.other
        if other is None:
            return ""
        name = words.clipped(other.name, 40)
        if other.missing:
            return f" Squares: {name}, of which {words.count(other.missing)} answers are missing (show that run, and strain it)."
        return f" Squares: {name}, with the same levels."

    def _show_button(self) -> None:
        found = self.strainer.found
        number = found.to_ask if found is not None else 0
        if found is not None and number:
            self.begin.setText(f"Strain {words.images(len(found.sweep.plan.images))}: {words.count(number)} answers")
        else:
            self.begin.setText("All answers are known" if found is not None else "Strain the images")
        self.begin.setEnabled(bool(number) and not self.workspace.busy)

    def _look_at(self, line: int) -> None:
        levels = self._levels()
        if 0 <= line < len(levels):
            self._go_to(levels[line])

    def _go_to(self, level: StrainLevel) -> None:
        """Look at a level: its kind in pictures, and what could be kept of it."""
        self._at = level.strain
        self.preview.show_level(level.strain)
        self._show_expected()
        self._show_classes()

    def _show_classes(self) -> None:
        found, at = self.strainer.found, self._at
        figures = found.figures if found is not None and found.to_ask < found.sweep.predicted.size else None
        self.classes.show_kind(
            figures, spelled_kind(at.kind, at.given) if at is not None else "", self.workspace.shown.classes
        )

    @property
    def level(self) -> StrainLevel | None:
        """The level looked at, where it is one of those tried."""
        return next((one for one in self._levels() if one.strain == self._at), None)

    def _show_expected(self) -> None:
        level = self.level
        self.expected.setText(
            f"Expected in the field: {level_in_words(level.strain)}, accuracy"
            if level is not None
            else "Choose a level that is expected in the field."
        )
        able = level is not None and level.accuracy.total > 0 and self.strainer.found is not None
        self.at_least.setEnabled(able)
        self.keep.setEnabled(able and self.strainer.found is not None and not self.strainer.found.to_ask)

    def finding(self, concluder: Concluder) -> bool:
        found, level = self.strainer.found, self.level
        if found is None or level is None or found.to_ask or not level.accuracy.total:
            return False
        limit = self.at_least.value() / 100 or None
        concluder.add_strain(found.figures, level, limit, self.strainer.flipped(level))
        return True

    def _show_earliest(self) -> None:
        if self.strainer.found is not None and (some := self.strainer.flipping()):
            self.workspace.shown.show_strained(None)
            self.workspace.shown.choose(Picked("strain: changes at some level, the earliest first", some))

    def _choose_of_class(self, k: int, level: StrainLevel) -> None:
        """Select the images of a class whose answer changes at a level."""
        labels = self.workspace.shown.judged.labels
        self._choose(
            level,
            among=tuple(i for i in self.strainer.flipped(level) if labels[i] == k),
            of=self.workspace.shown.classes[k],
        )

    def _choose(
        self, level: StrainLevel, enter: bool = False, among: tuple[int, ...] | None = None, of: str = ""
    ) -> None:
        """Select the images whose answer changes at a level; only those ``among`` them, of the class ``of``, where that is asked."""
        self._go_to(level)
        kind = BY_KEY[level.strain.kind]
        given = given_in_words(level.strain.given)
        name = f"strain: {kind.name.lower()} {minus(f'{level.strain.level:g}')}{given} changes it"
        if of:
            name += f", labelled {of}"
        picked = Picked(name, self.strainer.flipped(level) if among is None else among)
        self.workspace.shown.show_strained(self.strainer.answers_at(level, picked))
        choose = self.workspace.shown.enter if enter else self.workspace.shown.choose
        choose(picked)

    def as_table(self) -> list[list[str]]:
        """The levels, for the clipboard."""
        return self.table.as_lines()

    def begin_anew(self) -> None:
        self.preview.begin_anew()
        self.at_least.setValue(0)
        self._at = None

    @property
    def settled(self) -> bool:
        return self.strainer.settled and self.preview.settled

    def stop(self) -> None:
        self.strainer.stop()
        self.preview.stop()


def _summary(found: StrainFigures) -> str:
    """Where each kind breaks, or is lower without staying so, in a sentence each."""
    told, steady = [], []
    for curve in found.curves:
        kind, name = BY_KEY[curve.kind], kind_in_words(curve.kind, curve.given)
        unit = f" {kind.unit}" if kind.unit in SAID else ""
        if curve.breaks:
            told.append(f"{name} breaks at {_and(curve.breaks)}{unit}.")
        elif curve.lowered:
            told.append(f"{name} lowers accuracy at {_and(curve.lowered)}{unit}, but not from there on.")
        else:
            steady.append(name if name[:2].isupper() else f"{name[:1].lower()}{name[1:]}")
    if steady:
        told.append(f"Not shown to break: {', '.join(steady)}.")
    margin = f"{100 * found.margin:g} points"
    told.append(f"A kind breaks where accuracy falls by more than {margin}, beyond chance, and stays there.")
    return " ".join(told)


def _and(levels: Sequence[float]) -> str:
    return " and ".join(minus(f"{one:g}") for one in levels)
