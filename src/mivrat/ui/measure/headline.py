"""The headline figures, each with N, interval and how it is computed; the pairs most often confused; what was left out."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from PySide6.QtCore import Qt
from PySide6.QtGui import QKeyEvent, QMouseEvent
from PySide6.QtWidgets import QFrame, QGridLayout, QSizePolicy, QVBoxLayout, QWidget

from mivrat.core.answers.judged import Judged
from mivrat.core.checks.result import in_words
from mivrat.core.comparing.holding import IN_POINTS, headline_differences
from mivrat.core.figures.intervals import Proportion, proportion
from mivrat.core.figures.significance import even_split, holm
from mivrat.core.figures.uncertainty import FEW_UNITS, LEAST_UNITS
from mivrat.core.selecting.selection import Condition, Labelled, Outcome, Predicted
from mivrat.ui import words
from mivrat.ui.measure.criteria import Criteria
from mivrat.ui.parts.widgets import Elided, ElidedPair, Scrolled, clear, label, restyle, tip
from mivrat.ui.theme import theme
from mivrat.workspace.workspace import Workspace

NEED_SCORES = ("top-5 accuracy", "log loss", "Brier score")


@dataclass(frozen=True)
class Line:
    """One headline figure ready to show."""

    name: str
    value: str
    interval: str
    total: int
    how: str


def headline_lines(workspace: Workspace) -> list[Line]:
    """The headline figures of what is measured; intervals that are no Wilson intervals come with the slow figures."""
    measured, snapshot = workspace.shown.measured, workspace.shown.snapshot
    figures, deep = measured.figures, measured.deep
    n = figures.total

    def share(name: str, found: Proportion, how: str) -> Line:
        return Line(name, words.percent(found.value), words.bounds(found), found.total, f"{how} {words.how(found)}")

    def mean(name: str, key: str, value: float | None, how: str, *, percent: bool = True) -> Line:
        interval = deep.intervals.of.get(key) if deep is not None and deep.intervals is not None else None
        bounds = ""
        if interval is not None and deep is not None and deep.intervals is not None:
            bounds = (
                f"{100 * interval.low:.1f} – {100 * interval.high:.1f}"
                if percent
                else f"{interval.low:.3f} – {interval.high:.3f}"
            )
        if deep is not None and deep.intervals is not None:
            how = f"{how} {deep.intervals.how(key)}"
            bounds = bounds or ("no interval" if key in deep.intervals.missing else "")
        return Line(name, words.percent(value) if percent else words.decimal(value), bounds, n, how)

    lines = []
    for k, found in figures.top_k.items():
        meaning = (
            "Share of images whose highest score is the labelled class's."
            if k == 1
            else f"Share of images whose labelled class is among the {k} highest scores."
        )
        lines.append(share(f"top-{k} accuracy", found, meaning))
    families = snapshot.record.families
    if families:
        within = snapshot.judged.within_family(families, measured.among)
        how = f"Share of images whose predicted class is of the labelled class's family ({len(set(families.values()))} families)."
        lines.insert(1, share("accuracy within family", within, how))
    averages, missing = figures.averages, sum(c.support == 0 for c in figures.classes)
    without = f" {missing} classes without images are left out." if missing else ""
    how = f"Mean recall over the classes that have images.{without}"
    lines.append(mean("balanced accuracy", "balanced_accuracy", averages.balanced_accuracy, how))
    undefined = averages.undefined_precision
    counted = f" Precision is undefined for {undefined} of them." if undefined else ""
    how = f"Mean F1 over the classes that have images; an undefined F1 counts as 0.{counted}"
    lines.append(mean("macro F1", "macro_f1", averages.macro_f1, how))
    how = "Multiclass Matthews correlation of labels and predictions (Gorodkin 2004): 0 is chance, 1 is perfect."
    lines.append(mean("MCC", "mcc", averages.mcc, how, percent=False))
    if not snapshot.judged.has_scores:
        why = "Not available: it needs a score for every class, and the table has predictions only."
        lines += [Line(name, words.DASH, "", 0, why) for name in NEED_SCORES]
    if figures.log_loss is not None:
        clipped = (
            f" {figures.log_loss.clipped} images had p below 2⁻⁵² and were counted as 2⁻⁵²."
            if figures.log_loss.clipped
            else ""
        )
        how = f"Mean of −ln p of the labelled class, in nats; lower is better.{clipped}"
        lines.append(mean("log loss", "log_loss", figures.log_loss.value, how, percent=False))
        how = "Mean over images of the squared error of all class probabilities, 0 to 2; lower is better."
        lines.append(mean("Brier score", "brier", figures.brier, how, percent=False))
    if figures.calibration.ece is not None:
        how = f"Expected calibration error: mean gap between confidence and accuracy over {len(figures.calibration.bins)} bins of equal width, weighted by images. It reads too high at small N."
        if deep is not None and deep.chance is not None:
            how += f" A perfectly calibrated model would show {words.percent(deep.chance.median)} here, in 95 % of cases below {words.percent(deep.chance.high)}."
        lines.append(mean("ECE", "ece", figures.calibration.ece, how))
    return lines


def held_values(workspace: Workspace) -> dict[str, str]:
    """The headline figures of the run held, by name, where they are of the same images as those shown."""
    shown = workspace.shown
    if shown.compared is None or shown.compared.of_selection != shown.measured.of_selection:
        return {}
    return {
        name: words.percent(one.b) if key.startswith("top") or key in IN_POINTS else words.decimal(one.b)
        for key, name, one in headline_differences(shown.compared)
    }


class Headline(Scrolled):
    """Shows the headline figures; rows of confused pairs and of left-out images select."""

    def __init__(self, workspace: Workspace) -> None:
        super().__init__(wide=False)
        self._rows: list[_Row] = []
        self._shown: object = None
        self._at = 0
        self._focused: tuple[Condition, ...] | None = None
        self.workspace = workspace
        self._back = workspace.soon(0, self._scroll_back)
        body = QWidget()
        whole = QVBoxLayout(body)
        whole.setContentsMargins(0, 8, 8, 16)
        self._layout = QVBoxLayout()
        self.criteria = Criteria(workspace)
        whole.addLayout(self._layout)
        whole.addWidget(self.criteria)
        whole.addStretch(1)
        self.setWidget(body)
        workspace.topics.measured.connect(self.refresh)
        workspace.topics.compared.connect(self.refresh)
        workspace.topics.selection.connect(self._mark)
        theme.changed.connect(self._follow_theme)

    def _follow_theme(self) -> None:
        if self.workspace.is_open:
            self.refresh()

    def refresh(self) -> None:
        """Show what is measured; what is looked at and what has the focus stay, though the lines are made anew."""
        told = self._told()
        if told == self._shown:
            self._mark()
            return
        self._shown = told
        focused = next((one.conditions for one in self._rows if one.hasFocus()), None)
        at = self.verticalScrollBar().value()
        self._fill()
        self._at, self._focused = at, focused
        self._back.start()

    def _scroll_back(self) -> None:
        self.verticalScrollBar().setValue(self._at)
        for one in self._rows:  # they can have the focus only now that they are shown
            if self._focused is not None and one.conditions == self._focused:
                one.setFocus(Qt.FocusReason.OtherFocusReason)
        self._focused = None

    def _told(self) -> object:
        """All that the page says, to tell whether it has to be made anew."""
        snapshot, measured = self.workspace.shown.snapshot, self.workspace.shown.measured
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
        )

    def _fill(self) -> None:
        clear(self._layout)
        self._rows = []
        grid = QGridLayout()
        grid.setHorizontalSpacing(18)
        grid.setVerticalSpacing(6)
        held_name = (
            words.clipped(self.workspace.shown.held.names.b, 18)
            if held_values(self.workspace) and self.workspace.shown.held
            else ""
        )
        for column, title in enumerate(("", "", "95 % interval", "images", held_name)):
            head = label(title, "second" if column == 4 else "", soft=column < 4)
            grid.addWidget(head, 0, column, Qt.AlignmentFlag.AlignRight)
        held = held_values(self.workspace)
        for i, line in enumerate(headline_lines(self.workspace), 1):
            if line.name in held:
                other = label(held[line.name], "second")
                tip(other, f"{line.name} of what is held; see Compare")
                grid.addWidget(other, i, 4, Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter)
            name = label(line.name)
            value = label(line.value, "big" if i == 1 else "heading")
            for column, widget in enumerate(
                (
                    name,
                    value,
                    label(line.interval, soft=True),
                    label(words.count(line.total) if line.value != words.DASH else "", soft=True),
                )
            ):
                tip(widget, f"{line.name}: {line.value}, N = {line.total}\n{line.how}")
                grid.addWidget(
                    widget,
                    i,
                    column,
                    Qt.AlignmentFlag.AlignVCenter
                    | (Qt.AlignmentFlag.AlignLeft if column == 0 else Qt.AlignmentFlag.AlignRight),
                )
        grid.setColumnStretch(5, 1)
        self._layout.addLayout(grid)
        self._add_units()
        if not self.workspace.shown.snapshot.judged.has_scores:
            self._layout.addWidget(
                label(
                    "A dash: that figure needs a score for every class; the table has predictions only.",
                    soft=True,
                    wrap=True,
                )
            )
        if self.workspace.shown.measured.figures.total == 0:
            self._layout.addSpacing(12)
            self._layout.addWidget(
                label("No labelled image has been scored yet, so there is nothing to measure.", soft=True, wrap=True)
            )
        self._add_pairs()
        self._add_left_out()
        self._mark()

    def _add_units(self) -> None:
        """Say what the intervals are of, where images belong together: who reads them should not have to ask."""
        units, found = self.workspace.shown.snapshot.judged.units, self.workspace.shown.measured.figures.top_k[1]
        if units is not None and found.units is not None:
            one = f"'{units.column}'"
            said = f"Intervals are over {words.count(found.units)} units of {one}: images of one unit count together."
            if found.low is None:
                said = f"No intervals: these images are of {words.units(found.units)} of {one}, and it takes {LEAST_UNITS}."
            elif found.units < FEW_UNITS:
                said += " So few units say little."
            self._layout.addWidget(label(said, soft=True, wrap=True))

    def _add_pairs(self) -> None:
        matrix, classes = self.workspace.shown.measured.figures.matrix, self.workspace.shown.classes
        pairs = self.workspace.shown.measured.mistakes.largest
        judged, among = self.workspace.shown.snapshot.judged, self.workspace.shown.measured.among
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
                [str(found.hits), words.percent(found.value), words.bounds(found)],
                about,
                (Labelled(frozenset({a})), Predicted(frozenset({b}))),
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
            "unlabelled": "There is no label to judge the answer by.",
            "failed": "The model's scores hold NaN or infinity.",
        }
        for which, n in left_out:
            if n:
                self._add_row(which, [str(n)], f"{whys[which]}\nClick to see them.", (Outcome(frozenset({which})),))

    def _add_row(
        self, text: str | tuple[str, str], values: list[str], about: str, conditions: tuple[Condition, ...]
    ) -> None:
        made = _Row(self.workspace, text, values, conditions)
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
    judged: Judged,
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
        f"{'one way beyond chance' if p < 0.05 else 'no direction beyond chance'} ({exact}, p {in_words(p)})"
        for p in holm([p_of(a, b) for a, b, _ in pairs])
    ]


class _Row(QFrame):
    """A line that selects when clicked, or by Enter or space."""

    def __init__(
        self, workspace: Workspace, text: str | tuple[str, str], values: list[str], conditions: tuple[Condition, ...]
    ) -> None:
        """``text`` names the images, by one thing or by two (labelled, predicted)."""
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
        for i, value in enumerate(values, 1):
            shown = label(value, soft=i == 3)
            shown.setMinimumWidth((36, 64, 84)[i - 1])
            shown.setAlignment(Qt.AlignmentFlag.AlignRight)
            grid.addWidget(shown, 0, i, Qt.AlignmentFlag.AlignRight)
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
        if not all(one in self.workspace.shown.conditions for one in self.conditions):
            self.workspace.shown.choose(*self.conditions)

    def mousePressEvent(self, event: QMouseEvent) -> None:  # noqa: N802
        if event.button() == Qt.MouseButton.LeftButton:
            self._choose()

    def mouseDoubleClickEvent(self, event: QMouseEvent) -> None:  # noqa: N802
        self.workspace.shown.enter(*self.conditions)

    def keyPressEvent(self, event: QKeyEvent) -> None:  # noqa: N802
        if event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter):
            self.workspace.shown.enter(*self.conditions)
        elif event.key() == Qt.Key.Key_Space:
            self._choose()
        elif event.key() in (Qt.Key.Key_Down, Qt.Key.Key_Up):
            self.focusNextPrevChild(event.key() == Qt.Key.Key_Down)
        else:
            super().keyPressEvent(event)
