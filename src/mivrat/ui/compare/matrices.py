"""The confusion matrices of both, and how they differ, drawn as the one of Measure is."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from PySide6.QtGui import QColor

from mivrat.core.base.numbers import signed
from mivrat.core.figures.confusion import Counts
from mivrat.core.selecting.selection import Labelled, MatrixCells, OtherPredicted, Predicted
from mivrat.ui.measure.matrix import DIAGONAL, ConfusionMatrix, Values
from mivrat.ui.theme import mix, theme
from mivrat.workspace.workspace import Workspace

Shades = NDArray[np.uint8]
NOTHING: Counts = np.zeros((0, 0), np.int64)


@dataclass(frozen=True)
class BothMatrices:
    """The counts of both and their difference, and what cells show: counts, or with ``mode`` 1 shares of the label in percent (NaN
    where there are no images); ``most`` and ``most_change`` are the largest off the diagonal, ``shades`` the place of each cell's
    colour where very many are drawn as a picture."""

    counts: tuple[Counts, Counts, Counts]
    values: tuple[Values, Values, Values]
    most: float
    most_change: float
    shades: tuple[Shades, Shades, Shades]
    mode: int


def both_matrices(a: Counts, b: Counts, mode: int) -> BothMatrices:
    """All of it; takes a moment for very many classes."""
    told: list[Values] = [one.astype(float) for one in (a, b)]
    if mode:
        with np.errstate(invalid="ignore", divide="ignore"):
            told = [100 * one / one.sum(axis=1, keepdims=True) for one in told]
    change = np.nan_to_num(told[1]) - np.nan_to_num(told[0])

    def largest(values: Values) -> float:
        off = np.abs(np.nan_to_num(values))
        np.fill_diagonal(off, 0.0)
        return max(1.0, float(off.max(initial=0.0)))

    most, most_change = max(largest(one) for one in told), largest(change)
    top = DIAGONAL - 1
    one, other = (np.rint(np.sqrt(np.clip(np.nan_to_num(v) / most, 0.0, 1.0)) * top).astype(np.uint8) for v in told)
    part = np.clip(change / most_change, -1.0, 1.0)
    by_sign = np.rint((np.sign(part) * np.sqrt(np.abs(part)) + 1) / 2 * top).astype(np.uint8)
    return BothMatrices((a, b, b - a), (told[0], told[1], change), most, most_change, (one, other, by_sign), mode)


EMPTY = both_matrices(NOTHING, NOTHING, 0)


class SideMatrix(ConfusionMatrix):
    """The matrix of one of both (``which``: a, the run shown, or b); both are shaded by one scale. It shows what ``take`` was given."""

    place = 0

    least_left, least_with_numbers, above_names = 74, 16, 14.0

    def __init__(self, workspace: Workspace, which: str) -> None:
        self.which = which
        self._both = EMPTY
        super().__init__(workspace)
        self.setAccessibleName(f"{self.accessibleName()}: {'the run shown' if which == 'a' else 'the run held'}")
        self.setMinimumSize(200, 200)
        self.place = int(which == "b")

    def take(self, both: BothMatrices) -> None:
        """Show these."""
        self._both, self.mode = both, both.mode
        self._renew()

    def _counts(self) -> tuple[Counts, Counts]:
        return self._both.counts[:2]

    @property
    def _matrix(self) -> Counts:
        return self._both.counts[self.place]

    def values(self) -> tuple[Values, float]:
        """The counts (or shares of the label, in percent), and the largest off the diagonal of both."""
        return self._both.values[self.place], self._both.most

    def shades(self, values: Values, most: float) -> Shades:
        """As they were worked out."""
        return self._both.shades[self.place]

    @property
    def _paired(self) -> bool:
        compared = self.workspace.shown.compared
        return compared is not None and compared.found.paired is not None

    def _selected_cells(self) -> list[tuple[int, int]]:
        if self.which == "a" or not self._paired:
            return super()._selected_cells()
        labelled: set[int] = set()
        predicted: set[int] = set()
        for one in self.workspace.shown.conditions:
            if isinstance(one, Labelled):
                labelled = set(one.classes)
            elif isinstance(one, OtherPredicted):
                predicted = set(one.classes)
            elif isinstance(one, MatrixCells):
                return []
        return [(i, j) for i in labelled for j in predicted][:64]

    def select(self, label_index: int, predicted: int, beside: bool, *, enter: bool = False) -> None:
        """As the one of Measure; in the matrix of the run held by what that one says."""
        if self.which == "a" or not self._paired:
            super().select(label_index, predicted, beside, enter=enter)
            return
        shown = self.workspace.shown
        other = OtherPredicted(frozenset({predicted}), shown.held_other)
        label = Labelled(frozenset({label_index}))
        wanted = [one for one, at in ((label, label_index), (other, predicted)) if at >= 0]
        (shown.enter if enter else shown.choose)(*wanted, beside=beside)

    def describe(self, label_index: int, predicted: int) -> str:
        """A cell, a row or a column in words, of both."""
        classes, counts = self._names(), self._counts()
        if label_index < 0:
            told = [int(one[:, predicted].sum()) for one in counts]
            return f"predicted {classes[predicted]}: {told[0]} and {told[1]} images"
        if predicted < 0:
            told = [int(one[label_index].sum()) for one in counts]
            return f"labelled {classes[label_index]}: {told[0]} and {told[1]} images"
        one, other = (int(c[label_index, predicted]) for c in counts)
        totals = [int(c[label_index].sum()) for c in counts]
        return f"{classes[label_index]} labelled, {classes[predicted]} predicted: {one} of {totals[0]}, then {other} of {totals[1]} ({signed(other - one, 0)})"

    def _names(self) -> list[str]:
        compared = self.workspace.shown.compared
        return compared.found.classes if compared is not None else self.workspace.shown.classes


class ChangeMatrix(SideMatrix):
    """b less a, cell by cell: what the run held has more of is plum, what the run shown has more of verdigris."""

    neutral = (DIAGONAL - 1) // 2

    def __init__(self, workspace: Workspace) -> None:
        super().__init__(workspace, "a")
        self.place = 2
        self.setAccessibleName("difference of the confusion matrices, the run held less the run shown")

    def values(self) -> tuple[Values, float]:
        """The change of each cell (in points where shares are shown), and the largest off the diagonal."""
        return self._both.values[2], self._both.most_change

    def shade(self, part: float) -> QColor:
        token = theme.colour("second" if part > 0 else "accent")
        return mix(theme.colour("sheet"), token, 0.14 + 0.76 * min(1.0, abs(part)))

    def number(self, value: float) -> str:
        return signed(value, 0)

    def colours(self) -> list[QColor]:
        middle = (DIAGONAL - 1) / 2
        return [theme.colour("sheet") if i == middle else self.shade(i / middle - 1) for i in range(DIAGONAL)]

    def select(self, label_index: int, predicted: int, beside: bool, *, enter: bool = False) -> None:
        """Select what either says so: labelled one class, called the other by this run or by the one held."""
        shown = self.workspace.shown
        if label_index < 0 or predicted < 0 or not self._paired:
            super().select(label_index, predicted, beside, enter=enter)
            return
        one, other = (int(c[label_index, predicted]) for c in self._counts())
        # The images of the larger of both counts: those that came or went are among them.
        called = (
            Predicted(frozenset({predicted}))
            if one >= other
            else OtherPredicted(frozenset({predicted}), shown.held_other)
        )
        (shown.enter if enter else shown.choose)(Labelled(frozenset({label_index})), called, beside=beside)
