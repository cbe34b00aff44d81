"""A class's whole story beneath the table: what it is predicted as and what is predicted as it, its surest images, its curves."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from PySide6.QtCore import QSize, Qt
from PySide6.QtWidgets import QGridLayout, QLabel, QVBoxLayout, QWidget

from mivrat.core.base.numbers import decimal, percent, with_bounds
from mivrat.core.figures.intervals import Proportion
from mivrat.core.figures.spread import spread
from mivrat.core.running.class_story import ClassStory
from mivrat.core.selecting.selection import MatrixCells
from mivrat.ui import words
from mivrat.ui.measure.class_curves import ClassCurves, CurvesPanel
from mivrat.ui.measure.confidence_spread import ConfidenceSpread
from mivrat.ui.parts.interval_rows import IntervalRow, IntervalRows
from mivrat.ui.parts.pictures import Thumbnails
from mivrat.ui.parts.thumb_strip import ThumbStrip
from mivrat.ui.parts.widgets import Elided, Scrolled, label, row
from mivrat.workspace.workspace import Workspace

SIDE, NAMES = 56, 84


class StoryPanel(Scrolled):
    """Everything about one class; rows and images select and are looked at."""

    def __init__(self, workspace: Workspace, thumbnails: Thumbnails) -> None:
        super().__init__(wide=False)
        self.workspace = workspace
        self.found: ClassStory | None = None
        self.title, self.told = label(role="heading"), label(soft=True, wrap=True)
        self.taken_for = IntervalRows(workspace, "predicted instead of it", names=NAMES)
        self.taken_for_it = IntervalRows(workspace, "labels predicted as it", names=NAMES)
        self.typical, self.mistaken = (ThumbStrip(workspace, thumbnails, SIDE, 2) for _ in range(2))
        self.curves, self.spread = CurvesPanel(), ConfidenceSpread(workspace, small=True, counted=False)
        self.heads = [Elided(mode=Qt.TextElideMode.ElideRight) for _ in range(5)]
        for one in self.heads:
            one.setProperty("soft", True)
        for strip in (self.typical, self.mistaken):
            strip.chosen.connect(self._look)
        grid = QGridLayout()
        grid.setContentsMargins(0, 0, 8, 0)
        grid.setHorizontalSpacing(24)
        grid.setVerticalSpacing(4)
        for column in range(2):
            grid.setColumnStretch(column, 1)
        pairs: tuple[tuple[QLabel, QWidget], ...] = tuple(
            zip(self.heads, (self.taken_for, self.taken_for_it, self.mistaken, self.typical), strict=False)
        )
        for place, (head, shown) in enumerate(pairs):
            grid.addWidget(head, place // 2 * 2, place % 2)
            grid.addWidget(shown, place // 2 * 2 + 1, place % 2)
        self.below = QWidget()
        sure = QVBoxLayout()
        sure.setSpacing(0)
        sure.addWidget(self.heads[4])
        sure.addWidget(self.spread, 1)
        across = row(self.curves, spacing=12)
        across.addLayout(sure, 2)
        across.setStretch(0, 3)
        self.below.setLayout(across)
        self.below.setFixedHeight(186)
        body = QWidget()
        whole = QVBoxLayout(body)
        whole.setContentsMargins(0, 4, 0, 4)
        whole.setSpacing(6)
        whole.addWidget(self.title)
        whole.addWidget(self.told)
        whole.addLayout(grid)
        whole.addWidget(self.below)
        whole.addStretch(1)
        self.setWidget(body)

    def sizeHint(self) -> QSize:
        return QSize(420, 340)

    def _look(self, image: int) -> None:
        self.workspace.shown.focus.look_at(image)
        self.workspace.topics.look_wanted.emit()

    def show_story(self, found: ClassStory, curves: ClassCurves | None) -> None:
        """Show a class; without ``curves``, where no score of every class is known, what needs them is left out."""
        self.found = found
        names, judged = self.workspace.shown.classes, self.workspace.shown.judged
        name = names[found.k]
        self.title.setText(words.clipped(name, 60))
        self.told.setText(_told(self.workspace, found, curves))
        for rows, some, pair in (
            (self.taken_for, found.taken_for, lambda j: (found.k, j)),
            (self.taken_for_it, found.taken_for_it, lambda j: (j, found.k)),
        ):
            rows.show_rows([self._row(j, one, pair(j)) for j, one in some], (0.0, 1.0))
            rows.setVisible(bool(some))
        of_it, called = f"N = {words.count(found.images)} labelled so", f"N = {words.count(found.called)} predicted so"
        self.heads[0].set_text(f"predicted as, {of_it}" if found.taken_for else "never predicted as another class")
        self.heads[1].set_text(f"labelled as, {called}" if found.taken_for_it else "no other class is predicted as it")
        for head, strip, images, told, none in (
            (self.heads[2], self.mistaken, found.mistaken, "most confident mistakes", "no mistake"),
            (self.heads[3], self.typical, found.typical, "most confident correct", "none correct"),
        ):
            head.set_text(told if images else none)
            strip.setVisible(bool(images))
            strip.show_images(images, [_of_image(names[judged.predicted[i]], judged.confidence[i]) for i in images])
        self.below.setVisible(curves is not None)
        if curves is not None:
            self.curves.show_curves(curves)
            use = judged.evaluated_among(self.workspace.shown.results.measured.among) & (judged.labels == found.k)
            self.heads[4].set_text(f"how sure (N = {words.count(int(use.sum()))})")
            self.spread.show_spread(spread(judged.confidence[use], judged.right[use]))

    def _row(self, j: int, share: Proportion, cell: tuple[int, int]) -> IntervalRow:
        names = self.workspace.shown.classes
        return IntervalRow(
            names[j],
            share.value or 0.0,
            share.low,
            share.high,
            "",
            f"{words.count(share.hits)}  {percent(share.value)}",
            f"labelled {names[cell[0]]}, predicted {names[cell[1]]}: {share.hits} of {share.total}, {with_bounds(share)}",
            True,
            (MatrixCells(frozenset({cell})),),
        )


def _of_image(name: str, confidence: float) -> list[str]:
    return [name, "" if np.isnan(confidence) else f"{confidence:.2f}"]


def _told(workspace: Workspace, found: ClassStory, curves: ClassCurves | None) -> str:
    figures = workspace.shown.results.measured.figures.classes[found.k]
    parts = [f"recall {with_bounds(figures.recall)}" if figures.recall.value is not None else ""]
    parts.append(f"precision {with_bounds(figures.precision)}" if figures.precision.value is not None else "")
    parts.append(f"F1 {with_bounds(figures.f1_share)}" if figures.f1_share.value is not None else "")
    if curves is not None:
        of = "the selection, of any label" if curves.of_selection else "all images"
        parts.append(f"against the rest, {of}: AUROC {decimal(curves.auroc)}{_ends(curves.auroc_ends)}")
        parts.append(f"average precision {decimal(curves.average_precision)}{_ends(curves.average_precision_ends)}")
        parts.append(
            f"{words.count(curves.images)} of {words.count(curves.total)} labelled so; dot: the model's own answers"
        )
    else:
        parts.append("curves need a score for every class")
    return " · ".join(part for part in parts if part)


def _ends(ends: Sequence[float] | None) -> str:
    return "" if ends is None else f" ({ends[0]:.3f} – {ends[1]:.3f})"
