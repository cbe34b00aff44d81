"""The headline as a picture: every share with its interval on one scale, what was claimed and asked marked on it, and the figures
that are no shares beneath."""

from __future__ import annotations

import numpy as np
from PySide6.QtWidgets import QGridLayout, QVBoxLayout, QWidget

from mivrat.core.base.errors import InputError
from mivrat.core.base.numbers import DASH, bounds, percent
from mivrat.core.concluding.requirements import RequirementOutcome, parse_criterion
from mivrat.core.figures.confusion import ClassFigures
from mivrat.core.selecting.selection import Condition, Labelled, Outcome, Picked
from mivrat.ui import words
from mivrat.ui.measure.headline_lines import HeadlineFigure, below_accuracy, held_values, other_values
from mivrat.ui.parts.interval_rows import ASKED, CLAIMED, IntervalRow, IntervalRows, scale_from
from mivrat.ui.parts.widgets import clear, label, tip
from mivrat.workspace.workspace import Workspace

# Figures in a line beneath the picture.
ACROSS = 4


class HeadlinePicture(QWidget):
    """Rows of shares on one scale; a row selects the images that keep it from being 100 %."""

    def __init__(self, workspace: Workspace) -> None:
        super().__init__()
        self.workspace = workspace
        self.rows = IntervalRows(workspace, "headline figures with their intervals", scaled=True)
        self.legend = label(soft=True, wrap=True)
        self._tiles = QGridLayout()
        self._tiles.setHorizontalSpacing(12)
        self._tiles.setVerticalSpacing(8)
        for column in range(ACROSS):
            self._tiles.setColumnStretch(column, 1)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setSpacing(4)
        layout.addWidget(self.rows)
        layout.addWidget(self.legend)
        layout.addSpacing(6)
        layout.addLayout(self._tiles)

    def show_lines(self, lines: list[HeadlineFigure]) -> None:
        """Show headline figures; what is held against them comes from the workspace."""
        made = [self._row(one) for one in lines if one.share is not None]
        least = min(
            (v for one in made for v in (one.low, one.value, *(at for at, _ in one.marks)) if v is not None),
            default=0.0,
        )
        if (worst := self._worst()) is not None:
            made.append(worst)
        self.rows.setVisible(bool(made))
        self.rows.show_rows(made, scale_from(least))
        self._explain(made, lines)
        clear(self._tiles)
        for place, one in enumerate(one for one in lines if one.share is None):
            self._tiles.addWidget(self._tile(one), place // ACROSS, place % ACROSS)

    # --- the rows ---

    def _row(self, one: HeadlineFigure) -> IntervalRow:
        assert one.share is not None
        value, low, high = one.share
        marks, told, missed = self._asked(one.key, None)
        if one.key == "top1" and (claim := self._claim()) is not None:
            marks = (*marks, (claim, CLAIMED))
            missed = missed or (high is not None and claim > high)
            told = [f"Claimed: {percent(claim)}", *told]
        about = f"{one.name}: {one.value}, N = {words.count(one.total)}\n{one.how}"
        return IntervalRow(
            one.name,
            value,
            low,
            high,
            percent(value),
            one.interval,
            "\n".join([about, *told]),
            missed,
            self._what_it_lacks(one),
            other_values(self.workspace).get(one.key),
            marks,
        )

    def _what_it_lacks(self, one: HeadlineFigure) -> tuple[Condition, ...]:
        """The images that count against it."""
        if one.beyond > 1:
            judged = self.workspace.shown.judged
            use = judged.evaluated_among(self.workspace.shown.results.measured.among)
            beyond = np.flatnonzero(use & (judged.rank > one.beyond)).tolist()
            return (Picked(f"label not among the {one.beyond} highest scores", tuple(beyond)),) if beyond else ()
        return (Outcome(frozenset({"wrong"})),)

    def _worst(self) -> IntervalRow | None:
        """The class that is most surely recognised worst."""
        found = worst_classes(self.workspace)
        if not found or found[0][1].recall.value is None:
            return None
        k, one = found[0]
        marks, told, missed = self._asked("recall", k)
        name = self.workspace.shown.classes[k]
        about = (
            f"recall of {name}: {one.recall.hits} of {one.recall.total} images labelled so. {words.how(one.recall)}\n"
            "Of all classes the one whose interval ends lowest."
        )
        return IntervalRow(
            f"worst class: {name}",
            one.recall.value or 0.0,
            one.recall.low,
            one.recall.high,
            percent(one.recall.value),
            bounds(one.recall),
            "\n".join([about, *told]),
            missed or k in below_accuracy(self.workspace),
            (Labelled(frozenset({k})),),
            None,
            marks,
        )

    def _claim(self) -> float | None:
        contents = self.workspace.contents
        return contents.claims.get(self.workspace.shown.record.info.model_id) if contents is not None else None

    def _asked(self, key: str, of_class: int | None) -> tuple[tuple[tuple[float, str], ...], list[str], bool]:
        """What the criteria ask of a figure: marks, words, and whether one of them is missed. They are always of all images."""
        marks, told, missed = list[tuple[float, str]](), list[str](), False
        if self.workspace.shown.results.measured.of_selection:
            return (), [], False
        for one in self.workspace.shown.results.criteria:
            try:
                wanted = parse_criterion(one.outcome.text, self.workspace.shown.classes)
            except InputError:
                continue  # of a class that is no more
            of_this = wanted.class_index == of_class or (wanted.every and of_class is not None)
            if wanted.of_all_images and wanted.figure == key and of_this and 0 <= wanted.limit <= 1:
                marks.append((wanted.limit, ASKED))
                told.append(_verdict(one.outcome))
                missed = missed or one.outcome.verdict == "missed"
        return tuple(marks), told, missed

    # --- words and the rest ---

    def _explain(self, made: list[IntervalRow], lines: list[HeadlineFigure]) -> None:
        kinds = {kind for one in made for _, kind in one.marks}
        totals = {one.total for one in lines if one.value != DASH and one.key != "family"}
        parts = [f"N = {words.count(max(totals))} each" if len(totals) == 1 else "", "95 % intervals"]
        parts.append("dashed: claimed" if CLAIMED in kinds else "")
        parts.append("upright: asked by a criterion" if ASKED in kinds else "")
        if any(one.warned for one in made):
            parts.append("diamond: significantly below the accuracy, or below its criterion or claim")
        if any(one.other is not None for one in made) and (held := self.workspace.shown.held) is not None:
            parts.append(f"squares: {words.clipped(held.names.b, 24)}")
        self.legend.setText(" · ".join(part for part in parts if part))
        self.legend.setVisible(bool(made))

    def _tile(self, one: HeadlineFigure) -> QWidget:
        made = QWidget()
        layout = QVBoxLayout(made)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setSpacing(0)
        layout.addWidget(label(one.name, soft=True))
        layout.addWidget(label(one.value, "heading"))
        if one.interval:
            layout.addWidget(label(one.interval, soft=True))
        if (held := held_values(self.workspace).get(one.name)) is not None:
            layout.addWidget(label(held, "second"))
        layout.addStretch(1)
        tip(made, f"{one.name}: {one.value}, N = {words.count(one.total)}\n{one.how}")
        return made


def _verdict(found: RequirementOutcome) -> str:
    return f"Asked: {words.clipped(found.text, 60)}: {found.verdict}"


def worst_classes(workspace: Workspace) -> list[tuple[int, ClassFigures]]:
    """The classes with images and their numbers, those first whose recall's interval ends lowest."""
    found = [(k, one) for k, one in enumerate(workspace.shown.results.measured.figures.classes) if one.support]
    return sorted(found, key=lambda each: (_top(each[1]), each[1].recall.value or 0.0, each[0]))


def _top(one: ClassFigures) -> float:
    return one.recall.high if one.recall.high is not None else one.recall.value or 0.0
