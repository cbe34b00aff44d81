"""The headline figures, each with N, interval and how it is computed; the pairs most often confused; what was left out."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray
from PySide6.QtCore import Qt
from PySide6.QtGui import QKeyEvent, QMouseEvent
from PySide6.QtWidgets import QFrame, QGridLayout, QSizePolicy, QVBoxLayout, QWidget

from mivrat.core.answers.judged import EvaluatedRun
from mivrat.core.base.numbers import bounds, percent
from mivrat.core.checks.result import in_words
from mivrat.core.figures.intervals import proportion
from mivrat.core.figures.significance import even_split, holm
from mivrat.core.figures.uncertainty import FEW_UNITS, LEAST_UNITS
from mivrat.core.selecting.selection import Condition, Labelled, Outcome, Predicted
from mivrat.core.study.records import RunKey
from mivrat.ui import words
from mivrat.ui.measure.criteria import Criteria
from mivrat.ui.measure.headline_lines import NEED_SCORES, HeadlineFigure, headline_lines, held_values
from mivrat.ui.measure.headline_picture import HeadlinePicture
from mivrat.ui.measure.worst import Worst
from mivrat.ui.parts.late import Late
from mivrat.ui.parts.page import Page
from mivrat.ui.parts.widgets import Elided, ElidedPair, Scrolled, clear, label, restyle, tip
from mivrat.ui.theme import theme
from mivrat.workspace.workspace import Workspace

# The bar of a share in a row.
BAR = 110


class Headline(Page, Scrolled):
    """Shows the headline figures; rows of confused pairs and of left-out images select."""

    title, place_id = "Headline", "headline"
    help = "How good the model is: each figure with its interval and its number of images."

    def __init__(self, workspace: Workspace) -> None:
        super().__init__(wide=False)
        self._rows: list[_Row] = []
        self._shown: object = None
        self._at = 0
        self._run: RunKey | None = None
        self._focused: tuple[Condition, ...] | None = None
        self.workspace = workspace
        self._back = workspace.soon(0, self._scroll_back)
        body = QWidget()
        whole = QVBoxLayout(body)
        whole.setContentsMargins(0, 8, 8, 16)
        self._layout = QVBoxLayout()
        self.picture, self.worst = HeadlinePicture(workspace), Worst(workspace)
        self.note = label(soft=True, wrap=True)
        self.criteria = Criteria(workspace)
        whole.addWidget(self.picture)
        whole.addWidget(self.note)
        whole.addSpacing(14)
        whole.addWidget(self.worst)
        whole.addLayout(self._layout)
        whole.addWidget(self.criteria)
        whole.addStretch(1)
        self.setWidget(body)
        workspace.topics.selection.connect(self._mark)
        t = workspace.topics
        self._late = Late(self, self.refresh, t.measured, t.compared, t.criteria, t.contents, theme.changed)

    @property
    def settled(self) -> bool:
        return self.worst.settled

    def stop(self) -> None:
        self.worst.stop()

    def refresh(self) -> None:
        """Show what is measured; what is looked at and what has the focus stay, though the lines are made anew."""
        told = self._told()
        if told == self._shown:
            self._mark()
            return
        self._shown = told
        focused = next((one.conditions for one in self._rows if one.hasFocus()), None)
        run = self.workspace.shown.record.key
        if run != self._run:
            self._run, self._at = run, 0  # of another run from its beginning
        elif not self._back.waiting:  # else the place to go back to is known, and the bar has lost it
            self._at = self.verticalScrollBar().value()
        self._fill()
        self._focused = focused or (self._focused if self._back.waiting else None)
        self._back.start()

    def _scroll_back(self) -> None:
        self.verticalScrollBar().setValue(self._at)
        for one in self._rows:  # they can have the focus only now that they are shown
            if self._focused is not None and one.conditions == self._focused:
                one.setFocus(Qt.FocusReason.OtherFocusReason)
        self._focused = None

    def _told(self) -> object:
        """All that the page says, to tell whether it has to be made anew."""
        snapshot, measured = self.workspace.shown.snapshot, self.workspace.shown.results.measured
        matrix = measured.figures.matrix
        pairs = [(*one, int(matrix[one[0]].sum()), int(matrix[one[1], one[0]])) for one in measured.mistakes.largest]
        units = snapshot.judged.units
        over = (units.column, measured.figures.top_k[1].units) if units is not None else None
        held = held_values(self.workspace)
        return (
            theme.tokens.name,
            headline_lines(self.workspace),
            held,
            pairs,
            snapshot.counts,
            snapshot.record.key,
            over,
            self.workspace.shown.results.criteria,
            self.workspace.contents and self.workspace.contents.claims.get(snapshot.record.info.model_id),
        )

    def _fill(self) -> None:
        clear(self._layout)
        self._rows = []
        lines = headline_lines(self.workspace)
        self.picture.show_lines(lines)
        some = self.workspace.shown.results.measured.figures.total > 0
        self.worst.setVisible(some)
        if some:
            self.worst.refresh()
        self.note.setText(" ".join(one for one in (self._of_units(), self._of_what_lacks(some, lines)) if one))
        self.note.setVisible(bool(self.note.text()))
        self._add_pairs()
        self._add_left_out()
        self._mark()

    @staticmethod
    def _of_what_lacks(some: bool, lines: Sequence[HeadlineFigure]) -> str:
        if not some:
            return "No labelled image has been scored yet, so there is nothing to measure."
        if any(one.how == NEED_SCORES for one in lines):
            return "A dash: that figure needs a score for every class, which this run has not."
        return ""

    def _of_units(self) -> str:
        """What the intervals are of, where images belong together: who reads them should not have to ask."""
        units, found = (
            self.workspace.shown.snapshot.judged.units,
            self.workspace.shown.results.measured.figures.top_k[1],
        )
        if units is None or found.units is None:
            return ""
        one = f"'{units.column}'"
        if found.low is None:
            return f"No intervals: these images are of {words.units(found.units)} of {one}, and it takes {LEAST_UNITS}."
        said = f"Intervals are over {words.count(found.units)} units of {one}: images of one unit count together."
        return said + (" So few units say little." if found.units < FEW_UNITS else "")

    def _add_pairs(self) -> None:
        matrix, classes = self.workspace.shown.results.measured.figures.matrix, self.workspace.shown.classes
        pairs = self.workspace.shown.results.measured.mistakes.largest
        judged, among = self.workspace.shown.snapshot.judged, self.workspace.shown.results.measured.among
        use = judged.evaluated_among(among)
        likely = dict(zip([(a, b) for a, b, _ in pairs], directions(judged, matrix, pairs, among), strict=True))
        self._layout.addSpacing(18)
        self._layout.addWidget(label("Most frequent mistakes", "heading"))
        if not pairs:
            self._layout.addWidget(
                label("None: every labelled image was answered right." if matrix.sum() else "None yet.", soft=True)
            )
        for a, b, _ in pairs:
            if judged.units is None:
                found = proportion(int(matrix[a, b]), int(matrix[a].sum()))
            else:
                found = judged.share(judged.predicted == b, use & (judged.labels == a))
            text = (classes[a], classes[b])
            about = f"{classes[a]} labelled, {classes[b]} predicted: {found.hits} of {found.total} images labelled {classes[a]}.\nThe other way round: {int(matrix[b, a])}; {likely[(a, b)]}.\n{words.how(found)} Click to see them."
            self._add_row(
                text,
                [str(found.hits), percent(found.value), bounds(found)],
                about,
                (Labelled(frozenset({a})), Predicted(frozenset({b}))),
                found.value,
            )
        if pairs:
            self._layout.addWidget(
                label("labelled → predicted; images, share of the label's images, 95 % interval", soft=True)
            )

    def _add_left_out(self) -> None:
        counts = self.workspace.shown.snapshot.counts
        left_out = [("unreadable", counts.unreadable), ("unlabelled", counts.unlabelled), ("failed", counts.failed)]
        if not any(n for _, n in left_out):
            return
        self._layout.addSpacing(18)
        self._layout.addWidget(label("Not in the figures", "heading"))
        whys = {
            "unreadable": "The file is not a picture, or is damaged.",
            "unlabelled": "The image has no label to judge the answer by.",
            "failed": "The model's scores hold NaN or infinity.",
        }
        for which, n in left_out:
            if n:
                self._add_row(which, [str(n)], f"{whys[which]}\nClick to see them.", (Outcome(frozenset({which})),))

    def _add_row(
        self,
        text: str | tuple[str, str],
        values: list[str],
        about: str,
        conditions: tuple[Condition, ...],
        share: float | None = None,
    ) -> None:
        made = _Row(self.workspace, text, values, conditions, share)
        tip(made, about)
        self._rows.append(made)
        self._layout.addWidget(made)

    def as_table(self) -> list[list[str]]:
        """What is shown, for the clipboard."""
        lines = [[line.name, line.value, line.interval, str(line.total)] for line in headline_lines(self.workspace)]
        return [["figure", "value", "95 % interval", "images"], *lines]

    def _mark(self) -> None:
        for one in self._rows:
            one.mark(all(c in self.workspace.shown.conditions for c in one.conditions))


def directions(
    judged: EvaluatedRun,
    matrix: NDArray[np.integer],
    pairs: Sequence[tuple[int, int, int]],
    among: NDArray[np.bool_] | None = None,
) -> list[str]:
    """For each pair shown, whether it goes one way beyond chance (exact binomial test, or one over whole units; Holm's
    correction over them)."""
    exact = words.paired_test(judged.units)

    def p_of(a: int, b: int) -> float:  # where every image counts by itself, the counts of the matrix say all
        return (
            even_split(int(matrix[a, b]), int(matrix[b, a])) if judged.units is None else judged.direction(a, b, among)
        )

    return [
        f"{'significantly one way' if p < 0.05 else 'no significant direction'} ({exact}, p {in_words(p)})"
        for p in holm([p_of(a, b) for a, b, _ in pairs])
    ]


def _share_bar(share: float) -> QWidget:
    """A share as the filled part of a bar."""
    whole, filled = QFrame(), QFrame()
    whole.setFixedSize(BAR, 8)
    filled.setParent(whole)
    filled.setGeometry(0, 0, max(2, round(BAR * share)), 8)
    whole.setStyleSheet(f"border: none; background: {theme.tokens.line};")
    filled.setStyleSheet(f"border: none; background: {theme.tokens.wrong};")
    return whole


class _Row(QFrame):
    """A line that selects when clicked, or by Enter or space."""

    def __init__(
        self,
        workspace: Workspace,
        text: str | tuple[str, str],
        values: list[str],
        conditions: tuple[Condition, ...],
        share: float | None = None,
    ) -> None:
        """``text`` names the images, by one thing or by two (labelled, predicted); ``share`` is drawn as a bar."""
        super().__init__()
        self.workspace, self.conditions = workspace, conditions
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setCursor(Qt.CursorShape.PointingHandCursor)
        self.setSizePolicy(QSizePolicy.Policy.Preferred, QSizePolicy.Policy.Fixed)
        told = text if isinstance(text, str) else " → ".join(text)
        self.setAccessibleName(f"{told}: {', '.join(values)}")
        grid = QGridLayout(self)
        grid.setContentsMargins(8, 5, 8, 5)
        grid.addWidget(Elided(text) if isinstance(text, str) else ElidedPair(*text), 0, 0)
        grid.setColumnStretch(0, 1)
        if share is not None:
            grid.addWidget(_share_bar(share), 0, 1)
        for i, value in enumerate(values, 1):
            shown = label(value, soft=i == 3)
            shown.setMinimumWidth((36, 64, 84)[i - 1])
            shown.setAlignment(Qt.AlignmentFlag.AlignRight)
            grid.addWidget(shown, 0, i + 1, Qt.AlignmentFlag.AlignRight)
        self.mark(False)

    def mark(self, on: bool) -> None:
        t = theme.tokens
        restyle(
            self,
            f"_Row {{ background: {t.accent_wash if on else 'transparent'}; border: none; border-bottom: 1px solid {t.line}; }} "
            f"_Row:hover {{ background: {t.accent_wash}; }} _Row:focus {{ border: 1px solid {t.accent}; }}",
        )

    def _choose(self) -> None:
        """Select these images; where they are selected, they stay so: a second press takes nothing away."""
        if not self.workspace.shown.are_chosen(self.conditions):
            self.workspace.shown.choose(*self.conditions)

    def mousePressEvent(self, event: QMouseEvent) -> None:
        if event.button() == Qt.MouseButton.LeftButton:
            self._choose()

    def mouseDoubleClickEvent(self, event: QMouseEvent) -> None:
        self.workspace.shown.enter(*self.conditions)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        if event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter):
            self.workspace.shown.enter(*self.conditions)
        elif event.key() == Qt.Key.Key_Space:
            self._choose()
        elif event.key() in (Qt.Key.Key_Down, Qt.Key.Key_Up):
            self.focusNextPrevChild(event.key() == Qt.Key.Key_Down)
        else:
            super().keyPressEvent(event)
